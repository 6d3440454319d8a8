"""How much the ear minds a variation of speed: the weighting of IEC 60386 and the reading of a peak."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from yellow_ember.dsp.arrays import Samples

WEIGHTING = (
    (0.2, -30.6), (0.315, -19.7), (0.4, -15.0), (0.63, -8.4), (0.8, -6.0), (1.0, -4.2), (1.6, -1.8), (2.0, -0.9),
    (4.0, 0.0), (6.3, -0.9), (10.0, -2.1), (20.0, -5.9), (40.0, -10.4), (63.0, -14.2), (100.0, -17.3), (200.0, -23.0))
"""IEC 60386: rate of the variation in Hz, weight in dB."""

_HZ, _DB = np.array(WEIGHTING).T
_BELOW_DB_PER_OCTAVE, _ABOVE_DB_PER_OCTAVE = 17.0, -6.0
_TWO_SIGMA = 0.9545


def weight(hz: ArrayLike) -> Samples:
    """Amplitude weight of variations at some rates; 1 at 4 Hz, beyond the table by its last slope."""
    rate: Samples = np.maximum(np.asarray(hz, dtype=np.float64), 1e-6)
    inside = np.interp(np.log(rate), np.log(_HZ), _DB)
    below = np.minimum(np.log2(rate / _HZ[0]), 0.0) * _BELOW_DB_PER_OCTAVE
    above = np.maximum(np.log2(rate / _HZ[-1]), 0.0) * _ABOVE_DB_PER_OCTAVE
    return np.asarray(10.0 ** ((inside + below + above) / 20.0))


def weighted(deviation: Samples, rate: float) -> Samples:
    """A speed deviation (frames,) as the ear minds it; its mean is taken off.

    The ends are turned over, so that they do not ring.
    """
    centred = deviation - deviation.mean()
    turned = np.concatenate((2.0 * centred[0] - centred[:0:-1], centred, 2.0 * centred[-1] - centred[-2::-1]))
    spectrum = np.fft.rfft(turned) * weight(np.fft.rfftfreq(turned.size, 1.0 / rate))
    return np.asarray(np.fft.irfft(spectrum, turned.size)[centred.size - 1:2 * centred.size - 1])


def two_sigma_peak(values: Samples) -> float:
    """What is not exceeded for 95.45 % of the time: a sine's peak within 0.3 %, and steady on noise."""
    return float(np.quantile(np.abs(values), _TWO_SIGMA))
