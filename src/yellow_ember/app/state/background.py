"""Prints strips that are not being edited in the background, and lets the engine play them from there."""

from __future__ import annotations

import enum
import time

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.state.throttle import Throttle
from yellow_ember.engine.jobs.strip_prints import find_print, print_file, print_strip
from yellow_ember.engine.print_player import StripPrint
from yellow_ember.files.kinds import FileState, state_of_file
from yellow_ember.session.edits.following import linked_with
from yellow_ember.session.values.model import Session, Strip, StripKind

SETTLE_SECONDS = 2.5
"""A strip whose sound was changed is left alone for so long."""


_CHECK_SECONDS = 1.5


class PrintState(enum.Enum):
    """How a strip is played."""

    LIVE = "live"
    WAITING = "waiting to be frozen"
    PRINTING = "freezing"
    PRINTED = "frozen"


class BackgroundPrints(QObject):
    """`changed` is sent when what the desk shows of it has changed."""

    changed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, jobs: JobKeeper, imports: Imports, matcher: Matcher) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback, self._settings = sessions, selection, playback, settings
        self._messages, self._jobs, self._imports, self._matcher = messages, jobs, imports, matcher
        self._session: Session | None = None
        self._editing: frozenset[str] = frozenset()
        self._files: dict[str, tuple[str, float]] = {}
        self._known: dict[str, tuple[tuple[object, ...], str]] = {}
        self._prints: dict[str, StripPrint] = {}
        self._states: dict[str, FileState | None] = {}
        """How the files of the prints were when they were taken."""
        self._checks = Throttle(_CHECK_SECONDS)
        self._waiting: list[str] = []
        self._now: tuple[str, str] | None = None
        """The strip that is being printed, and the name of its print."""
        self._failed: set[str] = set()
        self._told: object = None
        self._first: StripPrint | None = None
        playback.beat.connect(self.poll)

    def state(self, strip_id: str) -> PrintState:
        if strip_id in self._prints:
            return PrintState.PRINTED
        if self._now is not None and self._now[0] == strip_id:
            return PrintState.PRINTING
        return PrintState.WAITING if strip_id in self._waiting else PrintState.LIVE

    @property
    def share(self) -> float:
        """How much of the strip that is being printed is done."""
        return 0.0 if self._now is None else self._jobs.share(self)

    def _worth_printing(self, strip: Strip) -> bool:
        return not strip.bypass and any(stage.on for stage in strip.chain)

    def _frames(self, session: Session) -> int:
        """How long the session's sound lasts; 0 while not all of it is ready."""
        return self._imports.end_of_sound

    def poll(self) -> None:
        """See what has changed, and begin with what is next; called with the clock."""
        session = self._sessions.session
        if not self._settings.background_printing or self._imports.busy:
            self._drop_all()
            return
        editing = frozenset(linked_with(session, self._selection.chosen))
        self._check()
        if session is not self._session or editing != self._editing:
            self._session, self._editing = session, editing
            self._look(session)
        self._start_next(session)
        self._tell()

    def _check(self) -> None:
        """Now and then: let go of prints that somebody has removed or damaged."""
        if not self._checks.is_due():
            return
        lost = [strip_id for strip_id, result in self._prints.items()
                if state_of_file(result.data) != self._states.get(strip_id)]
        for strip_id in lost:
            del self._prints[strip_id]
        if lost:
            self._session = None

    def _file(self, session: Session, strip: Strip, frames: int, ways: frozenset[tuple[str, str]]) -> str:
        """The name of the print that the strip would have; worked out again only where something in it has changed."""
        reaching = {strip.id} if strip.kind is StripKind.TRACK else session.upstream(strip.id)
        sound = (session.rate, session.reference_dbfs, session.seed, session.tempo, session.beats_per_bar,
                 session.first_beat, session.quality.printing, frames, len(reaching) > 1 and ways,
                 *(other for other in session.strips if other.id in reaching))
        known = self._known.get(strip.id)
        if known is None or known[0] != sound:
            known = self._known[strip.id] = (sound, print_file(session, strip.id, frames).name)
        return known[1]

    def _look(self, session: Session) -> None:
        """See which strips' sound has changed, and which prints still hold."""
        frames, now, ways = self._frames(session), time.monotonic(), frozenset(session.passing())
        files: dict[str, tuple[str, float]] = {}
        for strip in session.strips:
            if strip.id in self._editing or frames == 0 or not self._worth_printing(strip):
                continue
            name = self._file(session, strip, frames, ways)
            known = self._files.get(strip.id)
            files[strip.id] = known if known is not None and known[0] == name else (name, now)
        self._prints = {strip_id: result for strip_id, result in self._prints.items()
                        if strip_id in files and files[strip_id][0] == result.data.name}
        self._files = files
        self._waiting = [strip.id for strip in session.strips if strip.id in files and strip.id not in self._prints
                         and files[strip.id][0] not in self._failed]
        if self._now is not None and files.get(self._now[0], ("", 0.0))[0] != self._now[1]:
            self._cancel()
        self._send()

    def _start_next(self, session: Session) -> None:
        if self._now is not None or not self._waiting or self._matcher.waiting():
            # What is still to be matched is heard; what is to be printed is heard either way.
            return
        frames, now = self._frames(session), time.monotonic()
        for strip_id in list(self._waiting):
            name, since = self._files[strip_id]
            if now - since < SETTLE_SECONDS:
                continue
            result = find_print(session, strip_id, frames)
            if result is not None:
                self._take(result)
                continue
            limit = round(self._settings.prints_gb * 2**30)
            self._now = strip_id, name
            self._jobs.start(self, print_strip, session, strip_id, frames, limit,
                             done=self._finish, failed=self._fail)
            return

    def _finish(self, strip_print: StripPrint) -> None:
        self._now = None
        self._take(strip_print)
        self._tell()

    def _fail(self, reason: str) -> None:
        assert self._now is not None
        (strip_id, name), self._now = self._now, None
        self._failed.add(name)
        self._waiting.remove(strip_id)
        self._messages.warn(f"{reason}. The strip runs live")
        self._tell()

    def _take(self, strip_print: StripPrint) -> None:
        self._prints[strip_print.strip_id] = strip_print
        self._states[strip_print.strip_id] = state_of_file(strip_print.data)
        self._waiting.remove(strip_print.strip_id)
        self._send()

    def put_first(self, strip_print: StripPrint | None) -> None:
        """A print that is played whatever else there is of its strip (the added part alone), or no more."""
        self._first = strip_print
        self._send()

    def _send(self) -> None:
        if self._playback.engine is not None:
            prints = dict(self._prints)
            if self._first is not None:
                prints[self._first.strip_id] = self._first
            self._playback.engine.use_prints(tuple(prints.values()))

    def _drop_all(self) -> None:
        self._cancel()
        if self._prints or self._waiting or self._session is not None:
            self._session = None
            self._prints, self._waiting, self._files = {}, [], {}
            self._send()
        self._tell()

    def _tell(self) -> None:
        news = (tuple(self._prints), tuple(self._waiting), self._now, round(self.share, 1))
        if news != self._told:
            self._told = news
            self.changed.emit()

    def _cancel(self) -> None:
        self._jobs.cancel(self)
        self._now = None
