"""Collects Python's garbage in the window's thread alone.

Python collects cycles in whatever thread happens to allocate; a cycle that holds widgets and is taken apart beside the
window's thread brings Qt down.  So collecting by itself is switched off, and a timer does it as often.
"""

from __future__ import annotations

import gc

from PyQt6.QtCore import QObject, QTimer

_INTERVAL_MS = 500


class GarbageCollector(QObject):
    """From when it is made no other thread collects, for as long as the program runs."""

    def __init__(self) -> None:
        super().__init__()
        gc.disable()
        self._timer = QTimer(self)
        self._timer.setInterval(_INTERVAL_MS)
        self._timer.timeout.connect(self.collect)
        self._timer.start()

    def collect(self) -> None:
        """Collect those generations that have grown beyond Python's own thresholds."""
        for generation, (count, threshold) in reversed(list(enumerate(
                zip(gc.get_count(), gc.get_threshold(), strict=True)))):
            if threshold and count > threshold:
                gc.collect(generation)
                return
