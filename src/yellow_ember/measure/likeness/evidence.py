"""All figures of what was done to a recording in one row, for whoever learns from them which stages did it."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.likeness.distance import Respect, features
from yellow_ember.measure.likeness.performance import Change, tone_change_db
from yellow_ember.measure.likeness.portrait import Portrait

_FARTHEST, _MOST = 12.0, 30.0
"""Steps apart, and figures by themselves, beyond which it makes no difference how far it is."""
_FARTHEST_OF_ANOTHER, _MOST_OF_ANOTHER = 60.0, 100.0
"""The same where what was added is not measured, but told by what lies deep below the notes."""
_LOWEST_ADDED_DB, _UNHEARD_DB = -70.0, -60.0


def evidence(before: Portrait, after: Portrait, change: Change | None) -> Samples:
    """What changed, what it was before, and how sure either is (n,).

    Parameters
    ----------
    before, after : Portrait
        Of the same performance, or of two that are alike.
    change : Change | None
        What was done to the same performance; None where they are two.
    """
    farthest, most = (_FARTHEST, _MOST) if change is not None else (_FARTHEST_OF_ANOTHER, _MOST_OF_ANOTHER)
    first, last = features(before), features(after)
    figures = [np.clip(last[respect] - first[respect], -farthest, farthest) for respect in Respect]
    figures += [np.clip(first[respect], -most, most) for respect in Respect]
    figures += [_sure(before), _sure(after)]
    if change is not None:
        figures += [np.maximum([change.added_db, *change.added_bands_db], _LOWEST_ADDED_DB),
                    np.maximum(change.before_db, _UNHEARD_DB), tone_change_db(change)]
    return np.concatenate(figures)


def _sure(one: Portrait) -> Samples:
    return np.array([one.tone.sure, one.density.pitched, one.dynamics.sure, one.floor.sure, one.speed.sure,
                     one.width.sure])
