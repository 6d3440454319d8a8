"""Saturation: a shape at the raised rate, tone before and after.  Model: docs/models/drive.md."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.filters import BUTTERWORTH_Q, high_pass, one_pole, tilt
from yellow_ember.dsp.glyphs import line
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.filters import biquads, delay
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.kernels.shapes import after_sag, sag
from yellow_ember.dsp.parameters import Automation, Choice, Group, Number, Option, Values, as_number
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
    state,
    vector,
    whole,
)
from yellow_ember.dsp.shaper import ShaperRecord, bend_block, set_shape, set_up_shaper, shaper_latency, shaper_sizes
from yellow_ember.dsp.shapes import SHAPE_BY_ID, SHAPES, Shape
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind
from yellow_ember.dsp.tone_around import LEAN_PARAMETERS, TONE_HZ, ToneRecord, set_tone, tone_after, tone_before

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
        return np.asarray(shape.bent(np.asarray(x, dtype=float) + offset, knee) - shape.rest(offset, knee))

    return function


class DriveRecord(Record):
    """Brightness, lean, shape, tone; the lows may pass clean."""

    brightened: int = whole()
    has_dc: int = whole()
    sag: float = real()
    sag_rise: float = real()
    sag_fall: float = real()
    bright: Samples = setting(1, 5)
    dc: Samples = setting(1, 5)
    drive: Samples = setting(4)
    out: Samples = setting(4)
    shaper: ShaperRecord = part(ShaperRecord)
    tone: ToneRecord = part(ToneRecord)
    bright_state: Samples = state("channels", 1, 2)
    dc_state: Samples = state("channels", 1, 2)
    load: Samples = state("channels")
    drop_ring: Samples = state("channels", "inner")
    drop_index: Samples = state(1)
    drops: Samples = scratch("samples")


@inlined
def process(record: DriveRecord, block: Samples) -> None:
    """The compiled half."""
    tone_before(record.tone, block)
    if record.brightened == 1:
        biquads(block, matrix(record.bright), cube(record.bright_state))
    glide(block, vector(record.drive))
    drops = block_of(record.drops, block.shape[0], block.shape[1])
    if record.sag > 0.0:
        sag(block, record.sag, record.sag_rise, record.sag_fall, drops, vector(record.load))
        index = vector(record.drop_index)
        index[0] = delay(drops, matrix(record.drop_ring), int(index[0]))
    bend_block(record.shaper, block)
    if record.sag > 0.0:
        after_sag(block, drops)
    if record.has_dc == 1:
        biquads(block, matrix(record.dc), cube(record.dc_state))
    glide(block, vector(record.out))
    tone_after(record.tone, block)


class DriveProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(DriveRecord, process, wide=True)

    def sizes(self, setup: Setup) -> dict[str, int]:
        return {"inner": shaper_latency(setup), **shaper_sizes(setup)}

    def make_parts(self, setup: Setup) -> None:
        self.latency = self.settling = set_up_shaper(self.record.shaper, setup)
        self.record.dc[0] = high_pass(_DC_HZ, BUTTERWORTH_Q, setup.rate)
        self.record.sag_rise, self.record.sag_fall = one_pole(_SAG_RISE, setup.rate), one_pole(_SAG_FALL, setup.rate)
        self.turning = self.record.tone.turning
        self._drive = self.ramp(1.0, self.record.drive)
        self._out = self.ramp(1.0, self.record.out)

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        shape, knee, offset = _settings(values)
        drive = gain(as_number(values["drive_db"]))
        set_shape(record.shaper, self._setup, shape, drive, knee, offset)
        record.has_dc = int(shape.lopsided or offset != 0.0)
        record.sag = _MAX_SAG * as_number(values["sag_pct"]) / 100.0
        bright = as_number(values["bright_db"])
        record.brightened = int(bright != 0.0)
        if bright != 0.0:
            record.bright[0] = tilt(1500.0, bright, rate)
        set_tone(record.tone, values, rate)
        self._drive.go(drive, at_once=at_once)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)


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
    return frozenset(() if SHAPE_BY_ID[str(values["shape"])].has_corners else {"knee_pct"})


DRIVE = StageKind(
    kind="drive",
    label="Saturation",
    glyph=(line((0.05, 0.85), (0.25, 0.85), (0.75, 0.15), (0.95, 0.15)),),
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
