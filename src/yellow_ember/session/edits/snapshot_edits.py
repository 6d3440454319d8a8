"""Taking snapshots of a session's strips, and bringing them back."""

from __future__ import annotations

from collections.abc import Callable

from yellow_ember.session.values.model import Session, Strip, StripKind
from yellow_ember.session.values.snapshots import Snapshot, StripState


def owner_of(session: Session, scope: str, strip_id: str) -> str:
    """What a snapshot of a scope taken at a strip is of: the strip, the bus it is or feeds, or nothing."""
    if scope == "session":
        return ""
    strip = session.strip(strip_id)
    return strip.out if scope == "bus" and strip.kind is StripKind.TRACK else strip_id


def _strips(session: Session, scope: str, owner: str) -> list[Strip]:
    if scope == "session":
        return list(session.strips)
    return [session.strip(owner), *(session.feeding(owner) if scope == "bus" else [])]


def state_of(strip: Strip) -> StripState:
    """How a strip stands now."""
    return StripState(strip_id=strip.id, chain=strip.chain, macros=strip.macros, match_db=strip.match_db,
                      bypass=strip.bypass, volume_db=strip.volume_db, pan=strip.pan, lanes=strip.lanes)


def take_snapshot(session: Session, scope: str, owner: str, index: int) -> Session:
    """Keep how it stands now, in place of what was kept there; name and note stay."""
    old = find_snapshot(session, scope, owner, index)
    states = tuple(state_of(strip) for strip in _strips(session, scope, owner))
    fresh = Snapshot(scope=scope, owner=owner, place=index, name=old.name if old else "",
                     note=old.note if old else "", states=states)
    return session.with_(snapshots=(*(one for one in session.snapshots if one.key != fresh.key), fresh))


def find_snapshot(session: Session, scope: str, owner: str, index: int) -> Snapshot | None:
    return next((one for one in session.snapshots if one.key == (scope, owner, index)), None)


def recall(session: Session, snapshot: Snapshot) -> Session:
    """Every strip of a snapshot that is still there as it stood then."""
    here = {strip.id for strip in session.strips}
    for state in snapshot.states:
        if state.strip_id not in here:
            continue
        strip = session.strip(state.strip_id).with_(
            chain=state.chain, macros=state.macros, match_db=state.match_db, bypass=state.bypass,
            lanes=state.lanes)
        if snapshot.scope != "strip":
            strip = strip.with_(volume_db=state.volume_db, pan=state.pan)
        session = session.with_strip(strip)
    return session


def is_now(session: Session, snapshot: Snapshot) -> bool:
    """True where recalling it would change nothing, offsets of the match left aside."""
    result = recall(session, snapshot)
    return all(old.with_(match_db=0.0) == new.with_(match_db=0.0)
               for old, new in zip(session.strips, result.strips, strict=True))


def edit_snapshot(session: Session, snapshot: Snapshot, change: Callable[[Snapshot], Snapshot]) -> Session:
    return session.with_(snapshots=tuple(change(one) if one.key == snapshot.key else one
                                         for one in session.snapshots))


def remove_snapshot(session: Session, snapshot: Snapshot) -> Session:
    return session.with_(snapshots=tuple(one for one in session.snapshots if one.key != snapshot.key))
