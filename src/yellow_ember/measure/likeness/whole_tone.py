"""Tone of all notes together, and what two performances tell of what was done to it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.bands import BAND_CENTRES, band_sums

_FRAME_SECONDS = 0.34
"""So long that even the lowest third octave has some lines."""
_PARTS = 8
"""Of a recording, by which what its notes do is told from what was done to all of them."""
_UNHEARD_DB, _HEARD_DB = -60.0, -50.0
"""Against everything: what lies so deep that its level does not matter, and what is heard for certain."""
_UNSURE_DB = 6.0
"""A third octave that may be off by more tells of the notes alone."""


@dataclass(frozen=True, slots=True, eq=False)
class ToneBetween:
    """By how much third octaves (31,) are louder in one recording than in another.

    Attributes
    ----------
    change_db : Samples
        Against all of them.
    error_db : Samples
        The standard error of that, as other notes have other tones.
    heard : NDArray[np.bool_]
        Whether they are heard in either.
    """

    change_db: Samples
    error_db: Samples
    heard: NDArray[np.bool_]

    def compared_with(self, tone_db: Samples) -> NDArray[np.bool_]:
        """Which third octaves (31,) are sure enough, and heard in either or in a third tone."""
        return np.asarray((self.heard | _heard_in(tone_db)) & (self.error_db < _UNSURE_DB))


def tone_between(before: Samples, after: Samples, rate: float) -> ToneBetween:
    """Compare the tones of all notes of two recordings (channels, frames)."""
    (first, first_error), (last, last_error) = (_tone_and_error(sound, rate) for sound in (before, after))
    heard = _heard_in(np.maximum(first, last))
    return ToneBetween(np.asarray(last - first), np.hypot(first_error, last_error), heard)


def _tone_and_error(sound: Samples, rate: float) -> tuple[Samples, Samples]:
    """Third octaves (31,) of all notes, and their standard error, from parts that hold as much power each."""
    bands = _bands(sound, rate)
    so_far = np.cumsum(bands.sum(axis=1))
    part_of = np.minimum(_PARTS * so_far / max(float(so_far[-1]), 1e-20), _PARTS - 0.5).astype(int)
    parts = np.stack([_levels(bands[part_of == part]) for part in np.unique(part_of)])
    error = parts.std(axis=0) / (len(parts) - 1) ** 0.5 if len(parts) > 1 else np.full(BAND_CENTRES.size, np.inf)
    return _levels(bands), np.asarray(error)


def _heard_in(tone_db: Samples) -> NDArray[np.bool_]:
    return np.asarray(tone_db > _HEARD_DB)


def whole_tone_db(pieces: Sequence[Samples], rate: float) -> Samples:
    """Third octaves (31,) of pieces (channels, frames) of a recording, against all of them, -60 dB or more."""
    return _levels(np.concatenate([_bands(piece, rate) for piece in pieces]))


def _bands(sound: Samples, rate: float) -> Samples:
    """Power of third octaves in overlapping frames (frames, 31), whose means are those of all of it.

    Welch, IEEE Transactions on Audio and Electroacoustics 15 (1967), p. 70.
    """
    size = 2 * min(round(_FRAME_SECONDS * rate / 2.0), sound.shape[1] // 2)
    window = np.hanning(size + 1)[:-1]
    lines = np.fft.rfft(sliding_window_view(sound.mean(axis=0), size)[::size // 2] * window / window.sum(), axis=1)
    power = lines.real**2 + lines.imag**2
    hz: Samples = np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64)
    return np.stack([band_sums(frame, hz) for frame in power])


def _levels(bands: Samples) -> Samples:
    """Of frames (frames, 31) all together, against all bands."""
    power = bands.sum(axis=0)
    level = 10.0 * np.log10(np.maximum(power / max(float(power.sum()), 1e-20), 1e-12))
    return np.asarray(np.maximum(level, _UNHEARD_DB))
