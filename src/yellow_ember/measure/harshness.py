"""Where a drive has made a sound harsh, and which bells would hold that down."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.measure.comparison import Comparison

LOWEST_HZ, HIGHEST_HZ = 1500.0, 13000.0
_WORTH_DB = 1.5
_AUDIBLE_DB = 45.0
"""Bands that lie farther than this under the strongest don't count."""
_APART_OCTAVES = 0.6
_MIN_DB, _MAX_DB, _ADDED_SHARE = 3.0, 12.0, 0.5


@dataclass(frozen=True, slots=True)
class HarshBand:
    """A bell: its middle in Hz, its Q, and by how many dB to hold down at most."""

    hz: float
    q: float
    depth_db: float


def harsh_bands(comparison: Comparison, most: int) -> list[HarshBand]:
    """Bands from 1.5 to 13 kHz that came up more than the whole sound did, the worst first, at most `most`.

    What counts is by how much a third octave rose against the loudness of all of them, and of
    that part more which was added: a band that was equalised up only sounds bright.
    """
    before = 10.0 ** (comparison.before_db / 10.0)
    after = 10.0 ** (comparison.after_db / 10.0)
    overall = 10.0 * np.log10(max(float(after.sum()), 1e-30) / max(float(before.sum()), 1e-30))
    rise = comparison.after_db - np.maximum(comparison.before_db, comparison.after_db.max() - 90.0) - overall
    share = comparison.added_bands_db - comparison.after_db
    score = np.minimum(rise, 30.0) * (1.0 - _ADDED_SHARE + _ADDED_SHARE * np.clip(1.0 + share / 20.0, 0.0, 1.0))
    counted = ((comparison.bands >= LOWEST_HZ) & (comparison.bands <= HIGHEST_HZ)
               & (comparison.after_db > comparison.after_db.max() - _AUDIBLE_DB))
    score = np.where(counted, score, -np.inf)
    result: list[HarshBand] = []
    while len(result) < most:
        worst = int(np.argmax(score))
        if score[worst] < _WORTH_DB:
            break
        hz = float(comparison.bands[worst])
        beside = float(np.mean([score[index] for index in (worst - 1, worst + 1)
                                if 0 <= index < score.size and np.isfinite(score[index])] or [0.0]))
        # A hill that falls off at once is narrow.
        q = 2.5 if beside < 0.6 * score[worst] else 1.4
        result.append(HarshBand(hz, q, float(np.clip(score[worst], _MIN_DB, _MAX_DB))))
        score[np.abs(np.log2(comparison.bands / hz)) < _APART_OCTAVES] = -np.inf
    return result
