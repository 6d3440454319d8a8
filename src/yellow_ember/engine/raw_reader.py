"""Random access to raw interleaved float32, in compiled code: a strip's file or its print, as it is played."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import inlined, kernel
from yellow_ember.dsp.record import (
    Record,
    address_of,
    record_at,
    scratch,
    singles_of,
    whole,
    whole_scratch,
    whole_vector,
)
from yellow_ember.engine.system_calls import posix_fadvise, pread, statx
from yellow_ember.files.kinds import file_state

_STRETCH = 1 << 19
"""The system is asked to fetch a file in stretches of so many bytes, some ahead."""
_AHEAD = 4
_WILL_NEED = 3
"""POSIX_FADV_WILLNEED."""

# Linux, struct statx: the same on every machine.
_STATX_WORDS = 32
_SIZE_AT, _SECONDS_AT, _NANOSECONDS_AT = 5, 14, 15
"""Words of the result: size, and when it was last written."""
_ITSELF = 0x1000
"""AT_EMPTY_PATH: the open file itself."""
_SIZE_AND_TIME = 0x240
"""STATX_SIZE and STATX_MTIME."""


class ReaderRecord(Record):
    """An open file.

    Attributes
    ----------
    file : int
        Its number.
    first : int
        The frame of the time line that it begins with.
    size, written : int
        Its bytes, and when it was last written (ns), as it was opened.
    watched : int
        1 while that can be asked.
    broken : int
        1 from when it is not as it was opened.
    advised : int
        The stretch that was asked for last.
    """

    file: int = whole()
    channels: int = whole()
    frames: int = whole()
    first: int = whole()
    size: int = whole()
    written: int = whole()
    watched: int = whole()
    broken: int = whole()
    advised: int = whole()
    name: NDArray[np.int64] = whole_scratch(1)
    status: NDArray[np.int64] = whole_scratch(_STATX_WORDS)
    buffer: Samples = scratch("samples")


_READER = ReaderRecord.dtype


@kernel
def _is_as_it_was(reader: ReaderRecord) -> bool:
    status = whole_vector(reader.status)
    if statx(reader.file, address_of(reader.name), _ITSELF, _SIZE_AND_TIME, address_of(reader.status)) != 0:
        return False
    written = status[_SECONDS_AT] * 1_000_000_000 + (status[_NANOSECONDS_AT] & 0xFFFFFFFF)
    return bool(status[_SIZE_AT] == reader.size and written == reader.written)


@inlined
def _read_ahead(reader: ReaderRecord, position: int) -> None:
    """Ask the system to fetch the next seconds before they are needed."""
    stretch = position // _STRETCH
    if stretch != reader.advised:
        reader.advised = stretch
        posix_fadvise(reader.file, stretch * _STRETCH, _AHEAD * _STRETCH, _WILL_NEED)


@kernel
def read_raw(reader: ReaderRecord, start: int, frames: int) -> NDArray[np.float32]:
    """Read from frame `start`, silence beyond the ends: (frames, channels) float32, valid until the next reading."""
    result: NDArray[np.float32] = singles_of(reader.buffer, frames, reader.channels)
    position = start - reader.first
    before = min(frames, max(0, -position))
    available = max(0, min(frames, reader.frames - position) - before)
    if reader.broken == 1:
        available = 0
    if available > 0:
        frame_bytes = 4 * reader.channels
        requested, offset = available * frame_bytes, (position + before) * frame_bytes
        count = pread(reader.file, address_of(reader.buffer) + before * frame_bytes, requested, offset)
        if count < requested or (reader.watched == 1 and not _is_as_it_was(reader)):
            reader.broken = 1
            available = 0
        _read_ahead(reader, offset + requested)
    for i in range(frames):
        if i < before or i >= before + available:
            for c in range(reader.channels):
                result[i, c] = 0.0
    return result


@kernel
def read_block(reader: ReaderRecord, segments: NDArray[np.int64], count: int, block: Samples) -> None:
    """Fill a block (channels, frames) from the stretches (first frame, frames) that make it up."""
    at = 0
    for k in range(count):
        raw = read_raw(reader, segments[k, 0], segments[k, 1])
        for c in range(block.shape[0]):
            for i in range(raw.shape[0]):
                block[c, at + i] = raw[i, c]
        at += raw.shape[0]


@kernel
def _read_at(address: int, segments: NDArray[np.int64], block: Samples) -> None:
    read_block(record_at(address, _READER), segments, segments.shape[0], block)


@kernel
def _can_be_watched(address: int) -> bool:
    return _is_as_it_was(record_at(address, _READER))


class RawReader:
    """The Python half: an open file, which is closed with it.

    A file that is cut short or overwritten meanwhile is noticed: from then on `broken` is True and all is silence.

    Parameters
    ----------
    data : Path
    channels, frames : int
        What the file holds.
    longest : int
        The most frames that are read at once.
    first : int
        The frame of the time line that the file begins with.

    Raises
    ------
    OSError
        Where the file is gone.
    """

    def __init__(self, data: Path, channels: int, frames: int, longest: int, first: int = 0) -> None:
        self.channels, self.frames = channels, frames
        self._file = -1
        self._file = os.open(data, os.O_RDONLY)
        record = self.record = ReaderRecord.make(samples=(longest * channels + 1) // 2)
        record.file, record.channels, record.frames, record.first = self._file, channels, frames, first
        _, record.size, record.written = file_state(os.fstat(self._file))
        record.advised = -1
        # Where the system doesn't tell, a file that is overwritten is noticed by its length alone.
        record.watched = int(_can_be_watched(record.address))

    @property
    def broken(self) -> bool:
        return bool(self.record.broken)

    def read(self, start: int, block: Samples) -> None:
        """Fill `block` (channels, frames) from frame `start`; silence beyond the ends."""
        _read_at(self.record.address, np.array([(start, block.shape[1])]), block)

    def close(self) -> None:
        """Let the file go."""
        if self._file >= 0:
            os.close(self._file)
            self._file = -1

    def __del__(self) -> None:
        self.close()
