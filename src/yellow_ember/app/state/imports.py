"""Audio files made ready in the background, one after the other, with progress."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.throttle import Throttle
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.placing import Placed, end_of, placed
from yellow_ember.files.conformed import Conformed, conform, find_conformed
from yellow_ember.files.kinds import is_file
from yellow_ember.session.values.model import Session, Strip
from yellow_ember.session.values.regions import Region

_CHECK_SECONDS = 1.5
_SHORTEST_SECONDS = 10
_ANSWERS = 1000


def _conform(progress: Progress, path: Path, rate: int) -> Conformed:
    return conform(path, rate, progress)


class Imports(QObject):
    """Sees to it that every track's audio has a ready copy; `made_ready` is sent when there are new ones."""

    made_ready = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, playback: Playback, messages: Messages, jobs: JobKeeper) -> None:
        super().__init__()
        self._sessions, self._playback, self._messages, self._jobs = sessions, playback, messages, jobs
        self._ready: dict[tuple[Path, int], Conformed] = {}
        self._failed: set[tuple[Path, int]] = set()
        self._waiting: list[tuple[Path, int]] = []
        self._checks = Throttle(_CHECK_SECONDS)
        self._placed: dict[tuple[tuple[Region, ...], int], tuple[Placed, ...]] = {}
        self._end: tuple[Session, int] | None = None
        """What was answered since copies last came or went: it is asked for at every turn."""
        self._now: tuple[Path, int] | None = None
        sessions.taken_in.connect(self.want)
        playback.beat.connect(self.poll)

    def ready(self, path: Path) -> Conformed | None:
        """The ready copy of a file at the session's rate, where there is one."""
        return self._ready.get((path, self._sessions.session.rate))

    def placed(self, strip: Strip) -> tuple[Placed, ...]:
        """The strip's regions whose files are ready, with where they lie."""
        key = strip.regions, self._sessions.session.rate
        if key not in self._placed:
            if len(self._placed) > _ANSWERS:
                self._placed.clear()
            self._placed[key] = placed(strip, key[1], lambda path, rate: self._ready.get((path, rate)))
        return self._placed[key]

    @property
    def length(self) -> int:
        """Frames of the session: to the end of its last sound, ten seconds at least."""
        return max(self.end_of_sound, _SHORTEST_SECONDS * self._sessions.session.rate)

    @property
    def end_of_sound(self) -> int:
        """The frame behind the last of all regions, 0 where there are none."""
        session = self._sessions.session
        if self._end is None or self._end[0] is not session:
            self._end = session, max((end_of(self.placed(strip)) for strip in session.strips), default=0)
        return self._end[1]

    @property
    def busy(self) -> bool:
        return bool(self._waiting) or self._now is not None

    @property
    def settled(self) -> bool:
        """True where nothing waits to be read, and there is sound to run."""
        return not self.busy and any(self.ready(path) for path in self._sessions.session.files)

    def want(self) -> None:
        """Look for what the session needs."""
        session = self._sessions.session
        for path in session.files:
            key = (path, session.rate)
            if key in self._ready or key in self._failed or key in self._waiting or key == self._now:
                continue
            result = find_conformed(*key) if is_file(path) else None
            if result is not None:
                self._take(key, result)
            elif is_file(path):
                self._waiting.append(key)

    def _take(self, key: tuple[Path, int], conformed: Conformed) -> None:
        self._ready[key] = conformed
        self._forget_places()
        if conformed.warning:
            self._messages.warn(conformed.warning)

    def _forget_places(self) -> None:
        self._placed.clear()
        self._end = None

    def poll(self) -> None:
        """Begin with what waits, and show how far it is; called with the clock."""
        self._check()
        jobs = self._jobs
        if self._now is not None:
            self._jobs.working.emit(f"Reading {self._now[0].name}", jobs.share(self))
        elif self._waiting:
            key = self._now = self._waiting.pop(0)
            jobs.start(self, _conform, *key, done=lambda result: self._finish(key, result), failed=self._fail)

    def _finish(self, key: tuple[Path, int], conformed: Conformed) -> None:
        self._now = None
        self._take(key, conformed)
        if not self._waiting:
            self._made_ready()

    def _fail(self, reason: str) -> None:
        assert self._now is not None
        self._failed.add(self._now)
        self._now = None
        self._messages.warn(reason)
        if not self._waiting:
            self._made_ready()

    def _made_ready(self) -> None:
        """Let everybody take the copies that there are now."""
        self._jobs.working.emit("", 1.0)
        self._playback.reload()
        self.made_ready.emit()
        self._sessions.tell_again()

    def _check(self) -> None:
        """Now and then: make copies again that somebody has removed or damaged."""
        if not self._checks.is_due():
            return
        lost = [key for key, result in self._ready.items() if not result.is_whole]
        for key in lost:
            del self._ready[key]
        if lost:
            self._forget_places()
            self.want()
            if self._now is None and not self._waiting:
                self._made_ready()
