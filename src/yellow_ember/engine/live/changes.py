"""What of one session differs from another for the engine: values in small messages, or the structure."""

from __future__ import annotations

import pickle
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stage_values import STAGE_VALUES
from yellow_ember.session.values.model import Session, Strip
from yellow_ember.session.values.strip_values import STRIP_VALUES

_SESSION_VALUES = ("tempo", "beats_per_bar", "first_beat", "ceiling_dbfs", "loop")
_SESSION_STRUCTURE = ("rate", "reference_dbfs", "seed")
_STRIP_VALUES = ("sends", "lanes", "live", "own_ports", *(value.id for value in STRIP_VALUES))
_STAGE_VALUES = ("lanes", *(value.id for value in STAGE_VALUES))


@dataclass(frozen=True, slots=True)
class ValueChange:
    """A new value.  strip_id, stage_id : whose it is, "" for the session's own and for the strip's own"""

    strip_id: str
    stage_id: str
    name: str
    value: Any


@dataclass(frozen=True, slots=True)
class PackedSession:
    """A session whose strips are pickled one by one, so that unpacking them never takes long at a stretch."""

    frame: Session
    strips: tuple[bytes, ...]

    @classmethod
    def of(cls, session: Session) -> PackedSession:
        """Pack what the engine needs of a session: its snapshots and links stay behind."""
        return cls(session.with_(strips=(), snapshots=(), links=()),
                   tuple(pickle.dumps(strip, pickle.HIGHEST_PROTOCOL) for strip in session.strips))

    def unpacked(self) -> Session:
        return self.frame.with_(strips=tuple(pickle.loads(strip) for strip in self.strips))


def value_changes(before: Session, after: Session) -> tuple[ValueChange, ...] | None:
    """Return what leads from one session to the other, or None where a graph has to be rebuilt for it.

    What the engine does not hear (macros, links, snapshots, names of what has no ports) is left out.
    """
    if ((before.quality.live, before.quality.low_delay) != (after.quality.live, after.quality.low_delay)
            or any(getattr(before, name) != getattr(after, name) for name in _SESSION_STRUCTURE)
            or (_times(before) != _times(after) and any(stage.lanes for strip in after.strips for stage in strip.chain))
            or [strip.id for strip in before.strips] != [strip.id for strip in after.strips]):
        return None
    changes = [ValueChange("", "", name, getattr(after, name)) for name in _SESSION_VALUES
               if getattr(before, name) != getattr(after, name)]
    for old, new in zip(before.strips, after.strips, strict=True):
        if new is not old:
            if _strip_structure(old, before.rate) != _strip_structure(new, after.rate):
                return None
            changes += _strip_changes(old, new)
    return tuple(changes)


def _times(session: Session) -> tuple[float, int, float]:
    """What is in notes goes by these; settings that lanes fade between are worked out for them."""
    return session.tempo, session.beats_per_bar, session.first_beat


def _strip_structure(strip: Strip, rate: float) -> tuple[object, ...]:
    """What a running strip can't change without being rebuilt."""
    live = strip.live if strip.listens else None
    return (strip.out, [(send.to, send.pre) for send in strip.sends], strip.regions,
            live and (live.kind, live.channels),
            [(stage.id, stage.kind, stage.needs(rate)) for stage in strip.chain])


def _strip_changes(old: Strip, new: Strip) -> Iterator[ValueChange]:
    for name in _STRIP_VALUES:
        if getattr(new, name) != getattr(old, name):
            yield ValueChange(new.id, "", name, getattr(new, name))
    if (new.listens or new.own_ports) and new.name != old.name:
        yield ValueChange(new.id, "", "name", new.name)
    if new.lanes and new.macros != old.macros:
        yield ValueChange(new.id, "", "macros", new.macros)
    for before, after in zip(old.chain, new.chain, strict=True):
        if after is not before:
            yield from (ValueChange(new.id, after.id, name, getattr(after, name)) for name in _STAGE_VALUES
                        if getattr(after, name) != getattr(before, name))
            yield from (ValueChange(new.id, after.id, name, value) for name, value in after.params.items()
                        if value != before.params[name])


def with_changes(session: Session, changes: tuple[ValueChange, ...]) -> Session:
    """Return the session with these values, the inverse of `value_changes`."""
    own: dict[str, Any] = {}
    strips: dict[str, dict[str, Any]] = {}
    stages: dict[tuple[str, str], dict[str, Any]] = {}
    for change in changes:
        if change.stage_id:
            stages.setdefault((change.strip_id, change.stage_id), {})[change.name] = change.value
        else:
            (strips.setdefault(change.strip_id, {}) if change.strip_id else own)[change.name] = change.value
    for strip_id in {*strips, *(strip_id for strip_id, _ in stages)}:
        strip = session.strip(strip_id)
        chain = tuple(_with_values(stage, stages[strip_id, stage.id]) if (strip_id, stage.id) in stages else stage
                      for stage in strip.chain)
        session = session.with_strip(strip.with_(chain=chain, **strips.get(strip_id, {})))
    return session.with_(**own) if own else session


def _with_values(stage: StageSettings, values: dict[str, Any]) -> StageSettings:
    own = {name: value for name, value in values.items() if name in _STAGE_VALUES}
    params = {name: value for name, value in values.items() if name not in _STAGE_VALUES}
    return replace(stage, params={**stage.params, **params}, **own)
