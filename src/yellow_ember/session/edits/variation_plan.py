"""Which values to try of a stage: along up to three of its parameters, or at random from a seed."""

from __future__ import annotations

import itertools
import random
from collections.abc import Sequence
from dataclasses import dataclass

from yellow_ember.dsp.parameters import Group, Number, Option, Parameter, Switch, Value, Values
from yellow_ember.dsp.stage import StageKind

MOST = 24
_LOWEST_SHARE, _HIGHEST_SHARE = 0.1, 0.9
_RANDOM_REACH = 0.25
_GROUPS_LEFT_ALONE = (Group.OUTPUT, Group.NOISE)


@dataclass(frozen=True, slots=True)
class Plan:
    """values : full ones, one set each; labels : what is different about each"""

    values: tuple[dict[str, Value], ...]
    labels: tuple[str, ...]


def variable(kind: StageKind) -> list[Parameter]:
    """The parameters that can be gone along."""
    return [p for p in kind.parameters if isinstance(p, Option | Number | Switch)]


def first_choice(kind: StageKind) -> tuple[str, ...]:
    """Ids of the parameters that a sheet of this stage begins with."""
    known = {p.id for p in variable(kind)}
    requested = kind.varied or tuple(name for name in (kind.drive, kind.tone) if name)
    result = tuple(name for name in requested if name in known)
    return result or tuple(p.id for p in variable(kind)[:2])


def steps(parameter: Parameter, count: int) -> list[Value]:
    """So many values of a parameter: choices in their order, numbers evenly along the control."""
    if isinstance(parameter, Option):
        return [parameter.value_at(index) for index in range(min(count, len(parameter.choices)))]
    if isinstance(parameter, Switch):
        return list((False, True)[:max(count, 1)])
    assert isinstance(parameter, Number)
    if count < 3:
        shares = [0.5] if count == 1 else [0.35, 0.65]
    else:
        shares = [_LOWEST_SHARE + k / (count - 1) * (_HIGHEST_SHARE - _LOWEST_SHARE) for k in range(count)]
    return [parameter.clamp(round(parameter.at(share), parameter.decimals)) for share in shares]


def counts(kind: StageKind, names: Sequence[str], most: int = MOST) -> list[int]:
    """How many values of each parameter, so that all together make at most `most`."""
    result = [1] * len(names)
    limits = [len(p.choices) if isinstance(p := kind.parameter(name), Option) else 2 if isinstance(p, Switch) else 6
              for name in names]
    growing = True
    while growing:
        growing = False
        for index in range(len(names)):
            more = [count + (at == index) for at, count in enumerate(result)]
            size = 1
            for count in more:
                size *= count
            if more[index] <= limits[index] and size <= most:
                result, growing = more, True
    return result


def along(kind: StageKind, values: Values, names: Sequence[str], most: int = MOST) -> Plan:
    """Every combination of some values of these parameters; what follows a setting follows."""
    axes = [[(name, value) for value in steps(kind.parameter(name), count)]
            for name, count in zip(names, counts(kind, names, most), strict=True)]
    sets, labels = [], []
    for combination in itertools.product(*axes):
        changed: dict[str, Value] = dict(values)
        for name, value in combination:
            before = dict(changed)
            changed[name] = value
            if kind.follow is not None:
                changed = dict(kind.follow(before, changed)[0])
        changed |= dict(combination)
        sets.append(changed)
        labels.append(", ".join(_short(kind.parameter(name), value) for name, value in combination))
    return Plan(tuple(sets), tuple(labels))


def at_random(kind: StageKind, values: Values, seed: int, count: int = MOST) -> Plan:
    """Random steps from here, in all but level and noise; the same again from the same seed."""
    chance = random.Random(seed)
    sets, labels = [], []
    for _ in range(count):
        changed: dict[str, Value] = dict(values)
        told = []
        for parameter in variable(kind):
            if parameter.group in _GROUPS_LEFT_ALONE or chance.random() < 0.5:
                continue
            old = values[parameter.id]
            if isinstance(parameter, Number) and isinstance(old, int | float):
                share = parameter.position(old) + chance.uniform(-_RANDOM_REACH, _RANDOM_REACH)
                new: Value = parameter.clamp(round(parameter.at(min(max(share, 0.0), 1.0)), parameter.decimals))
            elif isinstance(parameter, Option) and chance.random() < 0.4:
                new = parameter.value_at(chance.randrange(len(parameter.choices)))
            else:
                continue
            if new != old:
                changed[parameter.id] = new
                told.append(f"{parameter.label} {_short(parameter, new)}")
        sets.append(changed)
        labels.append(", ".join(told) or "as it is")
    return Plan(tuple(sets), tuple(labels))


def _short(parameter: Parameter, value: Value) -> str:
    """A value in few letters."""
    return parameter.text(value).split(" (")[0]
