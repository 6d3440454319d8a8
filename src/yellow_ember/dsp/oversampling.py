"""Oversampling by 1, 2, 4, 8 or 16 around a memoryless or recursive kernel.

Linear-phase half-band filters in cascade.  At a base rate of 48 kHz the pass band
reaches 20 kHz within 0.001 dB and images lie more than 100 dB down; at other rates
the band scales with the rate.  Filters: equiripple half-band, by way of a one-band design
of half the length (Vaidyanathan and Nguyen, IEEE Trans. Circuits and Systems 34, 1987).
"""

from __future__ import annotations

import functools

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels.halfband import Cascade

FACTORS = (1, 2, 4, 8, 16)
CHUNK = 256
"""Base-rate frames that a kernel works on at once, so that its buffers stay in the nearest caches."""
_PASSES = ((4, 5), (1, 5), (1, 3), (1, 3))
"""Passes of each level's filter and folded coefficients in each, from the base rate up."""
PAIRS = tuple(count * width for count, width in _PASSES)
_LONGEST = max(PAIRS)
BAND = 20.0 / 48.0
"""The pass band's edge over the base rate."""
HALF_BANDS = (
    (-1.9627982043216017e-05, 6.260114321524836e-05, -0.0001568861748944971, 0.00033682780712933813,
     -0.000651898392559541, 0.0011686240284384947, -0.0019730857366675307, 0.0031734554867277713,
     -0.004903063807159438, 0.0073252322684639395, -0.010642248259894464, 0.015113166470125242,
     -0.02108975177376727, 0.029091326902492692, -0.03996796913319704, 0.055289240902731046,
     -0.0784067843683525, 0.11807301307076645, -0.20653424746751575, 0.634708290815914),
    (0.0014279269844172783, -0.011030713564330217, 0.04627125328211126, -0.14924869481420788, 0.6125851316440081),
    (0.013397627683728897, -0.10242731221012069, 0.58903577464835),
    (0.012116221240137849, -0.09883309700525145, 0.5867169568091755))
"""Folded even-indexed coefficients, gain two, of each level's half-band filter of 4 PAIRS[level] - 1 taps.

A level's even branch is an equiripple filter of 2 PAIRS[level] taps with one band, from zero to
BAND / 2**level of its own rate (Remez exchange; tests/test_nonlinear_figures.py makes them again).
"""


@functools.cache
def cascade() -> Cascade:
    """All levels' coefficients as the kernels take them."""
    levels = [np.reshape(taps, shape).tolist() for taps, shape in zip(HALF_BANDS, _PASSES, strict=True)]
    first, second, third, fourth = (tuple(tuple(part) for part in level) for level in levels)
    return first, second, third, fourth


class Oversampling:
    """Filters, state and scratch for one stage's rise and fall of the rate.

    factor : 1, 2, 4, 8 or 16
    channels : number of channels, each with its own state
    inner_delay : samples at the raised rate that the kernel between delays by

    `latency` is in base-rate samples and whole: `pad` samples at the raised rate make it so.
    """

    def __init__(self, factor: int, channels: int, inner_delay: int = 0) -> None:
        if factor not in FACTORS:
            raise ValueError(f"oversampling must be one of {FACTORS}, not {factor}")
        self.factor = factor
        self.levels = FACTORS.index(factor)
        delay = inner_delay + sum((4 * PAIRS[level] - 2) * factor // 2 ** (level + 1)
                                  for level in range(self.levels))
        self.pad = -delay % factor
        self.latency = (delay + self.pad) // factor
        shape = (channels, len(PAIRS), 2 * _LONGEST)
        self.up_history: Samples = np.zeros(shape)
        self.down_history: Samples = np.zeros(shape)
        self.odd_history: Samples = np.zeros(shape)
        self.pad_history: Samples = np.zeros((channels, max(FACTORS)))
        self.ping: Samples = np.zeros(CHUNK * factor)
        self.pong: Samples = np.zeros(CHUNK * factor)
        self.line: Samples = np.zeros(CHUNK * factor + 2 * _LONGEST)
        self.odd_line: Samples = np.zeros(CHUNK * factor + 2 * _LONGEST)
        self.total: Samples = np.zeros(CHUNK * factor)

    def state(self) -> list[Samples]:
        """The arrays that carry over from block to block."""
        return [self.up_history, self.down_history, self.odd_history, self.pad_history]

    def buffers(self) -> tuple[int, int, Cascade, Samples, Samples, Samples, Samples, Samples, Samples, Samples,
                               Samples, Samples]:
        """What a kernel passes on to `raise_rate` and `lower_rate`."""
        return (self.levels, self.pad, cascade(), self.up_history, self.down_history, self.odd_history,
                self.pad_history, self.ping, self.pong, self.line, self.odd_line, self.total)
