"""What linked strips and stages do when one of them changes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from yellow_ember.dsp.parameters import Number, Value, as_number, as_pair
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stage_values import STAGE_VALUES
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.session.edits.edits import edit_stage, edit_strip, replace_stage, set_parameter
from yellow_ember.session.values.model import Session, Strip
from yellow_ember.session.values.strip_values import LINKED_VALUES

_OF_STRIPS = {value.id: value for value in LINKED_VALUES}
_OF_STAGES = {value.id: value for value in STAGE_VALUES}

LANES = "lanes"
"""Linked strips and stages have them alike."""
_Place = tuple[str, int, str]
"""Kind of stage ("" for the strip's own), which of that kind in its chain, field or parameter."""


@dataclass(frozen=True, slots=True)
class _Rule:
    """Members, what of them is linked by name, and what of that keeps its difference rather than takes the value."""

    members: tuple[str, ...]
    of_stages: bool
    links: Callable[[str], bool]
    relative: Callable[[str], bool]


def _name(index: _Place) -> str:
    kind, _, name = index
    return f"{kind}.{name}" if kind else name


def _always(_name: str) -> bool:
    return True


def _never(_name: str) -> bool:
    return False


def follow(base: Session, new: Session, selected: tuple[str, ...] = ()) -> Session:
    """The new value with all that is linked moved along.

    Parameters
    ----------
    base : Session
        Where the movement began.
    selected : tuple[str, ...]
        Strips that are edited at once: faders keep their differences, stages take the value.
    """
    if new.strips is base.strips:
        return new
    rules = [_Rule(group.members, group.of_stages, group.links, _always if group.relative else _never)
             for group in new.links]
    if len(selected) > 1:
        rules.append(_Rule(selected, False, _always, _OF_STRIPS.__contains__))
    for rule in rules:
        new = _follow_rule(rule, base, new)
    return new


def _stages(session: Session, rule: _Rule, member: str) -> tuple[Strip, dict[tuple[str, int], StageSettings]] | None:
    """A member's strip and stages by kind and number; None where it is not there."""
    for strip in session.strips:
        if rule.of_stages:
            for stage in strip.chain:
                if stage.id == member:
                    return strip, {(stage.kind, 0): stage}
        elif strip.id == member:
            result: dict[tuple[str, int], StageSettings] = {}
            for stage in strip.chain:
                count = sum(kind == stage.kind for kind, _ in result)
                result[stage.kind, count] = stage
            return strip, result
    return None


def _values(session: Session, rule: _Rule, member: str) -> dict[_Place, tuple[str, Value]]:
    """What is linked of a member: the id of its stage ("" for the strip's own) and the value, by place."""
    result = _stages(session, rule, member)
    if result is None:
        return {}
    strip, stages = result
    values: dict[_Place, tuple[str, Value]] = {}
    if not rule.of_stages:
        values |= {("", 0, name): ("", getattr(strip, name)) for name in (*_OF_STRIPS, LANES) if rule.links(name)}
    for (kind, number), stage in stages.items():
        own: dict[str, Any] = {**stage.own_values, **stage.params, LANES: stage.lanes}
        values |= {(kind, number, name): (stage.id, value) for name, value in own.items()
                   if rule.links(f"{kind}.{name}")}
    return values


def _follow_rule(rule: _Rule, base: Session, new: Session) -> Session:
    before = {member: _values(base, rule, member) for member in rule.members}
    behind = {member: _values(new, rule, member) for member in rule.members}
    for member in rule.members:
        # A stage that was not there before brings its own settings and moves nobody.
        moved = [index for index, (stage, value) in behind[member].items()
                 if index in before[member] and before[member][index] != (stage, value)
                 and before[member][index][0] == stage]
        for index in moved:
            for other in rule.members:
                if other == member or index not in behind[other] or behind[other][index] != before[other].get(index):
                    continue
                value = behind[member][index][1]
                if rule.relative(_name(index)):
                    value = _moved_as_much(index, before[member][index][1], value, before[other][index][1])
                new = _set(new, rule, other, index, behind[other][index][0], value)
    return new


def _moved_as_much(index: _Place, origin: Value, value: Value, base: Value) -> Value:
    """Where something at `base` is when it moves along its control as far as from `origin` to `value`."""
    kind, _, name = index
    if name == LANES or None in (origin, value, base):
        return value
    shared = _OF_STAGES.get(name) if kind else _OF_STRIPS[name]
    if isinstance(shared, Number):
        return shared.clamp(as_number(base) + as_number(value) - as_number(origin))
    if shared is not None:
        return value
    number = _number(kind, name)
    if number is None:
        return value

    def one(from_: float, to: float, at: float) -> float:
        if from_ == to:
            return at
        share = number.position(at) + number.position(to) - number.position(from_)
        return number.clamp(round(number.at(min(max(share, 0.0), 1.0)), number.decimals + 2))

    if isinstance(value, tuple) or isinstance(base, tuple):
        pairs = zip(as_pair(origin), as_pair(value), as_pair(base), strict=True)
        left, right = (one(*sides) for sides in pairs)
        return left, right
    return one(as_number(origin), as_number(value), as_number(base))


def _number(kind: str, name: str) -> Number | None:
    parameter = stage_kind(kind).parameter(name)
    return parameter if isinstance(parameter, Number) else None


def _set(session: Session, rule: _Rule, member: str, index: _Place, stage_id: str, value: Value) -> Session:
    result = _stages(session, rule, member)
    assert result is not None
    strip, name = result[0], index[2]
    if not stage_id:
        return edit_strip(session, strip.id, lambda old: old.with_(**{name: value}))
    if name in _OF_STAGES or name == LANES:
        return edit_stage(session, strip.id, stage_id, lambda old: replace_stage(old, **{name: value}))
    return set_parameter(session, strip.id, stage_id, name, value)


def linked_with(session: Session, strip_ids: tuple[str, ...]) -> set[str]:
    """Ids of these strips and of all that move when one of them, or a stage of it, is changed."""
    result = set(strip_ids)
    owner = {stage.id: strip.id for strip in session.strips for stage in strip.chain}
    for group in session.links:
        strips = {owner.get(member, member) for member in group.members}
        if strips & set(strip_ids):
            result |= strips
    return result
