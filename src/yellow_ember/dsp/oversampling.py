"""Oversampling by 1, 2, 4, 8 or 16 around a memoryless or recursive kernel.

Linear-phase half-band filters in cascade.  At a base rate of 48 kHz the pass band
reaches 20 kHz within 0.001 dB and images lie more than 100 dB down; at other rates
the band scales with the rate.  Filters: windowed sinc (Kaiser), Oppenheim and Schafer,
Discrete-Time Signal Processing, section 7.5.
"""

from __future__ import annotations

import functools

import numpy as np

from yellow_ember.dsp.arrays import Counts, Samples

FACTORS = (1, 2, 4, 8, 16)
CHUNK = 256
"""Base-rate frames that a kernel works on at once, so that its buffers stay in the nearest caches."""
PAIRS = (24, 8, 8, 8)
"""Folded coefficients of each level's filter, from the base rate up."""
_ATTENUATION = (106.0, 106.0, 112.0, 112.0)
_LONGEST = max(PAIRS)


@functools.cache
def half_band(level: int) -> Samples:
    """Folded even-indexed coefficients, gain two, of a level's half-band filter of 4 PAIRS[level] - 1 taps."""
    pairs = PAIRS[level]
    centre = 2 * pairs - 1
    offset = np.arange(-centre, centre + 1)
    beta = 0.1102 * (_ATTENUATION[level] - 8.7)
    response = np.sinc(offset / 2.0) * np.kaiser(2 * centre + 1, beta)
    even = response[::2]
    return np.asarray(even[:pairs] / even.sum())


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
        self.taps: Samples = np.zeros((len(PAIRS), _LONGEST))
        for level, pairs in enumerate(PAIRS):
            self.taps[level, :pairs] = half_band(level)
        self.pairs: Counts = np.array(PAIRS, dtype=np.int64)
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

    def buffers(self) -> tuple[int, int, Samples, Counts, Samples, Samples, Samples, Samples,
                               Samples, Samples, Samples, Samples, Samples]:
        """What a kernel passes on to `raise_rate` and `lower_rate`."""
        return (self.levels, self.pad, self.taps, self.pairs, self.up_history, self.down_history,
                self.odd_history, self.pad_history, self.ping, self.pong, self.line, self.odd_line,
                self.total)
