"""Meters that run beside the signal: VU, peak programme, true peak, loudness.

VU: IEC 60268-17, 99 % of a steady reading in 300 ms, 1 to 1.5 % overshoot, rectified average.
Peak programme: IEC 60268-10, type I.  True peak and loudness: ITU-R BS.1770-5, EBU R 128.
"""

from __future__ import annotations

import functools
import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import Section
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.meters import needle, power, quasi_peak, true_peak

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


_RISE_SECONDS = 0.0016
_FALL_DB, _FALL_SECONDS = 20.0, 1.5
_CHARGE_LOST = 10.0 ** (0.16 / 20.0)
"""A steady sine charges the meter to a little less than its peak."""


class PeakProgrammeMeter:
    """Quasi-peak of each channel, as the amplitude of a steady sine that would read so.

    Tone bursts of 10, 5, 3 and 0.4 ms read 1, 2, 4 and 15 dB less than a steady tone; it falls 20 dB in 1.5 s.
    """

    def __init__(self, rate: float, channels: int) -> None:
        self._rise = 1.0 - math.exp(-1.0 / (_RISE_SECONDS * rate))
        self._fall = 10.0 ** (-_FALL_DB / 20.0 / (_FALL_SECONDS * rate))
        self._state: Samples = np.zeros(channels)

    def process(self, block: Samples) -> None:
        """Take a block (channels, frames) in; it is not changed."""
        quasi_peak(block, self._rise, self._fall, self._state)

    @property
    def reading(self) -> Samples:
        """(channels,) amplitude."""
        return self._state * _CHARGE_LOST


_HOP_SECONDS = 0.01
_MOMENTARY_HOPS, _SHORT_TERM_HOPS = 40, 300
"""400 ms and 3 s."""
_GATE_HOPS, _GATE_STEPS = 10, 4
"""Hops between gating blocks, and blocks' lengths in those."""
_LONGEST_HOURS = 6.0
_LOUD_ENOUGH = 1e-15


class LoudnessMeter:
    """Momentary, short-term and integrated loudness in LUFS, and true peak: of the last block, and the highest yet.

    longest : frames of the longest block that will come
    """

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
        self.highest: Samples = np.zeros(channels)
        self._hop = round(rate * _HOP_SECONDS)
        self._hops: Samples = np.zeros(_SHORT_TERM_HOPS)
        self._gates: Samples = np.zeros(round(_LONGEST_HOURS * 3600.0 / (_HOP_SECONDS * _GATE_HOPS)))
        self._count = self._filled = 0
        self._sum = self._gate_sum = 0.0

    def process(self, block: Samples) -> None:
        """Take a block (channels, frames) in; it is not changed."""
        true_peak(block, self._phases, self._history, self._line, self._between, self.true_peak)
        np.maximum(self.highest, self.true_peak, out=self.highest)
        weighted = self._weighted[: block.size].reshape(block.shape)
        weighted[...] = block
        biquads(weighted, self._sections, self._state)
        at, frames = 0, block.shape[1]
        while at < frames:
            stop = min(frames, at + self._hop - self._filled)
            self._sum += power(weighted, at, stop)
            self._filled += stop - at
            at = stop
            if self._filled == self._hop:
                self._hops[self._count % self._hops.size] = self._sum / self._hop
                self._gate_sum += self._sum / self._hop
                self._count += 1
                self._sum, self._filled = 0.0, 0
                if self._count % _GATE_HOPS == 0:
                    self._gates[(self._count // _GATE_HOPS - 1) % self._gates.size] = self._gate_sum / _GATE_HOPS
                    self._gate_sum = 0.0

    def _over(self, hops: int) -> float:
        """Loudness of the last so many hundredths of a second."""
        if self._count < hops:
            return -math.inf
        places = np.arange(self._count - hops, self._count) % self._hops.size
        return lufs(float(self._hops[places].mean()))

    @property
    def momentary(self) -> float:
        return self._over(_MOMENTARY_HOPS)

    @property
    def short_term(self) -> float:
        return self._over(_SHORT_TERM_HOPS)

    @property
    def integrated(self) -> float:
        """Gated, over all since the start (six hours at most)."""
        return gated(moving_mean(self._gates[:min(self._count // _GATE_HOPS, self._gates.size)], _GATE_STEPS))

    def reset(self) -> None:
        self._gates[:self._count // _GATE_HOPS] = 0.0
        for array in (self._state, self._history, self._hops, self.highest, self.true_peak):
            array.fill(0.0)
        self._sum = self._gate_sum = 0.0
        self._filled = self._count = 0


def lufs(power: float) -> float:
    """Loudness of a K-weighted mean square summed over channels."""
    return -0.691 + 10.0 * math.log10(power) if power > _LOUD_ENOUGH else -math.inf


def moving_mean(values: Samples, width: int) -> Samples:
    """Means of all runs of so many values."""
    if values.size < width:
        return np.zeros(0)
    sums = np.cumsum(np.concatenate(([0.0], values)))
    return np.asarray((sums[width:] - sums[:-width]) / width)


_ABSOLUTE_GATE = -70.0


def gated(blocks: Samples) -> float:
    """Integrated loudness of gating blocks' powers: absolute gate, then 10 LU below what is left."""
    loud = blocks[blocks > 10.0 ** ((_ABSOLUTE_GATE + 0.691) / 10.0)]
    if loud.size == 0:
        return -math.inf
    relative = loud[loud > 0.1 * float(loud.mean())]
    return lufs(float(relative.mean()))
