"""What `kernels.dynamics.compress` takes, from what a user sets."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.kernels import dynamics


def compression(threshold_dbfs: float, slope: float, knee_db: float, attack: float, release: float,
                rate: float) -> Samples:
    """Figures (FIGURES,) of a compressor.

    Parameters
    ----------
    slope : float
        1 - 1/ratio.
    knee_db : float
        Width of the bend.
    attack, release : float
        Time constants in seconds.
    """
    result = np.zeros(dynamics.FIGURES)
    result[dynamics.THRESHOLD_DB], result[dynamics.SLOPE] = threshold_dbfs, slope
    result[dynamics.KNEE_DB] = max(knee_db, 1e-3)
    result[dynamics.RISE], result[dynamics.FALL] = one_pole(attack, rate), one_pole(release, rate)
    return result
