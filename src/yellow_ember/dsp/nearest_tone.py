"""How an equaliser is set to come nearest to a change of tone."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from yellow_ember.dsp.arrays import Samples, db
from yellow_ember.dsp.parameters import Value, as_number
from yellow_ember.dsp.stages.eq import BANDS, EQ, TILT_HZ

_CUTS = ("low_cut_hz", "high_cut_hz")
_FITTED = (*_CUTS, "tilt_db", *(f"band{number}_{what}" for what in ("db", "hz") for number in range(1, len(BANDS) + 1)),
           *(f"band{number}_q" for number in range(2, len(BANDS))))
_NUMBERS = tuple(EQ.number(name) for name in _FITTED)
_BANDS_AT, _CENTRES_AT, _QS_AT = (len(_CUTS) + 1 + turn * len(BANDS) for turn in range(3))
"""Where among all that is fitted the bands' levels, frequencies and Q begin."""
_IN_DB = np.array([name.endswith("_db") for name in _FITTED])
_UNIT_DB = 6.0
"""Levels count in these, frequencies and Q in octaves."""
_CUTS_OFF = math.log2(5.0), math.log2(80000.0)
"""Octaves at which a cut takes nothing off what one hears."""
_CUT_BELOW_DB = 6.0
"""What lies so far below the loudest may be cut."""
_CUT_WEIGHT, _BAND_WEIGHT = 0.05, 0.5
"""dB that it costs to set something a unit away from where it rests: what falls away is cut, and what several bands
could do against each other is done by the fewest."""
_WEIGHTS = np.where(np.arange(len(_FITTED)) < len(_CUTS), _CUT_WEIGHT, _BAND_WEIGHT)
_ROUNDS, _STEP = 40, 1e-4
_DAMPING, _MOST_DAMPING = 0.01, 1e5


def nearest_tone(hz: Samples, wanted_db: Samples) -> dict[str, Value]:
    """The values whose response comes nearest to a change of tone, whatever its level.

    By least squares, damped (Levenberg and Marquardt: Nocedal and Wright, Numerical Optimization, 2nd ed., section
    10.3), from bands as high as is wanted there, and from cuts where it falls away.

    Parameters
    ----------
    hz, wanted_db : Samples
        (n,) each.
    """
    rest = _places([as_number(number.default) for number in _NUMBERS])
    lowest, highest = (_places(ends) for ends in zip(*((one.minimum, one.maximum) for one in _NUMBERS), strict=True))
    lowest[0], highest[1] = rest[:len(_CUTS)] = _CUTS_OFF
    banded, cut = rest.copy(), rest.copy()
    level = wanted_db - np.median(wanted_db)
    banded[_BANDS_AT:_CENTRES_AT] = np.interp(rest[_CENTRES_AT:_QS_AT], np.log2(hz), level) / _UNIT_DB
    loud = np.flatnonzero(level > level.max() - _CUT_BELOW_DB)
    if loud[0] > 0:
        cut[0] = np.log2(hz[loud[0]])
    if loud[-1] < hz.size - 1:
        cut[1] = np.log2(hz[loud[-1]])
    found = [_descended(start, rest, (lowest, highest), hz, wanted_db) for start in (banded, cut)]
    values = _values(min(found, key=lambda one: one[1])[0])
    return {**EQ.defaults(), **{number.id: number.clamp(round(float(value), number.decimals))
                                for number, value in zip(_NUMBERS, values, strict=True)}}


def _places(values: Sequence[float]) -> Samples:
    """Where all that is fitted stands, in units and octaves."""
    given = np.array(values)
    return np.where(_IN_DB, given / _UNIT_DB, np.log2(np.where(_IN_DB, 1.0, given)))


def _values(places: Samples) -> Samples:
    """In dB, Hz and Q."""
    return np.where(_IN_DB, _UNIT_DB * places, 2.0**places)


def _descended(start: Samples, rest: Samples, bounds: tuple[Samples, Samples], hz: Samples, wanted_db: Samples
               ) -> tuple[Samples, float]:
    """Where a descent from a start ends, and the sum of the squares of what is missed there."""
    def missed(places: Samples) -> Samples:
        apart = _response_db(places, hz) - wanted_db
        return np.concatenate((apart - apart.mean(axis=-1, keepdims=True), _WEIGHTS * (places - rest)), axis=-1)

    at = np.clip(start, *bounds)
    here, damping = missed(at), _DAMPING
    for _ in range(_ROUNDS):
        slopes = ((missed(at + _STEP * np.eye(at.size)) - here) / _STEP).T
        curvature = slopes.T @ slopes
        move = np.linalg.solve(curvature + damping * np.diag(np.diag(curvature) + 1.0), -slopes.T @ here)
        tried = np.clip(at + move, *bounds)
        there = missed(tried)
        if there @ there < here @ here:
            at, here, damping = tried, there, damping / 3.0
        elif damping > _MOST_DAMPING:
            break
        else:
            damping *= 4.0
    return at, float(here @ here)


def _response_db(places: Samples, hz: Samples) -> Samples:
    """What is made of some frequencies (n,) by settings (..., fitted), (..., n): by the analogue prototypes that the
    equaliser follows at every rate (`dsp/filters.py`)."""
    low, high, tip, levels, octaves, qs = np.split(places[..., None], (1, 2, _BANDS_AT, _CENTRES_AT, _QS_AT), axis=-2)
    # The square of what the prototypes call g, and frequencies in units of each corner.
    square, tipped = (10.0 ** (_UNIT_DB * level / 20.0) for level in (levels, tip))
    at = hz / 2.0**octaves
    first, last, bell = square[..., :1, :], square[..., -1:, :], square[..., 1:-1, :]
    lows, highs = at[..., :1, :] ** 4, at[..., -1:, :] ** 4
    shelves = (first * (first + lows) / (1.0 + first * lows)) * (last * (1.0 + last * highs) / (last + highs))
    within = at[..., 1:-1, :] ** 2
    wide, aside = within / 4.0**qs, (1.0 - within) ** 2
    bells = ((aside + bell * wide) / (aside + wide / bell)).prod(axis=-2, keepdims=True)
    pivot = (hz / TILT_HZ) ** 2
    tilted = (1.0 + tipped * pivot) / (tipped + pivot)
    cuts = (1.0 + (2.0**low / hz) ** 4) * (1.0 + (hz / 2.0**high) ** 4)
    return np.asarray(db(shelves * bells * tilted / cuts)[..., 0, :] / 2.0)
