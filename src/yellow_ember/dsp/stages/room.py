"""Room: a small bright room or a plate.  Model: docs/models/room.md."""

from __future__ import annotations

import functools
import math

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Counts, Samples, gain
from yellow_ember.dsp.filters import BUTTERWORTH_Q, high_pass, one_pole
from yellow_ember.dsp.glyphs import box, line
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels import room as kernels
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.mixing import add, glide, put
from yellow_ember.dsp.kernels.room import DISPERSERS, LINES, SPREADERS, TICK
from yellow_ember.dsp.parameters import Automation, Choice, Group, Number, Option, Switch, Taper, Values, as_number
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    block_of,
    cube,
    matrix,
    real,
    scratch,
    setting,
    state,
    vector,
    whole,
    whole_matrix,
    whole_setting,
    whole_state,
    whole_vector,
)
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind

_SOUND = 343.0
_OFF_DB = -60.0
_GLIDE_SECONDS, _BLURRED_SECONDS = 0.01, 0.15
_REFLECTIONS = 12
_LONGEST_BEFORE, _LARGEST = 0.12, 12.0
_SIDES = (1.0, 0.78, 0.56)
"""Length, width and height of a room of size one."""
_LONGEST_LINE = 0.075
_ROOM_LINE, _ROOM_LINE_A_METRE, _PLATE_LINE = 0.034, 0.0025, 0.036
"""Longest line in seconds of a room without size, what a metre adds, and a plate's that is one metre long: it goes by
the root of its length, as bending waves do."""
_SHORTEST = 0.43
"""Of the longest line."""
_SHARE_OF_DECAY = 0.12
"""Of the decay no line is longer, or it would die away in steps."""
_SPREAD_SHARES = ((0.0711, 0.0535, 0.1897, 0.1383), (0.0673, 0.0571, 0.1787, 0.1461))
"""Lengths of both channels' blurring all-passes, of the longest line."""
_SWAY_SECONDS, _SWAY_HZ = 6e-5, (0.35, 1.1)
"""By how much the lines' lengths sway, and how often."""
_FILL = 0.30
_LATE_DB = -17.2
_DISPERSED = (12e-6, 1.1e-3)
"""Time constants of a plate's all-passes of one metre, from the shortest to the longest."""


@functools.cache
def _line_shares() -> Samples:
    """Lengths of all lines, of the longest, (LINES,): as even as a ladder may be whose steps have no common measure."""
    golden = 0.5 * (math.sqrt(5.0) - 1.0)
    steps = np.arange(LINES)
    # Each rung is moved within its place, and neighbours on the ladder are far apart in the mixing.
    ladder = (steps + 0.8 * ((golden * steps) % 1.0)) / (LINES - 0.2)
    return np.asarray((_SHORTEST ** ladder)[(13 * steps) % LINES])


@functools.lru_cache(64)
def _dispersers(size: float, rate: float) -> Samples:
    """Coefficients of first-order all-passes in series, (DISPERSERS,).

    Bending waves in a plate travel by the root of their frequency (Cremer and Heckl, Structure-Borne Sound, 1988): so
    does the delay of all-passes of which, over the logarithm of their time constants, there are fewer by its root.
    """
    short, long = (seconds * math.sqrt(size) for seconds in _DISPERSED)
    along = np.linspace(0.0, 1.0, DISPERSERS)
    seconds = (short**-0.5 + along * (long**-0.5 - short**-0.5)) ** -2.0
    return np.asarray((2.0 * rate * seconds - 1.0) / (2.0 * rate * seconds + 1.0))


@functools.lru_cache(256)
def _reflections(size: float, apart: float) -> tuple[Samples, Samples]:
    """Times in seconds and gains of the first reflections of a shoebox, by mirrored sources, the nearest first."""
    sides = size * np.array(_SIDES)
    source, ear = sides * (0.31, 0.42, 0.45), sides * (0.68 + 0.04 * apart, 0.57 - 0.06 * apart, 0.5)
    result = []
    for x in range(-2, 3):
        for y in range(-2, 3):
            for z in range(-1, 2):
                if x == y == z == 0:
                    continue
                cell = np.array([x, y, z])
                image = cell * sides + np.where(cell % 2 == 0, source, sides - source)
                result.append((float(np.linalg.norm(image - ear)), abs(x) + abs(y) + abs(z)))
    straight = float(np.linalg.norm(source - ear))
    result.sort()
    nearest = result[:_REFLECTIONS]
    times = np.array([(metres - straight) / _SOUND for metres, _ in nearest])
    return times, np.array([straight / metres * 0.82**bounces for metres, bounces in nearest])


def _phasors(turns: NDArray[np.floating]) -> Samples:
    """Cosine and sine of some turns, (count, 2)."""
    return np.stack((np.cos(2.0 * np.pi * turns), np.sin(2.0 * np.pi * turns)), axis=1)


def _plate(values: Values) -> bool:
    return values["space"] == "plate"


class RoomRecord(Record):
    """A low cut, then reflections and the network beside the sound itself.

    Attributes
    ----------
    taps, lines, spreads : Counts
        Lengths in frames.
    reflected, late_index : Counts
        Where the next inputs go; the second's second is the frame of the tick.
    """

    before: int = whole()
    plate: int = whole()
    glide: float = real()
    sway: float = real()
    taps: Counts = whole_setting("channels", _REFLECTIONS)
    tap_gains: Samples = setting("channels", _REFLECTIONS)
    lines: Counts = whole_setting(LINES)
    spreads: Counts = whole_setting("channels", SPREADERS)
    gains: Samples = setting(LINES)
    poles: Samples = setting(LINES)
    turns: Samples = setting(LINES, 2)
    dispersers: Samples = setting(DISPERSERS)
    targets: Samples = setting(kernels.FIGURES)
    cut: Samples = setting(1, 5)
    direct: Samples = setting(4)
    figures: Samples = state(kernels.FIGURES)
    first: Samples = state("channels", "reach_twice")
    reflected: Counts = whole_state(1)
    dispersed: Samples = state("channels", DISPERSERS, 2)
    blurred: Samples = state("channels", SPREADERS, "longest_spread")
    places: Counts = whole_state("channels", SPREADERS)
    rings: Samples = state(LINES, "longest_twice")
    late_index: Counts = whole_state(2)
    lengths: Samples = state(LINES, 2)
    phasors: Samples = state(LINES, 2)
    memory: Samples = state(LINES, 2)
    cut_state: Samples = state("channels", 1, 2)
    wet: Samples = scratch("samples")
    early: Samples = scratch("samples")
    feed: Samples = scratch("samples")
    late: Samples = scratch("samples")
    heard: Samples = scratch(LINES, TICK)
    sums: Samples = scratch(2, TICK)


@inlined
def process(record: RoomRecord, block: Samples) -> None:
    """The compiled half."""
    channels, frames = block.shape
    wet, early = block_of(record.wet, channels, frames), block_of(record.early, channels, frames)
    feed, late = block_of(record.feed, channels, frames), block_of(record.late, channels, frames)
    put(wet, block)
    biquads(wet, matrix(record.cut), cube(record.cut_state))
    kernels.reflect(wet, record.before, whole_matrix(record.taps), matrix(record.tap_gains), matrix(record.first),
                    whole_vector(record.reflected), early, feed)
    if record.plate == 1:
        kernels.disperse(feed, vector(record.dispersers), cube(record.dispersed))
    kernels.blur(feed, whole_matrix(record.spreads), cube(record.blurred), whole_matrix(record.places))
    put(late, feed)
    kernels.sustain(late, whole_vector(record.lines), vector(record.gains), vector(record.poles), record.sway,
                    matrix(record.turns), matrix(record.rings), whole_vector(record.late_index),
                    matrix(record.lengths), matrix(record.phasors), matrix(record.memory), matrix(record.heard),
                    matrix(record.sums))
    kernels.gather(wet, early, feed, late, _FILL, vector(record.figures), vector(record.targets), record.glide)
    glide(block, vector(record.direct))
    add(block, wet)


class RoomProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(RoomRecord, process)

    def sizes(self, setup: Setup) -> dict[str, int]:
        rate = setup.rate
        longest = round((_LONGEST_LINE + _SWAY_SECONDS) * rate) + TICK + 8
        reach = round((_LONGEST_BEFORE + 4.0 * _LARGEST / _SOUND) * rate) + 4
        return {"longest_twice": 2 * max(longest, setup.max_block), "reach_twice": 2 * max(reach, setup.max_block),
                "longest_spread": round(max(map(max, _SPREAD_SHARES)) * _LONGEST_LINE * rate) + 4}

    def make_parts(self, setup: Setup) -> None:
        record = self.record
        record.glide = one_pole(_GLIDE_SECONDS, setup.rate)
        record.sway = _SWAY_SECONDS * setup.rate
        hz = np.asarray(np.geomspace(*_SWAY_HZ, LINES)[(7 * np.arange(LINES)) % LINES], dtype=np.float64)
        record.turns = _phasors(hz * TICK / setup.rate)
        self._direct = self.ramp(1.0, record.direct)
        self._was: Counts | None = None
        # Another room is heard once the edge with which the sound enters it has blurred.
        self.settling = round(_BLURRED_SECONDS * setup.rate)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self.record.figures = self.record.targets
        self._stand()

    def _stand(self) -> None:
        """Where the lines' lengths begin to sway."""
        self.record.phasors = _phasors(np.arange(LINES) * 0.5 * (math.sqrt(5.0) - 1.0))

    def adopt(self, other: Processor) -> None:
        super().adopt(other)
        assert isinstance(other, RoomProcessor)
        # `set` looks whether it is still the same room.
        self._was = other.record.lines

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        record.before = round(as_number(values["before_ms"]) / 1000.0 * rate)
        record.plate = int(_plate(values))
        self._set_sizes(values)
        if self._was is not None and not np.array_equal(self._was, record.lines):
            # Another size is another room, in which nothing has sounded yet.
            for array in (record.blurred, record.dispersed, record.rings, record.memory):
                array.fill(0.0)
            for places in (record.places, record.late_index):
                places.fill(0)
            self._stand()
        self._was = None
        record.cut[0] = high_pass(as_number(values["low_cut_hz"]), BUTTERWORTH_Q, rate)
        level = as_number(values["level_db"])
        wet = 0.0 if level <= _OFF_DB else gain(level)
        early = as_number(values["early_db"])
        record.targets[kernels.EARLY] = 0.0 if _plate(values) or early <= _OFF_DB else wet * gain(early)
        # The network's sum grows with its decay; this keeps what is heard near the level asked for.
        kept = float(np.mean(record.gains**2))
        apart = as_number(values["spread_pct"]) / 100.0 if self._setup.channels == 2 else 0.0
        record.targets[kernels.LATE] = wet * gain(_LATE_DB) * math.sqrt((1.0 / kept - 1.0) * 2.0 / (1.0 + apart**2))
        record.targets[kernels.APART] = apart
        self._direct.go(1.0 if values["direct"] else 0.0, at_once=at_once)
        if at_once:
            record.figures = record.targets

    def _set_sizes(self, values: Values) -> None:
        """Lengths of all ways through the room, and what is lost on each."""
        record, rate = self.record, self._setup.rate
        size, plate = as_number(values["size_m"]), _plate(values)
        decay, bright = as_number(values["decay_s"]), 0.08 + 0.92 * as_number(values["bright_pct"]) / 100.0
        longest = min(_PLATE_LINE * math.sqrt(size) if plate else _ROOM_LINE + _ROOM_LINE_A_METRE * size,
                      _LONGEST_LINE, _SHARE_OF_DECAY * decay) * rate
        for channel in range(self._setup.channels):
            times, strengths = _reflections(size, channel * as_number(values["spread_pct"]) / 100.0)
            record.taps[channel] = np.round(times * rate)
            record.tap_gains[channel] = strengths * np.where(np.arange(_REFLECTIONS) % 2 == 0, 1.0, -1.0)
            record.spreads[channel] = np.maximum(np.round(np.array(_SPREAD_SHARES[channel]) * longest), 2)
        record.lines = np.maximum(np.round(_line_shares() * longest), TICK + 4 + math.ceil(record.sway))
        record.dispersers = _dispersers(size, rate)
        loss_db = -60.0 * record.lines / (decay * rate)
        record.gains = 10.0 ** (loss_db / 20.0)
        # One pole, so that the top of the band dies away in `bright` of the decay.
        at_top = record.gains ** (1.0 / bright - 1.0)
        record.poles = (1.0 - at_top) / (1.0 + at_top)


_SHOWN_SECONDS = 0.15


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """The first moments of a clap in it, and how it dies away."""
    rate = 12000.0
    seconds = min(max(1.2 * as_number(values["decay_s"]), 0.4), 4.0)
    frames = round(seconds * rate)
    processor = RoomProcessor(Setup(rate, 1, frames, 1))
    processor.set({**values, "direct": False, "level_db": 0.0}, at_once=True)
    clap = np.zeros((1, frames))
    clap[0, 0] = 1.0
    processor.process(clap)
    time = np.arange(frames) / rate
    shown = round(_SHOWN_SECONDS * rate)
    left = np.sqrt(np.cumsum(clap[0, ::-1] ** 2)[::-1])
    fall = 20.0 * np.log10(np.maximum(left / max(float(left[0]), 1e-12), 1e-4))
    return (Plot("A clap's first moments", "time", (Curve("left", 1000.0 * time[:shown:2], clap[0, :shown:2]),),
                 x_label="ms", y_label="level"),
            Plot("How it dies away", "time", (Curve("level", time[::20], fall[::20]),), x_label="seconds",
                 y_label="dB"))


def _idle(values: Values) -> frozenset[str]:
    return frozenset({"early_db"} if _plate(values) else ())


def _spreads(values: Values) -> bool:
    """Reflections that come from all around."""
    return values["spread_pct"] != 0.0


ROOM = StageKind(
    kind="room",
    label="Room",
    glyph=(box(0.05, 0.05, 0.95, 0.95), box(0.32, 0.32, 0.68, 0.68), line((0.05, 0.05), (0.32, 0.32)),
           line((0.95, 0.05), (0.68, 0.32)), line((0.05, 0.95), (0.32, 0.68)), line((0.95, 0.95), (0.68, 0.68))),
    purpose="Puts the sound in a small bright room or on a plate, so that the colour has somewhere to be.",
    front=("space", "size_m", "decay_s", "before_ms", "early_db", "bright_pct", "level_db", "direct"),
    neighbours=("eq", "tame"),
    varied=("space", "decay_s"),
    remedies={"boom": ("low_cut_hz",)},
    parameters=(
        Option(id="space", label="Space", group=Group.MACHINE, default="room",
               choices=(Choice("room", "room"), Choice("plate", "plate")),
               help="A room answers with its walls first; a plate is dense and bright at once."),
        Number(id="size_m", label="Size", group=Group.MACHINE, unit="m", minimum=1.5, maximum=_LARGEST, default=4.5,
               taper=Taper.LOG,
               help="How long the room is: small ones colour the sound, large ones stand around it."),
        Number(id="decay_s", label="Decay", group=Group.DRIVE, unit="s", minimum=0.1, maximum=6.0, default=0.7,
               taper=Taper.LOG, decimals=2,
               help="How long it takes to fall by 60 dB."),
        Number(id="before_ms", label="Pre-delay", group=Group.DRIVE, unit="ms", minimum=0.0,
               maximum=1000.0 * _LONGEST_BEFORE, default=5.0, decimals=0,
               help="How long the room waits: more keeps the sound itself in front."),
        Number(id="early_db", label="Early reflections", group=Group.DRIVE, unit="dB", minimum=_OFF_DB, maximum=6.0,
               default=-4.0,
               floor_word="off", automation=Automation.RAMP,
               help="How loud the first reflections are, which tell how near the walls stand."),
        Number(id="bright_pct", label="Brightness", group=Group.TONE, unit="%", minimum=0.0, maximum=100.0,
               default=55.0, decimals=0,
               help="How long the highs last against the rest: low is carpet, high is tiles."),
        Number(id="low_cut_hz", label="Low cut", group=Group.TONE, unit="Hz", minimum=20.0, maximum=800.0,
               default=140.0, taper=Taper.LOG, decimals=0,
               help="Keeps lows out of the room, so that it does not boom."),
        Number(id="spread_pct", label="Spread", group=Group.TONE, unit="%", minimum=0.0, maximum=100.0, default=100.0,
               decimals=0,
               help="How different the room is left and right: wide at the top, one place at the bottom."),
        Number(id="level_db", label="Room", group=Group.OUTPUT, unit="dB", minimum=_OFF_DB, maximum=12.0,
               default=-10.0, floor_word="silent", automation=Automation.RAMP,
               help="How loud the room is beside the sound itself."),
        Switch(id="direct", label="Direct sound", group=Group.OUTPUT, default=True, automation=Automation.RAMP,
               help="Lets the sound itself through; off where the stage is on a bus of its own."),
    ),
    spreads=_spreads,
    processor=RoomProcessor,
    picture=picture,
    rest={"level_db": _OFF_DB},
    idle=_idle,
)
