"""The saturation shapes as functions, and their tables for `dsp/kernels/shapes.py`.  Model: docs/models/drive.md."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.curves import cubic_between, cubic_cells
from yellow_ember.dsp.kernels.shapes import (
    BEND_DELAY,
    FOLD,
    HARD,
    MAGNETIC,
    MAX_STEPS,
    RECTIFY,
    RING,
    TABLE,
    WRAP,
    bend,
    corner_shape,
    follow_core,
)

CELLS = 512
CORRECTION_TAPS = 33
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
        path = np.linspace(0.0, field, 200)
        follow_core(path, path.size, np.zeros(2))
        result[index] = path[-1]
    return result.reshape(np.shape(x))


@dataclass(frozen=True, slots=True)
class Shape:
    """One saturation shape: how the kernel evaluates it, how finely it cuts each sample, whether it leaves DC."""

    id: str
    label: str
    kernel_kind: int
    steps: int
    function: Callable[[Samples], Samples]
    lopsided: bool = False

    @property
    def table(self) -> Samples:
        """Cubic coefficients (CELLS, 4) for the kernel; what is not tabulated ignores them."""
        return _table(self if self.kernel_kind == TABLE else SHAPE_BY_ID["soft"])

    def correction(self, oversample: int, steps: int | None = None) -> Samples:
        """The FIR (CORRECTION_TAPS,) at the base rate that takes back the highs which the kernel loses.

        Parameters
        ----------
        steps : int | None
            How finely it cuts each sample, the shape's own unless given.
        """
        return _droop_correction(self.kernel_kind not in (TABLE, MAGNETIC), steps or self.steps, oversample)


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
SHAPE_BY_ID = {shape.id: shape for shape in SHAPES}


@functools.cache
def _table(shape: Shape) -> Samples:
    """Cubic coefficients (CELLS, 4) over u = x / (1 + |x|) from -1 to 1, for the kernel."""
    return cubic_cells(shape.function, -1.0, 1.0, CELLS)


@functools.cache
def _droop_correction(averaged: bool, steps: int, oversample: int) -> Samples:
    """Symmetric FIR at the base rate that takes back the highs which the kernel's weighting loses.

    averaged : the shape is one that the kernel averages over sub-steps
    The loss is measured on the kernel itself, with an impulse too small to bend, and its
    inverse fitted by least squares up to 20 kHz at 48 kHz and in proportion elsewhere.
    """
    quiet = 1e-4
    frames = np.zeros(32)
    frames[8] = quiet
    scratch = np.zeros((3, 32 * MAX_STEPS))
    bend(frames, frames.size, HARD if averaged else TABLE, SHAPE_BY_ID["soft"].table, steps, 0.0, 0.0, np.zeros(8),
         np.zeros(64), *scratch)
    positions = np.linspace(0.0, _CORRECTED, 200)
    angle = 2.0 * np.pi * positions / oversample
    slope = frames.sum() / quiet
    loss = np.cos(np.outer(angle, np.arange(32) - 8 - BEND_DELAY)) @ frames / (quiet * slope)
    half = CORRECTION_TAPS // 2
    cosines = 2.0 * np.cos(2.0 * np.pi * np.outer(positions, np.arange(half + 1)))
    cosines[:, 0] = 1.0
    taps = np.linalg.lstsq(cosines, 1.0 / loss, rcond=1e-10)[0]
    return np.concatenate((taps[:0:-1], taps))
