"""Short spectra of a recording, on which most of its figures are read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from yellow_ember.dsp.arrays import Samples

FRAME_SECONDS = 4096.0 / 48000.0
OCTAVES: Samples = np.asarray(62.5 * 2.0 ** np.arange(8), dtype=np.float64)
"""Centres in Hz of the octaves that figures are given by."""
_ACTIVE_DB = 45.0
"""What lies further below the loud frames is no part of the notes."""


@dataclass(frozen=True, slots=True, eq=False)
class Frames:
    """Power spectra of middle and side, half overlapping, of all pieces one after the other.

    Attributes
    ----------
    hz : Samples
        (lines,).
    middle, side : Samples
        (frames, lines); side is empty for one channel.
    cross : Samples
        (frames, lines), the real part of left against right; empty for one channel.
    level_db : Samples
        (frames,), of the middle.
    active, loud : NDArray[np.bool_]
        (frames,), where notes sound, and the louder half of that.
    """

    hz: Samples
    middle: Samples
    side: Samples
    cross: Samples
    level_db: Samples
    active: np.ndarray
    loud: np.ndarray

    def octave(self, index: int) -> slice:
        """Lines of one of OCTAVES."""
        low, high = OCTAVES[index] / 2.0**0.5, OCTAVES[index] * 2.0**0.5
        return slice(int(np.searchsorted(self.hz, low)), int(np.searchsorted(self.hz, high)))


def frames_of(pieces: Sequence[Samples], rate: float) -> Frames:
    """Read pieces (channels, frames) of one recording.

    Parameters
    ----------
    pieces : Sequence[Samples]
        Each at least FRAME_SECONDS long, all with as many channels.
    """
    size = 2 * round(FRAME_SECONDS * rate / 2.0)
    window = np.hanning(size + 1)[:-1]
    window /= window.sum()

    def power(signals: Sequence[Samples]) -> Samples:
        lines = [np.fft.rfft(sliding_window_view(one, size)[::size // 2] * window, axis=1) for one in signals]
        return np.concatenate([each.real**2 + each.imag**2 for each in lines])

    middle = power([piece.mean(axis=0) for piece in pieces])
    stereo = pieces[0].shape[0] > 1
    side = power([(piece[0] - piece[1]) / 2.0 for piece in pieces]) if stereo else np.zeros((0, middle.shape[1]))
    # Left against right is what the middle holds, less what the side does.
    cross = middle - side if stereo else side
    hz: Samples = np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64)
    audible = (hz >= 20.0) & (hz <= 20000.0)
    level = 10.0 * np.log10(middle[:, audible].sum(axis=1) + 1e-20)
    top = float(np.percentile(level, 95.0))
    active = level > top - _ACTIVE_DB
    loud = active & (level >= np.median(level[active]))
    return Frames(hz, middle, side, cross, level, active, loud)
