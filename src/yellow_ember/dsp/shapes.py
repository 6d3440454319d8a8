"""The saturation shapes as functions, and their tables for `dsp/kernels/shapes.py`.  Model: docs/models/drive.md."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.curves import cubic_between, cubic_cells
from yellow_ember.dsp.kernels.shapes import (
    BEND_DELAY,
    BEND_STATES,
    FOLD,
    HARD,
    MAGNETIC,
    MOST_STEPS,
    PAST,
    RECTIFY,
    RING,
    TABLE,
    WRAP,
    bend,
    corner_shape,
    follow_core,
    rounded_shape,
)

CELLS = 512
CORRECTION_TAPS = 33
_LIVE = 4
"""The highest factor that is one for hearing live."""
_FAR = 1e6
"""An input at which nothing more changes."""
_CORRECTED = 20.0 / 48.0


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
    position = np.clip(np.asarray(x) * swing / spacing + middle, 0.0, volts.size - 1.0)
    return np.asarray((cubic_between(plate, position) - rest) / (slope * swing))


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
    result = np.zeros(flat.size)
    for index, field in enumerate(flat):
        state = np.zeros(3)
        follow_core(np.array([field]), 1, 1, state, np.zeros(1))
        result[index] = state[1]
    return result.reshape(np.shape(x))


@dataclass(frozen=True, slots=True)
class Shape:
    """One saturation shape.

    Attributes
    ----------
    kernel_kind : int
        How the kernel evaluates it.
    fineness : tuple[int, int, int, int]
        How many sub-steps of a frame at the base rate keep its aliasing down at 12, 24, 36 and 48 dB of drive.
    lopsided : bool
        It leaves DC.
    """

    id: str
    label: str
    kernel_kind: int
    fineness: tuple[int, int, int, int]
    function: Callable[[Samples], Samples]
    lopsided: bool = False

    @property
    def has_corners(self) -> bool:
        """True where there are corners that a knee rounds."""
        return self.kernel_kind in (HARD, FOLD, WRAP, RECTIFY)

    @property
    def table(self) -> Samples:
        """Cubic coefficients (2 CELLS, 4) for the kernel; what is not tabulated ignores them."""
        return _table(self if self.kernel_kind == TABLE else SHAPE_BY_ID["soft"])

    def bent(self, x: Samples, knee: float = 0.0) -> Samples:
        """The shape with its corners rounded; knee : half the width over which they are"""
        if knee == 0.0 or not self.has_corners:
            return self.function(x)
        values = [rounded_shape(self.kernel_kind, float(value), knee) for value in np.ravel(x)]
        return np.array(values).reshape(np.shape(x))

    @property
    def steepest(self) -> float:
        """The most that it makes of a small change."""
        return _steepest(self)

    def rest(self, offset: float, knee: float = 0.0) -> float:
        """What it makes of an offset alone."""
        return float(self.bent(np.array([offset]), knee)[0])

    def steps(self, drive: float, oversample: int) -> int:
        """Sub-steps of a frame at the raised rate; drive : gain into the shape

        What is heard live, at a low factor, is content with half of them.
        """
        row = min(max(math.ceil(20.0 * math.log10(max(drive, 1e-9)) / 12.0 - 1e-6) - 1, 0), 3)
        return -(-self.fineness[row] // max(oversample, 2 * min(oversample, _LIVE)))

    def correction(self, oversample: int) -> Samples:
        """The FIR (CORRECTION_TAPS,) at the base rate that takes back the highs which the kernel loses."""
        kind = HARD if self.has_corners or self.kernel_kind == MAGNETIC else TABLE
        return _droop_correction(kind, self.steps(1.0, oversample), oversample)


SHAPES = (
    Shape("hard", "Hard clip", HARD, (8, 16, 16, 16), _by_kernel(HARD)),
    Shape("soft", "Soft clip", TABLE, (8, 16, 32, 32), soft),
    Shape("triode", "Triode", TABLE, (16, 16, 32, 32), triode, lopsided=True),
    Shape("diodes", "Diodes", TABLE, (8, 16, 32, 32), diodes),
    Shape("fuzz", "Fuzz", TABLE, (16, 16, 32, 32), fuzz, lopsided=True),
    Shape("fold", "Fold back", FOLD, (8, 16, 32, 64), _by_kernel(FOLD)),
    Shape("wrap", "Wrap around", WRAP, (16, 32, 64, 128), _by_kernel(WRAP)),
    Shape("rectify", "Rectify", RECTIFY, (8, 8, 8, 8), _by_kernel(RECTIFY), lopsided=True),
    Shape("ring", "Ring", RING, (8, 16, 32, 64), _by_kernel(RING)),
    Shape("magnetic", "Magnetic", MAGNETIC, (16, 16, 32, 32), _first_magnetisation, lopsided=True),
)
SHAPE_BY_ID = {shape.id: shape for shape in SHAPES}
assert max(max(shape.fineness) for shape in SHAPES) <= MOST_STEPS


@functools.cache
def _table(shape: Shape) -> Samples:
    """Cubic coefficients over u = x / (1 + |x|) from -1 to 1: (CELLS, 4) of the shape, then of its antiderivative.

    The antiderivative stands over 1 + |x|, which keeps it finite.
    """
    u = np.linspace(-1.0, 1.0, CELLS + 1)
    left = 1.0 - np.abs(u)
    inner = slice(1, CELLS)
    x = u[inner] / left[inner]
    nodes, weights = np.polynomial.legendre.leggauss(8)
    half = 0.5 * np.diff(x)
    places = 0.5 * (x[1:] + x[:-1])[:, None] + half[:, None] * nodes
    areas = half * (shape.function(places.ravel()).reshape(places.shape) @ weights)
    below = np.concatenate(([0.0], np.cumsum(areas)))
    below -= below[CELLS // 2 - 1]
    far = shape.function(np.array([-_FAR, _FAR]))
    over = np.concatenate(([-far[0]], below * left[inner], [far[1]]))
    own = shape.function(x) / left[inner]
    spacing = u[1] - u[0]
    # The slope of F (1 - |u|), whose two halves meet at nothing.
    rising = (own - np.sign(u[inner]) * below) * spacing
    slopes = np.concatenate(([over[1] - over[0]], rising, [over[-1] - over[-2]]))
    rise = np.diff(over)
    pieces = np.stack([over[:-1], slopes[:-1], 3.0 * rise - 2.0 * slopes[:-1] - slopes[1:],
                       slopes[:-1] + slopes[1:] - 2.0 * rise], axis=1)
    return np.ascontiguousarray(np.concatenate((cubic_cells(shape.function, -1.0, 1.0, CELLS), pieces)))


@functools.cache
def _steepest(shape: Shape) -> float:
    if shape.kernel_kind == MAGNETIC:
        # From one end to the other, as a wave drives it.
        field = np.concatenate((np.linspace(0.0, 8.0, 4000), np.linspace(8.0, -8.0, 8000)))
        means, state = np.zeros(1), np.zeros(3)
        made = np.zeros(field.size)
        for index, place in enumerate(field):
            follow_core(np.array([place]), 1, 1, state, means)
            made[index] = state[1]
    else:
        field = np.linspace(-8.0, 8.0, 16000)
        made = shape.function(field)
    slope = np.abs(np.diff(made)[1:] / np.where(np.diff(field)[1:] == 0.0, 1.0, np.diff(field)[1:]))
    return float(np.sort(slope)[-16])


@functools.cache
def _droop_correction(kind: int, steps: int, oversample: int) -> Samples:
    """Symmetric FIR at the base rate that takes back the highs which joining and weighting lose.

    The loss is measured on the kernel itself, with an impulse too small to bend, and its inverse fitted by least
    squares up to 20 kHz at 48 kHz and in proportion elsewhere.
    """
    quiet, count, middle = 1e-4, 32, 8
    frames = np.zeros(count)
    frames[middle] = quiet
    scratch = np.zeros((4, count * steps))
    bend(frames, count, kind, SHAPE_BY_ID["soft"].table, steps, 0.0, 0.0, 0.0, np.zeros(BEND_STATES),
         np.zeros(count + PAST), *scratch)
    positions = np.linspace(0.0, _CORRECTED, 200)
    angle = 2.0 * np.pi * positions / oversample
    loss = np.cos(np.outer(angle, np.arange(count) - middle - BEND_DELAY)) @ frames / frames.sum()
    half = CORRECTION_TAPS // 2
    cosines = 2.0 * np.cos(2.0 * np.pi * np.outer(positions, np.arange(half + 1)))
    cosines[:, 0] = 1.0
    taps = np.linalg.lstsq(cosines, 1.0 / loss, rcond=1e-10)[0]
    return np.concatenate((taps[:0:-1], taps))
