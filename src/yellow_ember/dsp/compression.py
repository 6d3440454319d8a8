"""What `kernels.dynamics.compress` takes, from what a user sets."""

from __future__ import annotations

import functools
import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.kernels import dynamics

_LOWEST_HZ = 10.0
"""From where on the detector's branches are a quarter of a turn apart."""


def compression(threshold_dbfs: float, slope: float, knee_db: float, attack: float, release: float, rate: float,
                every: int = 1) -> Samples:
    """Figures (FIGURES,) of a compressor.

    Parameters
    ----------
    slope : float
        1 - 1/ratio.
    knee_db : float
        Width of the bend.
    attack, release : float
        Time constants of the dB held down, in seconds.
    every : int
        Frames for each sample that the detector hears, where it runs at a raised rate.
    """
    result = np.zeros(dynamics.FIGURES)
    result[dynamics.THRESHOLD_DB], result[dynamics.SLOPE] = threshold_dbfs, slope
    result[dynamics.KNEE_DB] = max(knee_db, 1e-3)
    looks = rate / every / dynamics.TICK
    result[dynamics.ATTACK], result[dynamics.RELEASE] = one_pole(attack, looks), one_pole(release, looks)
    result[dynamics.EVERY] = every
    return result


@functools.cache
def branches(rate: float) -> Samples:
    """The detector's all-passes, (2, SECTIONS), for samples at a rate.

    A half-band elliptic filter turned by a quarter (Valenzuela and Constantinides, IEE Proc. 130 G, 1983): from
    10 Hz up, at 48 kHz, both branches are within 0.4 degrees of a quarter of a turn apart.
    """
    count = 2 * dynamics.SECTIONS
    k = math.tan((1.0 - 4.0 * _LOWEST_HZ / rate) * math.pi / 4.0) ** 2
    root = (1.0 - k * k) ** 0.25
    e = 0.5 * (1.0 - root) / (1.0 + root)
    q = e * (1.0 + e**4 * (2.0 + e**4 * (15.0 + 150.0 * e**4)))
    result = np.zeros(count)
    for place in range(count):
        angle = (place + 1) * math.pi / (2 * count + 1)
        above = sum((-1) ** i * q ** (i * (i + 1)) * math.sin((2 * i + 1) * angle) for i in range(12)) * q**0.25
        below = sum((-1) ** i * q ** (i * i) * math.cos(2 * i * angle) for i in range(1, 12)) + 0.5
        square = (above / below) ** 2
        x = math.sqrt((1.0 - square * k) * (1.0 - square / k)) / (1.0 + square)
        result[place] = (1.0 - x) / (1.0 + x)
    return np.ascontiguousarray(result.reshape(-1, 2).T)
