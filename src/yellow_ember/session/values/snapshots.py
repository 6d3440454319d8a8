"""Snapshots: how a strip, a bus with its tracks, or the session's strips stood, eight of each, to go back and forth."""

from __future__ import annotations

from dataclasses import dataclass, replace

from yellow_ember.dsp.lanes import Lane
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.session.values.macros import Macro

SCOPES = ("strip", "bus", "session")
PLACES = 8


@dataclass(frozen=True, slots=True, kw_only=True)
class StripState:
    """What a snapshot holds of a strip; level and pan come back with those of a bus or the session only."""

    strip_id: str
    chain: tuple[StageSettings, ...]
    macros: tuple[Macro, ...] = ()
    match_db: float = 0.0
    bypass: bool = False
    volume_db: float = 0.0
    pan: float = 0.0
    lanes: tuple[Lane, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Snapshot:
    """scope : one of SCOPES; owner : the strip or bus it is of, "" for the session; place : 0 to PLACES - 1"""

    scope: str
    owner: str
    place: int
    name: str = ""
    note: str = ""
    states: tuple[StripState, ...]

    @property
    def key(self) -> tuple[str, str, int]:
        return self.scope, self.owner, self.place

    @property
    def title(self) -> str:
        return self.name or f"Snapshot {self.place + 1}"

    def state(self, strip_id: str) -> StripState | None:
        return next((state for state in self.states if state.strip_id == strip_id), None)


def copy_stage(source: Snapshot, target: Snapshot, strip_id: str, stage_id: str) -> Snapshot:
    """The target with one stage as it stands in the source: in place of itself, or behind the others.

    KeyError where the source has no such stage.
    """
    state = source.state(strip_id)
    stage = next((stage for stage in state.chain if stage.id == stage_id), None) if state is not None else None
    if stage is None:
        raise KeyError(stage_id)

    def taken(old: StripState) -> StripState:
        if old.strip_id != strip_id:
            return old
        if any(one.id == stage_id for one in old.chain):
            return replace(old, chain=tuple(stage if one.id == stage_id else one for one in old.chain))
        return replace(old, chain=(*old.chain, stage))

    return replace(target, states=tuple(taken(old) for old in target.states))


def without_lost_snapshots(snapshots: tuple[Snapshot, ...], strip_ids: set[str]) -> tuple[Snapshot, ...]:
    """Those that are of something that is still there."""
    return tuple(one for one in snapshots if not one.owner or one.owner in strip_ids)
