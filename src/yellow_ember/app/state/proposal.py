"""Proposes the bands of a tame stage, by measuring in the background what the stages before it added."""

from __future__ import annotations

from PyQt6.QtCore import QObject

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.dsp.parameters import Value
from yellow_ember.dsp.stages.tame import MAX_BANDS
from yellow_ember.engine.jobs.measuring import StripMeasurement, measure_strip
from yellow_ember.measure.harshness import harsh_bands
from yellow_ember.plain_text import with_minus
from yellow_ember.session.edits.edits import edit_stage, edit_strip, replace_stage


class Proposal(QObject):
    """One measurement at a time; what it finds becomes one step of the history."""

    def __init__(self, sessions: SessionKeeper, messages: Messages, jobs: JobKeeper) -> None:
        super().__init__()
        self._sessions, self._messages, self._jobs = sessions, messages, jobs

    def start(self, strip_id: str, stage_id: str) -> None:
        """Measure a strip as far as one of its stages, that stage and what follows left out."""
        index = self._sessions.session.strip(strip_id).index_of(stage_id)
        session = edit_strip(self._sessions.session, strip_id,
                             lambda strip: strip.with_(chain=strip.chain[:index]))
        self._jobs.start(self, measure_strip, session, strip_id,
                         done=lambda measurement: self._take(strip_id, stage_id, measurement),
                         failed=lambda reason: self._messages.warn(f"No bands can be proposed: {reason}"))
        self._messages.say("Listening to what the stages before added\u2026")

    def _take(self, strip_id: str, stage_id: str, measurement: StripMeasurement) -> None:
        messages, document = self._messages, self._sessions.document
        result = harsh_bands(measurement.comparison, MAX_BANDS)
        if not any(strip.id == strip_id and any(stage.id == stage_id for stage in strip.chain)
                   for strip in self._sessions.session.strips):
            return
        if not result:
            messages.say("The stages before add nothing harsh between 1.5 and 13 kHz")
            return
        result.sort(key=lambda band: band.hz)
        values: dict[str, Value] = {f"band{number}_depth_db": 0.0 for number in range(1, MAX_BANDS + 1)}
        for number, band in enumerate(result, 1):
            values |= {f"band{number}_hz": round(band.hz), f"band{number}_q": band.q,
                       f"band{number}_depth_db": round(band.depth_db, 1)}
        document.commit("Propose bands", lambda session: edit_stage(
            session, strip_id, stage_id,
            lambda stage: replace_stage(stage, params=stage.declaration.check({**stage.params, **values}))))
        messages.say("Proposed: " + ", ".join(
            with_minus(f"{band.hz / 1000:.1f} kHz by {band.depth_db:.0f} dB") for band in result))
