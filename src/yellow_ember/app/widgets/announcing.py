"""Saying a message to who listens to the screen.

Qt's own way to announce is not within reach of Python, so the event that it would send (AT-SPI's
`Object:Announcement`) is sent over the connection that Qt opened for screen readers.
"""

from __future__ import annotations

from PyQt6.QtDBus import QDBusConnection, QDBusMessage, QDBusVariant

_CONNECTION = "a11y"
"""The name that Qt gives its connection to the bus of screen readers."""
_APPLICATION = "/org/a11y/atspi/accessible/root"
_EVENTS = "org.a11y.atspi.Event.Object"
_POLITE, _ASSERTIVE = 1, 2


def announce(text: str, *, urgent: bool = False) -> bool:
    """Have a screen reader say something, at once if it is urgent; False where none listens."""
    connection = QDBusConnection(_CONNECTION)
    if not connection.isConnected():
        return False
    event = QDBusMessage.createSignal(_APPLICATION, _EVENTS, "Announcement")
    event.setArguments(["", _ASSERTIVE if urgent else _POLITE, 0, QDBusVariant(text), {}])
    return connection.send(event)
