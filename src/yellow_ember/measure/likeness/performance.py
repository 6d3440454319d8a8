"""The same performance twice, before and after: what lies between is then measured outright, not guessed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.comparison import Comparison, compare
from yellow_ember.measure.likeness.distance import tone_steps

_EXPLAINED = 0.35
"""Share of a recording that a linear tone change of the other has to explain, in the middle of all third octaves.

What is played again may have the same notes at the same time, but not the same attacks and breaths.
"""
_HEARD_DB = 50.0
_SHORTEST_SECONDS = 1.0
_LOWEST_ADDED_DB = -70.0


def aligned(sound: Samples, reference: Samples, rate: float) -> int | None:
    """The frame of a reference at which a sound begins, where the reference is of the same performance.

    Parameters
    ----------
    sound, reference : Samples
        (channels, frames) each.

    Returns
    -------
    int | None
        Negative where the reference begins within the sound; None where they are of different performances.
    """
    one, other = sound.mean(axis=0), reference.mean(axis=0)
    size = 1 << (one.size + other.size - 1).bit_length()
    cross = np.fft.rfft(other, size) * np.conj(np.fft.rfft(one, size))
    # Half whitened: a loud bass alone would say little of when.
    together = np.abs(np.fft.irfft(cross / np.sqrt(np.abs(cross) + 1e-12), size))
    lag = int(together.argmax())
    lag -= size if lag >= other.size else 0
    begin, end = max(0, -lag), min(one.size, other.size - lag)
    if end - begin < _SHORTEST_SECONDS * rate:
        return None
    end = min(end, begin + round(4.0 * rate))
    level = compare(one[None, begin:end], other[None, begin + lag:end + lag], rate)
    heard = level.after_db > level.after_db.max() - _HEARD_DB
    explained = 1.0 - 10.0 ** ((level.added_bands_db - level.after_db)[heard] / 10.0)
    return lag if float(np.median(explained)) > _EXPLAINED else None


@dataclass(frozen=True, slots=True, eq=False)
class Change:
    """What was done to a performance; of pieces, the mean over them.

    added_db, added_bands_db, tone_db : as in a Comparison, the bands against the output's level
    """

    added_db: float
    added_bands_db: Samples
    tone_db: Samples


def change_of(comparisons: list[Comparison]) -> Change:
    """What some comparisons of one chain's input and output come to."""
    added = np.mean([10.0 ** (one.added_db / 10.0) for one in comparisons])
    bands = np.mean([10.0 ** ((one.added_bands_db - _total_db(one.after_db)) / 10.0) for one in comparisons], axis=0)
    tone = np.stack([one.tone_db for one in comparisons])
    heard = np.isfinite(tone)
    mean = np.where(heard, tone, 0.0).sum(axis=0) / np.maximum(heard.sum(axis=0), 1)
    return Change(float(10.0 * np.log10(added + 1e-12)), 10.0 * np.log10(bands + 1e-12),
                  np.where(heard.any(axis=0), mean, np.nan))


def change_steps(one: Change, other: Change) -> tuple[float, float]:
    """How far two changes are apart in what they add and in tone, in steps that one just hears."""
    a, b = (np.maximum(each.added_bands_db, _LOWEST_ADDED_DB) for each in (one, other))
    heard = np.maximum(a, b) > max(float(a.max()), float(b.max())) - 35.0
    bands = float(np.sqrt(np.mean(np.clip(a - b, -18.0, 18.0)[heard] ** 2)))
    total = abs(max(one.added_db, _LOWEST_ADDED_DB) - max(other.added_db, _LOWEST_ADDED_DB))
    known = np.isfinite(one.tone_db) & np.isfinite(other.tone_db)
    tone = tone_steps(one.tone_db[known], other.tone_db[known]) if known.any() else 0.0
    return 0.5 * total + 0.5 * bands / 2.0, tone


def _total_db(bands: Samples) -> float:
    return float(10.0 * np.log10(np.sum(10.0 ** (bands / 10.0)) + 1e-20))
