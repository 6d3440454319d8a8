"""Keeps strips measured and matched: in workers, again after each change has settled.

The chosen strip is measured first, then every other whose sound was changed, wherever one looks meanwhile.
"""

from __future__ import annotations

import enum
import os
import time
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.engine.jobs import Job, JobError, cancel_all
from yellow_ember.engine.level_law import LevelLaw, common_excerpt
from yellow_ember.engine.measuring import StripMeasurement, measure_strip
from yellow_ember.session.edits import edit_strip
from yellow_ember.session.following import linked_with
from yellow_ember.session.model import MOST_MATCH_DB, Session, Strip

if TYPE_CHECKING:
    from yellow_ember.app.workspace import Workspace

SETTLE_SECONDS = 0.35
_IDLE_SECONDS = 1.0
_REMEMBERED = 96
"""Measurements that are kept for sounds that come back (a snapshot, an undo)."""
_WORTH_DB = 0.02
"""An offset that changed by less is left as it is."""
_LAWS = 8
"""Strips whose stages are kept ready for that."""
_LAW_SECONDS = 0.03
"""So much of an edit's time may go into taking levels back before they are measured."""

Sound = tuple[object, ...]


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


def sound_of(session: Session, strip_id: str) -> Sound:
    """What the measurement of a strip depends on."""
    return (session.loop, session.quality.live, *chain_sound_of(session, strip_id))


def chain_sound_of(session: Session, strip_id: str) -> Sound:
    """What enters a strip's chain and what the chain makes of it, wherever one listens."""
    reaching = session.upstream(strip_id)
    return (session.rate, session.reference_dbfs, session.seed, session.tempo, strip_id, tuple(
        (strip.audio, strip.chain) if strip.id == strip_id else
        (strip.id, strip.audio, strip.chain, strip.bypass, strip.volume_db, strip.pan, strip.match_db, strip.out,
         strip.sends)
        for strip in session.strips if strip.id in reaching))


class Measurer(QObject):
    """`changed` is sent when there is a new measurement, or when one starts or fails."""

    changed = pyqtSignal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._due = 0.0
        self._jobs: dict[str, tuple[Sound, Job[StripMeasurement]]] = {}
        self._room = max(1, len(os.sched_getaffinity(0)))
        self._have: dict[str, tuple[Sound, StripMeasurement]] = {}
        self._remembered: deque[tuple[Sound, StripMeasurement]] = deque(maxlen=_REMEMBERED)
        self._matches: dict[str, _Known] = {}
        """By strip: what its match was made for, as far as it is right."""
        self._waiting: tuple[str, ...] = ()
        self._waiting_in: Session | None = None
        """The session that `_waiting` was worked out for."""
        self._laws: dict[str, tuple[StripMeasurement | None, LevelLaw]] = {}
        self._told: tuple[object, ...] = ()
        self._to_match: list[str] = []
        self._adjusting = False
        self._made = 0
        self._idle_since = 0.0
        self._idle_for: Session | None = None
        self._given_up: set[str] = set()
        """Strips that were tried since the session last changed."""
        self.trouble = ""

    def _tell(self) -> None:
        """Send `changed` where what it is about has changed."""
        strip_id = self._workspace.strip_id
        states = tuple(self.match_state(strip) for strip in self._workspace.session.strips)
        news = (strip_id, self.fresh(strip_id), self.busy, self.trouble, self._made, states)
        if news != self._told:
            self._told = news
            self.changed.emit()

    def latest(self, strip_id: str) -> StripMeasurement | None:
        """The last measurement of a strip, fresh or not."""
        found = self._have.get(strip_id)
        return found[1] if found else None

    def fresh(self, strip_id: str) -> bool:
        """True when the last measurement is of the strip as it is now."""
        found = self._have.get(strip_id)
        return found is not None and found[0] == sound_of(self._workspace.session, strip_id)

    @property
    def busy(self) -> bool:
        return bool(self._jobs) or self._due > 0.0

    @property
    def matching(self) -> bool:
        """True while strips that were asked for are not all matched yet."""
        return bool(self._to_match)

    # -- what is out of match -------------------------------------------------------------

    def match_state(self, strip: Strip) -> MatchState:
        """How a strip stands, where strips are kept matched."""
        if not self._workspace.settings.match_lock or not strip.chain:
            return MatchState.MATCHED
        if strip.id in self._out_of_match():
            return MatchState.WAITING
        return MatchState.FAILED if self.match_trouble(strip.id) else MatchState.MATCHED

    def match_trouble(self, strip_id: str) -> str:
        """Why a strip can't be matched, "" where it can."""
        known = self._matches.get(strip_id)
        return "" if known is None else known.trouble

    def opened(self, session: Session) -> None:
        """Another session: its strips' matches are right as they stand, until something is changed."""
        self.cancel()
        self._to_match = []
        self._matches = {}
        for strip in session.strips:
            self._note_match(session, strip.id)

    def _note_match(self, session: Session, strip_id: str, trouble: str = "") -> None:
        """A strip's match is right for its sound as it is, or can't be made."""
        self._matches[strip_id] = _Known(chain_sound_of(session, strip_id), trouble)
        self._waiting_in = None

    @property
    def behind(self) -> bool:
        """True while strips wait to be matched."""
        return bool(self._out_of_match())

    def _out_of_match(self) -> tuple[str, ...]:
        """Strips whose sound was changed since they were matched, each before what it feeds.

        Rows, prints and the clock all ask; it is worked out once for each value of the session.
        """
        session = self._workspace.session
        if not self._workspace.settings.match_lock:
            return ()
        if self._waiting_in is not session:
            self._waiting_in = session
            self._waiting = tuple(strip.id for strip in session.processing_order()
                                  if strip.chain and self._sounds_unlike_matched(session, strip.id))
        return self._waiting

    def _sounds_unlike_matched(self, session: Session, strip_id: str) -> bool:
        known = self._matches.get(strip_id)
        return known is None or known.sound != chain_sound_of(session, strip_id)

    # -- measuring ------------------------------------------------------------------------

    def want(self) -> None:
        """Something changed: measure what it concerns once it has settled, where that is needed."""
        session, waiting = self._workspace.session, self._out_of_match()
        urgent = {self._workspace.strip_id, *waiting, *self._to_match}
        for strip_id, (sound, job) in list(self._jobs.items()):
            # What was only measured to be shown makes room for what has to be matched.
            idle = bool(waiting) and strip_id not in urgent
            if idle or not any(strip.id == strip_id for strip in session.strips) or sound != sound_of(
                    session, strip_id):
                job.cancel()
                del self._jobs[strip_id]
        self._match_empty()
        for strip_id in dict.fromkeys((self._workspace.strip_id, *self._out_of_match())):
            if not self.fresh(strip_id):
                self._remember(strip_id)
            elif self._workspace.settings.match_lock:
                self._match(strip_id)
        if self._next() is None:
            self._due = 0.0
        elif not self._adjusting:
            # What is matched here is no edit that has to settle.
            self._due = time.monotonic() + SETTLE_SECONDS
        self._tell()

    def _match_empty(self) -> None:
        """A strip without stages needs no measurement to be as loud after as before."""
        if not self._workspace.settings.match_lock:
            return
        if any(not strip.chain and strip.match_db != 0.0 for strip in self._workspace.session.strips):
            self._workspace.document.adjust(lambda session: session.with_(strips=tuple(
                strip if strip.chain else strip.with_(match_db=0.0) for strip in session.strips)))

    def _next(self) -> str | None:
        """The strip to be measured next: the chosen one, then those out of match; each behind what feeds it.

        What feeds a strip and is still to be matched would change what enters it, and the measurement be in vain.
        """
        session, chosen = self._workspace.session, self._workspace.strip_id
        waiting = self._out_of_match()
        unsettled = {*waiting, *self._jobs}
        for strip_id in ((chosen,) if not self.fresh(chosen) else ()) + waiting:
            if strip_id not in self._jobs and strip_id not in self._given_up and not (
                    session.upstream(strip_id) - {strip_id}) & unsettled:
                return strip_id
        return None

    def _remember(self, strip_id: str) -> None:
        """Where the strip sounds as it did at an earlier measurement, that one holds, and is matched by at once."""
        sound = sound_of(self._workspace.session, strip_id)
        found = next((found for known, found in self._remembered if known == sound), None)
        if found is not None:
            self._made += 1
            self._have[strip_id] = (sound, found)
            if self._workspace.settings.match_lock:
                self._match(strip_id)

    def _measure_others(self) -> None:
        """While nothing else is to be done: the other coloured strips, so that the desk shows what all add."""
        workspace, now = self._workspace, time.monotonic()
        if now - self._idle_since < _IDLE_SECONDS or not self.fresh(workspace.strip_id):
            return
        for strip in workspace.session.strips:
            if strip.chain and strip.id not in self._given_up and not self.fresh(strip.id):
                self._given_up.add(strip.id)
                self._start(strip.id)
                return

    def match_all(self, strip_ids: Iterable[str]) -> None:
        """Make after as loud as before on all these strips; what is not measured is measured first."""
        self._to_match = list(dict.fromkeys(strip_ids))
        self._match_fresh()

    def _match_fresh(self) -> None:
        """Match those that are measured; start with the first that is not."""
        session = self._workspace.session
        here = {strip.id for strip in session.strips}
        self._to_match = [strip_id for strip_id in self._to_match if strip_id in here]
        while self._to_match and self.fresh(self._to_match[0]):
            self._match(self._to_match.pop(0))
        if self._to_match and not self._jobs:
            self._start(self._to_match[0])

    def _start(self, strip_id: str) -> None:
        session = self._workspace.session
        self._jobs[strip_id] = (sound_of(session, strip_id), Job(measure_strip, session, strip_id))

    def poll(self) -> None:
        """Take in what the workers have done, and give them what is next."""
        workspace = self._workspace
        if workspace.session is not self._idle_for:
            self._idle_for, self._idle_since, self._given_up = workspace.session, time.monotonic(), set()
        for strip_id, (sound, job) in list(self._jobs.items()):
            if strip_id in self._jobs and job.poll():
                del self._jobs[strip_id]
                self._take(strip_id, sound, job)
        if workspace.imports.busy or not any(
                workspace.imports.ready(strip.audio) for strip in workspace.session.strips):
            return
        if 0.0 < self._due <= time.monotonic():
            self._due = 0.0
        if self._due == 0.0:
            while len(self._jobs) < self._room and (coming := self._next()) is not None:
                self._start(coming)
            if not self._jobs:
                self._match_fresh()
            if not self._jobs:
                self._measure_others()

    def _take(self, strip_id: str, sound: Sound, job: Job[StripMeasurement]) -> None:
        try:
            found = job.result()
        except JobError as error:
            self._given_up.add(strip_id)
            if strip_id == self._workspace.strip_id:
                self.trouble = str(error)
            self._note_match(self._workspace.session, strip_id, str(error))
            self._to_match = []
            self._tell()
            return
        self.trouble = ""
        self._made += 1
        self._have[strip_id] = (sound, found)
        self._remembered.appendleft((sound, found))
        if self._workspace.settings.match_lock and self.fresh(strip_id):
            self._match(strip_id)
        self._match_fresh()
        self._tell()

    # -- matching ---------------------------------------------------------------------------

    def match(self) -> None:
        """Make after as loud as before on the chosen strip, by the last measurement, and on all linked with it."""
        workspace = self._workspace
        self._match(workspace.strip_id)
        others = linked_with(workspace.session, workspace.chosen) - {workspace.strip_id}
        if others:
            self.match_all(others)

    def _match(self, strip_id: str) -> None:
        """By the last measurement, where there is one."""
        found, strip = self.latest(strip_id), self._workspace.session.strip(strip_id)
        if found is None:
            return
        if self.fresh(strip_id):
            silent = "it is silent in the loop, before the path or behind it" if found.silent and strip.chain else ""
            self._note_match(self._workspace.session, strip_id, silent)
        offset = found.offset_db if strip.chain else 0.0
        if abs(offset - strip.match_db) < _WORTH_DB or (found.silent and strip.chain):
            return

        def matched(session: Session) -> Session:
            # What was last a step may hold another chain (one is being tried, or dragged): that keeps its own match.
            here = any(other.id == strip_id and other.chain == strip.chain for other in session.strips)
            return edit_strip(session, strip_id, lambda old: old.with_(match_db=offset)) if here else session

        self._adjusting = True
        try:
            self._workspace.document.adjust(matched)
        finally:
            self._adjusting = False

    def take_back(self, now: Session, new: Session) -> Session:
        """A new value in which the level of strips that are driven harder is taken back at once, by the stages' law."""
        if not self._workspace.settings.match_lock or new.strips is now.strips:
            return new
        until, last = time.monotonic() + _LAW_SECONDS, 0.0
        before = {strip.id: strip for strip in now.strips}
        for strip in new.strips:
            old = before.get(strip.id)
            if old is None or old is strip or old.match_db != strip.match_db or not _is_driven(old, strip):
                continue
            if time.monotonic() < until:
                law = self._law(strip.id, now)
                change = law.level_db(old.chain) - law.level_db(strip.chain)
                last = change if abs(change) < MOST_MATCH_DB else 0.0
            match_db = min(max(round(strip.match_db + last, 2), -MOST_MATCH_DB), MOST_MATCH_DB)
            new = new.with_strip(strip.with_(match_db=match_db))
        return new

    def _law(self, strip_id: str, session: Session) -> LevelLaw:
        found = self.latest(strip_id)
        known = self._laws.get(strip_id)
        if known is None or known[0] is not found:
            excerpt = common_excerpt(session.reference_dbfs) if found is None else found.excerpt
            known = (found, LevelLaw(excerpt, session.rate, session.reference_dbfs))
        # The one used last stands last.
        self._laws.pop(strip_id, None)
        self._laws[strip_id] = known
        while len(self._laws) > _LAWS:
            self._laws.pop(next(iter(self._laws)))
        return known[1]

    def cancel(self) -> None:
        cancel_all([job for _, job in self._jobs.values()])
        self._jobs = {}


def _is_driven(old: Strip, new: Strip) -> bool:
    """True where the same stages stand in both, and a drive has moved."""
    if [stage.id for stage in old.chain] != [stage.id for stage in new.chain]:
        return False
    return any(before is not after and (drive := after.declaration.drive) is not None
               and before.params[drive] != after.params[drive]
               for before, after in zip(old.chain, new.chain, strict=True))
