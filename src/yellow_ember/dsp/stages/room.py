"""Room: a small bright room or a plate.  Network after Jot and Chaigne, AES 90 (1991); reflections by image sources."""

from __future__ import annotations

import functools
import math

import numpy as np

from yellow_ember.dsp.arrays import Counts, Samples, gain
from yellow_ember.dsp.filters import BUTTERWORTH_Q, high_pass, one_pole
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels import room as kernels
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.mixing import add, glide, put
from yellow_ember.dsp.kernels.room import LINES, SPREADERS
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
)
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind

_SOUND = 343.0
_OFF_DB = -60.0
_GLIDE_SECONDS, _BLURRED_SECONDS = 0.01, 0.15
_REFLECTIONS = 10
_LONGEST_BEFORE, _LARGEST = 0.12, 12.0
_SIDES = (1.0, 0.78, 0.56)
"""Length, width and height of a room of size one."""
_LINE_SHARES = (1.0, 0.881, 0.787, 0.709, 0.631, 0.557, 0.503, 0.449)
"""Lengths of the network's delays, as parts that have no common measure."""
_SPREAD_SHARES = (0.142, 0.107, 0.379, 0.277)
_PLATE_SIZE = 0.55
"""A plate's waves run faster than sound in air."""
_APART = 0.043
"""By how much the right channel's lengths differ, at full spread."""


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


def _plate(values: Values) -> bool:
    return values["space"] == "plate"


class RoomRecord(Record):
    """A low cut, then one kernel beside the sound itself.

    Attributes
    ----------
    taps, lines, spreads : Counts
        Lengths in frames.
    places : Counts
        Indices in the rings.
    """

    before: int = whole()
    glide: float = real()
    taps: Counts = whole_setting("channels", _REFLECTIONS)
    tap_gains: Samples = setting("channels", _REFLECTIONS)
    lines: Counts = whole_setting("channels", LINES)
    spreads: Counts = whole_setting("channels", SPREADERS)
    gains: Samples = setting("channels", LINES)
    poles: Samples = setting("channels", LINES)
    targets: Samples = setting(kernels.FIGURES)
    cut: Samples = setting(1, 5)
    direct: Samples = setting(4)
    figures: Samples = state(kernels.FIGURES)
    first: Samples = state("channels", "reach")
    blurred: Samples = state("channels", SPREADERS, "longest")
    ring: Samples = state("channels", LINES, "longest")
    places: Counts = whole_state("channels", 1 + SPREADERS + LINES)
    low_state: Samples = state("channels", LINES)
    cut_state: Samples = state("channels", 1, 2)
    wet: Samples = scratch("samples")
    mixed: Samples = scratch(LINES)


@inlined
def process(record: RoomRecord, block: Samples) -> None:
    """The compiled half."""
    wet = block_of(record.wet, block.shape[0], block.shape[1])
    put(wet, block)
    biquads(wet, matrix(record.cut), cube(record.cut_state))
    kernels.reverberate(wet, vector(record.figures), vector(record.targets), record.glide, record.before,
                        whole_matrix(record.taps), matrix(record.tap_gains), whole_matrix(record.spreads),
                        whole_matrix(record.lines), matrix(record.gains), matrix(record.poles),
                        matrix(record.first), cube(record.blurred), cube(record.ring), whole_matrix(record.places),
                        matrix(record.low_state), vector(record.mixed))
    glide(block, vector(record.direct))
    add(block, wet)


class RoomProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(RoomRecord, process)

    def sizes(self, setup: Setup) -> dict[str, int]:
        return {"longest": round(_LARGEST / _SOUND * (1.0 + _APART) * setup.rate) + 4,
                "reach": round((_LONGEST_BEFORE + 4.0 * _LARGEST / _SOUND) * setup.rate) + 4}

    def make_parts(self, setup: Setup) -> None:
        self.record.glide = one_pole(_GLIDE_SECONDS, setup.rate)
        self._direct = self.ramp(1.0, self.record.direct)
        self._was: Counts | None = None
        # Another room is heard once the edge with which the sound enters it has blurred.
        self.settling = round(_BLURRED_SECONDS * setup.rate)

    def reset(self) -> None:
        super().reset()
        self.record.figures = self.record.targets

    def adopt(self, other: Processor) -> None:
        super().adopt(other)
        assert isinstance(other, RoomProcessor)
        # `set` looks whether it is still the same room.
        self._was = other.record.lines

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        record.before = round(as_number(values["before_ms"]) / 1000.0 * rate)
        self._set_sizes(values)
        if self._was is not None and not np.array_equal(self._was, record.lines):
            # Another size is another room, in which nothing has sounded yet.
            for array in (record.blurred, record.ring, record.low_state):
                array.fill(0.0)
            record.places[:, 1:] = 0
        self._was = None
        record.cut[0] = high_pass(as_number(values["low_cut_hz"]), BUTTERWORTH_Q, rate)
        level = as_number(values["level_db"])
        wet = 0.0 if level <= _OFF_DB else gain(level)
        early = as_number(values["early_db"])
        record.targets[kernels.EARLY] = 0.0 if _plate(values) or early <= _OFF_DB else wet * gain(early)
        # The network's sum grows with its decay; this keeps what is heard near the level asked for.
        record.targets[kernels.LATE] = wet * 0.45 / math.sqrt(LINES) * math.sqrt(
            float(np.mean(1.0 - record.gains[0] ** 2)) / 0.5)
        self._direct.go(1.0 if values["direct"] else 0.0, at_once=at_once)
        if at_once:
            record.figures = record.targets

    def _set_sizes(self, values: Values) -> None:
        """Lengths of all ways through the room, and what is lost on each."""
        record, rate = self.record, self._setup.rate
        size = as_number(values["size_m"])
        spread = as_number(values["spread_pct"]) / 100.0
        wide = size * (_PLATE_SIZE if _plate(values) else 1.0)
        decay, bright = as_number(values["decay_s"]), 0.08 + 0.92 * as_number(values["bright_pct"]) / 100.0
        for channel in range(self._setup.channels):
            apart = spread * channel
            times, strengths = _reflections(size, apart)
            record.taps[channel] = np.round(times * rate)
            record.tap_gains[channel] = strengths * np.where(np.arange(_REFLECTIONS) % 2 == 0, 1.0, -1.0)
            stretch = wide * (1.0 + _APART * apart) / _SOUND * rate
            record.lines[channel] = [max(4, round(share * stretch)) for share in _LINE_SHARES]
            record.spreads[channel] = [max(2, round(share * stretch)) for share in _SPREAD_SHARES]
            for k, length in enumerate(record.lines[channel]):
                loss_db = -60.0 * length / (decay * rate)
                record.gains[channel, k] = gain(loss_db)
                # One pole, so that the top of the band dies away in `bright` of the decay.
                record.poles[channel, k] = min(max(
                    math.log(10.0) / 80.0 * loss_db * (1.0 - 1.0 / (bright * bright)), 0.0), 0.95)


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
    glyph="R",
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
