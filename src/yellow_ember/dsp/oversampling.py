"""Oversampling by 1, 2, 4, 8 or 16 around a memoryless or recursive kernel.

Linear-phase half-band filters in cascade.  At a base rate of 48 kHz the pass band
reaches 20 kHz within 0.001 dB and images lie more than 115 dB down; at other rates
the band scales with the rate.  Filters: equiripple half-band, by way of a one-band design
of half the length (Vaidyanathan and Nguyen, IEEE Trans. Circuits and Systems 34, 1987).
"""

from __future__ import annotations

import numpy as np

from yellow_ember.choices import FACTORS
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.halfband import Cascade, delay_short, lower_rate, raise_rate
from yellow_ember.dsp.record import Record, cube, matrix, scratch, state, vector, whole

CHUNK = 256
"""Base-rate frames that a kernel works on at once, so that its buffers stay in the nearest caches."""
_PASSES = ((2, 11), (1, 6), (1, 4), (1, 3))
"""Passes of each level's filter and folded coefficients in each, from the base rate up."""
PAIRS = tuple(count * width for count, width in _PASSES)
UP_HELD = 2 * max(PAIRS)
"""Samples that each level's filter remembers."""
BAND = 20.0 / 48.0
"""The pass band's edge over the base rate."""
HALF_BANDS = (
    (-7.440098377848018e-06, 2.569232834455128e-05, -6.773669258806739e-05, 0.0001516627130839608,
     -0.0003045031530831941, 0.0005641674115323866, -0.0009815641653478364, 0.0016226426471800033,
     -0.0025704109086147975, 0.003927189274813662, -0.0058177149482979175, 0.008394359029667151,
     -0.011846837673000227, 0.016421046290377245, -0.022456305997129583, 0.030461502883956257,
     -0.041279602608640845, 0.056477367532528855, -0.07940860234830868, 0.11883299317509755, -0.207008819355064,
     0.6348696634219679),
    (-0.00039969240381613233, 0.0035495505891355843, -0.016595647676702893, 0.05525799914365913,
     -0.15822475610059714, 0.6164120271551423),
    (-0.002945664903630672, 0.026311866127209923, -0.12377291193800845, 0.600406564603708),
    (0.012116221240137849, -0.09883309700525145, 0.5867169568091755))
"""Folded even-indexed coefficients, gain two, of each level's half-band filter of 4 PAIRS[level] - 1 taps.

A level's even branch is an equiripple filter of 2 PAIRS[level] taps with one band, from zero to
BAND / 2**level of its own rate (Remez exchange; tests/test_nonlinear_figures.py makes them again).
"""


def _cascade() -> Cascade:
    levels = [np.reshape(taps, shape).tolist() for taps, shape in zip(HALF_BANDS, _PASSES, strict=True)]
    first, second, third, fourth = (tuple(tuple(part) for part in level) for level in levels)
    return first, second, third, fourth


CASCADE = _cascade()
"""All levels' coefficients as the kernels take them."""


class OversamplingRecord(Record):
    """Filters' memory and scratch for one stage's rise and fall of the rate.  Sizes: `oversampling_sizes`."""

    levels: int = whole()
    pad: int = whole()
    up: Samples = state("channels", len(PAIRS), UP_HELD)
    down: Samples = state("channels", len(PAIRS), UP_HELD)
    odd: Samples = state("channels", len(PAIRS), UP_HELD)
    pads: Samples = state("channels", max(FACTORS))
    ping: Samples = scratch("raised")
    pong: Samples = scratch("raised")
    total: Samples = scratch("raised")
    line: Samples = scratch("raised_line")
    odd_line: Samples = scratch("raised_line")


@kernel
def rise(fast: OversamplingRecord, memory: Samples, samples: Samples) -> Samples:
    """Raise the rate of a channel's samples (n,), CHUNK at most; what comes back is scratch of the record.

    Parameters
    ----------
    memory : Samples
        Of the filters, a channel of `fast.up` or of another array of its kind.
    """
    return raise_rate(samples, samples.shape[0], fast.levels, CASCADE, memory, vector(fast.ping), vector(fast.pong),
                      vector(fast.line), vector(fast.total))


@kernel
def beside(fast: OversamplingRecord) -> Samples:
    """Scratch of the record that is as long as what `rise` gives, and not in use by it."""
    ping: Samples = vector(fast.ping)
    pong: Samples = vector(fast.pong)
    return pong if fast.levels % 2 == 0 else ping


@kernel
def fall(fast: OversamplingRecord, channel: int, high: Samples, samples: Samples) -> None:
    """Bring samples at the raised rate back down to a channel's (n,); `high` is scratch after that."""
    n, line = samples.shape[0], vector(fast.line)
    delay_short(high, n << fast.levels, matrix(fast.pads)[channel], fast.pad, line)
    lower_rate(high, beside(fast), n, fast.levels, CASCADE, cube(fast.down)[channel], cube(fast.odd)[channel], line,
               vector(fast.odd_line), samples)


def oversampling_sizes(factor: int) -> dict[str, int]:
    """Sizes in a record with an `OversamplingRecord` in it; factor : 1, 2, 4, 8 or 16"""
    return {"raised": CHUNK * factor, "raised_line": CHUNK * factor + UP_HELD}


def set_oversampling(record: OversamplingRecord, factor: int, inner_delay: int = 0) -> int:
    """Set a record up and return the latency in base-rate frames.

    The latency is whole: `pad` samples at the raised rate make it so.

    Parameters
    ----------
    inner_delay : int
        Samples at the raised rate that the kernel between delays by.
    """
    record.levels, record.pad, latency = _oversampling(factor, inner_delay)
    return latency


def oversampling_latency(factor: int, inner_delay: int = 0) -> int:
    """Return what `set_oversampling` will."""
    return _oversampling(factor, inner_delay)[2]


def _oversampling(factor: int, inner_delay: int) -> tuple[int, int, int]:
    """Levels, samples at the raised rate to pad by, and frames of latency."""
    if factor not in FACTORS:
        raise ValueError(f"oversampling must be one of {FACTORS}, not {factor}")
    levels = FACTORS.index(factor)
    delay = inner_delay + sum((4 * PAIRS[level] - 2) * factor // 2 ** (level + 1) for level in range(levels))
    pad = -delay % factor
    return levels, pad, (delay + pad) // factor
