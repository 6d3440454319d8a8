"""Overviews of a sound: the least and the greatest sample of every stretch, at several resolutions in one file.

The file holds float32 numbers and nothing else: columns of (channels, 2), the finest resolution first.  A stretch is
read by its place in the file, so that a view costs as much as it shows, however long the sound is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

FINEST = 16
"""Frames that a column of the finest resolution stands for."""
_COARSER = 4
"""Columns that are one in the next resolution."""
_LOUDEST_SHOWN = 1e3

Columns = NDArray[np.float32]
"""(columns, channels, 2): least and greatest sample."""


def extremes(samples: NDArray[np.float32], frames: int) -> Columns:
    """Return the least and the greatest of every so many samples (frames, channels), the last few perhaps of fewer."""
    if len(samples) == 0:
        return np.zeros((0, samples.shape[1], 2), np.float32)
    starts = np.arange(0, len(samples), frames)
    return np.stack((np.minimum.reduceat(samples, starts), np.maximum.reduceat(samples, starts)), axis=-1)


def _coarser(columns: Columns) -> Columns:
    starts = np.arange(0, len(columns), _COARSER)
    return np.stack((np.minimum.reduceat(columns[..., 0], starts), np.maximum.reduceat(columns[..., 1], starts)),
                    axis=-1)


def over_channels(columns: Columns) -> NDArray[np.float32]:
    """Return least and greatest over all channels: (columns, 2)."""
    low, high = columns[:, 0, 0], columns[:, 0, 1]
    for channel in range(1, columns.shape[1]):
        low, high = np.minimum(low, columns[:, channel, 0]), np.maximum(high, columns[:, channel, 1])
    return np.stack((low, high), axis=1)


def overview_of(finest: Columns) -> list[Columns]:
    """Return all resolutions, from the finest to the one that needs a single column."""
    levels = [finest]
    while len(levels[-1]) > 1:
        levels.append(_coarser(levels[-1]))
    return levels


def _lengths(frames: int) -> list[int]:
    """Columns of every resolution."""
    lengths = [-(-frames // FINEST)]
    while lengths[-1] > 1:
        lengths.append(-(-lengths[-1] // _COARSER))
    return lengths


def write_overview(path: Path, levels: Sequence[Columns]) -> None:
    """Write all resolutions; OSError where that is not possible."""
    with path.open("wb") as target:
        for level in levels:
            np.ascontiguousarray(level, np.float32).tofile(target)


@dataclass(frozen=True, slots=True)
class Stretch:
    """A part of an overview.

    Attributes
    ----------
    columns : Columns
        What is in it.
    start : int
        The frame that the first column begins with.
    frames : int
        Frames that a column stands for.
    """

    columns: Columns
    start: int
    frames: int


def read_stretch(path: Path, channels: int, length: int, begin: int, end: int, frames: float) -> Stretch:
    """Read what lies between two frames, at the coarsest resolution whose columns stand for at most `frames`.

    Where that would be less than the finest, it is the finest.  What somebody has damaged just now is empty.

    Parameters
    ----------
    path : Path
        The overview of a sound.
    channels, length : int
        Of the sound.
    begin, end : int
        The stretch, in frames of the sound.
    frames : float
        Frames that a point of the view stands for.
    """
    offset, width = 0, FINEST
    lengths = _lengths(length)
    level = 0
    while level + 1 < len(lengths) and width * _COARSER <= frames:
        offset += lengths[level]
        width *= _COARSER
        level += 1
    first = min(max(0, begin // width), lengths[level])
    count = min(-(-max(end, 0) // width), lengths[level]) - first
    return Stretch(_read(path, channels, offset + first, max(0, count)), first * width, width)


def _read(path: Path, channels: int, first: int, count: int) -> Columns:
    size = channels * 2
    try:
        values = np.fromfile(path, np.float32, count * size, offset=first * size * 4)
    except (OSError, ValueError):
        values = np.zeros(0, np.float32)
    if values.size != count * size:
        return np.zeros((0, channels, 2), np.float32)
    np.nan_to_num(values, copy=False)
    return np.clip(values, -_LOUDEST_SHOWN, _LOUDEST_SHOWN, out=values).reshape(count, channels, 2)
