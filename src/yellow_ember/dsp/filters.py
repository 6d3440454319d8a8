"""Coefficients of the linear filters that stages use.

Sections are rows b0 b1 b2 a1 a2 (a0 = 1) for `kernels.filters.biquads`.
"""

from __future__ import annotations

import functools
import math

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples

Section = tuple[float, float, float, float, float]
THROUGH: Section = (1.0, 0.0, 0.0, 0.0, 0.0)


def _second_order(b: tuple[float, float, float], a: tuple[float, float, float]) -> Section:
    return (b[0] / a[0], b[1] / a[0], b[2] / a[0], a[1] / a[0], a[2] / a[0])


def _corner(hz: float, rate: float) -> float:
    """tan of the bilinear transform's half angle, kept below the Nyquist frequency."""
    return math.tan(math.pi * min(hz / rate, 0.495))


def peak(hz: float, gain_db: float, q: float, rate: float) -> Section:
    """A bell; Bristow-Johnson, Cookbook formulae for audio EQ, peakingEQ."""
    w = 2.0 * math.pi * min(hz / rate, 0.495)
    alpha, a = math.sin(w) / (2.0 * q), 10.0 ** (gain_db / 40.0)
    c = -2.0 * math.cos(w)
    return _second_order((1 + alpha * a, c, 1 - alpha * a), (1 + alpha / a, c, 1 - alpha / a))


def _shelf(hz: float, gain_db: float, rate: float, side: float) -> Section:
    """Bristow-Johnson's shelves of slope one, the high one with side = -1; swapping signs of gain inverts."""
    w = 2.0 * math.pi * min(hz / rate, 0.495)
    a, c = 10.0 ** (gain_db / 40.0), side * math.cos(w)
    spread = math.sin(w) * math.sqrt(2.0 * a)
    up, down = (a + 1) + (a - 1) * c, (a + 1) - (a - 1) * c
    return _second_order((a * (down + spread), 2 * a * side * ((a - 1) - (a + 1) * c), a * (down - spread)),
                         (up + spread, -2 * side * ((a - 1) + (a + 1) * c), up - spread))


def low_shelf(hz: float, gain_db: float, rate: float) -> Section:
    """Gain below a corner, where half of it in dB is reached.  Cookbook formulae for audio EQ, lowShelf, S = 1."""
    return _shelf(hz, gain_db, rate, 1.0)


def high_shelf(hz: float, gain_db: float, rate: float) -> Section:
    """Gain above a corner, where half of it in dB is reached.  Cookbook formulae for audio EQ, highShelf, S = 1."""
    return _shelf(hz, gain_db, rate, -1.0)


def low_pass(hz: float, q: float, rate: float) -> Section:
    """Second-order low-pass by the bilinear transform."""
    k = _corner(hz, rate)
    return _second_order((k * k, 2 * k * k, k * k), (1 + k / q + k * k, 2 * (k * k - 1), 1 - k / q + k * k))


def low_pass_first(hz: float, rate: float) -> Section:
    """First-order low-pass by the bilinear transform."""
    k = _corner(hz, rate)
    return (k / (1 + k), k / (1 + k), 0.0, (k - 1) / (1 + k), 0.0)


def high_pass_first(hz: float, rate: float) -> Section:
    """First-order high-pass by the bilinear transform; with `low_pass_first` it adds up to the whole."""
    k = _corner(hz, rate)
    return (1.0 / (1 + k), -1.0 / (1 + k), 0.0, (k - 1) / (1 + k), 0.0)


def high_pass(hz: float, q: float, rate: float) -> Section:
    """Second-order high-pass by the bilinear transform."""
    k = _corner(hz, rate)
    return _second_order((1.0, -2.0, 1.0), (1 + k / q + k * k, 2 * (k * k - 1), 1 - k / q + k * k))


def band_pass(hz: float, q: float, rate: float) -> Section:
    """Second-order band-pass by the bilinear transform, gain one in its middle."""
    k = _corner(hz, rate)
    return _second_order((k / q, 0.0, -k / q), (1 + k / q + k * k, 2 * (k * k - 1), 1 - k / q + k * k))


def notch(hz: float, q: float, rate: float) -> Section:
    """Second-order band-stop by the bilinear transform."""
    k = _corner(hz, rate)
    zeros = (1 + k * k, 2 * (k * k - 1), 1 + k * k)
    return _second_order(zeros, (1 + k / q + k * k, 2 * (k * k - 1), 1 - k / q + k * k))


def all_pass(hz: float, q: float, rate: float) -> Section:
    """Second-order all-pass by the bilinear transform; with Butterworth's Q what a fourth-order `split` sums to."""
    k = _corner(hz, rate)
    a = (1 + k / q + k * k, 2 * (k * k - 1), 1 - k / q + k * k)
    return _second_order((a[2], a[1], a[0]), a)


def tilt(hz: float, gain_db: float, rate: float) -> Section:
    """First-order tilt about a pivot: highs up and lows down by half the gain each.

    `tilt(hz, -gain_db)` is its exact inverse.
    """
    k, g = _corner(hz, rate), 10.0 ** (gain_db / 40.0)
    # H(s) = (g s + 1) / (s + g), s in units of the pivot, where its magnitude is one.
    b0, b1, a0, a1 = g + k, k - g, 1.0 + g * k, g * k - 1.0
    return (b0 / a0, b1 / a0, 0.0, a1 / a0, 0.0)


def zero_and_pole(zero_hz: float, pole_hz: float, rate: float) -> Section:
    """(s + wz) / (s + wp) by the bilinear transform.

    Gain at zero frequency is zero_hz over pole_hz, at high frequencies one.  Swapping the two
    arguments gives the exact inverse.
    """
    z, p = _corner(zero_hz, rate), _corner(pole_hz, rate)
    return ((1 + z) / (1 + p), (z - 1) / (1 + p), 0.0, (p - 1) / (1 + p), 0.0)


def one_pole(seconds: float, rate: float) -> float:
    """Share of the way that a one-pole follower goes each frame, for its time constant."""
    return 1.0 - math.exp(-1.0 / (seconds * rate))


BUTTERWORTH_Q = math.sqrt(0.5)


def split(hz: float, rate: float) -> tuple[Samples, Samples]:
    """Linkwitz-Riley crossover of fourth order: sections of the low and of the high part.

    Their sum has magnitude one everywhere.  Linkwitz, JAES 24 (1976).
    """
    low = low_pass(hz, BUTTERWORTH_Q, rate)
    high = high_pass(hz, BUTTERWORTH_Q, rate)
    return np.array([low, low]), np.array([high, high])


@functools.cache
def _window(taps: int) -> Samples:
    return np.kaiser(taps, 6.0)


def linear_phase(magnitude: Samples, taps: int) -> Samples:
    """A symmetric FIR of odd length from magnitudes on an even grid from zero to Nyquist.

    Window method: the response is smoothed by the transform of a Kaiser window.

    Parameters
    ----------
    magnitude : Samples
        (bins,), real; bins - 1 is half the design's transform length.
    """
    if taps % 2 == 0:
        raise ValueError(f"a symmetric filter of whole delay has an odd length, not {taps}")
    impulse = np.fft.irfft(magnitude)
    half = taps // 2
    centred = np.concatenate((impulse[-half:], impulse[: half + 1]))
    return np.asarray(centred * _window(taps))


def transfer(sections: Samples, hz: Samples, rate: float) -> NDArray[np.complex128]:
    """Complex response of sections in series at some frequencies."""
    z = np.exp(-2j * np.pi * np.asarray(hz) / rate)
    total = np.ones_like(z)
    for b0, b1, b2, a1, a2 in np.atleast_2d(sections):
        total = total * (b0 + b1 * z + b2 * z * z) / (1.0 + a1 * z + a2 * z * z)
    return np.asarray(total)


def response(sections: Samples, hz: Samples, rate: float) -> Samples:
    """Magnitude of sections in series at some frequencies."""
    return np.asarray(np.abs(transfer(sections, hz, rate)))


def fir_response(taps: Samples, hz: Samples, rate: float) -> Samples:
    """Zero-phase response of a symmetric FIR at some frequencies; may be negative."""
    half = taps.size // 2
    angle = 2.0 * np.pi * np.outer(np.asarray(hz) / rate, np.arange(1, half + 1))
    return np.asarray(taps[half] + 2.0 * np.cos(angle) @ taps[half + 1:])


_ROOM = 1024
"""Frames: short blocks find room for so many more before what a filter holds has to be moved."""


def past_length(taps: int, max_block: int) -> int:
    """How many inputs there is room for beside an FIR filter, as `kernels.filters.fir` wants it."""
    return taps - 1 + max(max_block, _ROOM)
