"""Makes one stage as loud as what enters it, by a measurement in the background."""

from __future__ import annotations

from PyQt6.QtCore import QObject

from yellow_ember.app.workspace import Workspace
from yellow_ember.engine.jobs import Job, JobError
from yellow_ember.engine.measuring import stage_offset
from yellow_ember.session.edits import edit_stage, replace_stage
from yellow_ember.session.reading import HIGHEST_DB, LOWEST_DB


class StageMatch(QObject):
    """One measurement at a time; what it finds goes onto the stage's wet level, as one step."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._job: tuple[str, str, Job[float]] | None = None
        workspace.frame.connect(lambda _state: self._poll())
        workspace.closing.connect(self._cancel)

    def start(self, strip_id: str, stage_id: str) -> None:
        """Measure the loop before and behind the stage."""
        self._cancel()
        self._job = strip_id, stage_id, Job(stage_offset, self._workspace.session, strip_id, stage_id)
        self._workspace.messages.say("Measuring the stage\u2026")

    def _cancel(self) -> None:
        if self._job is not None:
            self._job[2].cancel()
            self._job = None

    def _poll(self) -> None:
        if self._job is None or not self._job[2].poll():
            return
        strip_id, stage_id, job = self._job
        self._job = None
        workspace = self._workspace
        try:
            offset = job.result()
        except JobError as error:
            workspace.messages.warn(f"The stage can't be measured: {error}")
            return
        strip = next((strip for strip in workspace.session.strips if strip.id == strip_id), None)
        if strip is None or all(stage.id != stage_id for stage in strip.chain):
            return
        label = strip.stage(stage_id).declaration.label
        wet_db = min(max(round(strip.stage(stage_id).wet_db + offset, 2), LOWEST_DB), HIGHEST_DB)
        workspace.document.commit(f"Match {label}", edit_stage(
            workspace.session, strip_id, stage_id, lambda stage: replace_stage(stage, wet_db=wet_db)))
        workspace.messages.say(f"{label} is as loud as what enters it: wet level {offset:+.1f} dB")
