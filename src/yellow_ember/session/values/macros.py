"""Macros: one control of a strip that moves several parameters, each over a range of its own."""

from __future__ import annotations

import enum
from collections.abc import Sequence
from dataclasses import dataclass, replace

from yellow_ember.dsp.parameters import Group, Number, Value
from yellow_ember.dsp.stage_settings import StageSettings

MAX_MACROS = 8


class Bend(enum.Enum):
    """How a target follows its macro."""

    STRAIGHT = "straight"
    LATE = "late"
    """Most of the way lies in the macro's upper part."""
    EARLY = "early"

    def share(self, share: float) -> float:
        """Where the target is when its macro has gone that share of its way, both 0 to 1."""
        return {Bend.STRAIGHT: share, Bend.LATE: share * share, Bend.EARLY: 1.0 - (1.0 - share) ** 2}[self]


@dataclass(frozen=True, slots=True)
class Target:
    """A parameter that a macro moves.

    Attributes
    ----------
    stage : str
        The stage's id.
    low, high : float
        Its values at 0 and at 100 % (low may be the greater).
    """

    stage: str
    parameter: str
    low: float
    high: float
    bend: Bend = Bend.STRAIGHT

    def value(self, number: Number, percent: float) -> float:
        """The parameter's value at a macro's; along its control's taper, with no more digits than are shown."""
        low, high = number.position(self.low), number.position(self.high)
        exact = number.at(low + self.bend.share(percent / 100.0) * (high - low))
        return number.clamp(round(exact, number.decimals + 1))


@dataclass(frozen=True, slots=True)
class Macro:
    """value : where it stands, in percent"""

    id: str
    name: str
    value: float = 0.0
    targets: tuple[Target, ...] = ()

    def with_target(self, target: Target) -> Macro:
        return replace(self, targets=(*self.targets, target))

    def without(self, stage: str, parameter: str) -> Macro:
        """This macro without what it does to one parameter."""
        return replace(self, targets=tuple(target for target in self.targets
                                           if (target.stage, target.parameter) != (stage, parameter)))

    def targeting(self, stage: str, parameter: str) -> bool:
        return any((target.stage, target.parameter) == (stage, parameter) for target in self.targets)


def without_stages(macros: Sequence[Macro], kept: Sequence[StageSettings]) -> tuple[Macro, ...]:
    """Macros whose targets are in those stages; the macros themselves stay."""
    ids = {stage.id for stage in kept}
    return tuple(replace(macro, targets=tuple(target for target in macro.targets if target.stage in ids))
                 for macro in macros)


def renamed_stages(macros: Sequence[Macro], new: dict[str, str], ids: Sequence[str]) -> tuple[Macro, ...]:
    """Macros for a copy of a chain: new ids of stages by old ones, and ids of the macros."""
    return tuple(replace(macro, id=own, targets=tuple(replace(target, stage=new[target.stage])
                                                      for target in macro.targets))
                 for macro, own in zip(macros, ids, strict=True))


def can_be_moved(stage: StageSettings, parameter: str) -> bool:
    """True for continuous parameters."""
    return isinstance(stage.declaration.parameter(parameter), Number)


def target_from_here(stage: StageSettings, parameter: str, now: Value) -> Target:
    """A target that begins at the present value and ends at the top of the range."""
    number = stage.declaration.number(parameter)
    first = now[0] if isinstance(now, tuple) else now
    low = float(first) if isinstance(first, int | float) else number.minimum
    return Target(stage.id, parameter, low, number.maximum)


def macro_number(macro: Macro) -> Number:
    """A macro as a control shows it."""
    moves = ", ".join(target.parameter for target in macro.targets) or "nothing yet"
    return Number(id=macro.id, label=macro.name, group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=0.0,
                  decimals=0, help=f"Moves {moves}.")
