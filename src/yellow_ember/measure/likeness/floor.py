"""The floor between the notes: its spectrum, and hum of the mains."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.bands import band_sums
from yellow_ember.measure.likeness.frames import Frames

_QUIET_PERCENT = 10.0
_GAP_DB = 20.0
_MAINS_HZ = (50.0, 60.0)
_HUM_ORDERS = 4
_LOWEST_DB = -110.0


@dataclass(frozen=True, slots=True, eq=False)
class Floor:
    """What is left where nothing is played, against the loud notes.

    Attributes
    ----------
    floor_db : Samples
        (31,) third octaves.
    total_db : float
        All of that.
    hum_db : float
        Lines of the mains above what lies beside them.
    sure : float
        0 where the notes leave no gap.
    """

    floor_db: Samples
    total_db: float
    hum_db: float
    sure: float


def floor(spectra: Frames) -> Floor:
    """Read what lies in the quietest tenth of the frames."""
    level = spectra.level_db
    quiet = level <= np.percentile(level, _QUIET_PERCENT)
    loud = float(10.0 * np.log10(np.mean(10.0 ** (level[spectra.loud] / 10.0))))
    # A median over frames of noise lies ln 2 below its mean.
    mean = np.median(spectra.middle[quiet], axis=0) / np.log(2.0)
    bands = np.maximum(10.0 * np.log10(band_sums(mean, spectra.hz) + 1e-20) - loud, _LOWEST_DB)
    total = float(10.0 * np.log10(np.sum(10.0 ** (bands / 10.0))))
    return Floor(bands, total, max(_hum_db(mean, spectra.hz, mains) for mains in _MAINS_HZ),
                 float(np.clip((-total - _GAP_DB / 2.0) / _GAP_DB, 0.0, 1.0)))


def _hum_db(mean: Samples, hz: Samples, mains: float) -> float:
    """Lines of the mains against their surroundings, the second strongest of them."""
    above = []
    for order in range(1, _HUM_ORDERS + 1):
        line = round(order * mains / hz[1])
        beside = np.concatenate((mean[max(line - 4, 1):max(line - 2, 2)], mean[line + 3:line + 5]))
        above.append(10.0 * np.log10((mean[line] + 1e-20) / (float(np.median(beside)) + 1e-20)))
    return float(np.sort(above)[-2])
