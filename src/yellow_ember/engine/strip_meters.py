"""Meters of a strip that is looked at: its loudness, and the level at every point of its chain."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.chain import ChainRecord
from yellow_ember.dsp.kernels import inlined, kernel
from yellow_ember.dsp.kernels.meters import needle
from yellow_ember.dsp.metering import (
    LoudnessMeter,
    LoudnessRecord,
    PeakProgrammeMeter,
    ProgrammeRecord,
    meter_loudness,
    meter_programme,
    needle_speed,
    vu_amplitude,
)
from yellow_ember.dsp.record import (
    Record,
    block_in,
    cube,
    matrix,
    real,
    record_at,
    shared,
    state,
    whole,
    whole_setting,
    whole_vector,
)
from yellow_ember.engine.strip import StripNode, StripRecord


class StripMeterRecord(Record):
    """What is metered of a strip.

    Attributes
    ----------
    strip, loudness, programme : int
        Where those records lie.
    channels : NDArray[np.int64]
        At each point of the chain.
    needles, peaks : Samples
        The points' meters.
    seen : int
        The number of the stage whose input and output are shown, -1 for none.
    before, after : Samples
        Where they are shown.
    """

    strip: int = whole()
    loudness: int = whole()
    programme: int = whole()
    seen: int = whole()
    needle_speed: float = real()
    channels: NDArray[np.int64] = whole_setting("points")
    before: Samples = shared(2)
    after: Samples = shared(2)
    needles: Samples = state("points", 2, 2)
    peaks: Samples = state("points", 2)


_STRIP, _CHAIN, _METER = StripRecord.dtype, ChainRecord.dtype, StripMeterRecord.dtype
_LOUDNESS, _PROGRAMME = LoudnessRecord.dtype, ProgrammeRecord.dtype


@kernel
def _show_wave(block: Samples, shown: Samples) -> None:
    """Move what is shown (2, shown frames) on by a block of one or two channels."""
    frames, kept = block.shape[1], max(0, shown.shape[1] - block.shape[1])
    for c in range(2):
        source = block[min(c, block.shape[0] - 1)]
        for i in range(kept):
            shown[c, i] = shown[c, i + frames]
        for i in range(kept, shown.shape[1]):
            shown[c, i] = source[frames - shown.shape[1] + i]


@inlined
def _meter_point(meter: StripMeterRecord, point: int, block: Samples) -> None:
    needle(block, meter.needle_speed, cube(meter.needles)[point], matrix(meter.peaks)[point])
    if meter.seen >= 0 and point == meter.seen:
        _show_wave(block, matrix(meter.before))
    if meter.seen >= 0 and point == meter.seen + 1:
        _show_wave(block, matrix(meter.after))


@kernel
def _meter(address: int, frames: int) -> None:
    """Take in the strip's last block, and what its chain has kept of it."""
    meter = record_at(address, _METER)
    strip = record_at(meter.strip, _STRIP)
    chain, out = record_at(strip.chain, _CHAIN), block_in(strip.out, strip.place, 2, frames)
    points = matrix(chain.points)
    meter_loudness(record_at(meter.loudness, _LOUDNESS), out)
    meter_programme(record_at(meter.programme, _PROGRAMME), out)
    last = points.shape[0] - 1
    for point in range(points.shape[0]):
        if strip.ran == 1 or point == 0 or point == last:
            channels = whole_vector(meter.channels)[point]
            _meter_point(meter, point, block_in(chain.points, point, channels, frames))


class StripMeter:
    """The Python half.

    Parameters
    ----------
    node : StripNode
        The strip; its chain keeps what is at its points while it is `watched`.
    """

    def __init__(self, rate: float, node: StripNode) -> None:
        self._chain = node.chain
        self._loudness, self._programme = LoudnessMeter(rate, 2), PeakProgrammeMeter(rate, 2)
        points = len(node.chain.slots) + 1
        record = self.record = StripMeterRecord.make(points=points)
        record.strip = node.record.address
        record.loudness, record.programme = self._loudness.record.address, self._programme.record.address
        record.needle_speed, record.seen = needle_speed(rate), -1
        record.channels = np.array([node.chain.channels_at(point) for point in range(points)])

    def watch(self, stage: int, before: Samples, after: Samples) -> None:
        """Meter every point from now on, and show what enters and leaves a stage as waves (2, frames)."""
        self._chain.keep_points(on=True)
        self.record.seen, self.record.before, self.record.after = stage, before, after

    def leave(self) -> None:
        """Meter loudness alone."""
        self._chain.keep_points(on=False)
        self.record.seen = -1

    def begin(self) -> None:
        """Playing begins: loudness and the highest peak are read from here on."""
        self._loudness.reset()

    def process(self, frames: int) -> None:
        """Take in the strip's last block."""
        _meter(self.record.address, frames)

    @property
    def true_peak(self) -> Samples:
        """The highest true peak since playing began, (2,) amplitudes."""
        return self._loudness.highest

    @property
    def programme(self) -> Samples:
        """Quasi-peak, (2,) amplitudes."""
        return self._programme.reading

    @property
    def loudness(self) -> tuple[float, float, float]:
        """Momentary, short-term and integrated, in LUFS."""
        return self._loudness.momentary, self._loudness.short_term, self._loudness.integrated

    @property
    def point_levels(self) -> tuple[Samples, Samples]:
        """VU and peak at each point of the chain, of the louder side: (points,) amplitudes each."""
        return vu_amplitude(self.record.needles).max(axis=1), self.record.peaks.max(axis=1)
