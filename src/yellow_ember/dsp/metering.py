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
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.meters import power, quasi_peak, true_peaks
from yellow_ember.dsp.kernels.mixing import put
from yellow_ember.dsp.record import (
    Record,
    block_of,
    cube,
    matrix,
    real,
    record_at,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
)

_NEEDLE_SPEED = 13.51
"""Natural frequency of the needle in rad/s: with its damping it reaches 99 % in 300 ms."""
_RECTIFIED_SINE = math.pi / 2.0
"""A sine's peak over the average of its magnitude."""


def vu_amplitude(needles: Samples) -> Samples:
    """Deflections (..., 2) of needles as the amplitudes of sines that would cause them."""
    return np.asarray(needles[..., 0] * _RECTIFIED_SINE)


def needle_speed(rate: float) -> float:
    """The natural frequency of a needle in rad a frame."""
    return _NEEDLE_SPEED / rate


@functools.cache
def true_peak_phases() -> Samples:
    """Four phases of 48 taps each of a windowed-sinc interpolator by four, flat to 0.46 of the rate."""
    taps, count = 48, 4
    centre = taps * count / 2.0
    n = np.arange(taps * count)
    impulse = np.sinc((n - centre) / count) * np.kaiser(taps * count + 1, 7.0)[:-1]
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


class ProgrammeRecord(Record):
    """A peak programme meter; rise and fall a frame, as `kernels.meters.quasi_peak` takes them."""

    rise: float = real()
    fall: float = real()
    charge: Samples = state("channels")


@kernel
def meter_programme(meter: ProgrammeRecord, block: Samples) -> None:
    """Take a block (channels, frames) in; it is not changed."""
    quasi_peak(block, meter.rise, meter.fall, vector(meter.charge))


class PeakProgrammeMeter:
    """Quasi-peak of each channel, as the amplitude of a steady sine that would read so.

    Tone bursts of 10, 5, 3 and 0.4 ms read 1, 2, 4 and 15 dB less than a steady tone; it falls 20 dB in 1.5 s.
    """

    def __init__(self, rate: float, channels: int) -> None:
        self.record = ProgrammeRecord.make(channels=channels)
        self.record.rise = 1.0 - math.exp(-1.0 / (_RISE_SECONDS * rate))
        self.record.fall = 10.0 ** (-_FALL_DB / 20.0 / (_FALL_SECONDS * rate))

    def process(self, block: Samples) -> None:
        """Take a block (channels, frames) in; it is not changed."""
        _programme_at(self.record.address, block)

    @property
    def reading(self) -> Samples:
        """(channels,) amplitude."""
        return np.asarray(self.record.charge * _CHARGE_LOST)


_HOP_SECONDS = 0.01
_MOMENTARY_HOPS, _SHORT_TERM_HOPS = 40, 300
"""400 ms and 3 s."""
_GATE_HOPS, _GATE_STEPS = 10, 4
"""Hops between gating blocks, and blocks' lengths in those."""
_LONGEST_HOURS = 6.0
_LOUD_ENOUGH = 1e-15


class LoudnessRecord(Record):
    """A loudness meter.

    Attributes
    ----------
    hop : int
        Frames of a hundredth of a second.
    filled : int
        Of the present one.
    count : int
        How many there were.
    power, gate_power : float
        Of the present hop, and of the hops since the last gating block's tenth.
    hops : Samples
        Mean squares of the last three seconds.
    gates : Samples
        Of all tenths of a second.
    highest : Samples
        The highest true peak since the start.
    true_peak : Samples
        The last block's.
    """

    hop: int = whole()
    filled: int = whole()
    count: int = whole()
    power: float = real()
    gate_power: float = real()
    phases: Samples = shared(2)
    sections: Samples = setting(2, 5)
    weighting: Samples = state("channels", 2, 2)
    history: Samples = state("channels", "held")
    last: Samples = state("channels", 2)
    true_peak: Samples = state("channels")
    highest: Samples = state("channels")
    hops: Samples = state("hops")
    gates: Samples = setting("gates")
    weighted: Samples = scratch("samples")
    line: Samples = scratch("line")
    fine: Samples = scratch("fine")
    peaks: Samples = scratch("samples")


@kernel
def _end_hop(meter: LoudnessRecord) -> None:
    hops, gates = vector(meter.hops), vector(meter.gates)
    hops[meter.count % hops.shape[0]] = meter.power / meter.hop
    meter.gate_power += meter.power / meter.hop
    meter.count += 1
    meter.power, meter.filled = 0.0, 0
    if meter.count % _GATE_HOPS == 0:
        gates[(meter.count // _GATE_HOPS - 1) % gates.shape[0]] = meter.gate_power / _GATE_HOPS
        meter.gate_power = 0.0


@kernel
def meter_loudness(meter: LoudnessRecord, block: Samples) -> None:
    """Take a block (channels, frames) in; it is not changed."""
    channels, frames = block.shape
    latest, highest = vector(meter.true_peak), vector(meter.highest)
    peaks = block_of(meter.peaks, channels, frames)
    true_peaks(block, matrix(meter.phases), matrix(meter.history), matrix(meter.last), vector(meter.line),
               vector(meter.fine), peaks)
    for c in range(channels):
        latest[c] = 0.0
        for i in range(frames):
            latest[c] = max(latest[c], peaks[c, i])
        highest[c] = max(highest[c], latest[c])
    weighted = block_of(meter.weighted, channels, frames)
    put(weighted, block)
    biquads(weighted, matrix(meter.sections), cube(meter.weighting))
    at = 0
    while at < frames:
        stop = min(frames, at + meter.hop - meter.filled)
        meter.power += power(weighted, at, stop)
        meter.filled += stop - at
        at = stop
        if meter.filled == meter.hop:
            _end_hop(meter)


class LoudnessMeter:
    """Momentary, short-term and integrated loudness in LUFS, and true peak: of the last block, and the highest yet.

    Parameters
    ----------
    longest : int
        Frames of the longest block that will come.
    """

    def __init__(self, rate: float, channels: int, longest: int = 8192) -> None:
        phases = true_peak_phases()
        held = phases.shape[1] - 1
        record = self.record = LoudnessRecord.make(
            channels=channels, held=held, hops=_SHORT_TERM_HOPS, frames=longest, line=held + longest,
            samples=channels * longest, fine=phases.shape[0] * longest + 2,
            gates=round(_LONGEST_HOURS * 3600.0 / (_HOP_SECONDS * _GATE_HOPS)))
        record.sections, record.phases = np.array(k_weighting(rate)), phases
        record.hop = round(rate * _HOP_SECONDS)

    def process(self, block: Samples) -> None:
        """Take a block (channels, frames) in; it is not changed."""
        _loudness_at(self.record.address, block)

    @property
    def true_peak(self) -> Samples:
        """(channels,) amplitude, of the last block."""
        return np.asarray(self.record.true_peak)

    @property
    def highest(self) -> Samples:
        """(channels,) the highest true peak since the start."""
        return np.asarray(self.record.highest)

    def _over(self, hops: int) -> float:
        """Loudness of the last so many hundredths of a second."""
        count = self.record.count
        if count < hops:
            return -math.inf
        places = np.arange(count - hops, count) % _SHORT_TERM_HOPS
        return lufs(float(self.record.hops[places].mean()))

    @property
    def momentary(self) -> float:
        return self._over(_MOMENTARY_HOPS)

    @property
    def short_term(self) -> float:
        return self._over(_SHORT_TERM_HOPS)

    @property
    def integrated(self) -> float:
        """Gated, over all since the start (six hours at most)."""
        gates = self.record.gates
        return gated(moving_mean(gates[:min(self.record.count // _GATE_HOPS, gates.size)], _GATE_STEPS))

    def reset(self) -> None:
        """Forget what was metered."""
        record = self.record
        record.gates[:record.count // _GATE_HOPS] = 0.0
        record.carried.fill(0.0)
        record.power = record.gate_power = 0.0
        record.filled = record.count = 0


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


_PROGRAMME, _LOUDNESS = ProgrammeRecord.dtype, LoudnessRecord.dtype


@kernel
def _programme_at(address: int, block: Samples) -> None:
    meter_programme(record_at(address, _PROGRAMME), block)


@kernel
def _loudness_at(address: int, block: Samples) -> None:
    meter_loudness(record_at(address, _LOUDNESS), block)
