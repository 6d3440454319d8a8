"""The panels of the main window."""
