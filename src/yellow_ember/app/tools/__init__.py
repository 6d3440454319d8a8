"""Windows that are opened over the panels, each for one job."""
