"""What stages and tools draw."""
