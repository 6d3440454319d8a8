"""Matches that are asked for one by one, measured in the background: of one stage, and of a strip in the mix."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.dsp.stage_values import WET
from yellow_ember.engine.jobs.measuring import mix_offset, stage_offset
from yellow_ember.engine.jobs.zone_levels import zone_levels
from yellow_ember.session.edits.edits import edit_stage, edit_strip, replace_stage
from yellow_ember.session.edits.zone_edits import levels_into
from yellow_ember.session.values.model import Strip
from yellow_ember.session.values.strip_values import MATCH


class AskedMatch(QObject):
    """One measurement at a time; what it finds becomes one step."""

    def __init__(self, sessions: SessionKeeper, settings: Settings, messages: Messages, jobs: JobKeeper) -> None:
        super().__init__()
        self._sessions, self._settings, self._messages, self._jobs = sessions, settings, messages, jobs

    def match_stage(self, strip_id: str, stage_id: str) -> None:
        """Make a stage as loud as what enters it, by its wet level."""
        self._start(strip_id, lambda strip, offset: self._take_stage(strip, stage_id, offset),
                    stage_offset, strip_id, stage_id)

    def match_in_mix(self, strip_id: str) -> None:
        """Make the mix as loud with a strip's chain as without it, by the strip's match."""
        self._start(strip_id, self._take_mix, mix_offset, strip_id)

    def level_into_zone(self, strip_id: str, stage_ids: tuple[str, ...]) -> None:
        """Set the level into stages so that the loop lies in their zones, by trims before and behind them."""
        def arrived(moves: dict[str, float]) -> None:
            if not moves:
                self._messages.say("The level lies in the zone already")
            elif any(strip.id == strip_id for strip in self._sessions.session.strips):
                self._sessions.document.commit(
                    "Level into the zone", lambda session: levels_into(session, strip_id, moves))
                words = ", ".join(f"{by:+.1f} dB" for by in moves.values())
                self._messages.say(f"Level into the zone: {words} before the stage, taken back behind it")

        self._jobs.start(self, zone_levels, self._sessions.session, strip_id, stage_ids, done=arrived,
                         failed=lambda reason: self._messages.warn(f"The level can't be measured: {reason}"))
        self._messages.say("Measuring\u2026")

    def _start(self, strip_id: str, take: Callable[[Strip, float], None], measure: Callable[..., float],
               *of: str) -> None:
        def arrived(offset: float) -> None:
            for strip in self._sessions.session.strips:
                if strip.id == strip_id:
                    take(strip, offset)

        self._jobs.start(self, measure, self._sessions.session, *of, done=arrived,
                         failed=lambda reason: self._messages.warn(f"It can't be matched: {reason}"))
        self._messages.say("Measuring\u2026")

    def _take_stage(self, strip: Strip, stage_id: str, offset: float) -> None:
        stage = next((stage for stage in strip.chain if stage.id == stage_id), None)
        if stage is None:
            return
        label = stage.declaration.label
        wet_db = WET.clamp(round(stage.wet_db + offset, 2))
        self._sessions.document.commit(f"Match {label}", lambda session: edit_stage(
            session, strip.id, stage_id, lambda old: replace_stage(old, wet_db=wet_db)))
        self._messages.say(f"{label} is as loud as what enters it: wet level {WET.text(wet_db)}")

    def _take_mix(self, strip: Strip, match_db: float) -> None:
        self._settings.match_lock = False
        self._sessions.document.commit(f"Match {strip.name} in the mix", lambda session: edit_strip(
            session, strip.id, lambda old: old.with_(match_db=match_db)))
        self._messages.say(f"The mix is as loud with {strip.name}'s chain as without it: match {MATCH.text(match_db)}. "
                           "It is no longer kept matched alone")
