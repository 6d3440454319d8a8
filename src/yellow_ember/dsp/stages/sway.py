"""Sway: phaser, chorus and tremolo.  Phaser: first-order all-passes in series (Hartmann, JAES 26, 1978)."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.kernels import sway as kernels
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.kernels.motion import TAPS
from yellow_ember.dsp.motion import interpolator
from yellow_ember.dsp.notes import NOTE_CHOICES, beats_of
from yellow_ember.dsp.parameters import Automation, Choice, Group, Number, Option, Taper, Values, as_number
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind, frequency_axis

_EFFECTS = {"phaser": kernels.PHASER, "chorus": kernels.CHORUS, "tremolo": kernels.TREMOLO}
_BASE_SECONDS, _REACH_SECONDS = 0.011, 0.006
_GLIDE_SECONDS = 0.01


def _turns(values: Values, tempo: float) -> float:
    """Turns a second."""
    note = str(values["note"])
    return as_number(values["rate_hz"]) if note == "free" else tempo / 60.0 / beats_of(note)


class SwayProcessor(Processor):
    """One kernel, then a level.  It begins where the session's time line says, and then runs on by itself."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        rate, channels = setup.rate, setup.channels
        length = round((1.35 * _BASE_SECONDS + _REACH_SECONDS) * rate) + 3 * TAPS
        self._ring: Samples = np.zeros((channels, 2 * length))
        self._states: Samples = np.zeros((channels, kernels.STATES))
        self._at: Samples = np.zeros(1)
        self._phase: Samples = np.zeros(1)
        self._figures: Samples = np.zeros(kernels.FIGURES)
        self._targets: Samples = np.zeros(kernels.FIGURES)
        self._table = interpolator()
        self._glide = one_pole(_GLIDE_SECONDS, rate)
        self._out = self.ramp(1.0, rate)
        self._tempo = setup.clock.tempo
        self.carry(self._ring, self._states, self._at, self._phase)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self._phase[0] = -1.0
        self._figures[:] = self._targets

    def set(self, values: Values, *, at_once: bool = False) -> None:
        rate = self._setup.rate
        self._values = values
        self._effect = _EFFECTS[str(values["effect"])]
        self._passes = int(str(values["passes"]))
        self._triangle = values["shape"] == "triangle"
        targets = self._targets
        targets[kernels.DEPTH] = as_number(values["depth_pct"]) / 100.0
        targets[kernels.BLEND] = as_number(values["blend_pct"]) / 100.0
        targets[kernels.FEEDBACK] = as_number(values["feedback_pct"]) / 100.0
        targets[kernels.CENTRE] = 2.0 * math.pi * min(as_number(values["centre_hz"]) / rate, 0.45)
        targets[kernels.APART] = 0.5 * as_number(values["spread_pct"]) / 100.0
        self._follow_tempo()
        if at_once:
            self._figures[:] = targets
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)

    def _follow_tempo(self) -> None:
        self._tempo = self._setup.clock.tempo
        self._step = _turns(self._values, self._tempo) / self._setup.rate

    def process(self, block: Samples) -> None:
        if self._setup.clock.tempo != self._tempo:
            self._follow_tempo()
        if self._phase[0] < 0.0:
            self._phase[0] = (self._setup.clock.here * self._step) % 1.0
        rate = self._setup.rate
        self._at[0] = kernels.sway(
            block, self._effect, self._figures, self._targets, self._glide, self._step, self._triangle, self._passes,
            _BASE_SECONDS * rate, _REACH_SECONDS * rate, self._table, self._ring, int(self._at[0]), self._phase,
            self._states)
        glide(block, self._out.state)


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
    glyph="Z",
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
