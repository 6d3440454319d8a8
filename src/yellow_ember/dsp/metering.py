"""Meters that run beside the signal: VU, peak, true peak, short-term loudness.

VU: IEC 60268-17, 99 % of a steady reading in 300 ms, 1 to 1.5 % overshoot, rectified average.
True peak and loudness: ITU-R BS.1770-5.
"""

from __future__ import annotations

import functools
import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import Section
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.meters import needle, power, true_peak

VU_SPEED = 13.51
"""Natural frequency of the needle in rad/s: reaches 99 % in 300 ms with VU_DAMPING."""
VU_DAMPING = 0.81
_RECTIFIED_SINE = math.pi / 2.0
"""A sine's peak over the average of its magnitude."""


class LevelMeter:
    """VU deflection (as the peak of a sine that would cause it) and block peak, per channel."""

    def __init__(self, rate: float, channels: int) -> None:
        self._speed = VU_SPEED / rate
        self._state: Samples = np.zeros((channels, 2))
        self.peak: Samples = np.zeros(channels)

    def process(self, block: Samples) -> None:
        """Take a block (channels, frames) in; it is not changed."""
        needle(block, self._speed, 2.0 * VU_DAMPING, self._state, self.peak)

    @property
    def vu(self) -> Samples:
        """(channels,) amplitude; a steady sine of peak a reads a."""
        return self._state[:, 0] * _RECTIFIED_SINE

    def reset(self) -> None:
        self._state.fill(0.0)
        self.peak.fill(0.0)


@functools.cache
def true_peak_phases() -> Samples:
    """Four phases of 12 taps each of a windowed-sinc interpolator by four."""
    taps, count = 12, 4
    centre = taps * count / 2.0
    n = np.arange(taps * count)
    impulse = np.sinc((n - centre) / count) * np.kaiser(taps * count + 1, 6.0)[:-1]
    phases = np.stack([impulse[p::count] for p in range(count)])
    return np.ascontiguousarray(phases / phases.sum(axis=1, keepdims=True))


def k_weighting(rate: float) -> tuple[Section, Section]:
    """BS.1770-5 pre-filter and RLB high-pass for any rate, from their analogue prototypes."""
    k = math.tan(math.pi * 1681.974450955533 / rate)
    q, high = 0.7071752369554196, 10.0 ** (3.999843853973347 / 20.0)
    band = high**0.4996667741545416
    a0 = 1.0 + k / q + k * k
    shelf = ((high + band * k / q + k * k) / a0, 2.0 * (k * k - high) / a0, (high - band * k / q + k * k) / a0,
             2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0)
    k = math.tan(math.pi * 38.13547087602444 / rate)
    q = 0.5003270373238773
    a0 = 1.0 + k / q + k * k
    return shelf, (1.0, -2.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0)


SHORT_TERM_SECONDS = 3.0
_HOP_SECONDS = 0.1


class LoudnessMeter:
    """Short-term loudness (LUFS over 3 s, renewed every 0.1 s) and true peak since the last reading."""

    def __init__(self, rate: float, channels: int, longest: int = 8192) -> None:
        self._sections: Samples = np.array(k_weighting(rate))
        self._state: Samples = np.zeros((channels, 2, 2))
        self._weighted: Samples = np.zeros(channels * longest)
        self._phases = true_peak_phases()
        held = self._phases.shape[1] - 1
        self._history: Samples = np.zeros((channels, held))
        self._line: Samples = np.zeros(held + longest)
        self._between: Samples = np.zeros(longest)
        self.true_peak: Samples = np.zeros(channels)
        self._hop = round(rate * _HOP_SECONDS)
        self._hops: Samples = np.zeros(round(SHORT_TERM_SECONDS / _HOP_SECONDS))
        self._at = self._filled = 0
        self._sum = 0.0
        self.short_term = -math.inf

    def process(self, block: Samples) -> None:
        """Take a block (channels, frames) in; it is not changed."""
        true_peak(block, self._phases, self._history, self._line, self._between, self.true_peak)
        weighted = self._weighted[: block.size].reshape(block.shape)
        weighted[...] = block
        biquads(weighted, self._sections, self._state)
        # Hops end on block edges: the window is as long as the blocks that fill it say.
        self._sum += power(weighted)
        self._filled += block.shape[1]
        if self._filled >= self._hop:
            self._hops[self._at] = self._sum / self._filled
            self._at = (self._at + 1) % self._hops.size
            mean = float(self._hops.mean())
            self.short_term = -0.691 + 10.0 * math.log10(mean) if mean > 1e-12 else -math.inf
            self._sum, self._filled = 0.0, 0

    def reset(self) -> None:
        self._state.fill(0.0)
        self._history.fill(0.0)
        self._hops.fill(0.0)
        self._sum, self._filled, self.short_term = 0.0, 0, -math.inf
