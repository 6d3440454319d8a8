"""The window: Qt views of the session and of what the engine publishes."""
