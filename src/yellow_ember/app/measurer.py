"""Keeps the chosen strip measured: in a worker, again after each change has settled."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterable
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.engine.jobs import Job, JobError
from yellow_ember.engine.measuring import StripMeasurement, measure_strip
from yellow_ember.session.edits import edit_strip
from yellow_ember.session.following import linked_with
from yellow_ember.session.model import Session

if TYPE_CHECKING:
    from yellow_ember.app.workspace import Workspace

SETTLE_SECONDS = 0.35
_IDLE_SECONDS = 1.0
_REMEMBERED = 48
"""Measurements that are kept for sounds that come back (a snapshot, an undo)."""
_WORTH_DB = 0.02
"""An offset that changed by less is left as it is."""


def sound_of(session: Session, strip_id: str) -> tuple[object, ...]:
    """What the measurement of a strip depends on."""
    reaching = session.upstream(strip_id)
    return (session.rate, session.loop, session.reference_dbfs, session.seed, session.quality.live, strip_id, tuple(
        strip if strip.id != strip_id else (strip.audio, strip.chain)
        for strip in session.strips if strip.id in reaching))


class Measurer(QObject):
    """`changed` is sent when there is a new measurement, or when one starts or fails."""

    changed = pyqtSignal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._due = 0.0
        self._job: Job[StripMeasurement] | None = None
        self._job_sound: tuple[object, ...] = ()
        self._have: dict[str, tuple[tuple[object, ...], StripMeasurement]] = {}
        self._remembered: deque[tuple[tuple[object, ...], StripMeasurement]] = deque(maxlen=_REMEMBERED)
        self._told: tuple[object, ...] = ()
        self._to_match: list[str] = []
        self._made = 0
        self._idle_since = 0.0
        self._idle_for: Session | None = None
        self._given_up: set[str] = set()
        """Strips that were tried since the session last changed."""
        self.trouble = ""

    def _tell(self) -> None:
        """Send `changed` where what it is about has changed."""
        strip_id = self._workspace.strip_id
        news = (strip_id, self.fresh(strip_id), self.busy, self.trouble, self._made)
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
        return self._job is not None or self._due > 0.0

    @property
    def matching(self) -> bool:
        """True while strips that were asked for are not all matched yet."""
        return bool(self._to_match)

    def want(self) -> None:
        """Something changed: measure the chosen strip once it has settled, where that is needed."""
        strip_id = self._workspace.strip_id
        if not self.fresh(strip_id):
            self._remember(strip_id)
        if self.fresh(strip_id):
            self._due = 0.0
            self._tell()
            return
        if self._job is not None and self._job_sound != sound_of(self._workspace.session, strip_id):
            self.cancel()
        if self._job is None:
            self._due = time.monotonic() + SETTLE_SECONDS
        self._tell()

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
        """While nothing else is to be done: the other coloured strips, so that the desk shows the heat of all."""
        workspace, now = self._workspace, time.monotonic()
        if workspace.session is not self._idle_for:
            self._idle_for, self._idle_since, self._given_up = workspace.session, now, set()
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
        if self._to_match and self._job is None:
            self._start(self._to_match[0])

    def _start(self, strip_id: str) -> None:
        self._job_sound = sound_of(self._workspace.session, strip_id)
        self._job = Job(measure_strip, self._workspace.session, strip_id)

    def poll(self) -> None:
        """Called with the clock."""
        workspace = self._workspace
        if self._job is None:
            ready = not workspace.imports.busy and 0.0 < self._due <= time.monotonic()
            if ready and any(workspace.imports.ready(strip.audio) for strip in workspace.session.strips):
                self._due = 0.0
                self._start(workspace.strip_id)
            elif self._to_match and self._due == 0.0:
                self._match_fresh()
            elif self._due == 0.0 and not workspace.imports.busy:
                self._measure_others()
            return
        if not self._job.poll():
            return
        job, self._job = self._job, None
        try:
            found = job.result()
        except JobError as error:
            self.trouble = str(error)
            self._to_match = []
            self._tell()
            return
        self.trouble = ""
        self._made += 1
        self._have[found.strip_id] = (self._job_sound, found)
        self._remembered.appendleft((self._job_sound, found))
        if workspace.settings.match_lock and found.strip_id == workspace.strip_id:
            self._match(found.strip_id)
        self._match_fresh()
        self._tell()

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
        offset = found.offset_db if strip.chain else 0.0
        if abs(offset - strip.match_db) < _WORTH_DB:
            return

        def matched(session: Session) -> Session:
            # What was last a step may hold another chain (one is being tried, or dragged): that keeps its own match.
            here = any(other.id == strip_id and other.chain == strip.chain for other in session.strips)
            return edit_strip(session, strip_id, lambda old: old.with_(match_db=offset)) if here else session

        self._workspace.document.adjust(matched)

    def cancel(self) -> None:
        if self._job is not None:
            self._job.cancel()
            self._job = None
