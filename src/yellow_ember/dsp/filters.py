"""Coefficients of the linear filters that stages use.

Sections are rows b0 b1 b2 a1 a2 (a0 = 1) for `kernels.filters.biquads`.
"""

from __future__ import annotations

import cmath
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


_TOP, _MIDDLE = 2.0 * math.pi * 0.41, 0.62
"""The highest angle at which a matched section is held to its prototype, and the share of it that the corner may be."""


def matched(b: tuple[float, float, float], a: tuple[float, float, float], hz: float, rate: float) -> Section:
    """A section with an analogue prototype's poles, and its magnitude at zero, about its corner and near the top.

    So it is the same at every rate, where the bilinear transform squeezes the top (after Vicanek, *Matched second order
    digital filters*, 2016).

    Parameters
    ----------
    b, a : tuple[float, float, float]
        Numerator and denominator in ascending powers of s, in units of the corner.
    hz : float
        The corner.
    """
    corner = 2.0 * math.pi * hz / rate
    root = cmath.sqrt(a[1] * a[1] - 4.0 * a[2] * a[0])
    first, second = (cmath.exp(corner * (-a[1] + sign * root) / (2.0 * a[2])) for sign in (1.0, -1.0))
    a1, a2 = -(first + second).real, (first * second).real

    def numerator(angle: float) -> float:
        """The square of what the numerator must be at an angle."""
        s, z = 1j * angle / corner, cmath.exp(-1j * angle)
        analogue = abs((b[0] + s * (b[1] + s * b[2])) / (a[0] + s * (a[1] + s * a[2])))
        return float((analogue * abs(1.0 + z * (a1 + z * a2))) ** 2)

    if b[0] == b[1] == 0.0:
        # A high-pass keeps both its zeros at nothing.
        angle = min(corner, _MIDDLE * _TOP)
        b0 = math.sqrt(numerator(angle)) / (4.0 * math.sin(0.5 * angle) ** 2)
        return b0, -2.0 * b0, b0, a1, a2
    # The square is a sum of three terms, by the sine of half the angle: at zero, at half the rate, and between.
    at_zero = numerator(0.0)
    angles = min(corner, _MIDDLE * _TOP), _TOP
    sines = [math.sin(0.5 * angle) ** 2 for angle in angles]
    left = [(numerator(angle) - (1.0 - sine) * at_zero) / sine for angle, sine in zip(angles, sines, strict=True)]
    between = (left[0] - left[1]) / (4.0 * (sines[1] - sines[0]))
    at_top = max(left[1] - 4.0 * (1.0 - sines[1]) * between, 0.0)
    whole = 0.5 * (math.sqrt(at_zero) + math.sqrt(at_top))
    b0 = 0.5 * (whole + math.sqrt(max(whole * whole + between, 0.0)))
    return b0, 0.5 * (math.sqrt(at_zero) - math.sqrt(at_top)), whole - b0, a1, a2


def inverse(section: Section) -> Section:
    """What undoes a section all of whose zeros lie within the unit circle."""
    b0, b1, b2, a1, a2 = section
    return 1.0 / b0, a1 / b0, a2 / b0, b1 / b0, b2 / b0


def peak(hz: float, gain_db: float, q: float, rate: float) -> Section:
    """A bell of that height; down it is what undoes it up."""
    if gain_db < 0.0:
        return inverse(peak(hz, -gain_db, q, rate))
    g = 10.0 ** (gain_db / 40.0)
    return matched((1.0, g / q, 1.0), (1.0, 1.0 / (g * q), 1.0), hz, rate)


def low_shelf(hz: float, gain_db: float, rate: float) -> Section:
    """Gain below a corner, where half of it in dB is reached; slope one.  Down it is what undoes it up."""
    if gain_db < 0.0:
        return inverse(low_shelf(hz, -gain_db, rate))
    g = 10.0 ** (gain_db / 40.0)
    slope = math.sqrt(2.0 * g)
    return matched((g * g, g * slope, g), (1.0, slope, g), hz, rate)


def high_shelf(hz: float, gain_db: float, rate: float) -> Section:
    """Gain above a corner, where half of it in dB is reached; slope one.  Up it is what undoes it down."""
    if gain_db > 0.0:
        return inverse(high_shelf(hz, -gain_db, rate))
    g = 10.0 ** (gain_db / 40.0)
    slope = math.sqrt(2.0 * g)
    return matched((g, g * slope, g * g), (g, slope, 1.0), hz, rate)


def low_pass(hz: float, q: float, rate: float) -> Section:
    """Second-order low-pass."""
    return matched((1.0, 0.0, 0.0), (1.0, 1.0 / q, 1.0), hz, rate)


def high_pass(hz: float, q: float, rate: float) -> Section:
    """Second-order high-pass."""
    return matched((0.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0), hz, rate)


def band_pass(hz: float, q: float, rate: float) -> Section:
    """Second-order band-pass, gain one in its middle."""
    return matched((0.0, 1.0 / q, 0.0), (1.0, 1.0 / q, 1.0), hz, rate)


def notch(hz: float, q: float, rate: float) -> Section:
    """Second-order band-stop."""
    return matched((1.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0), hz, rate)


def steep_low_pass(hz: float, q: float, rate: float) -> Section:
    """Second-order low-pass by the bilinear transform, which squeezes its slope under half the rate."""
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

    By the bilinear transform, so that their sum has magnitude one everywhere.  Linkwitz, JAES 24 (1976).
    """
    low = steep_low_pass(hz, BUTTERWORTH_Q, rate)
    k = _corner(hz, rate)
    # Both halves have the same poles.
    scale = 1.0 / (1.0 + k / BUTTERWORTH_Q + k * k)
    high = (scale, -2.0 * scale, scale, *low[3:])
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


def minimum_phase(magnitude: Samples) -> Samples:
    """The spectrum of that magnitude whose energy comes soonest, by the cepstrum; (bins,) of a real transform."""
    floor = max(float(magnitude.max()), 1e-12) * 1e-6
    cepstrum = np.fft.irfft(np.log(np.maximum(magnitude, floor)))
    half = cepstrum.size // 2
    cepstrum[1:half] *= 2.0
    cepstrum[half + 1:] = 0.0
    return np.asarray(np.exp(np.fft.rfft(cepstrum)))


def soonest(taps: Samples) -> Samples:
    """A filter of as many taps and the same magnitude whose energy comes soonest."""
    size = 16 * (1 << taps.size.bit_length())
    return np.asarray(np.fft.irfft(minimum_phase(np.abs(np.fft.rfft(taps, size))))[:taps.size])
