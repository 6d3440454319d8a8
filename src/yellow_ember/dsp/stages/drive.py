"""Saturation: a shape at the raised rate, tone before and after.  Model: docs/models/drive.md."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view, db, gain
from yellow_ember.dsp.curves import cubic_between, cubic_cells
from yellow_ember.dsp.filters import BUTTERWORTH_Q, high_pass, low_pass, one_pole, tilt
from yellow_ember.dsp.kernels.filters import biquads, delay, fir
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.kernels.shapes import (
    BEND_DELAY,
    CHUNK,
    FOLD,
    HARD,
    MAGNETIC,
    MOST_STEPS,
    RECTIFY,
    RING,
    TABLE,
    WRAP,
    after_sag,
    bend,
    corner_shape,
    drive,
    follow_core,
    rounded_shape,
    sag,
)
from yellow_ember.dsp.lean import PARAMETERS as LEAN_PARAMETERS
from yellow_ember.dsp.lean import LeanAndCleanLows
from yellow_ember.dsp.oversampling import Oversampling
from yellow_ember.dsp.parameters import Automation, Choice, Group, Number, Option, Taper, Values, as_number
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind

CELLS = 512
CORRECTION_TAPS = 33
_CORRECTED = 20.0 / 48.0
_TONE_OPEN = 20000.0
_DC_HZ = 5.0


def soft(x: Samples) -> Samples:
    """A smooth symmetric limit at +-1 with unit slope at rest."""
    return np.asarray(np.tanh(x))


@functools.cache
def _triode_table() -> tuple[Samples, Samples]:
    """Grid voltage and plate voltage of a common-cathode stage on its load line.

    Valve equation: Koren, Glass Audio 8(5), 1996, with the constants of a high-mu double
    triode; supply 250 V, plate load 100 kOhm, grid bias -1.5 V.  Grid current above zero volts
    is a diode behind 68 kOhm.
    """
    mu, ex, kg, kp, kvb = 100.0, 1.4, 1060.0, 600.0, 300.0
    supply, load, bias = 250.0, 100e3, -1.5
    drive_volts = np.linspace(-60.0, 60.0, 4801)
    over = np.maximum(drive_volts + bias, 0.0)
    conducted = over * over / (over + 1.2)
    grid = drive_volts + bias - 0.93 * conducted
    low, high = np.zeros_like(grid), np.full_like(grid, supply)
    for _ in range(60):
        plate = 0.5 * (low + high)
        with np.errstate(over="ignore"):
            inner = kp * (1.0 / mu + grid / np.sqrt(kvb + plate * plate))
        e1 = plate / kp * np.where(inner > 50.0, inner, np.log1p(np.exp(np.minimum(inner, 50.0))))
        too_low = (supply - plate) / load > 2.0 * np.maximum(e1, 0.0) ** ex / kg
        low, high = np.where(too_low, plate, low), np.where(too_low, high, plate)
    return drive_volts, 0.5 * (low + high)


def triode(x: Samples) -> Samples:
    """The triode stage as an even-and-odd shape: zero at rest, unit slope at rest, not inverted."""
    volts, plate = _triode_table()
    spacing, middle = volts[1] - volts[0], volts.size // 2
    rest, slope = plate[middle], (plate[middle + 1] - plate[middle - 1]) / (2.0 * spacing)
    swing = -rest / slope
    place = np.clip(np.asarray(x) * swing / spacing + middle, 0.0, volts.size - 1.0)
    return np.asarray((cubic_between(plate, place) - rest) / (slope * swing))


def diodes(x: Samples) -> Samples:
    """A pair of diodes head to head behind a resistor: v + 2 Is R sinh(v / Vt) = x, unit slope at rest."""
    source = np.asarray(x, dtype=float)
    a = np.abs(source) * (1.0 + _DIODE_LEAK / _DIODE_VOLTS)
    v = np.minimum(a, _DIODE_VOLTS * np.arcsinh(a / _DIODE_LEAK))
    for _ in range(60):
        f = v + _DIODE_LEAK * np.sinh(v / _DIODE_VOLTS) - a
        v = v - f / (1.0 + _DIODE_LEAK / _DIODE_VOLTS * np.cosh(v / _DIODE_VOLTS))
    return np.asarray(np.sign(source) * v)


_DIODE_VOLTS, _DIODE_LEAK = 0.12, 2e-4


def fuzz(x: Samples) -> Samples:
    """A starved transistor: one side rounds at the limit, the other is cut short; unit slope at rest."""
    source = np.asarray(x, dtype=float)
    up = -np.expm1(-np.maximum(source, 0.0))
    down = _STARVED * np.expm1(np.minimum(source, 0.0) / _STARVED)
    return np.asarray(np.where(source >= 0.0, up, down))


_STARVED = 0.35


def _by_kernel(kind: int) -> Callable[[Samples], Samples]:
    def shape(x: Samples) -> Samples:
        return np.array([corner_shape(kind, float(value)) for value in np.ravel(x)]).reshape(np.shape(x))

    return shape


def _first_magnetisation(x: Samples) -> Samples:
    """What the magnetic core makes of fields that rise from rest."""
    flat = np.ravel(np.asarray(x, dtype=float))
    found = np.zeros(flat.size)
    for place, field in enumerate(flat):
        path = np.linspace(0.0, field, 200)
        follow_core(path, path.size, np.zeros(2))
        found[place] = path[-1]
    return found.reshape(np.shape(x))


@dataclass(frozen=True, slots=True)
class Shape:
    """One saturation shape: how the kernel evaluates it, how finely it cuts each sample, whether it leaves DC."""

    id: str
    label: str
    kernel_kind: int
    steps: int
    function: Callable[[Samples], Samples]
    lopsided: bool = False


SHAPES = (
    Shape("hard", "Hard clip", HARD, 2, _by_kernel(HARD)),
    Shape("soft", "Soft clip", TABLE, 2, soft),
    Shape("triode", "Triode", TABLE, 5, triode, lopsided=True),
    Shape("diodes", "Diodes", TABLE, 3, diodes),
    Shape("fuzz", "Fuzz", TABLE, 4, fuzz, lopsided=True),
    Shape("fold", "Fold back", FOLD, 3, _by_kernel(FOLD)),
    Shape("wrap", "Wrap around", WRAP, 8, _by_kernel(WRAP)),
    Shape("rectify", "Rectify", RECTIFY, 2, _by_kernel(RECTIFY), lopsided=True),
    Shape("ring", "Ring", RING, 3, _by_kernel(RING)),
    Shape("magnetic", "Magnetic", MAGNETIC, 4, _first_magnetisation),
)
_BY_ID = {shape.id: shape for shape in SHAPES}


@functools.cache
def shape_table(shape: Shape) -> Samples:
    """Cubic coefficients (CELLS, 4) over u = x / (1 + |x|) from -1 to 1, for the kernel."""
    return cubic_cells(shape.function, -1.0, 1.0, CELLS)


@functools.cache
def droop_correction(averaged: bool, steps: int, oversample: int) -> Samples:
    """Symmetric FIR at the base rate that takes back the highs which the kernel's weighting loses.

    averaged : the shape is one that the kernel averages over sub-steps
    The loss is measured on the kernel itself, with an impulse too small to bend, and its
    inverse fitted by least squares up to 20 kHz at 48 kHz and in proportion elsewhere.
    """
    quiet = 1e-4
    frames = np.zeros(32)
    frames[8] = quiet
    scratch = np.zeros((3, 32 * MOST_STEPS))
    bend(frames, frames.size, HARD if averaged else TABLE, shape_table(_BY_ID["soft"]), steps, 0.0, 0.0, np.zeros(8),
         np.zeros(64), *scratch)
    place = np.linspace(0.0, _CORRECTED, 200)
    angle = 2.0 * np.pi * place / oversample
    slope = frames.sum() / quiet
    loss = np.cos(np.outer(angle, np.arange(32) - 8 - BEND_DELAY)) @ frames / (quiet * slope)
    half = CORRECTION_TAPS // 2
    cosines = 2.0 * np.cos(2.0 * np.pi * np.outer(place, np.arange(half + 1)))
    cosines[:, 0] = 1.0
    taps = np.linalg.lstsq(cosines, 1.0 / loss, rcond=1e-10)[0]
    return np.concatenate((taps[:0:-1], taps))


_WIDEST_KNEE, _FARTHEST = 0.9, 0.8
_SAG_RISE, _SAG_FALL, _MOST_SAG = 0.008, 0.12, 1.2


def _settings(values: Values) -> tuple[Shape, float, float]:
    """Shape, half the width of its rounded corners, and offset of its input."""
    knee = _WIDEST_KNEE * as_number(values["knee_pct"]) / 100.0
    return _BY_ID[str(values["shape"])], knee if knee > 0.005 else 0.0, _FARTHEST * as_number(
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
        self._fast = Oversampling(setup.oversample, channels, BEND_DELAY)
        held = CORRECTION_TAPS - 1
        self._history: Samples = np.zeros((channels, held))
        self._line: Samples = np.zeros(held + setup.max_block)
        self._bend_state: Samples = np.zeros((channels, 8))
        most = CHUNK * setup.oversample * MOST_STEPS
        self._places, self._values, self._bent = np.zeros(most), np.zeros(most), np.zeros(most)
        self._bright: Samples = np.zeros((1, 5))
        self._bright_state: Samples = np.zeros((channels, 1, 2))
        self._after: Samples = np.zeros((1, 5))
        self._after_state: Samples = np.zeros((channels, 1, 2))
        self._dc: Samples = np.array([high_pass(_DC_HZ, BUTTERWORTH_Q, setup.rate)])
        self._dc_state: Samples = np.zeros((channels, 1, 2))
        self._drive = self.ramp(1.0, setup.rate)
        self._out = self.ramp(1.0, setup.rate)
        self.latency = held // 2 + self._fast.latency
        self.settling = self.latency
        self._drops: Samples = np.zeros(channels * setup.max_block)
        self._drop_ring: Samples = np.zeros((channels, self.latency))
        self._drop_place: Samples = np.zeros(1)
        self._load: Samples = np.zeros(channels)
        self._sag_rise = one_pole(_SAG_RISE, setup.rate)
        self._sag_fall = one_pole(_SAG_FALL, setup.rate)
        self._guard = LeanAndCleanLows(setup, self.latency)
        self.carry(*self._fast.state(), *self._guard.state(), self._history, self._bend_state,
                   self._bright_state, self._after_state, self._dc_state, self._drop_ring, self._drop_place, self._load)

    def set(self, values: Values, *, at_once: bool = False) -> None:
        rate = self._setup.rate
        self._shape, self._knee, self._offset = _settings(values)
        self._table = shape_table(self._shape if self._shape.kernel_kind == TABLE else _BY_ID["soft"])
        self._correction = droop_correction(
            self._shape.kernel_kind not in (TABLE, MAGNETIC), self._shape.steps, self._setup.oversample)
        self._has_dc = self._shape.lopsided or self._offset != 0.0
        self._sag = _MOST_SAG * as_number(values["sag_pct"]) / 100.0
        bright, tone = as_number(values["bright_db"]), as_number(values["tone_hz"])
        self._brightened, self._toned = bright != 0.0, tone < _TONE_OPEN
        if self._brightened:
            self._bright[0] = tilt(1500.0, bright, rate)
        if self._toned:
            self._after[0] = low_pass(tone, BUTTERWORTH_Q, rate)
        self._guard.set(values)
        move = Ramp.jump if at_once else Ramp.move
        move(self._drive, gain(as_number(values["drive_db"])))
        move(self._out, gain(as_number(values["out_db"])))

    def process(self, block: Samples) -> None:
        self._guard.before(block)
        if self._brightened:
            biquads(block, self._bright, self._bright_state)
        glide(block, self._drive.state)
        drops = block_view(self._drops, *block.shape)
        if self._sag > 0.0:
            sag(block, self._sag, self._sag_rise, self._sag_fall, drops, self._load)
            self._drop_place[0] = delay(drops, self._drop_ring, int(self._drop_place[0]))
        drive(block, self._shape.kernel_kind, self._table, self._shape.steps, self._knee, self._offset,
              self._bend_state, self._places, self._values, self._bent, *self._fast.buffers())
        fir(block, self._correction, self._history, self._line)
        if self._sag > 0.0:
            after_sag(block, drops)
        if self._has_dc:
            biquads(block, self._dc, self._dc_state)
        if self._toned:
            biquads(block, self._after, self._after_state)
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


DRIVE = StageKind(
    kind="drive",
    label="Saturation",
    glyph="S",
    purpose="Bends the wave so that new harmonics grow on it, from warm to torn.",
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
        Number(id="tone_hz", label="Tone", group=Group.TONE, unit="Hz", minimum=500.0, maximum=_TONE_OPEN,
               default=_TONE_OPEN, taper=Taper.LOG, decimals=0, top_word="open",
               help="Rolls off the fizz right after the shape."),
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-48.0, maximum=12.0,
               default=-6.0, automation=Automation.RAMP,
               help="The level after the shape, without changing its sound."),
    ),
    processor=DriveProcessor,
    picture=picture,
    rest={"shape": "hard", "drive_db": 0.0, "out_db": 0.0},
    drive="drive_db",
    makeup="out_db",
    nonlinear=True,
    comfort_db=(-12.0, 9.0),
)
