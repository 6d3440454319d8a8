"""Tone: how a recording's power is spread over third octaves, in its loud and in its quiet notes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.bands import BAND_CENTRES, band_sums
from yellow_ember.measure.likeness.frames import Frames

_EDGE_DB = 50.0


@dataclass(frozen=True, slots=True, eq=False)
class Tone:
    """Level-free: the bands of each part add up to 0 dB.

    Attributes
    ----------
    loud_db, quiet_db : Samples
        (31,) third octaves.
    low_hz, high_hz : float
        Between which bands lie that are within 50 dB of the loudest.
    sure : float
        1 where loud and quiet notes were heard long enough.
    """

    loud_db: Samples
    quiet_db: Samples
    low_hz: float
    high_hz: float
    sure: float


def tone(spectra: Frames) -> Tone:
    """Read the tone of what sounds."""
    quiet = spectra.active & ~spectra.loud
    loud_db = _bands_db(spectra, spectra.loud)
    quiet_db = _bands_db(spectra, quiet) if quiet.any() else loud_db
    heard = BAND_CENTRES[loud_db > loud_db.max() - _EDGE_DB]
    return Tone(loud_db, quiet_db, float(heard[0]), float(heard[-1]), min(1.0, int(spectra.active.sum()) / 24.0))


def _bands_db(spectra: Frames, chosen: np.ndarray) -> Samples:
    power = band_sums(spectra.middle[chosen].mean(axis=0), spectra.hz)
    return np.asarray(10.0 * np.log10(np.maximum(power / max(float(power.sum()), 1e-20), 1e-10)))
