"""Measures strips before and behind their chains to be shown: in workers, again after each change has settled.

The chosen strip is measured first, and the other coloured ones while nothing else is to be done.
"""

from __future__ import annotations

import time
from collections import deque

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.engine.jobs.measuring import StripMeasurement, measure_strip
from yellow_ember.measure.likely_source import likely_source
from yellow_ember.session.values.model import Session, Strip, StripKind
from yellow_ember.session.values.purposes import source_by_name

SETTLE_SECONDS = 0.35
_IDLE_SECONDS = 1.0
_REMEMBERED = 96
"""Measurements that are kept for sounds that come back (a snapshot, an undo)."""

Sound = tuple[object, ...]


def sound_of(session: Session, strip_id: str) -> Sound:
    """What the measurement of a strip depends on."""
    return (session.loop, session.quality.live, *chain_sound_of(session, strip_id))


def chain_sound_of(session: Session, strip_id: str) -> Sound:
    """What enters a strip's chain and what the chain makes of it, wherever one listens."""
    reaching = session.upstream(strip_id)
    return (session.rate, session.reference_dbfs, session.seed, session.tempo, session.first_beat, strip_id, tuple(
        (strip.regions, strip.chain, strip.lanes, strip.lanes and strip.macros) if strip.id == strip_id else
        (strip.id, strip.regions, strip.chain, strip.lanes, strip.lanes and strip.macros, strip.bypass,
         strip.volume_db, strip.pan, strip.match_db, strip.out, strip.sends)
        for strip in session.strips if strip.id in reaching))


class Measurer(QObject):
    """`changed` is sent when there is a new measurement, or when one starts or fails.

    measured : a strip is measured as it is now, or is again as it was at a measurement
    """

    changed = pyqtSignal()
    measured = pyqtSignal(object)

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, jobs: JobKeeper,
                 imports: Imports) -> None:
        super().__init__()
        self._sessions, self._selection, self._jobs, self._imports = sessions, selection, jobs, imports
        self._due = 0.0
        self._now: tuple[str, Sound] | None = None
        """The strip that is being measured, as it was when that began."""
        self._have: dict[str, tuple[Sound, StripMeasurement]] = {}
        self._remembered: deque[tuple[Sound, StripMeasurement]] = deque(maxlen=_REMEMBERED)
        self._told: tuple[object, ...] = ()
        self._made = 0
        self._idle_since = 0.0
        self._idle_for: Session | None = None
        self._given_up: set[str] = set()
        """Strips that were tried since something last changed."""
        self.trouble = ""
        self._unsettled: frozenset[str] = frozenset()
        self._matching = False
        for something_new in (sessions.taken_in, selection.changed, imports.made_ready):
            something_new.connect(self.want)
        playback.beat.connect(self.poll)

    def give_way(self, unsettled: frozenset[str], matching: bool) -> None:
        """These strips are still to be matched, and perhaps are just now: what they feed is measured later."""
        if unsettled != self._unsettled or matching != self._matching:
            self._unsettled, self._matching = unsettled, matching
            self.want()

    def _tell(self) -> None:
        """Send `changed` where what it is about has changed."""
        strip_id = self._selection.strip_id
        news = (strip_id, self.fresh(strip_id), self.busy, self.trouble, self._made)
        if news != self._told:
            self._told = news
            self.changed.emit()

    def latest(self, strip_id: str) -> StripMeasurement | None:
        """The last measurement of a strip, fresh or not."""
        result = self._have.get(strip_id)
        return result[1] if result else None

    def probable_source(self, strip: Strip) -> str:
        """Propose what a strip is, by its kind, its name and its sound; "" where nothing tells."""
        if strip.kind is not StripKind.TRACK:
            return "master" if strip.kind is StripKind.MASTER else "bus"
        named, measurement = source_by_name(strip.name), self.latest(strip.id)
        if named or measurement is None:
            return named
        return likely_source(measurement.comparison.bands, measurement.comparison.before_db,
                             measurement.before.crest_db)

    def fresh(self, strip_id: str) -> bool:
        """True when the last measurement is of the strip as it is now."""
        result = self._have.get(strip_id)
        return result is not None and result[0] == sound_of(self._sessions.session, strip_id)

    @property
    def busy(self) -> bool:
        return self._now is not None or self._due > 0.0

    def want(self) -> None:
        """Something changed: measure the chosen strip once it has settled, where that is needed."""
        chosen = self._selection.strip_id
        self._given_up = set()
        if self._now is not None:
            strip_id, sound = self._now
            here = any(strip.id == strip_id for strip in self._sessions.session.strips)
            if not here or sound != sound_of(self._sessions.session, strip_id) or (
                    strip_id != chosen and (not self.fresh(chosen) or self._unsettled)):
                # What was only measured to be shown on the desk makes room.
                self._jobs.cancel(self)
                self._now = None
        if not self.fresh(chosen):
            self._remember(chosen)
        self._due = 0.0 if self.fresh(chosen) else time.monotonic() + SETTLE_SECONDS
        self._tell()

    def _remember(self, strip_id: str) -> None:
        """Where the strip sounds as it did at an earlier measurement, that one holds."""
        sound = sound_of(self._sessions.session, strip_id)
        result = next((result for known, result in self._remembered if known == sound), None)
        if result is not None:
            self._made += 1
            self._have[strip_id] = (sound, result)
            self.measured.emit(result)

    def _next(self) -> str | None:
        """The strip to be measured next: the chosen one, then the others, so that the desk shows what all add.

        While what feeds a strip is still to be matched, its measurement would be in vain.
        """
        chosen = self._selection.strip_id
        waiting = self._unsettled
        if not self.fresh(chosen):
            feeding = self._sessions.session.upstream(chosen) - {chosen}
            # A bus's measurement takes as long as the matching of many strips, which is heard.
            later = feeding & waiting or (feeding and self._matching)
            return None if later or chosen in self._given_up else chosen
        if waiting or time.monotonic() - self._idle_since < _IDLE_SECONDS:
            return None
        return next((strip.id for strip in self._sessions.session.strips
                     if strip.chain and strip.id not in self._given_up and not self.fresh(strip.id)), None)

    def poll(self) -> None:
        """Begin with what is next; called with the clock."""
        if self._sessions.session is not self._idle_for:
            self._idle_for, self._idle_since = self._sessions.session, time.monotonic()
        if not self._imports.settled:
            return
        if 0.0 < self._due <= time.monotonic():
            self._due = 0.0
        if self._due == 0.0 and self._now is None and (coming := self._next()) is not None:
            self._now = coming, sound_of(self._sessions.session, coming)
            self._jobs.start(self, measure_strip, self._sessions.session, coming, done=self._take, failed=self._fail)

    def _ended(self) -> tuple[str, Sound]:
        """What was being measured."""
        assert self._now is not None
        ended, self._now = self._now, None
        self._given_up.add(ended[0])
        return ended

    def _fail(self, reason: str) -> None:
        strip_id, _ = self._ended()
        if strip_id == self._selection.strip_id:
            self.trouble = reason
        self._tell()

    def _take(self, measurement: StripMeasurement) -> None:
        strip_id, sound = self._ended()
        self.trouble = ""
        self._made += 1
        self._have[strip_id] = (sound, measurement)
        self._remembered.appendleft((sound, measurement))
        if self.fresh(strip_id):
            self.measured.emit(measurement)
        self._tell()
