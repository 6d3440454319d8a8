"""Snapshots as a session's file holds them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from yellow_ember.session.io.reading import (
    items,
    one_of,
    only,
    read_macros,
    read_stages,
    text,
    values,
    whole,
    write_macros,
    write_stages,
)
from yellow_ember.session.values.limits import MAXIMUM_NOTE
from yellow_ember.session.values.snapshots import PLACES, SCOPES, Snapshot, StripState
from yellow_ember.session.values.strip_values import SNAPSHOT_VALUES

_NAMES = ("scope", "owner", "place", "name", "note", "states")
_STATE_NAMES = ("strip", *(value.id for value in SNAPSHOT_VALUES), "chain", "macros")


def write_snapshot(snapshot: Snapshot, folder: Path | None) -> dict[str, Any]:
    """A snapshot as JSON values; paths relative to `folder`, or absolute where that is None."""
    return {"scope": snapshot.scope, "owner": snapshot.owner, "place": snapshot.place, "name": snapshot.name,
            "note": snapshot.note, "states": [
                {"strip": state.strip_id, **{value.id: getattr(state, value.id) for value in SNAPSHOT_VALUES},
                 "chain": write_stages(state.chain, folder),
                 "macros": write_macros(state.macros, state.chain)} for state in snapshot.states]}


def read_snapshots(found: list[dict[str, Any]], strip_ids: set[str], folder: Path) -> tuple[Snapshot, ...]:
    """The inverse of `write_snapshot` for all of a session; ValueError names place and reason."""
    snapshots = []
    for position, item in enumerate(found):
        here = f"snapshots[{position}]."
        only(item, _NAMES, here)
        scope = one_of(item, "scope", SCOPES, here)
        owner = text(item, "owner", "", here)
        if (owner != "") != (scope != "session") or (owner and owner not in strip_ids):
            raise ValueError(f"{here}owner: {owner!r} is no strip that a snapshot of this scope can be of")
        states = tuple(_read_state(state, f"{here}states[{number}].", folder)
                       for number, state in enumerate(items(item, "states", here)))
        snapshots.append(Snapshot(
            scope=scope, owner=owner, place=whole(item, "place", 0, 0, PLACES - 1, here),
            name=text(item, "name", "", here), note=text(item, "note", "", here, MAXIMUM_NOTE), states=states))
    if len({one.key for one in snapshots}) != len(snapshots):
        raise ValueError("snapshots: two share a place")
    return tuple(snapshots)


def _read_state(item: dict[str, Any], here: str, folder: Path) -> StripState:
    only(item, _STATE_NAMES, here)
    chain = read_stages(items(item, "chain", here), folder, f"{here}chain")
    macros = read_macros(items(item, "macros", here) if "macros" in item else [], chain, f"{here}macros")
    return StripState(
        strip_id=text(item, "strip", None, here), chain=chain, macros=macros,
        **values(item, SNAPSHOT_VALUES, here))
