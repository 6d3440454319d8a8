"""Proposes the bands of a tame stage, by measuring in the background what the stages before it added."""

from __future__ import annotations

from PyQt6.QtCore import QObject

from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.parameters import Value
from yellow_ember.dsp.stages.tame import MOST_BANDS
from yellow_ember.engine.jobs import Job, JobError
from yellow_ember.engine.measuring import StripMeasurement, measure_strip
from yellow_ember.measure.harshness import harsh_bands
from yellow_ember.session.edits import edit_stage, edit_strip, replace_stage


class Proposal(QObject):
    """One measurement at a time; what it finds becomes one step of the history."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._job: Job[StripMeasurement] | None = None
        self._for = ("", "")
        workspace.frame.connect(lambda _state: self._poll())
        workspace.closing.connect(self._cancel)

    def start(self, strip_id: str, stage_id: str) -> None:
        """Measure a strip as far as one of its stages, that stage and what follows left out."""
        self._cancel()
        place = self._workspace.session.strip(strip_id).place_of(stage_id)
        session = edit_strip(self._workspace.session, strip_id,
                             lambda strip: strip.with_(chain=strip.chain[:place]))
        self._for = strip_id, stage_id
        self._job = Job(measure_strip, session, strip_id)
        self._workspace.messages.say("Listening to what the stages before added\u2026")

    def _cancel(self) -> None:
        if self._job is not None:
            self._job.cancel()
            self._job = None

    def _poll(self) -> None:
        if self._job is None or not self._job.poll():
            return
        job, self._job = self._job, None
        messages, document = self._workspace.messages, self._workspace.document
        try:
            found = harsh_bands(job.result().comparison, MOST_BANDS)
        except JobError as error:
            messages.warn(f"No bands can be proposed: {error}")
            return
        strip_id, stage_id = self._for
        if not any(strip.id == strip_id and any(stage.id == stage_id for stage in strip.chain)
                   for strip in self._workspace.session.strips):
            return
        if not found:
            messages.say("The stages before add nothing harsh between 1.5 and 13 kHz")
            return
        found.sort(key=lambda band: band.hz)
        values: dict[str, Value] = {f"band{number}_depth_db": 0.0 for number in range(1, MOST_BANDS + 1)}
        for number, band in enumerate(found, 1):
            values |= {f"band{number}_hz": round(band.hz), f"band{number}_q": band.q,
                       f"band{number}_depth_db": round(band.depth_db, 1)}
        document.commit("Propose bands", lambda session: edit_stage(
            session, strip_id, stage_id,
            lambda stage: replace_stage(stage, params=stage.declaration.check({**stage.params, **values}))))
        messages.say("Proposed: " + ", ".join(f"{band.hz / 1000:.1f} kHz by {band.depth_db:.0f} dB" for band in found))
