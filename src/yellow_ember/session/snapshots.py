"""Snapshots: how a strip, a bus with its tracks, or the session's strips stood, eight of each, to go back and forth."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from yellow_ember.dsp.chain import StageSettings
from yellow_ember.session.macros import Macro

if TYPE_CHECKING:
    from yellow_ember.session.model import Session, Strip

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


def owner_of(session: Session, scope: str, strip_id: str) -> str:
    """What a snapshot of a scope taken at a strip is of: the strip, the bus it is or feeds, or nothing."""
    if scope == "session":
        return ""
    strip = session.strip(strip_id)
    return strip.out if scope == "bus" and strip.audio is not None else strip_id


def _strips(session: Session, scope: str, owner: str) -> list[Strip]:
    if scope == "session":
        return list(session.strips)
    return [session.strip(owner), *(session.feeding(owner) if scope == "bus" else [])]


def state_of(strip: Strip) -> StripState:
    """How a strip stands now."""
    return StripState(strip_id=strip.id, chain=strip.chain, macros=strip.macros, match_db=strip.match_db,
                      bypass=strip.bypass, volume_db=strip.volume_db, pan=strip.pan)


def take_snapshot(session: Session, scope: str, owner: str, place: int) -> Session:
    """Keep how it stands now, in place of what was kept there; name and note stay."""
    old = find_snapshot(session, scope, owner, place)
    states = tuple(state_of(strip) for strip in _strips(session, scope, owner))
    fresh = Snapshot(scope=scope, owner=owner, place=place, name=old.name if old else "",
                     note=old.note if old else "", states=states)
    return session.with_(snapshots=(*(one for one in session.snapshots if one.key != fresh.key), fresh))


def find_snapshot(session: Session, scope: str, owner: str, place: int) -> Snapshot | None:
    return next((one for one in session.snapshots if one.key == (scope, owner, place)), None)


def recall(session: Session, snapshot: Snapshot) -> Session:
    """Every strip of a snapshot that is still there as it stood then."""
    here = {strip.id for strip in session.strips}
    for state in snapshot.states:
        if state.strip_id not in here:
            continue
        strip = session.strip(state.strip_id).with_(
            chain=state.chain, macros=state.macros, match_db=state.match_db, bypass=state.bypass)
        if snapshot.scope != "strip":
            strip = strip.with_(volume_db=state.volume_db, pan=state.pan)
        session = session.with_strip(strip)
    return session


def is_now(session: Session, snapshot: Snapshot) -> bool:
    """True where recalling it would change nothing, offsets of the match left aside."""
    found = recall(session, snapshot)
    return all(old.with_(match_db=0.0) == new.with_(match_db=0.0)
               for old, new in zip(session.strips, found.strips, strict=True))


def edit_snapshot(session: Session, snapshot: Snapshot, change: Callable[[Snapshot], Snapshot]) -> Session:
    return session.with_(snapshots=tuple(change(one) if one.key == snapshot.key else one
                                         for one in session.snapshots))


def remove_snapshot(session: Session, snapshot: Snapshot) -> Session:
    return session.with_(snapshots=tuple(one for one in session.snapshots if one.key != snapshot.key))


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
