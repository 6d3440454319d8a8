"""Keeps the chosen strip's colour taken apart: in a worker, once its measurement is fresh."""

from __future__ import annotations

from collections import deque

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.measurer import Measurer, sound_of
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.engine.jobs.dissecting import Dissection, dissect_strip
from yellow_ember.session.values.model import Session

_REMEMBERED = 48


class Dissector(QObject):
    """`changed` is sent when there is a new one."""

    changed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, jobs: JobKeeper,
                 measurer: Measurer) -> None:
        super().__init__()
        self._sessions, self._selection, self._jobs, self._measurer = sessions, selection, jobs, measurer
        self._known: deque[tuple[tuple[object, ...], Dissection | None]] = deque(maxlen=_REMEMBERED)
        self._asked: tuple[Session, str, Dissection | None] | None = None
        playback.beat.connect(self.poll)

    def of(self, strip_id: str) -> Dissection | None:
        """What is known of the strip as it is now."""
        session = self._sessions.session
        if self._asked is None or self._asked[0] is not session or self._asked[1] != strip_id:
            # Asked for at every painting: what it depends on is compared once a change.
            sound = sound_of(session, strip_id)
            self._asked = session, strip_id, next((result for known, result in self._known if known == sound), None)
        return self._asked[2]

    def last_of(self, strip_id: str) -> Dissection | None:
        """The newest that is known of the strip, of how it was where not of how it is."""
        return next((result for _, result in self._known if result is not None and result.strip_id == strip_id), None)

    def poll(self) -> None:
        """Start where there is something new to take apart; called with the clock."""
        strip = self._selection.strip
        if self._jobs.is_running(self) or not strip.chain or not self._measurer.fresh(
                strip.id):
            return
        sound = sound_of(self._sessions.session, strip.id)
        if all(known != sound for known, _ in self._known):
            # What can't be run can't be measured either, and that is said.
            self._jobs.start(self, dissect_strip, self._sessions.session, strip.id,
                             done=lambda result: self._take(sound, result),
                             failed=lambda _reason: self._take(sound, None))

    def _take(self, sound: tuple[object, ...], dissection: Dissection | None) -> None:
        self._asked = None
        self._known.appendleft((sound, dissection))
        self.changed.emit()
