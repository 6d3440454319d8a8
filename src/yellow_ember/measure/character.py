"""What a chain does to a sound in two figures: how much it adds, and which way it tips the tone."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.comparison import Comparison, compare

_LOW_HZ, _HIGH_HZ = 60.0, 12000.0
_HEARD_DB = 50.0
_FAINTEST_DB = -80.0


@dataclass(frozen=True, slots=True)
class Character:
    """added_db : what is added against what is there, at least -80; brightness : dB an octave, up is brighter."""

    added_db: float
    brightness: float


def character(before: Samples, after: Samples, rate: float) -> Character:
    """From aligned signals (channels, frames) before and after."""
    return character_of(compare(before, after, rate))


def character_of(comparison: Comparison) -> Character:
    """From a comparison.

    Brightness is the slope of the third-octave change against frequency, of those bands that are heard.
    """
    heard = ((comparison.bands >= _LOW_HZ) & (comparison.bands <= _HIGH_HZ)
             & (comparison.before_db > comparison.before_db.max() - _HEARD_DB))
    change = np.maximum(comparison.after_db, comparison.after_db.max() - 90.0) - comparison.before_db
    slope = float(np.polyfit(np.log2(comparison.bands[heard]), change[heard], 1)[0]) if heard.sum() > 2 else 0.0
    return Character(max(comparison.added_db, _FAINTEST_DB), slope)
