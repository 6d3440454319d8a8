"""Playing in real time in a process of its own; printing and measuring in workers."""
