"""What a parameter is: its range, unit, default, words and way of moving.

A stage's file declares its parameters with these values and nothing else in
the program repeats them: controls, validation of files, the command line's
listing, the reference page and the tests all read the declaration.
"""

from __future__ import annotations

import enum
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from yellow_ember.dsp.arrays import Samples

MINUS = "\u2212"
"""As it is shown; both it and the hyphen are read."""
type_error = "must be {wanted}, not {got}"

Value = float | int | bool | str | tuple[float | None, ...] | None
"""A number, a switch, a choice's id, a pair (left, right), steps, or None for "as the machine has it"."""
Values = Mapping[str, Value]


def as_number(value: Value) -> float:
    """A value that is one number; TypeError for any other."""
    if isinstance(value, int | float):
        return float(value)
    raise TypeError(f"{value!r} is no number")


def as_pair(value: Value) -> tuple[float, float]:
    """Left and right of a value that may differ per channel."""
    if isinstance(value, tuple):
        left, right = value
        return as_number(left), as_number(right)
    return as_number(value), as_number(value)


def as_edges(value: Value) -> tuple[float, ...]:
    """The frequencies of an `Edges` parameter."""
    if not isinstance(value, tuple):
        raise TypeError(f"{value!r} is no row of frequencies")
    return tuple(as_number(edge) for edge in value)


def as_number_or(value: Value, otherwise: float) -> float:
    """A number, or what stands for one that is left to the machine."""
    return otherwise if value is None else as_number(value)


class Group(enum.Enum):
    """What a control changes; the bench shows its controls in this order."""

    MACHINE = "Machine"
    DRIVE = "Drive"
    TONE = "Tone"
    HEADS = "Heads"
    MOTION = "Motion"
    WEAR = "Wear"
    DROPOUTS = "Dropouts"
    NEAR = "Near microphone"
    FAR = "Far microphone"
    ALL_BANDS = "All bands"
    BAND_1 = "Band 1"
    BAND_2 = "Band 2"
    BAND_3 = "Band 3"
    BAND_4 = "Band 4"
    BAND_5 = "Band 5"
    BAND_6 = "Band 6"
    HEAD_1 = "Head 1"
    HEAD_2 = "Head 2"
    HEAD_3 = "Head 3"
    HEAD_4 = "Head 4"
    FEEDBACK = "Feedback"
    GLUE = "Glue"
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
    ROOT = "root"
    """Small values take up more of the control."""
    FADER = "fader"
    """Large values take up more of the control, as on a mixer's fader."""


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
    """A continuous parameter.

    Attributes
    ----------
    floor_word, top_word : str
        Shown at the minimum ("off") and at the maximum.
    unset_word : str
        Shown for None, which then stands for what the machine itself has ("auto").
    per_channel : bool
        The value may be a pair (left, right).
    realistic : float | None
        Up to where a real device goes; the control marks it.
    whole : bool
        Takes whole numbers only.
    """

    unit: str
    minimum: float
    maximum: float
    default: float | None
    taper: Taper = Taper.LINEAR
    decimals: int = 1
    floor_word: str = ""
    top_word: str = ""
    unset_word: str = ""
    per_channel: bool = False
    realistic: float | None = None
    whole: bool = False

    @property
    def default_value(self) -> Value:
        return self.default

    def check(self, value: object) -> Value:
        if value is None and self.unset_word:
            return None
        if isinstance(value, list | tuple) and self.per_channel:
            if len(value) != 2:
                raise ValueError(f"must be a number or [left, right], not a list of {len(value)}")
            return self._check_one(value[0]), self._check_one(value[1])
        return self._check_one(value)

    def _check_one(self, value: object) -> float:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise ValueError(type_error.format(wanted="a number", got=_type_word(value)))
        number = float(value)
        if not math.isfinite(number) or not self.minimum <= number <= self.maximum:
            raise ValueError(
                f"must lie between {self.minimum:g} and {self.maximum:g} {self.unit}".rstrip()
                + f", not {number:g}"
            )
        if self.whole and number != round(number):
            raise ValueError(f"must be a whole number, not {number:g}")
        return number

    def clamp(self, value: float) -> float:
        """The nearest value that is allowed."""
        inside = min(max(value, self.minimum), self.maximum)
        return float(round(inside)) if self.whole else inside

    def position(self, value: Value) -> float:
        """Where the value lies on its control, 0 to 1; of a pair, the middle of both."""
        if value is None:
            return 0.0
        if isinstance(value, tuple):
            return sum(self.position(side) for side in value) / 2.0
        number = as_number(value)
        if self.taper is Taper.LOG:
            return math.log(number / self.minimum) / math.log(self.maximum / self.minimum)
        share = (number - self.minimum) / (self.maximum - self.minimum)
        if self.taper is Taper.FADER:
            return 1.0 - math.sqrt(1.0 - share)
        return math.sqrt(share) if self.taper is Taper.ROOT else share

    def at(self, position: float) -> float:
        """The number at a position between 0 and 1 (clamped), the inverse of `position`."""
        position = min(max(position, 0.0), 1.0)
        if self.taper is Taper.LOG:
            return float(self.minimum * (self.maximum / self.minimum) ** position)
        if self.taper is Taper.ROOT:
            position *= position
        elif self.taper is Taper.FADER:
            position = 1.0 - (1.0 - position) ** 2
        return self.minimum + position * (self.maximum - self.minimum)

    def text(self, value: Value) -> str:
        if value is None:
            return self.unset_word
        if isinstance(value, tuple):
            left, right = (self.text(side).removesuffix(self.unit).rstrip() for side in value)
            return f"{left} | {right} {self.unit}".rstrip()
        number = as_number(value)
        if self.floor_word and number <= self.minimum:
            return self.floor_word
        if self.top_word and number >= self.maximum:
            return self.top_word
        if self.unit == "Hz" and number >= 1000:
            return f"{number / 1000:.2f} kHz"
        sign = "+" if self.minimum < 0 < self.maximum else ""
        shown = f"{number:{sign}.{self.decimals}f}"
        if float(shown) == 0:
            shown = shown.lstrip("+-")
        return f"{shown} {self.unit}".rstrip().replace("-", MINUS)

    def parse(self, text: str) -> Value:
        word = text.strip().lower().replace(",", ".").replace(MINUS, "-")
        if self.unset_word and word == self.unset_word.lower():
            return None
        if self.per_channel and word.count("|") == 1:
            left, right = word.split("|")
            return self._parse_one(left), self._parse_one(right)
        return self._parse_one(word)

    def _parse_one(self, word: str) -> float:
        word = word.strip()
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
            raise ValueError(f"not a number: {word}")
        return self.clamp(number)


@dataclass(frozen=True, slots=True, kw_only=True)
class Steps(Parameter):
    """A row of steps between 0 and 1 that the user draws; None leaves a step as it was generated.

    Attributes
    ----------
    pattern : Callable[[Values], Samples]
        Full values -> every step as it plays, (steps,).
    step_seconds : Callable[[Values, float], float]
        Full values and tempo -> how long a step lasts.
    """

    longest: int
    pattern: Callable[[Values], Samples]
    step_seconds: Callable[[Values, float], float]

    @property
    def default_value(self) -> Value:
        return ()

    def check(self, value: object) -> Value:
        if not isinstance(value, list | tuple) or len(value) > self.longest:
            raise ValueError(f"must be a list of at most {self.longest} steps, not {_type_word(value)}")
        steps: list[float | None] = []
        for index, step in enumerate(value):
            if step is None:
                steps.append(None)
            elif isinstance(step, bool) or not isinstance(step, int | float) or not 0.0 <= step <= 1.0:
                raise ValueError(f"step {index} must be null or lie between 0 and 1, not {step!r}")
            else:
                steps.append(float(step))
        return tuple(steps)

    def text(self, value: Value) -> str:
        drawn = sum(step is not None for step in value) if isinstance(value, tuple) else 0
        return f"{drawn} drawn by hand" if drawn else "none drawn by hand"

    def parse(self, text: str) -> Value:
        raise ValueError("steps are drawn, not typed")


@dataclass(frozen=True, slots=True, kw_only=True)
class Impulse(Parameter):
    """The path of an impulse response's file, or "" for none; whoever runs the stage brings its samples."""

    @property
    def default_value(self) -> Value:
        return ""

    def check(self, value: object) -> Value:
        if not isinstance(value, str):
            raise ValueError(type_error.format(wanted="a file's path", got=_type_word(value)))
        return value

    def text(self, value: Value) -> str:
        return str(value).rsplit("/", 1)[-1] if value else "none"

    def parse(self, text: str) -> Value:
        return "" if text.strip().lower() in ("", "none") else text.strip()


@dataclass(frozen=True, slots=True, kw_only=True)
class Edges(Parameter):
    """Frequencies in Hz that part a sound into bands, from low to high; one edge makes two bands.

    Attributes
    ----------
    apart : float
        Least ratio of neighbours.
    most : int
        How many edges there may be.
    """

    minimum: float
    maximum: float
    default: tuple[float, ...]
    most: int
    apart: float = 1.25

    @property
    def default_value(self) -> Value:
        return self.default

    def check(self, value: object) -> Value:
        if not isinstance(value, list | tuple) or not 1 <= len(value) <= self.most:
            raise ValueError(f"must be a list of 1 to {self.most} frequencies, not {_type_word(value)}")
        edges: list[float] = []
        for edge in value:
            if isinstance(edge, bool) or not isinstance(edge, int | float) or not (
                    self.minimum <= edge <= self.maximum):
                raise ValueError(f"every edge must lie between {self.minimum:g} and {self.maximum:g} Hz, not {edge!r}")
            if edges and edge < self.apart * edges[-1] * (1.0 - 1e-9):
                raise ValueError(f"edges must rise by {self.apart:g} times or more, not from {edges[-1]:g} to {edge:g}")
            edges.append(float(edge))
        return tuple(edges)

    def moved(self, edges: tuple[float, ...], index: int, hz: float) -> tuple[float, ...]:
        """One edge elsewhere, as far as its neighbours let it go."""
        low = edges[index - 1] * self.apart if index > 0 else self.minimum
        high = edges[index + 1] / self.apart if index + 1 < len(edges) else self.maximum
        return (*edges[:index], min(max(hz, low), high), *edges[index + 1:])

    def added(self, edges: tuple[float, ...], hz: float) -> tuple[float, ...] | None:
        """One edge more, or None where there is no room."""
        if len(edges) == self.most or any(hz < e * self.apart and e < hz * self.apart for e in edges):
            return None
        return tuple(sorted((*edges, min(max(hz, self.minimum), self.maximum))))

    def text(self, value: Value) -> str:
        return " | ".join(f"{hz:.0f}" for hz in as_edges(value)) + " Hz"

    def parse(self, text: str) -> Value:
        words = text.lower().replace("hz", "").replace("|", " ").replace(",", " ").split()
        return self.check(sorted(float(word) for word in words))


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
        key = f"{as_number(value):g}" if self.numeric else str(value)
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
        if isinstance(value, int | float) and not isinstance(value, bool):
            value = f"{value:g}"
        if not isinstance(value, str):
            raise ValueError(type_error.format(wanted=f"one of {allowed}", got=_type_word(value)))
        if value not in self.ids():
            raise ValueError(f"must be one of {allowed}, not {value!r}")
        return value

    def text(self, value: Value) -> str:
        return self.choices[self.index(value)].label

    def parse(self, text: str) -> Value:
        word = text.strip().lower()
        for index, choice in enumerate(self.choices):
            if word in (choice.id.lower(), choice.label.lower()):
                return self.value_at(index)
        raise ValueError(f"type one of {', '.join(choice.label for choice in self.choices)}")


def _type_word(value: object) -> str:
    words = {bool: "true or false", int: "a number", float: "a number", str: "text", type(None): "nothing"}
    return words.get(type(value), "a list" if isinstance(value, list) else "an object")
