"""From one value to the next, and what tells two apart."""
