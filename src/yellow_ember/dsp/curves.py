"""Curves as tables of cubic pieces, for kernels that look them up, and smooth reading of tables."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from yellow_ember.dsp.arrays import Samples

_STEP = 1e-5


def cubic_between(table: Samples, position: Samples | float) -> Samples:
    """Catmull-Rom interpolation along the first axis at fractional positions; the ends are held."""
    last = table.shape[0] - 1
    cell = np.clip(np.floor(position).astype(int), 0, last - 1)
    t = np.asarray(position) - cell
    t = t.reshape(t.shape + (1,) * (table.ndim - 1))
    a, b, c, d = (table[np.clip(cell + k, 0, last)] for k in (-1, 0, 1, 2))
    return np.asarray(b + 0.5 * t * (c - a + t * (2 * a - 5 * b + 4 * c - d + t * (3 * (b - c) + d - a))))


def even_cells(at: Callable[[Samples], Samples], low: float, high: float, cells: int) -> Samples:
    """Coefficients (cells, 4) of cubic pieces over even steps, with the function's values and slopes at their ends."""
    x = np.linspace(low, high, cells + 1)
    reach = _STEP * (high - low) / 2.0
    above, below = np.minimum(x + reach, high), np.maximum(x - reach, low)
    slope = (at(above) - at(below)) / (above - below) * (high - low) / cells
    y = at(x)
    rise = np.diff(y)
    return np.ascontiguousarray(np.stack(
        [y[:-1], slope[:-1], 3 * rise - 2 * slope[:-1] - slope[1:], slope[:-1] + slope[1:] - 2 * rise], axis=1))


def with_sums(table: Samples, low: float, high: float) -> Samples:
    """A table (cells, 4) of `even_cells` with a fifth column: its sum from zero to each cell's beginning, in cells."""
    each = table @ np.array([1.0, 1.0 / 2.0, 1.0 / 3.0, 1.0 / 4.0])
    sums = np.concatenate(([0.0], np.cumsum(each)))
    place = -low / (high - low) * table.shape[0]
    cell = min(int(place), table.shape[0] - 1)
    t = place - cell
    zero = sums[cell] + table[cell] @ np.array([t, t**2 / 2.0, t**3 / 3.0, t**4 / 4.0])
    return np.ascontiguousarray(np.column_stack((table, sums[:-1] - zero)))


def cubic_cells(function: Callable[[Samples], Samples], low: float, high: float, cells: int) -> Samples:
    """`even_cells` over u = x / (1 + |x|) from low to high, for a function of x; at -1 and 1 x is infinite."""

    def at(index: Samples) -> Samples:
        inside = np.clip(index, max(low, -1.0 + 1e-9), min(high, 1.0 - 1e-9))
        return function(inside / (1.0 - np.abs(inside)))

    return even_cells(at, low, high, cells)
