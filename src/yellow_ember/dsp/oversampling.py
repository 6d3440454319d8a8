"""Oversampling by 1, 2, 4, 8 or 16 around a memoryless or recursive kernel.

Linear-phase half-band filters in cascade.  At a base rate of 48 kHz the pass band
reaches 20 kHz within 0.001 dB and images lie more than 100 dB down; at other rates
the band scales with the rate.  Filters: equiripple half-band, by way of a one-band design
of half the length (Vaidyanathan and Nguyen, IEEE Trans. Circuits and Systems 34, 1987).
"""

from __future__ import annotations

import functools

import numpy as np
from scipy.signal import remez

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels.halfband import Cascade

FACTORS = (1, 2, 4, 8, 16)
CHUNK = 256
"""Base-rate frames that a kernel works on at once, so that its buffers stay in the nearest caches."""
_PASSES = ((4, 5), (1, 5), (1, 3), (1, 3))
"""Passes of each level's filter and folded coefficients in each, from the base rate up."""
_BAND = 20.0 / 48.0
"""The pass band's edge over the base rate."""
PAIRS = tuple(count * width for count, width in _PASSES)
_LONGEST = max(PAIRS)


@functools.cache
def half_band(level: int) -> Samples:
    """Folded even-indexed coefficients, gain two, of a level's half-band filter of 4 PAIRS[level] - 1 taps.

    Its even branch is an equiripple all-pass of even length in the filter's pass band, at half the rate.
    """
    pairs = PAIRS[level]
    even = remez(2 * pairs, [0.0, _BAND / 2.0**level], [1.0], fs=1.0)
    return np.asarray(even[:pairs])


@functools.cache
def cascade() -> Cascade:
    """All levels' coefficients as the kernels take them."""
    levels = [half_band(level).reshape(shape).tolist() for level, shape in enumerate(_PASSES)]
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
