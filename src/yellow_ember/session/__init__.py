"""What the user edits, as immutable values: session, strips, stages, presets; history and files."""
