"""Sway: phaser, chorus and tremolo.  Phaser: first-order all-passes in series (Hartmann, JAES 26, 1978)."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.glyphs import wave
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels import sway as kernels
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.kernels.motion import TAPS
from yellow_ember.dsp.motion import interpolator
from yellow_ember.dsp.notes import NOTE_CHOICES, beats_of
from yellow_ember.dsp.parameters import Automation, Choice, Group, Number, Option, Taper, Values, as_number
from yellow_ember.dsp.record import CompiledHalf, Record, cube, matrix, real, setting, shared, state, vector, whole
from yellow_ember.dsp.stage import (
    CLOCK_DELAY,
    CLOCK_FRAME,
    Curve,
    Picture,
    Plot,
    Processor,
    Setup,
    StageKind,
    frequency_axis,
)

_EFFECTS = {"phaser": kernels.PHASER, "chorus": kernels.CHORUS, "tremolo": kernels.TREMOLO}
_BASE_SECONDS, _REACH_SECONDS = 0.011, 0.006
_GLIDE_SECONDS = 0.01


def _turns(values: Values, tempo: float) -> float:
    """Turns a second."""
    note = str(values["note"])
    return as_number(values["rate_hz"]) if note == "free" else tempo / 60.0 / beats_of(note)


class SwayRecord(Record):
    """All-passes, delay or level that sway, then a level.

    Attributes
    ----------
    phase : Samples
        Of the sway, 0 to 1; negative before the first block, which begins where the session's time line says.
    """

    effect: int = whole()
    passes: int = whole()
    triangle: int = whole()
    glide: float = real()
    step: float = real()
    base: float = real()
    reach: float = real()
    clock: Samples = shared(1)
    table: Samples = shared(3)
    targets: Samples = setting(kernels.FIGURES)
    figures: Samples = setting(kernels.FIGURES)
    out: Samples = setting(4)
    ring: Samples = state("channels", "ring_twice")
    memory: Samples = state("channels", kernels.STATES)
    index: Samples = state(1)
    phase: Samples = state(2)


@inlined
def process(record: SwayRecord, block: Samples) -> None:
    """The compiled half."""
    phase, index, clock = vector(record.phase), vector(record.index), vector(record.clock)
    if phase[0] < 0.0:
        turns = (clock[CLOCK_FRAME] - clock[CLOCK_DELAY]) * record.step
        phase[0], phase[1] = turns - np.floor(turns), record.step
    index[0] = kernels.sway(
        block, record.effect, vector(record.figures), vector(record.targets), record.glide, record.step,
        record.triangle == 1, record.passes, record.base, record.reach, cube(record.table), matrix(record.ring),
        int(index[0]), phase, matrix(record.memory))
    glide(block, vector(record.out))


class SwayProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(SwayRecord, process)
    in_tempo = True

    def sizes(self, setup: Setup) -> dict[str, int]:
        return {"ring_twice": 2 * (round((1.35 * _BASE_SECONDS + _REACH_SECONDS) * setup.rate) + 3 * TAPS)}

    def make_parts(self, setup: Setup) -> None:
        record, rate = self.record, setup.rate
        record.clock, record.table = setup.clock.times, interpolator()
        record.glide = one_pole(_GLIDE_SECONDS, rate)
        record.base, record.reach = _BASE_SECONDS * rate, _REACH_SECONDS * rate
        self._out = self.ramp(1.0, record.out)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self.record.phase[0] = -1.0
        self.record.figures = self.record.targets

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        self._values = values
        record.effect, record.passes = _EFFECTS[str(values["effect"])], int(str(values["passes"]))
        record.triangle = int(values["shape"] == "triangle")
        targets = record.targets
        targets[kernels.DEPTH] = as_number(values["depth_pct"]) / 100.0
        targets[kernels.BLEND] = as_number(values["blend_pct"]) / 100.0
        targets[kernels.FEEDBACK] = as_number(values["feedback_pct"]) / 100.0
        targets[kernels.CENTRE] = 2.0 * math.pi * min(as_number(values["centre_hz"]) / rate, 0.45)
        targets[kernels.APART] = 0.5 * as_number(values["spread_pct"]) / 100.0
        self.follow_tempo(self._setup.clock.tempo)
        if at_once:
            record.figures = targets
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)

    def follow_tempo(self, tempo: float) -> None:
        self.record.step = _turns(self._values, tempo) / self._setup.rate


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """How it sways over two turns, and for the phaser its response at the middle and both ends."""
    turns = _turns(values, 120.0)
    time = np.linspace(0.0, 2.0 / turns, 201)
    depth = as_number(values["depth_pct"])
    moved = depth * np.array([kernels.swing(float(t) * turns, values["shape"] == "triangle") for t in time])
    plots = [Plot("How it sways", "time", (Curve("sway", time, moved),), x_label="seconds", y_label="%")]
    if values["effect"] == "phaser":
        hz = frequency_axis(48000.0, 240)
        blend, feedback = (as_number(values[name]) / 100.0 for name in ("blend_pct", "feedback_pct"))
        curves = []
        for label, octaves in (("lowest", -1.0), ("highest", 1.0), ("middle", 0.0)):
            centre = as_number(values["centre_hz"]) * 2.0 ** (2.0 * octaves * depth / 100.0)
            turned = np.exp(-2j * np.arctan(hz / centre) * int(str(values["passes"])))
            heard = 1.0 - blend + blend * turned / (1.0 - feedback * turned)
            curves.append(Curve(label, hz, np.maximum(db(np.abs(heard)), -40.0)))
        plots.append(Plot("Response, dB", "response", tuple(curves)))
    return tuple(plots)


def _idle(values: Values) -> frozenset[str]:
    result = set()
    if values["effect"] != "phaser":
        result |= {"passes", "centre_hz"}
    if values["effect"] == "tremolo":
        result |= {"blend_pct", "feedback_pct"}
    if values["note"] != "free":
        result.add("rate_hz")
    return frozenset(result)


def _spreads(values: Values) -> bool:
    """Left and right sway apart."""
    return values["spread_pct"] != 0.0


SWAY = StageKind(
    kind="sway",
    label="Sway",
    glyph=(wave(0.05, 0.95, 0.5, 0.32, 1.0), wave(0.05, 0.95, 0.5, -0.32, 1.0)),
    purpose="Moves a still sound: a phaser that sweeps, a chorus that doubles, a tremolo that swells.",
    front=("effect", "rate_hz", "note", "depth_pct", "feedback_pct", "blend_pct"),
    neighbours=("room", "drive"),
    parameters=(
        Option(id="effect", label="Effect", group=Group.MACHINE, default="chorus",
               choices=tuple(Choice(name, name) for name in _EFFECTS),
               help="Phaser hollows the sound out, chorus makes it several, tremolo moves its level."),
        Option(id="shape", label="Shape", group=Group.MACHINE, default="sine",
               choices=(Choice("sine", "sine"), Choice("triangle", "triangle")),
               help="Sine lingers at both ends, triangle moves evenly."),
        Option(id="passes", label="Stages", group=Group.MACHINE, default="6",
               choices=tuple(Choice(str(n), str(n)) for n in (2, 4, 6, 8, 12)),
               help="How many notches the phaser has, two stages each: few are open, many are vocal."),
        Number(id="rate_hz", label="Rate", group=Group.DRIVE, unit="Hz", minimum=0.03, maximum=12.0, default=0.6,
               taper=Taper.LOG, decimals=2, automation=Automation.RAMP,
               help="How fast it sways: under 1 Hz it breathes, at 5 Hz it shivers."),
        Option(id="note", label="Sync", group=Group.DRIVE, default="free", choices=NOTE_CHOICES,
               automation=Automation.RAMP,
               help="Locks it to the tempo in place of its rate."),
        Number(id="depth_pct", label="Depth", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=50.0,
               decimals=0, automation=Automation.RAMP,
               help="How far it sways either way."),
        Number(id="feedback_pct", label="Feedback", group=Group.DRIVE, unit="%", minimum=-90.0, maximum=90.0,
               default=0.0, decimals=0, automation=Automation.RAMP,
               help="Sharpens what sweeps: up it whistles, down it hollows."),
        Number(id="centre_hz", label="Centre", group=Group.TONE, unit="Hz", minimum=100.0, maximum=6000.0,
               default=800.0, taper=Taper.LOG, decimals=0, automation=Automation.RAMP,
               help="Where the phaser sweeps about."),
        Number(id="blend_pct", label="Blend", group=Group.TONE, unit="%", minimum=0.0, maximum=100.0, default=50.0,
               decimals=0, automation=Automation.RAMP,
               help="How much is the swaying sound, beside the still one: half is deepest."),
        Number(id="spread_pct", label="Spread", group=Group.TONE, unit="%", minimum=0.0, maximum=100.0, default=0.0,
               decimals=0, automation=Automation.RAMP,
               help="Left and right sway apart, at the top against each other."),
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-24.0, maximum=12.0, default=0.0,
               automation=Automation.RAMP,
               help="The level behind the swaying."),
    ),
    spreads=_spreads,
    processor=SwayProcessor,
    picture=picture,
    rest={"effect": "tremolo", "depth_pct": 0.0},
    idle=_idle,
)
