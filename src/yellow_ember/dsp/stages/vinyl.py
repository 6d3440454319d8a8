"""Record: cut into a groove, played by a stylus from a platter, with what lies in it.  Model: docs/models/vinyl.md."""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.filters import (
    BUTTERWORTH_Q,
    band_pass,
    high_pass,
    low_pass,
    low_pass_first,
    response,
)
from yellow_ember.dsp.glyphs import arc
from yellow_ember.dsp.kernels import inlined, kernel
from yellow_ember.dsp.kernels import vinyl as kernels
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.mixing import add, glide, mean, put
from yellow_ember.dsp.kernels.motion import TAPS
from yellow_ember.dsp.kernels.noise import white
from yellow_ember.dsp.mono_below import MONO_BELOW, MonoBelowRecord, make_lows_mono, set_mono_below
from yellow_ember.dsp.motion import interpolator
from yellow_ember.dsp.oversampling import (
    OversamplingRecord,
    oversampling_latency,
    oversampling_sizes,
    set_oversampling,
)
from yellow_ember.dsp.parameters import (
    Automation,
    Choice,
    Group,
    Number,
    Option,
    Switch,
    Taper,
    Value,
    Values,
    as_number,
)
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    block_of,
    cube,
    matrix,
    part,
    real,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
)
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.stage import (
    CLOCK_DELAY,
    CLOCK_FRAME,
    Curve,
    Disc,
    Picture,
    Plot,
    Processor,
    Setup,
    StageKind,
    frequency_axis,
)

_CUTTER_SECONDS = 1e-6
"""Beyond this the cutter's lift ends; it keeps the equaliser's inverse proper."""
_CUTTER_ACCELERATION = 3e4
"""The most that its coils give, in m/s^2."""
_STEEPEST = 1.5
"""Slope that the back of its chisel cannot pass."""
_REACH_SECONDS = 6e-4
"""How far along the groove a tip is looked for that touches."""
_CENTRE_SECONDS = 0.006
_LONGEST_STOP, _LONGEST_START = 3.0, 2.0
_CELL_SECONDS = 0.003
_OFF = -100.0
_NOT_YET = -1e15
"""Where the platter has not begun to turn."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Era:
    """How records of a time were made.

    Attributes
    ----------
    bass, shelf, treble : float
        Time constants of the playing equaliser in microseconds, 0 for none.
    low, high : float
        What was cut at all, in Hz.
    velocity : float
        Of the groove at 0 VU, peak, in m/s.
    grooves : float
        Radius of a stylus for them over that of a microgroove's.
    mono : bool
        One channel was cut.
    """

    id: str
    label: str
    bass: float
    shelf: float
    treble: float
    low: float
    high: float
    velocity: float
    grooves: float
    mono: bool


ERAS = (
    Era(id="horn", label="Horn", bass=0.0, shelf=0.0, treble=0.0, low=220.0, high=2600.0, velocity=0.10, grooves=3.6,
        mono=True),
    Era(id="shellac", label="Shellac", bass=637.0, shelf=0.0, treble=0.0, low=90.0, high=6000.0, velocity=0.10,
        grooves=3.6, mono=True),
    Era(id="mono", label="Mono microgroove", bass=318.0, shelf=1590.0, treble=100.0, low=45.0, high=12000.0,
        velocity=0.06, grooves=1.4, mono=True),
    Era(id="stereo", label="Stereo", bass=318.0, shelf=3180.0, treble=75.0, low=25.0, high=18000.0, velocity=0.05,
        grooves=1.0, mono=False),
)
ERA_BY_ID = {era.id: era for era in ERAS}


@dataclass(frozen=True, slots=True, kw_only=True)
class Stylus:
    """A tip: its radius in metres, its tracking force in newtons over the mass that it moves in kilograms."""

    radius: float
    pull: float


_STYLI = {"conical": Stylus(radius=18e-6, pull=0.025 / 1.0e-6), "elliptical": Stylus(radius=7e-6, pull=0.015 / 0.5e-6),
          "worn": Stylus(radius=30e-6, pull=0.030 / 1.4e-6)}


def _times(top: Samples, bottom: Samples, above: float, below: float, rate: float) -> tuple[Samples, Samples]:
    """A section's numerator and denominator (3,) times (1 + s above) / (1 + s below), bilinear, in seconds."""
    a, b = 2.0 * rate * above, 2.0 * rate * below
    return np.convolve(top, [1.0 + a, 1.0 - a])[:3], np.convolve(bottom, [1.0 + b, 1.0 - b])[:3]


def playing(era: Era, rate: float) -> Samples:
    """The section (1, 5) of the playing equaliser, 0 dB at 1 kHz: IEC 60098 for the stereo era, older curves before.

    Up to the bass constant a groove is cut with constant swing, so its velocity falls with frequency.
    """
    top, bottom = np.array([1.0, 0.0, 0.0]), np.array([1.0, 0.0, 0.0])
    if era.bass:
        top, bottom = _times(top, bottom, era.bass * 1e-6, (era.shelf or 50.0 * era.bass) * 1e-6, rate)
    if era.treble:
        top, bottom = _times(top, bottom, _CUTTER_SECONDS, era.treble * 1e-6, rate)
    result = np.array([[*(top / bottom[0]), *(bottom[1:] / bottom[0])]])
    result[0, :3] /= float(response(result, np.array([1000.0]), rate)[0])
    return result


def cutting(era: Era, rate: float) -> Samples:
    """The section of the cutting equaliser, the exact inverse of `playing`."""
    b0, b1, b2, a1, a2 = playing(era, rate)[0]
    return np.array([[1.0 / b0, a1 / b0, a2 / b0, b1 / b0, b2 / b0]])


def groove_speed(values: Values) -> float:
    """Metres a second under the stylus."""
    return 2.0 * math.pi * as_number(values["radius_mm"]) * 1e-3 * as_number(values["rpm"]) / 60.0


def _frames_ahead(fast_rate: float) -> int:
    """By how much the groove is cut ahead of the tip."""
    return math.ceil(_REACH_SECONDS * fast_rate) + 2


def groove(values: Values, reference_dbfs: float, fast_rate: float) -> Samples:
    """What `kernels.ride` takes of the groove and its tip, (GROOVE,)."""
    era, stylus, speed = ERA_BY_ID[str(values["era"])], _STYLI[str(values["stylus"])], groove_speed(values)
    worn = as_number(values["wear_pct"]) / 100.0
    radius = stylus.radius * era.grooves * as_number(values["tracing_pct"]) / 100.0 * (1.0 + worn)
    result = np.zeros(kernels.GROOVE)
    result[kernels.STEEP] = (era.velocity * gain(as_number(values["cut_db"]) - reference_dbfs)
                             / (_STEEPEST * speed))
    result[kernels.SHELF] = _STEEPEST * speed / _CUTTER_ACCELERATION * fast_rate
    # A point still has some radius; the widest reach as far as is looked.
    frames = min(max(radius / speed * fast_rate, 1e-5), _REACH_SECONDS / _STEEPEST * fast_rate)
    result[kernels.RADIUS] = frames * _STEEPEST
    # With no tracing to speak of a tip follows everything.
    share = max(as_number(values["tracing_pct"]) / 100.0, 1e-3)
    result[kernels.FALL] = stylus.pull / share / (speed * fast_rate) / _STEEPEST
    return result


def _gesture(values: Values, tempo: float, beats_per_bar: int, first_beat: float
             ) -> tuple[float, float, float, float, float]:
    """First second, period, stopping, resting and starting, all in seconds; the first below zero for none."""
    if values["spin"] == "off":
        return -1.0, 0.0, 1.0, 0.0, 1.0
    beat = 60.0 / tempo
    every = as_number(values["spin_bars"]) * beats_per_bar * beat if values["spin"] == "every" else 0.0
    return (first_beat + (as_number(values["spin_bar"]) - 1.0) * beats_per_bar * beat, every,
            as_number(values["spin_stop_ms"]) / 1000.0, as_number(values["spin_rest_beats"]) * beat,
            as_number(values["spin_start_ms"]) / 1000.0)


class VinylRecord(Record):
    """Bass in the middle, the groove at the raised rate, the platter, wear, and what lies in the groove.

    Attributes
    ----------
    turned : Samples
        Frames that the record has turned, `_NOT_YET` before the first block.
    """

    mono: int = whole()
    worn: int = whole()
    dirty: int = whole()
    ahead: int = whole()
    rest: int = whole()
    latency: int = whole()
    rate: float = real()
    surface: float = real()
    rumble: float = real()
    clock: Samples = shared(1)
    table: Samples = shared(3)
    band: Samples = setting(2, 5)
    cutting: Samples = setting(1, 5)
    playing: Samples = setting(1, 5)
    groove: Samples = setting(kernels.GROOVE)
    turning: Samples = setting(kernels.FIGURES)
    wear: Samples = setting(1, 5)
    dirt: Samples = setting(kernels.DIRT)
    dust_sections: Samples = setting(2, 5)
    pop_sections: Samples = setting(2, 5)
    noise_sections: Samples = setting(2, 5)
    rumble_sections: Samples = setting(2, 5)
    out: Samples = setting(4)
    lows: MonoBelowRecord = part(MonoBelowRecord)
    fast: OversamplingRecord = part(OversamplingRecord)
    band_state: Samples = state("channels", 2, 2)
    cutting_state: Samples = state("channels", 1, 2)
    playing_state: Samples = state("channels", 1, 2)
    surfaces: Samples = state("channels", 2, "groove_length")
    hulls: Samples = state("channels", 3, "groove_length")
    wall_states: Samples = state("channels", kernels.WALL_STATES)
    ring: Samples = state("channels", "ring_twice")
    index: Samples = state(1)
    turned: Samples = state(1)
    wear_state: Samples = state("channels", 1, 2)
    dust_state: Samples = state("channels", 2, 2)
    pop_state: Samples = state("channels", 2, 2)
    noise_state: Samples = state("channels", 2, 2)
    rumble_state: Samples = state("channels", 2, 2)
    noise_generators: Samples = state("channels", 2)
    rumble_generators: Samples = state("channels", 2)
    walls: Samples = scratch("groove_walls")
    touched: Samples = scratch(kernels.FOUND, kernels.PIECE)
    tops: Samples = scratch(kernels.PIECE + 3)
    speeds: Samples = scratch("frames")
    dust: Samples = scratch("samples")
    pops: Samples = scratch("samples")
    hiss: Samples = scratch("samples")


@kernel
def add_hiss(total: Samples, hiss: Samples, amount: float, sections: Samples, memory: Samples,
             generators: Samples) -> None:
    """Add white noise through two sections, where there is any."""
    if amount > 0.0:
        white(hiss, generators)
        biquads(hiss, sections, memory)
        for c in range(total.shape[0]):
            for i in range(total.shape[1]):
                total[c, i] += amount * hiss[c, i]


@inlined
def add_noises(record: VinylRecord, block: Samples, turned: int, speeds: Samples) -> None:
    """Dust, pops, hiss and rumble; all fall silent where the platter stands."""
    channels, frames = block.shape
    dust, pops = block_of(record.dust, channels, frames), block_of(record.pops, channels, frames)
    hiss = block_of(record.hiss, channels, frames)
    kernels.dirt(turned, record.rate, vector(record.turning)[kernels.TURNS], vector(record.dirt), dust, pops)
    biquads(dust, matrix(record.dust_sections), cube(record.dust_state))
    biquads(pops, matrix(record.pop_sections), cube(record.pop_state))
    add(dust, pops)
    add_hiss(dust, hiss, record.surface, matrix(record.noise_sections), cube(record.noise_state),
             matrix(record.noise_generators))
    add_hiss(dust, hiss, record.rumble, matrix(record.rumble_sections), cube(record.rumble_state),
             matrix(record.rumble_generators))
    for c in range(channels):
        for i in range(frames):
            block[c, i] += speeds[i] * dust[c, i]


@inlined
def process(record: VinylRecord, block: Samples) -> None:
    """The compiled half."""
    frames = block.shape[1]
    if record.mono == 1:
        single = block_of(record.hiss, 1, frames)
        mean(block, single)
        put(block, single)
    make_lows_mono(record.lows, block)
    biquads(block, matrix(record.band), cube(record.band_state))
    kernels.trace(block, record.ahead, vector(record.groove), matrix(record.cutting), matrix(record.playing),
                  cube(record.cutting_state), cube(record.playing_state), cube(record.surfaces), cube(record.hulls),
                  matrix(record.wall_states), vector(record.walls), matrix(record.touched),
                  vector(record.tops), record.fast)
    speeds, clock = vector(record.speeds)[:frames], vector(record.clock)
    here = int(clock[CLOCK_FRAME] - clock[CLOCK_DELAY]) - record.latency
    index, before = vector(record.index), vector(record.turned)
    # A loop that goes back does not turn the record back: that would be heard as a jump.
    turned = here if before[0] == _NOT_YET else int(before[0])
    index[0] = kernels.turn(block, here, turned, record.rate, record.rest, vector(record.turning), cube(record.table),
                            matrix(record.ring), int(index[0]), speeds)
    before[0] = turned + frames
    if record.worn == 1:
        biquads(block, matrix(record.wear), cube(record.wear_state))
    if record.dirty == 1:
        add_noises(record, block, turned, speeds)
    glide(block, vector(record.out))


class VinylProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(VinylRecord, process)
    in_tempo = True

    def sizes(self, setup: Setup) -> dict[str, int]:
        factor, rate = setup.oversample, setup.rate
        self._ahead = _frames_ahead(rate * factor)
        self._rest = setup.lookahead + round(_CENTRE_SECONDS * rate)
        self.latency = oversampling_latency(factor, self._ahead + kernels.LATE) + self._rest
        self.settling = self.latency + round(0.004 * rate)
        stopped = round((_LONGEST_STOP / 2.0 + _LONGEST_START) * rate) if setup.lookahead else 0
        length = self._rest + round(_CENTRE_SECONDS * rate) + stopped + 4 * TAPS + setup.max_block
        return {"groove_length": kernels.wall_length(self._ahead),
                "groove_walls": setup.channels * kernels.CHUNK * factor, "ring_twice": 2 * length,
                **oversampling_sizes(factor)}

    def make_parts(self, setup: Setup) -> None:
        record = self.record
        set_oversampling(record.fast, setup.oversample, self._ahead + kernels.LATE)
        self.turning = record.lows.turning
        record.ahead, record.rest, record.latency, record.rate = self._ahead, self._rest, self.latency, setup.rate
        record.clock, record.table = setup.clock.times, interpolator()
        record.speeds = 1.0
        self._out = self.ramp(1.0, record.out)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self.record.turned[0] = _NOT_YET
        kernels.set_down(self._ahead, self.record.hulls, self.record.wall_states)
        generators = (*self.record.noise_generators, *self.record.rumble_generators)
        for index, generator in enumerate(generators):
            generator[:] = seed_from(self._setup.seed, "groove", index), 0x51ED270B

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, setup, rate = self.record, self._setup, self._setup.rate
        fast_rate = rate * setup.oversample
        self._values = values
        era = ERA_BY_ID[str(values["era"])]
        record.mono = int(era.mono and setup.channels == 2)
        set_mono_below(record.lows, as_number(values["mono_below_hz"]), rate, setup.channels)
        record.band[0], record.band[1] = (high_pass(era.low, BUTTERWORTH_Q, rate),
                                          low_pass(min(era.high, 0.45 * rate), BUTTERWORTH_Q, rate))
        record.cutting, record.playing = cutting(era, fast_rate), playing(era, fast_rate)
        record.groove = groove(values, setup.reference_dbfs, fast_rate)
        worn = as_number(values["wear_pct"]) / 100.0
        record.worn = int(worn > 0.0)
        record.wear[0] = low_pass_first(min(20000.0 * (4000.0 / 20000.0) ** worn, 0.45 * rate), rate)
        self.follow_tempo(setup.clock.tempo)
        self._set_noises(era, values)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)

    def follow_tempo(self, tempo: float) -> None:
        values, figures = self._values, self.record.turning
        figures[kernels.TURNS] = as_number(values["rpm"]) / 60.0
        figures[kernels.OFF_CENTRE] = as_number(values["off_centre_mm"]) / as_number(values["radius_mm"])
        figures[kernels.WARP] = 0.01 * as_number(values["warp_pct"]) / 100.0
        clock = self._setup.clock
        figures[kernels.BEGINS:] = _gesture(values, tempo, clock.beats_per_bar, clock.first_beat)

    def _set_noises(self, era: Era, values: Values) -> None:
        record, rate, reference = self.record, self._setup.rate, self._setup.reference_dbfs
        record.dirty = int(bool(values["noises"]))
        turn = 60.0 / as_number(values["rpm"])
        cells = float(math.floor(turn / _CELL_SECONDS))
        play = playing(era, rate)
        record.dust_sections = [low_pass(min(9000.0, 0.4 * rate), 0.9, rate), *play]
        record.pop_sections = [low_pass(1500.0, 1.1, rate), *play]
        crackle = as_number(values["crackle_db"])
        loud = gain(reference + crackle) if crackle > _OFF else 0.0
        dirt = record.dirt
        dirt[kernels.CELLS] = cells
        dirt[kernels.DUST] = min(as_number(values["dust_per_s"]) * turn / cells, 0.9)
        dirt[kernels.POPS] = min(as_number(values["pops_per_min"]) / 60.0 * turn / cells, 0.5)
        dirt[kernels.DUST_LEVEL] = loud / _peak(record.dust_sections)
        dirt[kernels.POP_LEVEL] = 4.0 * loud / _peak(record.pop_sections)
        dirt[kernels.SEED] = as_number(values["copy"])
        surface, rumble = as_number(values["surface_db"]), as_number(values["rumble_db"])
        record.noise_sections = [low_pass(min(14000.0, 0.45 * rate), BUTTERWORTH_Q, rate), *play]
        record.rumble_sections = [band_pass(28.0, 0.8, rate), low_pass(90.0, BUTTERWORTH_Q, rate)]
        record.surface = gain(reference + surface) / _power(record.noise_sections, rate) if surface > _OFF else 0.0
        record.rumble = gain(reference + rumble) / _power(record.rumble_sections, rate) if rumble > _OFF else 0.0


def _peak(sections: Samples) -> float:
    """Height of what a pulse of one becomes."""
    pulse = np.zeros((1, 1024))
    pulse[0, 0] = 1.0
    biquads(pulse, sections, np.zeros((1, sections.shape[0], 2)))
    return float(np.abs(pulse).max())


def _power(sections: Samples, rate: float) -> float:
    """Root mean square of what white noise of one becomes."""
    return _power_of(tuple(map(tuple, sections.tolist())), rate)


@functools.lru_cache(64)
def _power_of(sections: tuple[tuple[float, ...], ...], rate: float) -> float:
    hz = np.arange(1.0, rate / 2.0, rate / 16384.0)
    return float(np.sqrt(np.mean(response(np.array(sections), hz, rate) ** 2)))


def _lookahead(values: Values, rate: float) -> int:
    """A platter that is let go must be ahead of the music by half the time that it takes."""
    return 0 if values["spin"] == "off" else round(_LONGEST_START / 2.0 * rate)


_SHOWN_HZ = 5000.0


def _traced(values: Values, reference_dbfs: float, points: int) -> tuple[Samples, Samples, Samples]:
    """A turn of a sine at 0 VU: time in turns, the sine of one, and how the stylus plays it, (points,) each."""
    fast_rate, turns = points * _SHOWN_HZ, 6
    ahead = _frames_ahead(fast_rate)
    length = kernels.wall_length(ahead)
    hulls, walls = np.zeros((1, 3, length)), np.zeros((1, kernels.WALL_STATES))
    kernels.set_down(ahead, hulls, walls)
    cut = float(response(cutting(ERA_BY_ID[str(values["era"])], 384000.0), np.array([_SHOWN_HZ]), 384000.0)[0])
    turn = np.sin(2.0 * np.pi * np.arange((turns + math.ceil(ahead / points)) * points) / points)
    played = cut * gain(reference_dbfs) * turn
    kernels.ride(played, 1.0, ahead, groove(values, reference_dbfs, fast_rate), np.zeros((2, length)), hulls[0],
                 walls[0], np.zeros((kernels.FOUND, kernels.PIECE)), np.zeros(kernels.PIECE + 3))
    begin = 4 * points
    after = played[begin + ahead + kernels.LATE:][:points] / (cut * gain(reference_dbfs))
    return np.arange(points) / points, turn[begin:][:points], after


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """The record with its damage, the equalisers, and what the stylus makes of a sine."""
    era = ERA_BY_ID[str(values["era"])]
    hz = frequency_axis(48000.0)
    play = response(playing(era, 384000.0), hz, 384000.0)
    turns = as_number(values["rpm"]) / 60.0
    cells = math.floor(1.0 / turns / _CELL_SECONDS)

    @functools.lru_cache(maxsize=2)
    def in_turn(turn: int) -> tuple[Samples, Samples]:
        result = [(cell / cells, 1.0 + kind) for kind, chance, lasting in (
            (0, as_number(values["dust_per_s"]) / turns / cells, kernels.DUST_TURNS),
            (1, as_number(values["pops_per_min"]) / 60.0 / turns / cells, kernels.POP_TURNS))
            for cell in range(cells) if kernels.lies(10.0 * kind, float(cell), float(turn), chance, lasting,
                                                      as_number(values["copy"])) >= 0.0]
        return np.array([share for share, _ in result]), np.array([size for _, size in result])

    def marks(seconds: float) -> tuple[Samples, Samples]:
        return in_turn(math.floor(seconds * turns)) if values["noises"] else (np.zeros(0), np.zeros(0))

    sine = gain(reference_dbfs)
    at, before, traced = _traced(values, reference_dbfs, 256)
    return (Disc(f"{as_number(values['rpm']):g} rpm, {era.label}", turns, as_number(values["radius_mm"]), marks),
            Plot("Playing equaliser, dB", "response", (Curve("equaliser", hz, np.clip(db(play), -24.0, 24.0)),)),
            Plot("5 kHz at 0 VU under the stylus", "wave", (
                Curve("cut", at, sine * before), Curve("played", at, sine * traced)),
                x_label="one turn", y_label="level"))


def follow(old: Values, new: Values) -> tuple[Values, str]:
    """Another era brings the speed that its records had."""
    if old["era"] == new["era"]:
        return new, ""
    coarse = {"horn", "shellac"}
    requested: Value = 78.0 if new["era"] in coarse else 33.33
    if (new["era"] in coarse) == (new["rpm"] == 78.0):
        return new, ""
    return {**new, "rpm": requested}, f"Speed is now {requested:g} rpm, as records of that era have it"


VINYL = StageKind(
    kind="vinyl",
    label="Record",
    glyph=(arc(0.5, 0.5, 0.45), arc(0.5, 0.5, 0.27, 200.0, 340.0), arc(0.5, 0.5, 0.09)),
    purpose="Cuts the sound into a groove and plays it back: rounder, older, with dust that comes round again.",
    front=("era", "rpm", "stylus", "radius_mm", "cut_db", "wear_pct", "noises"),
    neighbours=("motion", "eq"),
    varied=("era", "cut_db", "radius_mm"),
    remedies={"boom": ("mono_below_hz",)},
    parameters=(
        Option(id="era", label="Era", group=Group.MACHINE, default="stereo",
               choices=tuple(Choice(era.id, era.label) for era in ERAS),
               help="When the record was made: horn is a narrow squawk, shellac warm and noisy, stereo nearly whole."),
        Option(id="rpm", label="Speed", group=Group.MACHINE, default="33.33", unit="rpm", numeric=True,
               choices=(Choice("33.33", "33 1/3 rpm"), Choice("45", "45 rpm"), Choice("78", "78 rpm")),
               help="How fast it turns: faster is cleaner in the highs, and damage comes round sooner."),
        Option(id="stylus", label="Stylus", group=Group.MACHINE, default="conical",
               choices=tuple(Choice(name, name) for name in _STYLI),
               help="The tip that rides in the groove: conical rounds the highs, elliptical follows, worn tears them."),
        Number(id="radius_mm", label="Position on the side", group=Group.MACHINE, unit="mm", minimum=55.0,
               maximum=146.0,
               default=110.0, decimals=0,
               help="How far from the middle: the inner grooves are slow, so highs crowd and spit there."),
        Number(id="cut_db", label="Cutting level", group=Group.DRIVE, unit="dB", minimum=-18.0, maximum=18.0,
               default=0.0,
               help="How deep the sound is cut: more of it strains what the stylus can follow."),
        Number(id="tracing_pct", label="Tracing", group=Group.DRIVE, unit="%", minimum=0.0, maximum=200.0,
               default=100.0, decimals=0, floor_word="off",
               help="How much the stylus's own size blurs and splatters the highs."),
        MONO_BELOW,
        Number(id="wear_pct", label="Wear", group=Group.WEAR, unit="%", minimum=0.0, maximum=100.0, default=0.0,
               decimals=0, floor_word="new",
               help="How often it was played: highs are rubbed off and loud passages rasp."),
        Number(id="warp_pct", label="Warp", group=Group.MOTION, unit="%", minimum=0.0, maximum=100.0, default=10.0,
               decimals=0, floor_word="flat",
               help="The record is not flat: the pitch bobs twice a turn."),
        Number(id="off_centre_mm", label="Off centre", group=Group.MOTION, unit="mm", minimum=0.0, maximum=3.0,
               default=0.1, decimals=2, taper=Taper.ROOT,
               help="The hole is not in the middle: the pitch swings once a turn, slowly and sadly."),
        Option(id="spin", label="Stop and start", group=Group.MOTION, default="off",
               choices=(Choice("off", "off"), Choice("once", "once"), Choice("every", "again and again")),
               help="The platter is stopped and let go again at a bar of your choice; it is in time again after."),
        Number(id="spin_bar", label="At bar", group=Group.MOTION, unit="", minimum=1.0, maximum=512.0, default=4.0,
               decimals=0, whole=True,
               help="The bar at which the platter begins to stop."),
        Number(id="spin_bars", label="Every", group=Group.MOTION, unit="bars", minimum=1.0, maximum=64.0, default=4.0,
               decimals=0, whole=True,
               help="After how many bars the platter stops again."),
        Number(id="spin_stop_ms", label="Stopping", group=Group.MOTION, unit="ms", minimum=50.0,
               maximum=1000.0 * _LONGEST_STOP, default=700.0, taper=Taper.LOG, decimals=0,
               help="How long it takes to stop: the pitch falls to nothing."),
        Number(id="spin_rest_beats", label="Standing", group=Group.MOTION, unit="beats", minimum=0.0, maximum=16.0,
               default=1.0, decimals=2,
               help="How long the platter stands still and all is silent."),
        Number(id="spin_start_ms", label="Starting", group=Group.MOTION, unit="ms", minimum=20.0,
               maximum=1000.0 * _LONGEST_START, default=400.0, taper=Taper.LOG, decimals=0,
               help="How long it takes to come up to speed, in time with the music at its end."),
        Switch(id="noises", label="Dust and noise", group=Group.NOISE, default=False,
               help="Lets you hear what lies in the groove, and the surface itself."),
        Number(id="crackle_db", label="Crackle", group=Group.NOISE, unit="dB", minimum=_OFF, maximum=6.0,
               default=-14.0, decimals=0, floor_word="off",
               help="How loud the loudest specks of dust are, against 0 VU; pops are louder still."),
        Number(id="dust_per_s", label="Dust", group=Group.NOISE, unit="/s", minimum=0.0, maximum=100.0, default=6.0,
               taper=Taper.ROOT,
               help="How many specks there are a second; each comes round for a few turns."),
        Number(id="pops_per_min", label="Pops", group=Group.NOISE, unit="/min", minimum=0.0, maximum=120.0,
               default=8.0, taper=Taper.ROOT,
               help="How many pops there are a minute; a scratch pops at the same place turn after turn."),
        Number(id="copy", label="Copy", group=Group.NOISE, unit="", minimum=1.0, maximum=999.0, default=1.0,
               decimals=0, whole=True,
               help="Another copy of the record has its dust and scratches in other places."),
        Number(id="surface_db", label="Surface", group=Group.NOISE, unit="dB", minimum=_OFF, maximum=-20.0,
               default=-58.0, decimals=0, floor_word="off",
               help="The hiss of the groove itself, against 0 VU: shellac is near -35, a good pressing -60."),
        Number(id="rumble_db", label="Rumble", group=Group.NOISE, unit="dB", minimum=_OFF, maximum=-20.0,
               default=-60.0, decimals=0, floor_word="off",
               help="The motor's and bearing's drone far below, against 0 VU."),
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-24.0, maximum=24.0, default=0.0,
               automation=Automation.RAMP,
               help="The level behind the record player."),
    ),
    processor=VinylProcessor,
    picture=picture,
    rest=None,
    drive="cut_db",
    tone="radius_mm",
    nonlinear=True,
    lookahead=_lookahead,
    follow=follow,
    wavers=True,
    comfort_db=(-9.0, 9.0),
)
