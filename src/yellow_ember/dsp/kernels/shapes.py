"""Saturation shapes at the raised rate, with aliasing held down by sub-steps and antiderivatives.

Every pair of neighbouring samples is joined by a cubic and cut into sub-steps.  Smooth
shapes are read from a table at each sub-step; shapes with corners, jumps or many turns are
averaged exactly over each sub-step (first-order antiderivative: Parker, Zavalishin and Le
Bivic, DAFx 2016; Bilbao, Esqueda, Parker and Valimaki, IEEE SPL 2017).  The sub-steps are
then weighted by a triangle two samples wide, whose zeros lie on the multiples of the raised
rate.  Sub-steps of one number lie side by side, so that loops over samples vectorise.
"""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel

TABLE, HARD, FOLD, WRAP, RECTIFY, RING, MAGNETIC = range(7)
SMALL_STEP = 1e-5
BEND_DELAY = 2
MAX_STEPS = 8
CHUNK = 64
"""Base-rate frames worked on at once, so that all sub-steps of them stay in the nearest caches."""
_TWO_PI, _OVER_TWO_PI = 2.0 * math.pi, 0.5 / math.pi


@kernel
def cosine(x: float) -> float:
    """cos x within 1e-12, as a polynomial of the half angle that vectorises."""
    r = x - _TWO_PI * np.floor(x * _OVER_TWO_PI + 0.5)
    q = 0.25 * r * r
    half = 1.0 + q * (-1.0 / 2 + q * (1.0 / 24 + q * (-1.0 / 720 + q * (1.0 / 40320 + q * (
        -1.0 / 3628800 + q * (1.0 / 479001600 + q * (-1.0 / 87178291200 + q / 20922789888000.0)))))))
    return float(2.0 * half * half - 1.0)


@kernel
def corner_shape(kind: int, x: float) -> float:
    """The shape itself, limit 1."""
    if kind == HARD:
        return min(max(x, -1.0), 1.0)
    if kind == FOLD:
        y = x + 1.0 - 4.0 * np.floor((x + 1.0) * 0.25)
        return float(1.0 - abs(y - 2.0))
    if kind == RECTIFY:
        return abs(x)
    if kind == RING:
        return cosine(x - 0.5 * math.pi)
    return float(x - 2.0 * np.floor((x + 1.0) * 0.5))


@kernel
def corner_integral(kind: int, x: float) -> float:
    """An antiderivative of `corner_shape`, periodic where the shape is."""
    if kind == HARD:
        a = abs(x)
        return 0.5 * x * x if a < 1.0 else a - 0.5
    if kind == FOLD:
        y = x + 1.0 - 4.0 * np.floor((x + 1.0) * 0.25)
        near = y - 1.0 if y < 2.0 else 3.0 - y
        part = 0.5 * near * near - 0.5
        return float(part if y < 2.0 else -part)
    if kind == RECTIFY:
        return 0.5 * x * abs(x)
    if kind == RING:
        return -cosine(x)
    y = x - 2.0 * np.floor((x + 1.0) * 0.5)
    return float(0.5 * y * y - 1.0 / 6.0)


@kernel
def corner_second(kind: int, x: float) -> float:
    """An antiderivative of `corner_integral`."""
    if kind == HARD:
        a = abs(x)
        inner, outer = x * x * x / 6.0, 0.5 * a * (a - 1.0) + 1.0 / 6.0
        return inner if a < 1.0 else (outer if x > 0.0 else -outer)
    if kind == FOLD:
        y = x + 1.0 - 4.0 * np.floor((x + 1.0) * 0.25)
        near = y - 1.0 if y < 2.0 else 3.0 - y
        return float(near * near * near / 6.0 - 0.5 * near)
    if kind == RECTIFY:
        return abs(x * x * x) / 6.0
    if kind == RING:
        return -cosine(x - 0.5 * math.pi)
    y = x - 2.0 * np.floor((x + 1.0) * 0.5)
    return float(y * (y * y - 1.0) / 6.0)


@kernel
def rounded_shape(kind: int, x: float, knee: float) -> float:
    """The shape averaged over 2 knee of its input."""
    if knee == 0.0:
        return corner_shape(kind, x)
    return (corner_integral(kind, x + knee) - corner_integral(kind, x - knee)) / (2.0 * knee)


@kernel
def read_curve(curve: Samples, places: Samples, count: int, result: Samples) -> None:
    """A tabulated shape at every place: (cells, 4) cubic coefficients over u = x / (1 + |x|) from -1 to 1.

    `places` is left as the table's; the division vectorises only in a loop of its own.
    """
    cells = curve.shape[0]
    last = cells - 1e-9
    for j in range(np.uintp(count)):
        x = places[j]
        u = (x / (1.0 + abs(x)) + 1.0) * 0.5 * cells
        places[j] = u if u < last else last
    for j in range(np.uintp(count)):
        u = places[j]
        whole = int(u)
        cell, t = np.uintp(whole), u - whole
        result[j] = curve[cell, 0] + t * (curve[cell, 1] + t * (curve[cell, 2] + t * curve[cell, 3]))


@kernel
def place_steps(samples: Samples, n: int, steps: int, offset: float, state: Samples, line: Samples,
                places: Samples) -> None:
    """Where the wave is at every sub-step: places[k n + i] is sub-step k of sample i; state (3,)."""
    for i in range(3):
        line[i] = state[i]
    for i in range(n):
        line[3 + i] = samples[i]
    first, second, third, fourth = line[0:n], line[1:n + 1], line[2:n + 2], line[3:n + 3]
    for k in range(steps):
        t = (k + 1.0) / steps
        here = places[k * n:(k + 1) * n]
        # Lagrange's cubic through four samples, as weights of each.
        wa, wb = t * (t - 1.0) * (2.0 - t) / 6.0, (t - 1.0) * (t + 1.0) * (t - 2.0) / 2.0
        wc, wd = t * (t + 1.0) * (2.0 - t) / 2.0, t * (t - 1.0) * (t + 1.0) / 6.0
        for i in range(n):
            here[i] = offset + wa * first[i] + wb * second[i] + wc * third[i] + wd * fourth[i]
    for i in range(3):
        state[i] = line[n + i]


@kernel
def integrate(kind: int, knee: float, places: Samples, count: int, values: Samples) -> None:
    """`corner_integral` of the rounded shape at every place."""
    if knee > 0.0:
        scale = 0.5 / knee
        for j in range(count):
            values[j] = scale * (corner_second(kind, places[j] + knee) - corner_second(kind, places[j] - knee))
    elif kind == HARD:
        for j in range(count):
            values[j] = corner_integral(HARD, places[j])
    elif kind == FOLD:
        for j in range(count):
            values[j] = corner_integral(FOLD, places[j])
    elif kind == RECTIFY:
        for j in range(count):
            values[j] = corner_integral(RECTIFY, places[j])
    elif kind == RING:
        for j in range(count):
            values[j] = corner_integral(RING, places[j])
    else:
        for j in range(count):
            values[j] = corner_integral(WRAP, places[j])


@kernel
def average_steps(kind: int, knee: float, places: Samples, values: Samples, n: int, steps: int, state: Samples,
                  bent: Samples) -> None:
    """The shape's mean over every sub-step; state (2,), the last place and its integral."""
    integrate(kind, knee, places, n * steps, values)
    end = (steps - 1) * n
    means(kind, knee, state[0:1], places[0:1], state[1:2], values[0:1], bent[0:1])
    means(kind, knee, places[end:end + n - 1], places[1:n], values[end:end + n - 1], values[1:n], bent[1:n])
    for k in range(1, steps):
        here, before = k * n, (k - 1) * n
        means(kind, knee, places[before:here], places[here:here + n], values[before:here], values[here:here + n],
              bent[here:here + n])
    state[0], state[1] = places[n * steps - 1], values[n * steps - 1]


@kernel
def means(kind: int, knee: float, x0: Samples, x1: Samples, f0: Samples, f1: Samples, y: Samples) -> None:
    """The shape's mean from x0 to x1 by its integral there; where they all but meet, its value between."""
    for i in range(y.size):
        step = x1[i] - x0[i]
        y[i] = (f1[i] - f0[i]) / (step if step != 0.0 else 1.0)
    for i in range(y.size):
        if abs(x1[i] - x0[i]) <= SMALL_STEP:
            y[i] = rounded_shape(kind, 0.5 * (x0[i] + x1[i]), knee)


A, ALPHA, PINNED, FREE = 0.2, 0.001, 0.5, 0.6
"""The magnetic shape's core: Jiles-Atherton's a, alpha, k and c with Ms = 1; unit slope at rest."""


@kernel
def follow_core(samples: Samples, n: int, state: Samples) -> None:
    """Magnetisation of a core by a field, in place; state (2,), field and magnetisation.

    Jiles and Atherton (1986) with a quotient of polynomials for the anhysteretic curve, as in
    `kernels.electronics`; one midpoint step a sample.
    """
    h, m = state[0], state[1]
    for i in range(n):
        dh = samples[i] - h
        x = (h + 0.5 * dh + ALPHA * m) / A
        a = abs(x)
        part = 1.0 / (22.5 + a * (10.5 + a * (4.5 + a)))
        rising = a * (7.5 + a * (3.5 + a)) * part
        slope = part * ((7.5 + a * (7.0 + 3.0 * a)) - rising * (10.5 + a * (9.0 + 3.0 * a)))
        gap = (rising if x >= 0.0 else -rising) - m
        gap = max(gap if dh >= 0.0 else -gap, 0.0)
        free = FREE / A * slope
        m += dh * ((1.0 - FREE) * gap / max(PINNED - ALPHA * gap, 1e-6) + free) / (1.0 - ALPHA * free)
        # A field that leaps from one end to the other is no reason to magnetise beyond what there is.
        m = min(max(m, -1.0), 1.0)
        h += dh
        samples[i] = m
    state[0], state[1] = h, m


@kernel
def weigh_steps(bent: Samples, n: int, steps: int, middle: float, state: Samples, samples: Samples) -> None:
    """The triangle's sum for every sample; state (1,) carries its rising half over.

    A tabulated value stands at the end of its sub-step (middle 0), an average at its middle
    (0.5): with these weights the triangle is symmetric about the sample in both cases.
    """
    scale = 1.0 / (steps * steps)
    carried = state[0]
    last = 0.0
    for k in range(steps):
        last += (k + 1.0 - middle) * bent[k * n + n - 1]
    for i in range(n):
        samples[i] = 0.0
    for k in range(steps):
        here = bent[k * n:(k + 1) * n]
        rising, falling = scale * (k + 1.0 - middle), scale * (steps - k - 1.0 + middle)
        samples[0] += falling * here[0]
        for i in range(1, n):
            samples[i] += falling * here[i] + rising * here[i - 1]
    samples[0] += scale * carried
    state[0] = last


@kernel
def bend(samples: Samples, n: int, kind: int, curve: Samples, steps: int, knee: float, offset: float, state: Samples,
         line: Samples, places: Samples, values: Samples, bent: Samples) -> None:
    """One channel at the raised rate, in place; delays by `BEND_DELAY` samples.

    Parameters
    ----------
    offset : float
        Added to the input.
    knee : float
        Half the width over which corners are rounded.
    state : Samples
        (8,).
    line : Samples
        Scratch of n + 3.
    places, values, bent : Samples
        Scratch of n steps.
    """
    place_steps(samples, n, steps, offset, state[0:3], line, places)
    if kind == TABLE:
        read_curve(curve, places, n * steps, bent)
        weigh_steps(bent, n, steps, 0.0, state[5:6], samples)
    elif kind == MAGNETIC:
        for k in range(steps):
            for i in range(n):
                values[i * steps + k] = places[k * n + i]
        follow_core(values, n * steps, state[6:8])
        for k in range(steps):
            for i in range(n):
                bent[k * n + i] = values[i * steps + k]
        weigh_steps(bent, n, steps, 0.0, state[5:6], samples)
    else:
        average_steps(kind, knee, places, values, n, steps, state[3:5], bent)
        weigh_steps(bent, n, steps, 0.5, state[5:6], samples)


@kernel
def sag(block: Samples, share: float, rise: float, fall: float, drops: Samples, state: Samples) -> None:
    """Let a supply give way under load, in place: the drive grows as the limit will shrink.

    Parameters
    ----------
    share : float
        Of the supply that a steady full level takes.
    drops : Samples
        By how much the limit is under one, (channels, frames), for `after_sag`.
    state : Samples
        (channels,), the load.
    """
    for c in range(block.shape[0]):
        load = state[c]
        for i in range(block.shape[1]):
            x = min(abs(block[c, i]), 4.0)
            load += (rise if x > load else fall) * (x - load)
            held = 1.0 / (1.0 + share * load)
            block[c, i] /= held
            drops[c, i] = 1.0 - held
        state[c] = load if load > 1e-30 else 0.0


@kernel
def after_sag(block: Samples, drops: Samples) -> None:
    """Shrink the limit by what the supply has dropped, in place."""
    for c in range(block.shape[0]):
        for i in range(block.shape[1]):
            block[c, i] *= 1.0 - drops[c, i]
