"""A wow and flutter meter: speed variation from a recorded tone, weighted by IEC 60386."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.flutter import two_sigma_peak, weighted

TONE_HZ = 3150.0
"""The standard's test tone."""
_BAND = 0.5
"""Share of the tone's frequency that the demodulator lets through on either side."""
_CURVE_RATE = 2000.0
_EDGE_SECONDS = 0.25


@dataclass(frozen=True, slots=True, eq=False)
class SpeedReading:
    """What the meter reads.

    Attributes
    ----------
    weighted_pct, unweighted_pct : float
        Peak (two sigma) of the variation.
    speed_error_pct : float
        Mean speed against the tone's nominal frequency.
    curve : Samples
        Deviation in % from the mean, (points,), `curve_rate` a second.
    """

    weighted_pct: float
    unweighted_pct: float
    speed_error_pct: float
    curve: Samples
    curve_rate: float


def wow_and_flutter(tone: Samples, rate: float, hz: float = TONE_HZ) -> SpeedReading:
    """Read a recorded tone (frames,) of nominally `hz`.

    ValueError where it is too short or silent.  Demodulated as an analytic signal, so that
    variations up to a quarter of `hz` are followed.
    """
    if tone.size < rate:
        raise ValueError("a reading takes a second of tone at least")
    if np.abs(tone).max() < 1e-6:
        raise ValueError("there is no tone to read")
    size = tone.size
    spectrum = np.fft.fft(tone * _faded(size, rate))
    frequency = np.fft.fftfreq(size, 1.0 / rate)
    away = np.abs(frequency - hz) / (_BAND * hz)
    spectrum *= np.where(away < 1.0, np.cos(0.5 * np.pi * np.clip(2.0 * away - 1.0, 0.0, 1.0)) ** 2, 0.0)
    phase = np.unwrap(np.angle(np.fft.ifft(spectrum)))
    step = max(1, round(rate / _CURVE_RATE))
    moved = np.diff(phase[::step]) * rate / (2.0 * math.pi * step)
    edge = round(_EDGE_SECONDS * rate / step)
    inner = moved[edge:-edge]
    mean = float(inner.mean())
    deviation = inner / mean - 1.0
    curve_rate = rate / step
    heard = weighted(deviation, curve_rate)[edge:-edge]
    return SpeedReading(100.0 * two_sigma_peak(heard), 100.0 * two_sigma_peak(deviation),
                        100.0 * (mean / hz - 1.0), 100.0 * deviation, curve_rate)


def _faded(frames: int, rate: float) -> Samples:
    """One, with short fades at both ends."""
    window = np.ones(frames)
    fade = round(0.05 * rate)
    window[:fade] = np.sin(0.5 * np.pi * np.arange(fade) / fade) ** 2
    window[-fade:] = window[:fade][::-1]
    return window
