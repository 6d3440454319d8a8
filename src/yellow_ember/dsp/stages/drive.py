"""Saturation: a shape at the raised rate, tone before and after.  Model: docs/models/drive.md."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.curves import cubic_between, cubic_cells
from yellow_ember.dsp.filters import BUTTERWORTH_Q, high_pass, low_pass, tilt
from yellow_ember.dsp.kernels.filters import biquads, fir
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.kernels.shapes import BEND_DELAY, FOLD, HARD, TABLE, WRAP, bend, corner_shape, drive
from yellow_ember.dsp.lean import PARAMETERS as LEAN_PARAMETERS
from yellow_ember.dsp.lean import LeanAndCleanLows
from yellow_ember.dsp.oversampling import CHUNK, Oversampling
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


def _corner(kind: int) -> Callable[[Samples], Samples]:
    def shape(x: Samples) -> Samples:
        return np.array([corner_shape(kind, float(value)) for value in np.ravel(x)]).reshape(np.shape(x))

    return shape


@dataclass(frozen=True, slots=True)
class Shape:
    """One saturation shape: how the kernel evaluates it and how finely it cuts each sample."""

    id: str
    label: str
    kernel_kind: int
    steps: int
    function: Callable[[Samples], Samples]


SHAPES = (
    Shape("hard", "Hard clip", HARD, 2, _corner(HARD)),
    Shape("soft", "Soft clip", TABLE, 2, soft),
    Shape("triode", "Triode", TABLE, 5, triode),
    Shape("fold", "Fold back", FOLD, 3, _corner(FOLD)),
    Shape("wrap", "Wrap around", WRAP, 8, _corner(WRAP)),
)
_BY_ID = {shape.id: shape for shape in SHAPES}


@functools.cache
def shape_table(shape: Shape) -> Samples:
    """Cubic coefficients (CELLS, 4) over u = x / (1 + |x|) from -1 to 1, for the kernel."""
    return cubic_cells(shape.function, -1.0, 1.0, CELLS)


@functools.cache
def droop_correction(shape: Shape, oversample: int) -> Samples:
    """Symmetric FIR at the base rate that takes back the highs which the kernel's averaging loses.

    The loss is measured on the kernel itself, with an impulse too small to bend, and its
    inverse fitted by least squares up to 20 kHz at 48 kHz and in proportion elsewhere.
    """
    quiet = 1e-4
    frames = np.zeros(32)
    frames[8] = quiet
    bend(frames, frames.size, shape.kernel_kind, shape_table(shape), shape.steps, np.zeros(6), np.zeros(64))
    place = np.linspace(0.0, _CORRECTED, 200)
    angle = 2.0 * np.pi * place / oversample
    slope = frames.sum() / quiet
    loss = np.cos(np.outer(angle, np.arange(32) - 8 - BEND_DELAY)) @ frames / (quiet * slope)
    half = CORRECTION_TAPS // 2
    cosines = 2.0 * np.cos(2.0 * np.pi * np.outer(place, np.arange(half + 1)))
    cosines[:, 0] = 1.0
    taps = np.linalg.lstsq(cosines, 1.0 / loss, rcond=1e-10)[0]
    return np.concatenate((taps[:0:-1], taps))


class DriveProcessor(Processor):
    """Brightness, lean, shape, tone; the lows may pass clean."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        channels = setup.channels
        self._fast = Oversampling(setup.oversample, channels, BEND_DELAY)
        held = CORRECTION_TAPS - 1
        self._history: Samples = np.zeros((channels, held))
        self._line: Samples = np.zeros(held + setup.max_block)
        self._bend_state: Samples = np.zeros((channels, 6))
        self._bright: Samples = np.zeros((1, 5))
        self._bright_state: Samples = np.zeros((channels, 1, 2))
        self._after: Samples = np.zeros((1, 5))
        self._after_state: Samples = np.zeros((channels, 1, 2))
        self._dc: Samples = np.array([high_pass(_DC_HZ, BUTTERWORTH_Q, setup.rate)])
        self._dc_state: Samples = np.zeros((channels, 1, 2))
        self._drive = self.ramp(1.0, setup.rate)
        self._out = self.ramp(1.0, setup.rate)
        self.latency = held // 2 + self._fast.latency
        self._guard = LeanAndCleanLows(setup, self.latency)
        self.carry(*self._fast.state(), *self._guard.state(), self._history, self._bend_state,
                   self._bright_state, self._after_state, self._dc_state)

    def set(self, values: Values, *, at_once: bool = False) -> None:
        rate = self._setup.rate
        self._shape = _BY_ID[str(values["shape"])]
        self._table = shape_table(self._shape if self._shape.kernel_kind == TABLE else _BY_ID["soft"])
        self._correction = droop_correction(self._shape, self._setup.oversample)
        self._has_dc = self._shape.id == "triode"
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
        drive(block, self._shape.kernel_kind, self._table, self._shape.steps, self._bend_state, CHUNK,
              *self._fast.buffers())
        fir(block, self._correction, self._history, self._line)
        if self._has_dc:
            biquads(block, self._dc, self._dc_state)
        if self._toned:
            biquads(block, self._after, self._after_state)
        glide(block, self._out.state)
        self._guard.after(block)


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """The transfer curve at the chosen drive, with a straight wire behind it."""
    shape, drive_gain = _BY_ID[str(values["shape"])], gain(as_number(values["drive_db"]))
    x = np.linspace(-1.0, 1.0, 801)

    def bent(samples: Samples) -> Samples:
        return shape.function(samples * drive_gain)

    return (Plot("Transfer", "transfer", (Curve("straight wire", x, x), Curve("this shape", x, bent(x))),
                 x_label="in, 1 = 0 dBFS", y_label="out",
                 live=lambda samples: (samples, bent(samples))),)


DRIVE = StageKind(
    kind="drive",
    label="Saturation",
    glyph="S",
    purpose="Bends the wave so that new harmonics grow on it, from warm to torn.",
    parameters=(
        Option(id="shape", label="Shape", group=Group.DRIVE, default="soft",
               choices=tuple(Choice(shape.id, shape.label) for shape in SHAPES),
               help="How the wave is bent: soft rounds it, hard cuts it, triode leans it to one side, "
                    "fold turns peaks back, wrap tears them."),
        Number(id="drive_db", label="Drive", group=Group.DRIVE, unit="dB", minimum=0.0, maximum=48.0,
               default=12.0, automation=Automation.RAMP,
               help="How far the signal is pushed into the shape: more is denser and more distorted."),
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
