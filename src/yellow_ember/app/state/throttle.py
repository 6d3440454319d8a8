"""Something that is done now and then, however often it is asked for."""

from __future__ import annotations

import time


class Throttle:
    """Says when it is time again."""

    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        self._next = 0.0

    def is_due(self) -> bool:
        """True at most once in so many seconds."""
        now = time.monotonic()
        if now < self._next:
            return False
        self._next = now + self._seconds
        return True
