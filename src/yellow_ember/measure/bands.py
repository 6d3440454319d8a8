"""Spectra in third-octave bands.  Band edges: IEC 61260-1, base ten."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples

BAND_CENTRES: Samples = 1000.0 * 10.0 ** (np.arange(-17, 14) / 10.0)
"""Exact centres from 20 Hz to 20 kHz."""
BAND_EDGES: Samples = np.append(BAND_CENTRES * 10.0**-0.05, BAND_CENTRES[-1] * 10.0**0.05)


def band_sums(power: Samples, hz: Samples) -> Samples:
    """Sum per third-octave band of line powers at ascending frequencies `hz`."""
    sums = np.concatenate(([0.0], np.cumsum(power)))
    places = np.searchsorted(hz, BAND_EDGES)
    return np.asarray(np.diff(sums[places]))

