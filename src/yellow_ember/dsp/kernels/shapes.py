"""Saturation shapes at the raised rate, with aliasing held down by sub-steps and antiderivatives.

Every pair of neighbouring samples is joined by a cubic and cut into sub-steps.  Smooth
shapes are read from a table at each sub-step; shapes with corners or jumps are averaged
exactly over each sub-step (first-order antiderivative: Parker, Zavalishin and Le Bivic,
DAFx 2016; Bilbao, Esqueda, Parker and Valimaki, IEEE SPL 2017).  The sub-steps are then
weighted by a triangle two samples wide, whose zeros lie on the multiples of the raised rate.
"""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.halfband import Cascade, delay_short, lower_rate, raise_rate

TABLE, HARD, FOLD, WRAP = 0, 1, 2, 3
SMALL_STEP = 1e-5
BEND_DELAY = 2


@kernel
def corner_shape(kind: int, x: float) -> float:
    """The shape itself, limit 1."""
    if kind == HARD:
        return min(max(x, -1.0), 1.0)
    if kind == FOLD:
        y = x + 1.0 - 4.0 * np.floor((x + 1.0) * 0.25)
        return float(y - 1.0 if y < 2.0 else 3.0 - y)
    return float(x - 2.0 * np.floor((x + 1.0) * 0.5))


@kernel
def corner_integral(kind: int, x: float) -> float:
    """An antiderivative of `corner_shape`."""
    if kind == HARD:
        a = abs(x)
        return 0.5 * x * x if a < 1.0 else a - 0.5
    if kind == FOLD:
        y = x + 1.0 - 4.0 * np.floor((x + 1.0) * 0.25)
        return float(0.5 * (y - 1.0) * (y - 1.0) if y < 2.0 else 1.0 - 0.5 * (3.0 - y) * (3.0 - y))
    y = x - 2.0 * np.floor((x + 1.0) * 0.5)
    return float(0.5 * y * y)


@kernel
def read_curve(curve: Samples, x: float) -> float:
    """A tabulated shape: (cells, 4) cubic coefficients over u = x / (1 + |x|) from -1 to 1."""
    cells = curve.shape[0]
    u = (x / (1.0 + abs(x)) + 1.0) * 0.5 * cells
    cell = min(int(u), cells - 1)
    t = u - cell
    return float(curve[cell, 0] + t * (curve[cell, 1] + t * (curve[cell, 2] + t * curve[cell, 3])))


@kernel
def bend(samples: Samples, n: int, kind: int, curve: Samples, steps: int, state: Samples,
         line: Samples) -> None:
    """One channel at the raised rate, in place; delays by `BEND_DELAY` samples.

    state : the last three inputs, the last sub-step's position, integral and the rising
    half of the triangle's sum.
    """
    for i in range(3):
        line[i] = state[i]
    for i in range(n):
        line[3 + i] = samples[i]
    x0, f0, carried = state[3], state[4], state[5]
    scale = 1.0 / (steps * steps)
    # A tabulated value stands at the end of its sub-step, an average at its middle: with
    # these weights the triangle is symmetric about sample b in both cases.
    middle = 0.0 if kind == TABLE else 0.5
    for i in range(n):
        a, b, c, d = line[i], line[i + 1], line[i + 2], line[i + 3]
        c1 = -a / 3.0 - 0.5 * b + c - d / 6.0
        c2 = 0.5 * (a + c) - b
        c3 = (d - a) / 6.0 + 0.5 * (b - c)
        rising, falling = 0.0, 0.0
        for k in range(1, steps + 1):
            t = k / steps
            x1 = c if k == steps else b + t * (c1 + t * (c2 + t * c3))
            if kind == TABLE:
                y = read_curve(curve, x1)
            else:
                f1 = corner_integral(kind, x1)
                step = x1 - x0
                y = (f1 - f0) / step if abs(step) > SMALL_STEP else corner_shape(kind, 0.5 * (x0 + x1))
                x0, f0 = x1, f1
            rising += (k - middle) * y
            falling += (steps - k + middle) * y
        samples[i] = scale * (carried + falling)
        carried = rising
    for i in range(3):
        state[i] = line[n + i]
    state[3], state[4], state[5] = x0, f0, carried


@kernel
def drive(block: Samples, kind: int, curve: Samples, steps: int, bend_state: Samples,
          chunk: int, levels: int, pad: int, passes: Cascade, up: Samples, down: Samples,
          odd: Samples, pads: Samples, ping: Samples, pong: Samples, line: Samples, odd_line: Samples,
          total: Samples) -> None:
    """A saturation shape at the raised rate over a whole block, in place."""
    frames = block.shape[1]
    for c in range(block.shape[0]):
        row = block[c]
        for start in range(0, frames, chunk):
            n = min(chunk, frames - start)
            fast = n << levels
            part = row[start:start + n]
            high = raise_rate(part, n, levels, passes, up[c], ping, pong, line, total)
            other = pong if levels % 2 == 0 else ping
            bend(high, fast, kind, curve, steps, bend_state[c], line)
            delay_short(high, fast, pads[c], pad, line)
            lower_rate(high, other, n, levels, passes, down[c], odd[c], line, odd_line, part)
