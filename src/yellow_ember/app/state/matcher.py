"""Keeps every strip as loud after its chain as before it, wherever one looks: in a worker, once edits have settled."""

from __future__ import annotations

import enum
import time
from collections import deque
from collections.abc import Collection, Iterable
from dataclasses import dataclass

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.measurer import SETTLE_SECONDS, Measurer, Sound, chain_sound_of, sound_of
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.engine.jobs.level_law import LevelLaw, common_excerpt
from yellow_ember.engine.jobs.matching import SILENT, Match, match_strips, matched
from yellow_ember.engine.jobs.measuring import StripMeasurement
from yellow_ember.session.edits.following import linked_with
from yellow_ember.session.values.model import Session, Strip
from yellow_ember.session.values.strip_values import MATCH

_REMEMBERED = 512
"""Matches that are kept for sounds that come back (a snapshot, an undo)."""
_LAWS = 8
"""Strips whose stages are kept ready to take a level back."""
_LAW_SECONDS = 0.03
"""So much of an edit's time may go into taking levels back before they are measured."""


class MatchState(enum.Enum):
    """How a strip stands to "Keep matched"."""

    MATCHED = "matched"
    WAITING = "waits to be matched"
    FAILED = "can't be matched"


@dataclass
class _Known:
    """What is known of a strip's match: the chain's sound that it was made for, or why it can't be."""

    sound: Sound
    trouble: str = ""


@dataclass
class _Run:
    """Strips that a worker matches.

    session : as the worker has it, with the matches that it has given so far
    """

    session: Session
    strip_ids: frozenset[str]
    pending: set[str]

    def still_holds(self, now: Session, strip_ids: Collection[str]) -> bool:
        """True where what it measures of some strips is what they are now, matches of its own apart."""
        alike = now.with_(strips=tuple(strip.with_(match_db=self.session.strip(strip.id).match_db)
                                       if strip.id in self.strip_ids else strip for strip in now.strips))
        return all(sound_of(alike, strip_id) == sound_of(self.session, strip_id) for strip_id in strip_ids)


class Matcher(QObject):
    """`changed` is sent when strips are out of match now, or are no more."""

    changed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 jobs: JobKeeper, imports: Imports, measurer: Measurer) -> None:
        super().__init__()
        self._sessions, self._selection, self._settings, self._jobs = sessions, selection, settings, jobs
        self._imports, self._measurer = imports, measurer
        self._run: _Run | None = None
        self._due = 0.0
        self._known: dict[str, _Known] = {}
        """By strip: what its match was made for, as far as it is right."""
        self._waiting: tuple[str, ...] = ()
        self._waiting_in: Session | None = None
        """The session that `_waiting` was worked out for."""
        self._asked: list[str] = []
        self._remembered: deque[tuple[Sound, Match]] = deque(maxlen=_REMEMBERED)
        self._laws: dict[str, tuple[StripMeasurement | None, LevelLaw]] = {}
        self._adjusting = False
        self._told: tuple[MatchState, ...] = ()
        sessions.adopting.connect(self._on_adopting)
        sessions.taken_in.connect(self.want)
        imports.made_ready.connect(self.want)
        measurer.measured.connect(self._on_measured)
        playback.beat.connect(self.poll)

    def _tell(self) -> None:
        """Send `changed` where what it is about has changed."""
        self._measurer.give_way(frozenset(self.waiting()), self.busy)
        states = tuple(self.state(strip) for strip in self._sessions.session.strips)
        if states != self._told:
            self._told = states
            self.changed.emit()

    # -- what is out of match -------------------------------------------------------------

    def state(self, strip: Strip) -> MatchState:
        """How a strip stands, where strips are kept matched."""
        if not self._settings.match_lock or not _can_be_matched(strip):
            return MatchState.MATCHED
        if strip.id in self.waiting():
            return MatchState.WAITING
        return MatchState.FAILED if self.trouble(strip.id) else MatchState.MATCHED

    def trouble(self, strip_id: str) -> str:
        """Why a strip can't be matched, "" where it can."""
        known = self._known.get(strip_id)
        return "" if known is None else known.trouble

    def waiting(self) -> tuple[str, ...]:
        """Strips whose sound was changed since they were matched, each before what it feeds.

        Rows, prints and the clock all ask; it is worked out once for each value of the session.
        """
        session = self._sessions.session
        if not self._settings.match_lock:
            return ()
        if self._waiting_in is not session:
            self._waiting_in = session
            self._waiting = tuple(strip.id for strip in session.processing_order()
                                  if _can_be_matched(strip) and self._sounds_unlike_matched(session, strip.id))
        return self._waiting

    def _sounds_unlike_matched(self, session: Session, strip_id: str) -> bool:
        known = self._known.get(strip_id)
        return known is None or known.sound != chain_sound_of(session, strip_id)

    @property
    def busy(self) -> bool:
        return self._run is not None or self._due > 0.0

    @property
    def answering(self) -> bool:
        """True while strips that were asked for are not all matched yet."""
        return bool(self._asked)

    # -- keeping --------------------------------------------------------------------------

    def _on_adopting(self, session: Session) -> None:
        """Another session: its strips' matches are right as they stand, until something is changed."""
        self.cancel()
        self._asked = []
        self._known = {}
        for strip in session.strips:
            self._note(session, strip.id)

    def want(self) -> None:
        """Something changed: match what it concerns once it has settled, or at once where that sound was known."""
        session, run = self._sessions.session, self._run
        here = {strip.id for strip in session.strips}
        self._asked = self._able(self._asked)
        if run is not None and not (run.pending <= here and run.still_holds(session, run.pending)):
            self.cancel()
        if self._settings.match_lock:
            self._match_empty()
            for strip_id in self.waiting():
                if strip_id in self.waiting():
                    self._remember(strip_id)
        if not self._unmatched():
            self._due = 0.0
        elif not self._adjusting:
            # What is matched here is no edit that has to settle.
            self._due = time.monotonic() + SETTLE_SECONDS
        self._tell()

    def _match_empty(self) -> None:
        """A strip without stages needs no measurement to be as loud after as before."""
        if any(not strip.chain and strip.match_db != 0.0 for strip in self._sessions.session.strips):
            self._sessions.document.adjust(lambda session: session.with_(strips=tuple(
                strip if strip.chain else strip.with_(match_db=0.0) for strip in session.strips)))

    def _remember(self, strip_id: str) -> None:
        """Where the strip sounds as it did before, the match of then holds, and is used at once."""
        session = self._sessions.session
        if (session.upstream(strip_id) - {strip_id}) & set(self.waiting()):
            return
        sound = sound_of(session, strip_id)
        known = next((match for earlier, match in self._remembered if earlier == sound), None)
        if known is not None:
            self._use(known)

    def _unmatched(self) -> list[str]:
        """What is to be matched, and is not being matched."""
        pending = self._run.pending if self._run is not None else set()
        return [strip_id for strip_id in dict.fromkeys((*self.waiting(), *self._asked)) if strip_id not in pending]

    def _able(self, strip_ids: Iterable[str]) -> list[str]:
        """Those of some strips that are there and have something to match."""
        coloured = {strip.id for strip in self._sessions.session.strips if strip.chain}
        return [strip_id for strip_id in dict.fromkeys(strip_ids) if strip_id in coloured]

    def match_all(self, strip_ids: Iterable[str]) -> None:
        """Make after as loud as before on all these strips, also where they are not kept so."""
        self._asked = self._able((*self._asked, *strip_ids))
        for strip_id in list(self._asked):
            self._remember(strip_id)
        self._start()

    def match_chosen(self) -> None:
        """Make after as loud as before on the chosen strip and on all linked with it."""
        self.match_all({self._selection.strip_id} | linked_with(self._sessions.session, self._selection.chosen))

    def poll(self) -> None:
        """Begin with what waits; called with the clock."""
        if not self._imports.settled:
            return
        if 0.0 < self._due <= time.monotonic():
            self._due = 0.0
        if self._due == 0.0:
            self._start()

    def _start(self) -> None:
        if self._run is None and (requested := self._unmatched()):
            session = self._sessions.session
            self._run = _Run(session, frozenset(requested), set(requested))
            self._jobs.start(self, match_strips, session, tuple(requested), part=self._take,
                             done=lambda _: self._end(), failed=self._end)

    def _end(self, trouble: str = "") -> None:
        run, self._run = self._run, None
        for strip_id in run.pending if run is not None and trouble else ():
            self._use(Match(strip_id, trouble=trouble))
        self._tell()

    def _take(self, match: Match) -> None:
        run, session = self._run, self._sessions.session
        assert run is not None
        run.pending.discard(match.strip_id)
        if run.still_holds(session, (match.strip_id,)):
            run.session = matched(run.session, match)
            self._remembered.appendleft((sound_of(session, match.strip_id), match))
            self._use(match)

    def _on_measured(self, measurement: StripMeasurement) -> None:
        """A strip was measured as it is now, to be shown: where it is out of match, that matches it as well."""
        strip_id = measurement.strip_id
        match = Match(strip_id, trouble=SILENT) if measurement.silent else Match(strip_id, measurement.offset_db)
        self._remembered.appendleft((sound_of(self._sessions.session, measurement.strip_id), match))
        if measurement.strip_id in self.waiting() or measurement.strip_id in self._asked:
            self._use(match)

    def _use(self, match: Match) -> None:
        """Put a match in place that is of the strip as it is now."""
        strip_id, chain = match.strip_id, self._sessions.session.strip(match.strip_id).chain
        self._note(self._sessions.session, strip_id, match.trouble)
        self._asked = [other for other in self._asked if other != strip_id]

        def in_place(session: Session) -> Session:
            # What was last a step may hold another chain (one is being tried, or dragged): that keeps its own match.
            here = any(other.id == strip_id and other.chain == chain for other in session.strips)
            return matched(session, match) if here else session

        self._adjusting = True
        try:
            self._sessions.document.adjust(in_place)
        finally:
            self._adjusting = False
        self._tell()

    def _note(self, session: Session, strip_id: str, trouble: str = "") -> None:
        """A strip's match is right for its sound as it is, or can't be made."""
        self._known[strip_id] = _Known(chain_sound_of(session, strip_id), trouble)
        self._waiting_in = None

    def cancel(self) -> None:
        """Match no more of what is being matched."""
        self._jobs.cancel(self)
        self._run = None

    # -- taking back at once ----------------------------------------------------------------

    def take_back(self, base: Session, before: Session, new: Session) -> Session:
        """A new value in which the level of strips that are driven harder is taken back at once, by the stages' law.

        base : where the movement began; before : what was shown of it before, perhaps measured meanwhile
        """
        if not self._settings.match_lock or new.strips is base.strips:
            return new
        until, last = time.monotonic() + _LAW_SECONDS, 0.0
        begun, shown = ({strip.id: strip for strip in session.strips} for session in (base, before))
        for strip in new.strips:
            first, old = begun.get(strip.id), shown.get(strip.id)
            if first is None or first.match_db != strip.match_db or not _is_driven(first, strip):
                continue
            if old is None or not _has_same_stages(old, strip):
                old = first
            if time.monotonic() < until:
                law = self._law(strip.id, base)
                change = law.level_db(old.chain) - law.level_db(strip.chain)
                last = change if abs(change) < MATCH.maximum else 0.0
            match_db = MATCH.clamp(round(old.match_db + last, MATCH.decimals))
            new = new.with_strip(strip.with_(match_db=match_db))
        return new

    def _law(self, strip_id: str, session: Session) -> LevelLaw:
        measurement = self._measurer.latest(strip_id)
        known = self._laws.get(strip_id)
        if known is None or known[0] is not measurement:
            excerpt = common_excerpt(session.reference_dbfs) if measurement is None else measurement.excerpt
            known = (measurement, LevelLaw(excerpt, session.rate, session.reference_dbfs))
        # The one used last stands last.
        self._laws.pop(strip_id, None)
        self._laws[strip_id] = known
        while len(self._laws) > _LAWS:
            self._laws.pop(next(iter(self._laws)))
        return known[1]


def _has_same_stages(old: Strip, new: Strip) -> bool:
    return [stage.id for stage in old.chain] == [stage.id for stage in new.chain]


def _is_driven(old: Strip, new: Strip) -> bool:
    """True where the same stages stand in both, and a drive has moved."""
    return old is not new and _has_same_stages(old, new) and any(
        before is not after and (drive := after.declaration.drive) is not None
        and before.params[drive] != after.params[drive]
        for before, after in zip(old.chain, new.chain, strict=True))


def _can_be_matched(strip: Strip) -> bool:
    """A path that plays files: what comes in live is not there to be measured."""
    return bool(strip.chain) and not strip.listens
