"""The waves of all strips over the whole session, worked out in the background while somebody looks at them."""

from __future__ import annotations

import time

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.measurer import Sound, chain_sound_of
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.engine.jobs.wave_sums import WaveSum, wave_sums
from yellow_ember.session.values.model import Session

_SETTLE_SECONDS = 2.0
"""A session is left alone for so long before it is run as a whole."""


class SessionWaves(QObject):
    """What enters and leaves every strip, from start to end; `changed` is sent when there is something new to see.

    A strip keeps the wave that it had until there is a newer one.
    """

    changed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, playback: Playback, imports: Imports, jobs: JobKeeper) -> None:
        super().__init__()
        self._sessions, self._imports, self._jobs = sessions, imports, jobs
        self._waves: dict[str, WaveSum] = {}
        self._sounds: dict[str, Sound] = {}
        """By strip, what its wave was made of."""
        self._due: float | None = 0.0
        """When to look whether all is as it is heard; None where it is."""
        self._looked_at: frozenset[str] = frozenset()
        self._asked: Session | None = None
        """The session that is run, or was last."""
        self._running = False
        self._failed_for: Session | None = None
        sessions.taken_in.connect(self._wait)
        imports.made_ready.connect(self._wait)
        playback.beat.connect(self.poll)

    def wave(self, strip_id: str) -> WaveSum | None:
        """The newest wave of a strip, None where there is none yet."""
        return self._waves.get(strip_id)

    def look_at(self, strip_ids: frozenset[str]) -> None:
        """Say whose waves are seen now; of others none are worked out."""
        if strip_ids != self._looked_at:
            self._looked_at = strip_ids
            self._wait()

    def _wait(self) -> None:
        self._due = time.monotonic() + _SETTLE_SECONDS

    def poll(self) -> None:
        """Begin where something that is seen is not as it is heard; called with the clock."""
        if self._due is None or self._running or time.monotonic() < self._due or not self._imports.settled:
            return
        self._due = None
        session = self._sessions.session
        if session is self._failed_for:
            return
        strip_ids = self._looked_at & {strip.id for strip in session.strips}
        if all(self._sounds.get(strip_id) == chain_sound_of(session, strip_id) for strip_id in strip_ids):
            return
        self._running, self._asked = True, session
        self._jobs.start(self, wave_sums, session, self._imports.length, done=self._take, failed=self._fail)

    def _take(self, waves: dict[str, WaveSum]) -> None:
        assert self._asked is not None
        self._running, self._due = False, 0.0
        self._waves = waves
        self._sounds = {strip_id: chain_sound_of(self._asked, strip_id) for strip_id in waves}
        self.changed.emit()

    def _fail(self, _reason: str) -> None:
        """Leave it until something changes: what is wrong is said where it is heard."""
        self._running = False
        self._failed_for = self._asked
