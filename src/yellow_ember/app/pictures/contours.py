"""Lines of equal value over a grid (marching squares)."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples

Line = tuple[float, float, float, float]
"""x and y of both ends, each 0 to 1 over the grid."""


def contour(grid: Samples, level: float) -> list[Line]:
    """The pieces of the line at which a grid (rows, columns) has a value; cells with nan are left out."""
    rows, columns = grid.shape
    lines: list[Line] = []
    for row in range(rows - 1):
        for column in range(columns - 1):
            corners = ((row, column), (row, column + 1), (row + 1, column + 1), (row + 1, column))
            values = [float(grid[at]) for at in corners]
            if not np.all(np.isfinite(values)):
                continue
            crossings = []
            for side in range(4):
                first, second = values[side], values[(side + 1) % 4]
                if (first < level) != (second < level):
                    share = (level - first) / (second - first)
                    (r0, c0), (r1, c1) = corners[side], corners[(side + 1) % 4]
                    crossings.append(((c0 + share * (c1 - c0)) / (columns - 1), (r0 + share * (r1 - r0)) / (rows - 1)))
            for start, end in zip(crossings[::2], crossings[1::2], strict=False):
                lines.append((*start, *end))
    return lines


def bilinear(grid: Samples, x: float, y: float) -> float:
    """The value of a grid (rows, columns) at a place, x and y 0 to 1."""
    rows, columns = grid.shape
    column, row = min(max(x, 0.0), 1.0) * (columns - 1), min(max(y, 0.0), 1.0) * (rows - 1)
    c, r = min(int(column), columns - 2), min(int(row), rows - 2)
    u, v = column - c, row - r
    return float((1 - v) * ((1 - u) * grid[r, c] + u * grid[r, c + 1])
                 + v * ((1 - u) * grid[r + 1, c] + u * grid[r + 1, c + 1]))
