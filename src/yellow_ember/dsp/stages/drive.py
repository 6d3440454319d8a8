"""Saturation: a shape at the raised rate, tone before and after.  Model: docs/models/drive.md."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view, db, gain
from yellow_ember.dsp.filters import BUTTERWORTH_Q, high_pass, one_pole, tilt
from yellow_ember.dsp.kernels.filters import biquads, delay
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.kernels.shapes import (
    MAGNETIC,
    TABLE,
    after_sag,
    rounded_shape,
    sag,
)
from yellow_ember.dsp.parameters import Automation, Choice, Group, Number, Option, Values, as_number
from yellow_ember.dsp.shaper import Shaper
from yellow_ember.dsp.shapes import SHAPE_BY_ID, SHAPES, Shape
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind
from yellow_ember.dsp.tone_around import LEAN_PARAMETERS, TONE_HZ, ToneAround

_DC_HZ = 5.0

_WIDEST_KNEE, _FARTHEST = 0.9, 0.8
_SAG_RISE, _SAG_FALL, _MAX_SAG = 0.008, 0.12, 1.2


def _settings(values: Values) -> tuple[Shape, float, float]:
    """Shape, half the width of its rounded corners, and offset of its input."""
    knee = _WIDEST_KNEE * as_number(values["knee_pct"]) / 100.0
    return SHAPE_BY_ID[str(values["shape"])], knee if knee > 0.005 else 0.0, _FARTHEST * as_number(
        values["asymmetry_pct"]) / 100.0


def bent_by(values: Values) -> Callable[[Samples], Samples]:
    """The static shape as set, level for level, without its DC at rest."""
    shape, knee, offset = _settings(values)

    def function(x: Samples) -> Samples:
        moved = np.asarray(x, dtype=float) + offset
        if shape.kernel_kind in (TABLE, MAGNETIC) or knee == 0.0:
            return np.asarray(shape.function(moved) - shape.function(np.array([offset]))[0])
        kind = shape.kernel_kind
        rest = rounded_shape(kind, offset, knee)
        return np.array([rounded_shape(kind, float(v), knee) - rest for v in np.ravel(moved)]).reshape(np.shape(x))

    return function


class DriveProcessor(Processor):
    """Brightness, lean, shape, tone; the lows may pass clean."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        channels = setup.channels
        self._shaper = Shaper(setup)
        self._bright: Samples = np.zeros((1, 5))
        self._bright_state: Samples = np.zeros((channels, 1, 2))
        self._dc: Samples = np.array([high_pass(_DC_HZ, BUTTERWORTH_Q, setup.rate)])
        self._dc_state: Samples = np.zeros((channels, 1, 2))
        self._drive = self.ramp(1.0, setup.rate)
        self._out = self.ramp(1.0, setup.rate)
        self.latency = self._shaper.latency
        self.settling = self.latency
        self._drops: Samples = np.zeros(channels * setup.max_block)
        self._drop_ring: Samples = np.zeros((channels, self.latency))
        self._drop_place: Samples = np.zeros(1)
        self._load: Samples = np.zeros(channels)
        self._sag_rise = one_pole(_SAG_RISE, setup.rate)
        self._sag_fall = one_pole(_SAG_FALL, setup.rate)
        self._guard = ToneAround(setup, self.latency)
        self.carry(*self._shaper.state(), *self._guard.state(), self._bright_state,
                   self._dc_state, self._drop_ring, self._drop_place, self._load)

    def set(self, values: Values, *, at_once: bool = False) -> None:
        rate = self._setup.rate
        shape, knee, offset = _settings(values)
        self._shaper.set(shape, knee, offset)
        self._has_dc = shape.lopsided or offset != 0.0
        self._sag = _MAX_SAG * as_number(values["sag_pct"]) / 100.0
        bright = as_number(values["bright_db"])
        self._brightened = bright != 0.0
        if self._brightened:
            self._bright[0] = tilt(1500.0, bright, rate)
        self._guard.set(values)
        self._drive.go(gain(as_number(values["drive_db"])), at_once=at_once)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)

    def process(self, block: Samples) -> None:
        self._guard.before(block)
        if self._brightened:
            biquads(block, self._bright, self._bright_state)
        glide(block, self._drive.state)
        drops = block_view(self._drops, *block.shape)
        if self._sag > 0.0:
            sag(block, self._sag, self._sag_rise, self._sag_fall, drops, self._load)
            self._drop_place[0] = delay(drops, self._drop_ring, int(self._drop_place[0]))
        self._shaper.process(block)
        if self._sag > 0.0:
            after_sag(block, drops)
        if self._has_dc:
            biquads(block, self._dc, self._dc_state)
        glide(block, self._out.state)
        self._guard.after(block)


_ORDERS = 10


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """The transfer curve at the chosen drive, a sine at 0 VU before and after, and its harmonics."""
    drive_gain, out_gain = gain(as_number(values["drive_db"])), gain(as_number(values["out_db"]))
    shape = bent_by(values)
    x = np.linspace(-1.0, 1.0, 801)

    def bent(samples: Samples) -> Samples:
        return shape(samples * drive_gain)

    turn = np.linspace(0.0, 1.0, 257)
    probe = gain(reference_dbfs) * np.sin(2.0 * np.pi * turn)
    wave = out_gain * bent(probe)
    top = max(float(np.abs(wave).max()), 1e-9)
    spectrum = np.abs(np.fft.rfft(wave[:-1]))[1:_ORDERS + 1]
    order = np.arange(1.0, _ORDERS + 1.0)
    return (Plot("Transfer", "transfer", (Curve("straight wire", x, x), Curve("this shape", x, bent(x))),
                 x_label="in, 1 = 0 dBFS", y_label="out",
                 live=lambda samples: (samples, bent(samples))),
            Plot("A sine at 0 VU, as high before as after", "wave", (
                Curve("before", turn, probe * top / gain(reference_dbfs)), Curve("after", turn, wave)),
                x_label="one turn", y_label="level"),
            Plot("Its harmonics, dB", "harmonics", (
                Curve("harmonics", order, np.maximum(db(spectrum / max(float(spectrum[0]), 1e-12)), -90.0)),),
                x_label="order", y_label="dB"))


def _idle(values: Values) -> frozenset[str]:
    """Shapes without corners have none to round."""
    return frozenset({"knee_pct"} if SHAPE_BY_ID[str(values["shape"])].kernel_kind in (TABLE, MAGNETIC) else ())


DRIVE = StageKind(
    kind="drive",
    label="Saturation",
    glyph="S",
    purpose="Bends the wave so that new harmonics grow on it, from warm to torn.",
    front=("shape", "drive_db", "asymmetry_pct", "knee_pct", "lean_db", "clean_lows_hz", "out_db"),
    neighbours=("tame", "eq", "cabinet"),
    varied=("shape", "drive_db"),
    lean="lean_db",
    remedies={"boom": ("clean_lows_hz",), "crowd": ("lean_db",), "hiss": ("tone_hz",)},
    parameters=(
        Option(id="shape", label="Shape", group=Group.DRIVE, default="soft",
               choices=tuple(Choice(shape.id, shape.label) for shape in SHAPES),
               help="How the wave is bent: soft rounds it, hard cuts it, triode and fuzz lean it to one side, fold "
                    "and ring turn peaks back, wrap tears them, rectify lifts it an octave, magnetic drags behind."),
        Number(id="drive_db", label="Drive", group=Group.DRIVE, unit="dB", minimum=0.0, maximum=48.0,
               default=12.0, automation=Automation.RAMP,
               help="How far the signal is pushed into the shape: more is denser and more distorted."),
        Number(id="asymmetry_pct", label="Asymmetry", group=Group.DRIVE, unit="%", minimum=-100.0, maximum=100.0,
               default=0.0, decimals=0,
               help="Pushes the wave to one side of the shape, which adds even harmonics: fuller, then hollow."),
        Number(id="knee_pct", label="Knee", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=0.0,
               decimals=0, floor_word="sharp",
               help="Rounds the corners of hard, fold, wrap and rectify: less fizz at the moment they set in."),
        Number(id="sag_pct", label="Sag", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=0.0,
               decimals=0, floor_word="off",
               help="The supply gives way under loud notes: attacks come through, what follows is squeezed."),
        *LEAN_PARAMETERS,
        Number(id="bright_db", label="Brightness", group=Group.TONE, unit="dB", minimum=-12.0, maximum=12.0,
               default=0.0,
               help="Tips the tone before the shape: brighter makes the distortion bite, darker makes it growl."),
        TONE_HZ,
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-48.0, maximum=12.0,
               default=-6.0, automation=Automation.RAMP,
               help="The level after the shape, without changing its sound."),
    ),
    processor=DriveProcessor,
    picture=picture,
    rest={"shape": "hard", "drive_db": 0.0, "out_db": 0.0},
    drive="drive_db",
    tone="bright_db",
    makeup="out_db",
    nonlinear=True,
    idle=_idle,
    comfort_db=(-12.0, 9.0),
)
