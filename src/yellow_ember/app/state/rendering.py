"""Prints of the session to files, one after the other, in the background."""

from __future__ import annotations

from PyQt6.QtCore import QObject

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.engine.jobs.printing import Printed, PrintOrder, print_session
from yellow_ember.session.values.model import Session


class Rendering(QObject):
    """Prints the session as it was when that was asked for."""

    def __init__(self, sessions: SessionKeeper, jobs: JobKeeper, messages: Messages, playback: Playback) -> None:
        super().__init__()
        self._sessions, self._jobs, self._messages = sessions, jobs, messages
        self._orders: list[tuple[Session, PrintOrder]] = []
        """Prints that wait for their turn."""
        playback.beat.connect(self._show_progress)

    @property
    def is_running(self) -> bool:
        return self._jobs.is_running(self)

    def start(self, order: PrintOrder) -> None:
        """Print in the background, after what is being printed already."""
        self._orders.append((self._sessions.session, order))
        if self.is_running:
            self._messages.say(f"The print to {order.folder} comes after {len(self._orders)} "
                               f"other{'s' if len(self._orders) > 1 else ''}")
        self._start_next()

    def _start_next(self) -> None:
        if not self.is_running and self._orders:
            session, order = self._orders.pop(0)
            self._jobs.start(self, print_session, session, order, done=self._take, failed=self._fail)
            self._messages.say(f"Printing to {order.folder}")

    def _show_progress(self) -> None:
        if self.is_running:
            self._jobs.working.emit("Printing", self._jobs.share(self))

    def cancel(self) -> None:
        """End the present print and forget those that wait; no file is left."""
        self._orders.clear()
        if self.is_running:
            self._jobs.cancel(self)
            self._jobs.working.emit("", 1.0)
            self._messages.say("Printing was cancelled; no file was left")

    def _fail(self, reason: str) -> None:
        self._jobs.working.emit("", 1.0)
        self._messages.warn(f"Printing failed: {reason}")
        self._start_next()

    def _take(self, printed: Printed) -> None:
        self._jobs.working.emit("", 1.0)
        names = ", ".join(path.name for path in printed.files)
        held = f" The ceiling held it down by up to {-printed.ceiling_db:.1f} dB." if printed.ceiling_db < -0.05 else ""
        self._messages.say(f"Printed {names}.{held}")
        for trouble in printed.left_out:
            self._messages.warn(trouble)
        self._start_next()
