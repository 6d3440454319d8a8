"""What a parameter is: its range, unit, default, words and way of moving.

A stage's file declares its parameters with these values and nothing else in
the program repeats them: controls, validation of files, the command line's
listing, the reference page and the tests all read the declaration.
"""

from __future__ import annotations

import enum
import math
from collections.abc import Mapping
from dataclasses import dataclass

type_error = "must be {wanted}, not {got}"

Value = float | int | bool | str
Values = Mapping[str, Value]


class Group(enum.Enum):
    """What a control changes; the bench shows its controls in this order."""

    MACHINE = "Machine"
    DRIVE = "Drive"
    TONE = "Tone"
    MOTION = "Motion"
    WEAR = "Wear"
    NOISE = "Noise"
    OUTPUT = "Output"


class Automation(enum.Enum):
    """How a running processor takes a new value without a click."""

    RAMP = "ramp"
    """The processor itself glides from the old value to the new one."""
    CROSSFADE = "crossfade"
    """The stage's host fades from a copy with the old value to one with the new."""


class Taper(enum.Enum):
    """How a position between 0 and 1 on a control maps to the range."""

    LINEAR = "linear"
    LOG = "log"


@dataclass(frozen=True, slots=True)
class Choice:
    """One of the values of a parameter that is chosen by name."""

    id: str
    label: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Parameter:
    """Common part of all parameters. `help` is one plain sentence on the sound."""

    id: str
    label: str
    group: Group
    help: str
    automation: Automation = Automation.CROSSFADE

    @property
    def default_value(self) -> Value:
        raise NotImplementedError

    def check(self, value: object) -> Value:
        """Return `value` as this parameter's type; ValueError says what is wrong."""
        raise NotImplementedError

    def text(self, value: Value) -> str:
        """The value as shown on a control, with its unit."""
        raise NotImplementedError

    def parse(self, text: str) -> Value:
        """A typed value; ValueError where it is none. Out of range is clamped."""
        raise NotImplementedError


@dataclass(frozen=True, slots=True, kw_only=True)
class Number(Parameter):
    """A continuous parameter. `floor_word` is shown at the minimum ("off"), `top_word` at the maximum."""

    unit: str
    minimum: float
    maximum: float
    default: float
    taper: Taper = Taper.LINEAR
    decimals: int = 1
    floor_word: str = ""
    top_word: str = ""

    @property
    def default_value(self) -> Value:
        return self.default

    def check(self, value: object) -> float:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise ValueError(type_error.format(wanted="a number", got=_type_word(value)))
        number = float(value)
        if not math.isfinite(number) or not self.minimum <= number <= self.maximum:
            raise ValueError(
                f"must lie between {self.minimum:g} and {self.maximum:g} {self.unit}".rstrip()
                + f", not {number:g}"
            )
        return number

    def clamp(self, value: float) -> float:
        return min(max(value, self.minimum), self.maximum)

    def position(self, value: float) -> float:
        """Where the value lies on its control, 0 to 1."""
        if self.taper is Taper.LOG:
            return math.log(value / self.minimum) / math.log(self.maximum / self.minimum)
        return (value - self.minimum) / (self.maximum - self.minimum)

    def at(self, position: float) -> float:
        """The value at a position between 0 and 1 (clamped), the inverse of `position`."""
        position = min(max(position, 0.0), 1.0)
        if self.taper is Taper.LOG:
            return float(self.minimum * (self.maximum / self.minimum) ** position)
        return self.minimum + position * (self.maximum - self.minimum)

    def text(self, value: Value) -> str:
        number = float(value)
        if self.floor_word and number <= self.minimum:
            return self.floor_word
        if self.top_word and number >= self.maximum:
            return self.top_word
        if self.unit == "Hz" and number >= 1000:
            return f"{number / 1000:.2f} kHz"
        sign = "+" if self.minimum < 0 else ""
        shown = f"{number:{sign}.{self.decimals}f}"
        if float(shown) == 0:
            shown = shown.lstrip("+-")
        return f"{shown} {self.unit}".rstrip()

    def parse(self, text: str) -> float:
        word = text.strip().lower().replace(",", ".")
        if self.floor_word and word == self.floor_word:
            return self.minimum
        if self.top_word and word == self.top_word:
            return self.maximum
        factor = 1.0
        unit = self.unit.lower()
        if unit == "hz" and word.endswith(("khz", "k")):
            factor, word = 1000.0, word.removesuffix("khz").removesuffix("k")
        elif unit:
            word = word.removesuffix(unit)
        number = float(word) * factor
        if not math.isfinite(number):
            raise ValueError(f"not a number: {text}")
        return self.clamp(number)


@dataclass(frozen=True, slots=True, kw_only=True)
class Switch(Parameter):
    """On or off."""

    default: bool

    @property
    def default_value(self) -> Value:
        return self.default

    def check(self, value: object) -> bool:
        if not isinstance(value, bool):
            raise ValueError(type_error.format(wanted="true or false", got=_type_word(value)))
        return value

    def text(self, value: Value) -> str:
        return "on" if value else "off"

    def parse(self, text: str) -> bool:
        word = text.strip().lower()
        if word not in ("on", "off", "1", "0", "true", "false"):
            raise ValueError(f"type on or off, not {text}")
        return word in ("on", "1", "true")


@dataclass(frozen=True, slots=True, kw_only=True)
class Option(Parameter):
    """One of a few named choices; `default` is a choice's id.

    Where the choices are numbers with a unit (a tape speed), `unit` names it and
    files hold the number: `numeric` is true.
    """

    choices: tuple[Choice, ...]
    default: str
    unit: str = ""
    numeric: bool = False

    @property
    def default_value(self) -> Value:
        return float(self.default) if self.numeric else self.default

    def ids(self) -> tuple[str, ...]:
        return tuple(choice.id for choice in self.choices)

    def index(self, value: Value) -> int:
        """The place of a checked value among the choices."""
        key = f"{float(value):g}" if self.numeric else str(value)
        return self.ids().index(key)

    def value_at(self, index: int) -> Value:
        """The value of the choice at a place, clamped to the first and the last."""
        choice = self.choices[min(max(index, 0), len(self.choices) - 1)]
        return float(choice.id) if self.numeric else choice.id

    def check(self, value: object) -> Value:
        allowed = ", ".join(self.ids())
        if self.numeric:
            if isinstance(value, bool) or not isinstance(value, int | float):
                raise ValueError(type_error.format(wanted=f"one of {allowed}", got=_type_word(value)))
            if f"{float(value):g}" not in self.ids():
                raise ValueError(f"must be one of {allowed}, not {value:g}")
            return float(value)
        if not isinstance(value, str):
            raise ValueError(type_error.format(wanted=f"one of {allowed}", got=_type_word(value)))
        if value not in self.ids():
            raise ValueError(f"must be one of {allowed}, not {value!r}")
        return value

    def text(self, value: Value) -> str:
        return self.choices[self.index(value)].label

    def parse(self, text: str) -> Value:
        word = text.strip().lower()
        for place, choice in enumerate(self.choices):
            if word in (choice.id.lower(), choice.label.lower()):
                return self.value_at(place)
        raise ValueError(f"type one of {', '.join(choice.label for choice in self.choices)}")


def _type_word(value: object) -> str:
    words = {bool: "true or false", int: "a number", float: "a number", str: "text", type(None): "nothing"}
    return words.get(type(value), "a list" if isinstance(value, list) else "an object")
