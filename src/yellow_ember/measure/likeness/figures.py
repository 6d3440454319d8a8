"""The figures of a portrait by respect: in words, and as a curve to draw."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.bands import BAND_CENTRES
from yellow_ember.measure.likeness.distance import Respect
from yellow_ember.measure.likeness.frames import OCTAVES
from yellow_ember.measure.likeness.portrait import Portrait

_HEARD_DB = 45.0
_NO_GAP = 0.05
MOTION_HZ = np.array([2.0, 15.0])
"""Where wow and flutter stand on a scale of rates."""


def figure_words(portrait: Portrait, respect: Respect) -> str:
    """The figures of one respect in a few words."""
    match respect:
        case Respect.TONE:
            return f"{_slope(portrait):+.1f} dB/oct, {portrait.tone.low_hz:.0f} Hz to {portrait.tone.high_hz:.0f} Hz"
        case Respect.ADDED:
            words = f"partials {np.mean(portrait.density.tonal_db):+.0f} dB, against the rest"
            pitched = portrait.density.pitched > 0.2
            return words + (f", odd {portrait.density.odd_even_db:+.0f} dB above even" if pitched else "")
        case Respect.DYNAMICS:
            return f"crest {np.mean(portrait.dynamics.crest_db):.1f} dB, range {portrait.dynamics.range_db:.1f} dB"
        case Respect.NOISE:
            if portrait.floor.sure < _NO_GAP:
                return "no gaps"
            clicks = portrait.faults.clicks_per_s
            return f"{portrait.floor.total_db:.0f} dB" + (f", {clicks:.0f} clicks a second" if clicks >= 0.5 else "")
        case Respect.MOTION:
            if portrait.speed.sure < _NO_GAP:
                return "no steady note"
            return f"wow {portrait.speed.wow_pct:.2f} %, flutter {portrait.speed.flutter_pct:.2f} %"
        case Respect.WIDTH:
            width = portrait.width
            return "mono" if width.sure == 0.0 else (
                f"side {np.mean(width.side_db):.0f} dB, correlation {np.mean(width.correlation):+.2f}")


def figure_curve(portrait: Portrait, respect: Respect) -> tuple[Samples, Samples, str]:
    """Frequencies, values, and what the values are: dB over Hz, or percent over the rate of variation."""
    match respect:
        case Respect.TONE:
            tone = portrait.tone.loud_db
            return BAND_CENTRES, np.where(tone > tone.max() - _HEARD_DB, tone, np.nan), "dB"
        case Respect.ADDED:
            return OCTAVES, portrait.density.tonal_db, "dB"
        case Respect.DYNAMICS:
            return OCTAVES, portrait.dynamics.crest_db, "dB"
        case Respect.NOISE:
            return BAND_CENTRES, portrait.floor.floor_db, "dB"
        case Respect.MOTION:
            return MOTION_HZ, np.array([portrait.speed.wow_pct, portrait.speed.flutter_pct]), "%"
        case Respect.WIDTH:
            return OCTAVES, portrait.width.side_db, "dB"


def _slope(portrait: Portrait) -> float:
    """Of the loud notes' third octaves between 60 Hz and 12 kHz, in dB an octave."""
    middle = (BAND_CENTRES > 60.0) & (BAND_CENTRES < 12000.0)
    heard = middle & (portrait.tone.loud_db > portrait.tone.loud_db.max() - _HEARD_DB)
    if heard.sum() < 3:
        return 0.0
    return float(np.polyfit(np.log2(BAND_CENTRES[heard]), portrait.tone.loud_db[heard], 1)[0])
