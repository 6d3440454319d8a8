"""Width: side against middle, and how alike left and right are, by octave."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.likeness.frames import OCTAVES, Frames

MONO_DB = -40.0


@dataclass(frozen=True, slots=True, eq=False)
class Width:
    """How a recording fills two channels.

    Attributes
    ----------
    side_db : Samples
        (8,) side against middle, at least MONO_DB.
    correlation : Samples
        (8,) from -1 to 1.
    sure : float
        1; 0 for a recording of one channel.
    """

    side_db: Samples
    correlation: Samples
    sure: float


def width(spectra: Frames) -> Width:
    """Read width from where notes sound; one channel counts as two that are alike."""
    count = len(OCTAVES)
    if spectra.side.shape[0] == 0:
        return Width(np.full(count, MONO_DB), np.ones(count), 0.0)
    side_db, correlation = np.zeros(count), np.ones(count)
    for index in range(count):
        lines = spectra.octave(index)
        middle, side = (float(power[spectra.active, lines].sum()) + 1e-20 for power in (spectra.middle, spectra.side))
        side_db[index] = max(MONO_DB, 10.0 * np.log10(side / middle))
        # Left and right together hold twice what middle and side hold; their difference is four times middle * side.
        total = middle + side
        balance = float(spectra.cross[spectra.active, lines].sum())
        correlation[index] = np.clip(balance / total, -1.0, 1.0)
    return Width(side_db, correlation, 1.0)
