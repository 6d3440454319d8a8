"""Reading a track's regions in compiled code: each from its file, between its fades, added to what else is there."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.record import Record, record_at, whole
from yellow_ember.engine.placing import Placed
from yellow_ember.engine.raw_reader import RawReader, ReaderRecord, read_raw


class RegionRecord(Record):
    """A region, in frames.

    Attributes
    ----------
    reader : int
        Where the record of its file lies.
    first, frames : int
        Where in the session it begins, and how long it is.
    offset : int
        The frame of the file that it begins with.
    fade_in, fade_out : int
        How long the fades are.
    """

    reader: int = whole()
    first: int = whole()
    frames: int = whole()
    offset: int = whole()
    fade_in: int = whole()
    fade_out: int = whole()


_REGION, _READER = RegionRecord.dtype, ReaderRecord.dtype


@kernel
def _level(region: RegionRecord, at: int) -> float:
    """What the fades leave of the frame `at` of a region: a raised cosine, so that fades that overlap add up to 1."""
    level = 1.0
    if at < region.fade_in:
        level = 0.5 - 0.5 * math.cos(math.pi * (at + 0.5) / region.fade_in)
    left = region.frames - at
    if left <= region.fade_out:
        level *= 0.5 - 0.5 * math.cos(math.pi * (left - 0.5) / region.fade_out)
    return level


@kernel
def _add_stretch(region: RegionRecord, first: int, frames: int, block: Samples, start: int) -> None:
    """Add what a region has between two frames of the session to a block, from its frame `start` on."""
    begin, stop = max(first, region.first), min(first + frames, region.first + region.frames)
    if stop <= begin:
        return
    raw: NDArray[np.float32] = read_raw(record_at(region.reader, _READER), region.offset + begin - region.first,
                                        stop - begin)
    at, to = begin - region.first, start + begin - first
    inside = at >= region.fade_in and at + stop - begin <= region.frames - region.fade_out
    for c in range(block.shape[0]):
        # A single channel is on both sides of a track that has two.
        source = min(c, raw.shape[1] - 1)
        if inside:
            for i in range(stop - begin):
                block[c, to + i] += raw[i, source]
        else:
            for i in range(stop - begin):
                block[c, to + i] += raw[i, source] * _level(region, at + i)


@kernel
def add_region(address: int, stretches: NDArray[np.int64], count: int, block: Samples) -> None:
    """Add a region to a block (channels, frames) that stretches (first frame, frames) of the session make up."""
    region = record_at(address, _REGION)
    start = 0
    for k in range(count):
        _add_stretch(region, stretches[k, 0], stretches[k, 1], block, start)
        start += stretches[k, 1]


class RegionReader:
    """The Python half: a region with its open file.

    Parameters
    ----------
    longest : int
        The most frames that are read at once.

    Raises
    ------
    OSError
        Where the copy of the file is gone.
    """

    def __init__(self, place: Placed, longest: int) -> None:
        self.place = place
        sound, span = place.sound, place.span
        self._file = RawReader(sound.data, sound.channels, sound.frames, longest)
        self.channels = sound.channels
        record = self.record = RegionRecord.make()
        record.reader = self._file.record.address
        record.first, record.frames, record.offset = span.first, span.frames, span.offset
        record.fade_in, record.fade_out = span.fade_in, span.fade_out

    @property
    def broken(self) -> bool:
        """True where the copy was damaged on disk while it was played."""
        return self._file.broken
