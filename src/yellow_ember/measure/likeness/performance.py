"""The same performance twice, before and after: what lies between is then measured outright, not guessed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.comparison import Comparison, compare

_EXPLAINED = 0.35
"""Share of a recording that a linear tone change of the other has to explain, in the middle of all third octaves.

What is played again may have the same notes at the same time, but not the same attacks and breaths.
"""
_BEST_BANDS, _BEST_EXPLAINED = 6, 0.85
_HEARD_DB, _UNHEARD_DB = 50.0, 60.0
"""Below everything together, what is heard for certain, and what lies so deep that its level does not matter."""
_SHORTEST_SECONDS, _COMPARED_SECONDS = 1.0, 4.0
_PARTS, _PART_HEARD, _PART_EXPLAINED = 4, 0.01, 0.2
"""Of what both play, where one begins later; as a share of the mean power, and as above."""
_OWN_DELAY_SECONDS = 0.01
"""A delay that filters may make."""
_LOWEST_ADDED_DB = -70.0
_ADDED_HEARD_DB = 35.0
_FARTHEST_DB = 18.0
_BAND_STEP_DB, _TONE_STEP_DB = 2.0, 1.5


def aligned(sound: Samples, reference: Samples, rate: float) -> int | None:
    """The frame of a reference at which a sound begins, where the reference is of the same performance.

    Parameters
    ----------
    sound, reference : Samples
        (channels, frames) each.

    Returns
    -------
    int | None
        0 where it is so small that filters may make it, as those of a chain would again; negative where the reference
        begins within the sound; None where they are of different performances.
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
    sound, reference = one[begin:end], other[begin + lag:end + lag]
    explained = _explained(sound, reference, rate)
    same = float(np.median(explained)) > _EXPLAINED
    if abs(lag) < _OWN_DELAY_SECONDS * rate:
        # At once with it already: hard bending leaves some bands alone like what they were.
        return 0 if same or float(np.sort(explained)[-_BEST_BANDS:].mean()) > _BEST_EXPLAINED else None
    return lag if same and _explained_all_along(sound, reference, rate) else None


def _explained_all_along(sound: Samples, reference: Samples, rate: float) -> bool:
    """Whether a linear change explains each part that is heard; a chord that comes again explains itself alone."""
    parts = max(1, min(_PARTS, int(sound.size / (_SHORTEST_SECONDS * rate))))
    both = np.minimum(_levelled(sound), _levelled(reference))
    for part in np.array_split(np.arange(sound.size), parts):
        heard = float(both[part].mean()) > _PART_HEARD * float(both.mean())
        if heard and float(np.median(_explained(sound[part], reference[part], rate))) < _PART_EXPLAINED:
            return False
    return True


def _explained(sound: Samples, reference: Samples, rate: float) -> Samples:
    """Of each third octave that is heard (n,), the share that a linear change of the other recording explains.

    Parameters
    ----------
    sound, reference : Samples
        (frames,) each.
    """
    begin, end = _most_heard(np.minimum(_levelled(sound), _levelled(reference)), rate)
    level = compare(sound[None, begin:end], reference[None, begin:end], rate)
    heard = level.after_db > level.after_db.max() - _HEARD_DB
    return np.asarray(1.0 - 10.0 ** ((level.added_bands_db - level.after_db)[heard] / 10.0))


def _levelled(sound: Samples) -> Samples:
    """The power of each frame, 1 in the mean."""
    power = sound**2
    return np.asarray(power / max(float(power.mean()), 1e-20))


def _most_heard(power: Samples, rate: float) -> tuple[int, int]:
    """First frame and end of the few seconds in which power (frames,) is greatest."""
    length = min(power.size, round(_COMPARED_SECONDS * rate))
    sums = np.concatenate(([0.0], np.cumsum(power)))
    begin = int((sums[length:] - sums[:-length]).argmax())
    return begin, begin + length


@dataclass(frozen=True, slots=True, eq=False)
class Change:
    """What was done to a performance; of pieces, the mean over them.

    added_db, before_db, after_db, added_bands_db : as in a Comparison, the bands' levels against those of all of them
        before it, or after it
    """

    added_db: float
    before_db: Samples
    after_db: Samples
    added_bands_db: Samples


def change_of(comparisons: list[Comparison]) -> Change:
    """What some comparisons of one chain's input and output come to."""
    totals = [_total_db(one.after_db) for one in comparisons]
    return Change(float(_mean_db([one.added_db for one in comparisons])),
                  _mean_db([one.before_db - _total_db(one.before_db) for one in comparisons]),
                  _mean_db([one.after_db - total for one, total in zip(comparisons, totals, strict=True)]),
                  _mean_db([one.added_bands_db - total for one, total in zip(comparisons, totals, strict=True)]))


def tone_change_db(change: Change) -> Samples:
    """By how much each third octave (31,) became louder against all of them, as far down as its level matters."""
    before, after = (np.maximum(levels, -_UNHEARD_DB) for levels in (change.before_db, change.after_db))
    return np.asarray(after - before)


def heard_in(change: Change) -> NDArray[np.bool_]:
    """Which third octaves (31,) are heard for certain, before or after."""
    return np.asarray(np.maximum(change.before_db, change.after_db) > -_HEARD_DB)


def added_apart(one: Change, other: Change) -> Samples:
    """How far two changes are apart in what they add: by third octave, and in all (31 + 1,), in steps, signed."""
    a, b = (np.maximum(each.added_bands_db, _LOWEST_ADDED_DB) for each in (one, other))
    heard = np.maximum(a, b) > max(float(a.max()), float(b.max())) - _ADDED_HEARD_DB
    total = max(one.added_db, _LOWEST_ADDED_DB) - max(other.added_db, _LOWEST_ADDED_DB)
    bands = np.where(heard, np.clip(a - b, -_FARTHEST_DB, _FARTHEST_DB), 0.0) / (_BAND_STEP_DB * heard.sum()**0.5)
    return np.asarray(np.append(bands, total) / 2.0**0.5)


def tone_apart(one: Change, other: Change) -> Samples:
    """How far their third octaves (31,) are apart, at their best level against each other, in steps, signed."""
    apart = tone_lacking_db(other, one)
    compared = max(int(np.isfinite(apart).sum()), 1)
    return np.asarray(np.clip(np.nan_to_num(apart), -_FARTHEST_DB, _FARTHEST_DB) / (_TONE_STEP_DB * compared**0.5))


def tone_lacking_db(one: Change, wanted: Change) -> Samples:
    """What the third octaves (31,) lack after one change of those after another; nan where they are never heard.

    Those that lie too deep after either lack nothing.
    """
    lacking = np.maximum(wanted.after_db, -_UNHEARD_DB) - np.maximum(one.after_db, -_UNHEARD_DB)
    louder = np.maximum(one.after_db, wanted.after_db)
    compared, matters = np.maximum(louder, one.before_db) > -_HEARD_DB, louder > -_UNHEARD_DB
    middle = np.median(lacking[compared & matters]) if (compared & matters).any() else 0.0
    return np.asarray(np.where(compared, np.where(matters, lacking - middle, 0.0), np.nan))


def _mean_db(levels: Sequence[Samples | float]) -> Samples:
    """The level of the mean power."""
    return np.asarray(10.0 * np.log10(np.mean(10.0 ** (np.asarray(levels) / 10.0), axis=0) + 1e-12))


def _total_db(bands: Samples) -> float:
    return float(10.0 * np.log10(np.sum(10.0 ** (bands / 10.0)) + 1e-20))
