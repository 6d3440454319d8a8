"""Controls and drawing that know nothing of the session."""
