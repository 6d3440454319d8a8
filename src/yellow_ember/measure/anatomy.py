"""What a chain adds, told apart: odd and even harmonics, noise, and what moving pitch smears.

Read from probe tones and from silence that went through the chain.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples

PROBE_HZ = (110.0, 440.0, 1760.0)
"""Of the probe tones: a low, a middle and a high one."""
_HIGHEST_HZ = 20000.0
_SMEAR = 0.06
"""What lies within this share of a line is the line itself, moved; wider than any motor moves it."""
_LINE_BINS = 6
_FLOOR = 1e-16


@dataclass(frozen=True, slots=True)
class Anatomy:
    """Power against all that came out, in dB: odd and even harmonics, noise, moved pitch; -inf where there is none."""

    odd_db: float
    even_db: float
    noise_db: float
    motion_db: float


def anatomy(probes: list[tuple[float, Samples]], silence: Samples, rate: float) -> Anatomy:
    """From what came out: for each probe its frequency and (channels, frames), and what came of silence.

    A line's skirt beyond what the window spreads is moved pitch; what lies between the lines is noise, as far
    as silence makes it as well.
    """
    odd = even = motion = whole = 0.0
    for hz, sound in probes:
        power, bins = _spectrum(sound, rate)
        quiet = _spectrum(silence[:, :sound.shape[1]], rate)[0] if silence.shape[1] >= sound.shape[1] else 0.0 * power
        number = 1
        while number * hz < min(_HIGHEST_HZ, 0.45 * rate):
            centre = number * hz / bins
            reach = max(_SMEAR * hz * math.sqrt(number), 3.0 * _LINE_BINS * bins) / bins
            low, high = max(int(centre - reach), 0), min(int(centre + reach) + 2, power.size)
            near = slice(max(round(centre) - _LINE_BINS, 0), round(centre) + _LINE_BINS + 1)
            line = float(power[near].sum())
            around = max(float(power[low:high].sum()) - line - (float(quiet[low:high].sum())), 0.0)
            if number == 1:
                whole += line + around
                motion += around
            elif number % 2:
                odd += max(line + around - float(quiet[low:high].sum()), 0.0)
            else:
                even += max(line + around - float(quiet[low:high].sum()), 0.0)
            number += 1
    loud = float(np.mean(silence**2)) if silence.size else 0.0
    tones = float(np.mean([np.mean(sound**2) for _, sound in probes])) if probes else 0.0
    whole += odd + even
    return Anatomy(_db(odd, whole), _db(even, whole), _db(loud, tones), _db(motion, whole))


def _spectrum(sound: Samples, rate: float) -> tuple[Samples, float]:
    """Power of the channels' lines under a window whose skirts fall below -120 dB, and the lines' distance in Hz."""
    window = np.kaiser(sound.shape[1], 18.0)
    lines = np.fft.rfft(sound * window, axis=1)
    return np.asarray(np.sum(np.abs(lines) ** 2, axis=0)), rate / sound.shape[1]


def _db(part: float, whole: float) -> float:
    return 10.0 * math.log10(part / whole) if whole > 0.0 and part > _FLOOR * whole else -math.inf
