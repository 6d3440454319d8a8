"""Keeps unsaved edits on disk while one works, however fast they come and whatever else goes wrong."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer

from yellow_ember.files.atomic import cannot_write
from yellow_ember.session.io.autosave import Autosave, Card
from yellow_ember.session.values.model import Session

AFTER_SECONDS = 0.8
"""So long after an edit it is written; further edits do not put that off."""


class EditKeeper(QObject):
    """Writes the session down soon after an edit, in a thread of its own, the newest value each time.

    unsaved : gives the session and its file where it has edits that the file does not hold, else None;
              it is called from other threads as well
    warn : called where the disk does not allow it, once for each reason
    """

    def __init__(self, unsaved: Callable[[], tuple[Session, Path | None] | None],
                 warn: Callable[[str], None]) -> None:
        super().__init__()
        self._unsaved = unsaved
        self._warn = warn
        self.autosave = Autosave()
        self._said = ""
        self._writing = threading.Lock()
        self._closed = False
        self._due_since: float | None = None
        self._writer = ThreadPoolExecutor(1)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(round(1000 * AFTER_SECONDS))
        self._timer.timeout.connect(self._write_soon)

    def edited(self) -> None:
        """The session has changed."""
        if self._due_since is None:
            self._due_since = time.monotonic()
            self._timer.start()
        elif time.monotonic() - self._due_since > AFTER_SECONDS:
            # A thread that is busy with edits may come to its timers late.
            self._write_soon()

    def _write_soon(self) -> None:
        self._timer.stop()
        self._due_since = None
        if not self._closed:
            self._writer.submit(self.write_now)

    def write_now(self) -> None:
        """Bring what is on disk up to date, and wait for it; from any thread."""
        with self._writing:
            if self._closed:
                return
            result = self._unsaved()
            if result is None:
                self.autosave.forget()
                return
            try:
                self.autosave.keep(*result)
                self._said = ""
            except OSError as error:
                with contextlib.suppress(OSError):
                    said = f"Unsaved edits can't be kept safe. {cannot_write(self.autosave.file, error)}"
                    if said != self._said:
                        self._said = said
                        self._warn(said)

    def take(self, card: Card) -> None:
        """Adopt what a crash left: it stays on disk until the session is saved or closed on purpose."""
        with self._writing:
            self.autosave.take(card)

    def forget(self) -> None:
        """The session is saved, or given up on purpose."""
        self._timer.stop()
        self._due_since = None
        with self._writing:
            self.autosave.forget()

    def close(self, *, forget: bool) -> None:
        """No more edits come; `forget` where nothing is to be kept."""
        self._timer.stop()
        with self._writing:
            self._closed = True
            if forget:
                self.autosave.forget()
        self._writer.shutdown(wait=False)
