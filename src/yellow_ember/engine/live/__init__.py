"""Playing in real time, in a process of its own."""
