"""What a session is made of: immutable values."""
