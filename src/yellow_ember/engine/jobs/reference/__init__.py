"""Find chains that make a strip sound like a reference."""
