"""Guess what plays on a track from its spectrum and its crest, for proposals that a user can overrule."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples


def likely_source(bands: Samples, levels_db: Samples, crest_db: float) -> str:
    """Guess the source of a sound.

    Parameters
    ----------
    bands : Samples
        Centres of bands in Hz.
    levels_db : Samples
        Level in each band.
    crest_db : float
        Peak against RMS.

    Returns
    -------
    str
        "drums", "bass", "guitar", "keys" or "voice".
    """
    power = 10.0 ** (levels_db / 10.0)
    total = float(power.sum())
    if total <= 0.0:
        return "keys"

    def share_db(low: float, high: float) -> float:
        inside = float(power[(bands >= low) & (bands < high)].sum())
        return 10.0 * float(np.log10(inside / total + 1e-12))

    octaves = np.log2(bands)
    centre = float((power * octaves).sum()) / total
    spread = float(np.sqrt((power * np.square(octaves - centre)).sum() / total))
    lows, top = share_db(0.0, 400.0), share_db(6000.0, 1e6)
    if lows > -1.5 and top < -25.0:
        return "bass"
    if crest_db > 17.0 and top > -20.0 and lows > -3.5:
        return "drums"
    if crest_db > 15.5 and spread > 1.5:
        return "voice"
    return "guitar" if crest_db > 16.0 else "keys"
