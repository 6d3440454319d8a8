"""The tape model."""
