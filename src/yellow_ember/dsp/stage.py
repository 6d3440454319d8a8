"""What a stage is: its declaration, its processor and the data of its picture.

A file in `dsp/stages/` holds one `StageKind`; everything else in the program that
knows about that stage reads it from there.
"""

from __future__ import annotations

import enum
import math
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import Section
from yellow_ember.dsp.glyphs import Glyph
from yellow_ember.dsp.kernels import PLAIN, kernel
from yellow_ember.dsp.parameters import Automation, Group, Impulse, Number, Parameter, Value, Values
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.record import CompiledHalf, run_stage

CLOCK_FRAME, CLOCK_DELAY, CLOCK_FROM, CLOCK_SHIFT = 0, 1, 2, 3
"""What of a clock compiled code reads from its `times`."""


@kernel
def in_session(times: Samples, frame: float) -> float:
    """The session's frame of what lies at a frame of a clock.

    Behind a jump, at the loop's end, a stage still works for a while on what came before it: such frames lie before
    CLOCK_FROM, where reading went on, and belong CLOCK_SHIFT later.
    """
    return frame + times[CLOCK_SHIFT] if frame < times[CLOCK_FROM] else frame


class Clock:
    """Where in the session a strip's chain is: what damage to a tape and rates in notes go by.

    Attributes
    ----------
    frame : int
        Session frame of the block's first sample at the chain's input.
    delay : int
        Frames by which the signal at the present stage lags behind that.
    """

    def __init__(self, tempo: float = 120.0, beats_per_bar: int = 4, first_beat: float = 0.0) -> None:
        self.times: Samples = np.array([0.0, 0.0, -math.inf, 0.0])
        """Frame, delay, where reading went on after the last jump, and how far that was back; for compiled code."""
        self.tempo = tempo
        self.beats_per_bar = beats_per_bar
        self.first_beat = first_beat
        """Where bar 1 begins, in seconds of the session."""

    @property
    def frame(self) -> int:
        return int(self.times[CLOCK_FRAME])

    @frame.setter
    def frame(self, value: int) -> None:
        self.times[CLOCK_FRAME] = value

    @property
    def delay(self) -> int:
        return int(self.times[CLOCK_DELAY])

    @delay.setter
    def delay(self, value: int) -> None:
        self.times[CLOCK_DELAY] = value

    @property
    def here(self) -> int:
        """Session frame of the block's first sample at the present stage; negative before the start."""
        return self.frame - self.delay


LOOP_FRAMES = 128
"""The longest block of a chain with a loop through all its stages: what comes back is delayed by that much at least."""


class LoopPort:
    """Where a stage hands sound to the rest of its chain and takes it back.

    Attributes
    ----------
    sent : Samples
        (channels, LOOP_FRAMES), what goes round, written by the stage.
    returned : Samples
        The same shape, what came round, read by the stage.
    delay
        Frames from the one to the other.
    """

    def __init__(self, channels: int) -> None:
        self.sent: Samples = np.zeros((channels, LOOP_FRAMES))
        self.returned: Samples = np.zeros((channels, LOOP_FRAMES))
        self.delay = LOOP_FRAMES


def _no_impulse(path: str, rate: float) -> Samples | None:
    return None


@dataclass(frozen=True, slots=True)
class Setup:
    """What a processor is prepared for.

    Attributes
    ----------
    rate : float
        Frames a second.
    channels : int
        1 or 2.
    max_block : int
        The longest block that will come.
    oversample : int
        1, 2, 4, 8 or 16.
    reference_dbfs : float
        Peak level of a sine at 0 VU.
    seed : int
        Where the stage's random numbers start, 32 bits (`dsp/seeds.py`).
    lookahead : int
        Frames of the future that the stage asked for (`StageKind.lookahead`).
    impulse : Samples | None
        The response (channels, taps) at `rate` that the stage's settings name, None for none.
    read_impulse : Callable[[str, float], Samples | None]
        Path and rate -> such a response; None where it can't be used.
    clock : Clock
        Shared by all stages of a chain.
    loop : LoopPort | None
        The way through the rest of the chain, for a stage whose settings ask for one (`StageKind.loops`).
    low_delay : bool
        Sound comes in live: what comes soonest is better than what is exact in phase.
    widen : bool
        A chain of one channel goes on with two from the first stage that makes two of one (`StageKind.spreads`).
    still : bool
        Its stages have no lanes, and no other settings will come.
    """

    rate: float
    channels: int
    max_block: int
    oversample: int = 8
    reference_dbfs: float = -18.0
    seed: int = 0
    lookahead: int = 0
    impulse: Samples | None = None
    read_impulse: Callable[[str, float], Samples | None] = _no_impulse
    clock: Clock = field(default_factory=Clock)
    loop: LoopPort | None = None
    widen: bool = False
    low_delay: bool = False
    still: bool = False


MOST_TURNS = 5
"""All-passes that a stage can ask for."""
STRAIGHT: Section = (1.0, 0.0, 0.0, 0.0, 0.0)
"""A section that changes nothing."""
_NO_TURNS: Samples = np.zeros((0, 5))


class Processor(ABC):
    """The Python half of a running stage; the compiled half, `compiled`, makes the sound from what lies in the record.

    A stage's class says in `set` how the user's values become settings in the record, and in `make_parts` what never
    changes.  `process` works in place on float64 blocks (channels, frames), C-contiguous, of any length up to
    `max_block`; it allocates nothing, and the cutting into blocks does not change its result.  Input must be finite;
    the host of the stage sees to that.

    Attributes
    ----------
    latency : int
        In frames; depends on the set-up alone.
    settling : int
        Frames that new settings take until what they stir up has come out.
    turning : Samples
        The part of the record's settings (MOST_TURNS, 5) that holds the all-passes which the stage's splits sum to at
        rest, straight wires where there are fewer; none of a record without.  What passes the stage by goes through
        them too, so that no mix of both cancels anything.
    in_tempo : ClassVar[bool]
        Some settings follow the session's tempo, by `follow_tempo`.
    """

    compiled: ClassVar[CompiledHalf]
    in_tempo: ClassVar[bool] = False
    latency: int = 0
    settling: int = 0
    turning: Samples = _NO_TURNS

    def __init__(self, setup: Setup) -> None:
        """Make the record and what belongs to it, for a rate, a number of channels, a longest block and a quality."""
        self._setup = setup
        self.ramps: list[Ramp] = []
        self.record: Any = self.compiled.record_type.make(
            channels=setup.channels, frames=setup.max_block, samples=setup.channels * setup.max_block,
            **self.sizes(setup))
        self.make_parts(setup)

    def sizes(self, setup: Setup) -> dict[str, int]:
        """Sizes in the record's declaration beside `channels`, `frames` and `samples` (all channels' frames)."""
        return {}

    @abstractmethod
    def make_parts(self, setup: Setup) -> None:
        """Set up what never changes, ramps and parts among it."""

    @abstractmethod
    def set(self, values: Values, *, at_once: bool = False) -> None:
        """Take a full set of checked values.  Ramped ones glide unless `at_once`."""

    def follow_tempo(self, tempo: float) -> None:  # noqa: B027
        """Take another tempo; for stages that are `in_tempo`."""

    def ramp(self, value: float, state: Samples) -> Ramp:
        """A gliding gain that `reset` brings to its target; `state` (4,) is its field in the record."""
        made = Ramp(value, self._setup.rate, state=state)
        self.ramps.append(made)
        return made

    def process(self, block: Samples) -> None:
        """Process a block in place: a stage on its own, without a chain."""
        if PLAIN:
            self.compiled.process(self.record, block)
        else:
            run_stage(self.compiled.address, self.record.address, block)

    def reset(self) -> None:
        """Forget all past input and finish every glide."""
        self.record.carried.fill(0.0)
        for ramp in self.ramps:
            ramp.jump(ramp.target)

    def adopt(self, other: Processor) -> None:
        """Go on from where another processor of the same kind and set-up is."""
        self.record.carried[...] = other.record.carried


@dataclass(frozen=True, slots=True)
class Curve:
    """One line of a stage's picture, as arrays; the app draws it."""

    label: str
    x: Samples
    y: Samples


@dataclass(frozen=True, slots=True)
class Handle:
    """What is taken hold of on a plot of response.

    Attributes
    ----------
    hz, level_db : float
        Where it is.
    along, up, width : str
        Ids of the parameters that it moves, "" for none.
    place : int
        Which edge, where `along` is a row of edges.
    up_sign : float
        -1 where dragging up makes `up` less.
    """

    label: str
    hz: float
    level_db: float
    along: str
    up: str = ""
    width: str = ""
    place: int = -1
    up_sign: float = 1.0


@dataclass(frozen=True, slots=True)
class Plot:
    """One diagram of a stage's picture.

    Attributes
    ----------
    axes : str
        "response" (Hz against dB), "transfer" (in against out, linear), "wave" (a turn, before and after),
        "harmonics" (order against dB), "levels" (dB against dB), "gain" (what the stage does to the level, as it
        runs), "time" (seconds against `y_label`) or "spectrum" (Hz from 0.1 to 100, logarithmic, against `y_label`).
    spectra : bool
        The signal's spectra before and after stand behind the curves.
    live : Callable[[Samples], tuple[Samples, Samples]] | None
        Turns samples (frames,) that enter the stage into points on the transfer curve.
    handles : tuple[Handle, ...]
        What can be moved in it.
    alike : bool
        No curve counts more than the others.
    edges : tuple[float, ...]
        Where a gain over time is parted into bands, in Hz.
    """

    title: str
    axes: str
    curves: tuple[Curve, ...]
    x_label: str = ""
    y_label: str = ""
    live: Callable[[Samples], tuple[Samples, Samples]] | None = None
    spectra: bool = False
    handles: tuple[Handle, ...] = ()
    alike: bool = False
    edges: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class Reels:
    """Two moving reels.

    Attributes
    ----------
    speed : float
        Tape speed in m/s.
    thickness : float
        Of the tape in m.
    minutes : float
        What a full reel holds.
    """

    title: str
    speed: float
    thickness: float
    minutes: float


@dataclass(frozen=True, slots=True)
class Damage:
    """What is wrong along the session's time line.

    Attributes
    ----------
    at : Callable[[Samples, float, float], tuple[Samples, Samples]]
        Session seconds (points,), tempo, second at which bar 1 begins -> (loss in dB, share of highs lost), (points,)
        each.
    """

    title: str
    at: Callable[[Samples, float, float], tuple[Samples, Samples]]


@dataclass(frozen=True, slots=True)
class Disc:
    """A turning record.

    Attributes
    ----------
    turns : float
        Turns a second.
    radius_mm : float
        Where the stylus is.
    marks : Callable[[float], tuple[Samples, Samples]]
        Session seconds -> what lies in the groove in this turn: places (0 to 1 of a turn) and sizes.
    """

    title: str
    turns: float
    radius_mm: float
    marks: Callable[[float], tuple[Samples, Samples]]


Part = Plot | Reels | Damage | Disc
Picture = tuple[Part, ...]


def _no_lookahead(values: Values, rate: float) -> int:
    return 0


def _no_loop(values: Values) -> bool:
    return False


def _stays_single(values: Values) -> bool:
    return False


def _never(values: Values) -> bool:
    return False


MINIMUM_FRONT, MAXIMUM_FRONT = 3, 8


class Offer(enum.Enum):
    """What can be done with some stages beside turning their controls."""

    LINE_UP = "aligned on the line-up bench"
    PROPOSE_BANDS = "its bands are proposed by what the stages before it added"


def _all_work(values: Values) -> frozenset[str]:
    return frozenset()


def _no_load(values: Values) -> str:
    return ""


LOAD = "load"
"""Among a processor's values, what the next stage is for its output; no parameter has that id."""


@dataclass(frozen=True, slots=True, kw_only=True)
class StageKind:
    """The declaration of a stage.

    Attributes
    ----------
    rest : Values | None
        Values at which the stage changes nothing, or None where it claims no transparency.
    drive : str | None
        Id of the parameter that drives it harder, None for linear stages.
    drive_units : float
        Of `drive` for 1 dB.
    tone : str | None
        Id of the parameter that stands against `drive` where the two are balanced, None for none.
    makeup : str | None
        Id of the parameter that takes back what `drive` adds.
    glyph : Glyph
        Strokes in a unit square, for the desk, the path and lists.
    picture : Callable[[Values, float, float], Picture]
        Full values, rate and level reference in dBFS -> diagrams.
    lookahead : Callable[[Values, float], int]
        Full values and rate -> frames of the future that the stage must see; where this changes, a running chain is
        rebuilt.
    loops : Callable[[Values], bool]
        Full values -> whether the stage sends sound round through the rest of its chain.
    spreads : Callable[[Values], bool]
        Full values -> whether the stage makes left and right of a single channel.
    idle : Callable[[Values], frozenset[str]]
        Full values -> ids of parameters that do nothing with them.
    impulse_picture : Callable[[Samples, float], Picture] | None
        The user's impulse response (channels, taps) and rate -> the picture with it in use.
    follow : Callable[[Values, Values], tuple[Values, str]] | None
        Old and new full values -> new values with what else moves, and a sentence that says so ("" for nothing).
    wavers : bool
        The stage moves pitch, and its picture shows the measured wow and flutter.
    front : tuple[str, ...]
        Ids of the three to eight parameters that one reaches for first, in the order of the work.
    neighbours : tuple[str, ...]
        Kinds that suit behind it.
    varied : tuple[str, ...]
        Ids of the parameters that a sheet of variations begins with; `drive` and `tone` where none are named.
    lean : str | None
        Id of the parameter that moves where in the spectrum it adds, None for none.
    remedies : Mapping[str, tuple[str, ...]]
        What stands out in what it adds ("boom", "crowd", "hiss") -> ids of the parameters that help.
    against : Mapping[str, Values]
        What stands out in what others add -> values with which it is put behind them.
    clean_gain : str | None
        Id of the parameter that moves the level and nothing else, None where the stage does more; one kind has it.
    compensates : Callable[[Values], bool]
        Full values -> whether it takes back by itself what `drive` adds, without `makeup`.
    offers : frozenset[Offer]
        What else can be done with it.
    load : Callable[[Values], str]
        Full values -> what the stage is for the output of the one before, "" for nothing that one would feel.
    feels_load : bool
        It sounds by what it drives: its processor's values have one more, LOAD, while the next stage loads it.
    """

    kind: str
    label: str
    glyph: Glyph
    purpose: str
    parameters: tuple[Parameter, ...]
    processor: type[Processor]
    picture: Callable[[Values, float, float], Picture]
    front: tuple[str, ...]
    neighbours: tuple[str, ...]
    varied: tuple[str, ...] = ()
    lean: str | None = None
    remedies: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    against: Mapping[str, Values] = field(default_factory=dict)
    clean_gain: str | None = None
    compensates: Callable[[Values], bool] = _never
    offers: frozenset[Offer] = frozenset()
    load: Callable[[Values], str] = _no_load
    feels_load: bool = False
    rest: Values | None = None
    drive: str | None = None
    drive_units: float = 1.0
    tone: str | None = None
    makeup: str | None = None
    nonlinear: bool = False
    lookahead: Callable[[Values, float], int] = _no_lookahead
    loops: Callable[[Values], bool] = _no_loop
    spreads: Callable[[Values], bool] = _stays_single
    idle: Callable[[Values], frozenset[str]] = _all_work
    impulse_picture: Callable[[Samples, float], Picture] | None = None
    follow: Callable[[Values, Values], tuple[Values, str]] | None = None
    wavers: bool = False
    comfort_db: tuple[float, float] = (-12.0, 6.0)
    """Where the level into the stage feels right, in dB against 0 VU."""
    _by_id: dict[str, Parameter] = field(init=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_by_id", {p.id: p for p in self.parameters})
        if len(self._by_id) != len(self.parameters):
            raise ValueError(f"{self.kind}: two parameters share an id")
        if not MINIMUM_FRONT <= len(self.front) <= MAXIMUM_FRONT:
            raise ValueError(f"{self.kind}: {MINIMUM_FRONT} to {MAXIMUM_FRONT} parameters are in front")
        named = {*self.front, *self.varied, *filter(None, (self.lean, self.clean_gain)),
                 *sum(self.remedies.values(), ()), *(name for values in self.against.values() for name in values)}
        if not named <= self._by_id.keys():
            raise ValueError(f"{self.kind}: no parameters are called {', '.join(sorted(named - self._by_id.keys()))}")

    def parameter(self, name: str) -> Parameter:
        """The parameter of that id; KeyError where there is none."""
        return self._by_id[name]

    def impulse(self, values: Values) -> str:
        """The path of the impulse response that the values name, "" for none."""
        return "".join(str(values[p.id]) for p in self.parameters if isinstance(p, Impulse))

    def number(self, name: str) -> Number:
        """The continuous parameter of that id; TypeError where it is of another type."""
        result = self._by_id[name]
        if not isinstance(result, Number):
            raise TypeError(f"{self.kind}.{name} is no number")
        return result

    def defaults(self) -> dict[str, Value]:
        return {p.id: p.default_value for p in self.parameters}

    def complete(self, values: Values) -> dict[str, Value]:
        """The values with defaults for those left out."""
        return {**self.defaults(), **values}

    def check(self, values: Mapping[str, object], index: str = "params") -> dict[str, Value]:
        """Every value as its parameter's type, defaults filled in.

        ValueError names the place (`params.record_db`) and the reason.
        """
        checked = self.defaults()
        for name, value in values.items():
            if name not in self._by_id:
                known = ", ".join(self._by_id)
                raise ValueError(f"{index}.{name}: {self.kind} has no such parameter (it has {known})")
            try:
                checked[name] = self._by_id[name].check(value)
            except ValueError as reason:
                raise ValueError(f"{index}.{name}: {reason}") from None
        return checked

    def groups(self) -> list[tuple[Group, list[Parameter]]]:
        """Parameters by group, groups in the order of work."""
        result = [(group, [p for p in self.parameters if p.group is group]) for group in Group]
        return [(group, members) for group, members in result if members]

    def needs_crossfade(self, old: Values, new: Values) -> bool:
        """True when a value changed that a processor can't glide to by itself."""
        return old.get(LOAD) != new.get(LOAD) or any(
            old[p.id] != new[p.id] and p.automation is Automation.CROSSFADE for p in self.parameters)


def frequency_axis(rate: float, points: int = 120) -> Samples:
    """Frequencies evenly spaced by ear from 20 Hz to the top of the band."""
    return np.asarray(np.geomspace(20.0, min(20000.0, 0.45 * rate), points))
