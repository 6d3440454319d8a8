"""Density: how much lies between and above the partials, and how strong the partials above the first are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.likeness.frames import OCTAVES, Frames

ORDERS = np.arange(1, 11)
_LOWEST_HZ, _HIGHEST_HZ = 55.0, 800.0
_PITCHED = 0.6
_PARTIAL_LINES = 1
_FARTHEST_DB = 24.0
"""Beyond that there is nothing but partials, or none."""


@dataclass(frozen=True, slots=True, eq=False)
class Density:
    """What harmonics and noise a recording has.

    Attributes
    ----------
    flatness_db : Samples
        (8,) by octave: geometric against arithmetic mean of the spectrum, 0 for noise.
    tonal_db : Samples
        (8,) by octave: power of the partials against what lies between them.
    orders_db : Samples
        (10,) levels of partials against all of them, from the pitched frames.
    pitched : float
        Share of the frames that have one pitch: how sure the orders are.
    """

    flatness_db: Samples
    tonal_db: Samples
    orders_db: Samples
    pitched: float

    @property
    def odd_even_db(self) -> float:
        """Partials 3, 5, 7, 9 against 2, 4, 6, 8."""
        power = 10.0 ** (self.orders_db / 10.0)
        return float(10.0 * np.log10(power[2::2].sum() / power[1:9:2].sum()))


def density(spectra: Frames) -> Density:
    """Read density from the loud frames."""
    power = spectra.middle[spectra.loud] + 1e-20
    flatness, tonal = np.zeros(len(OCTAVES)), np.zeros(len(OCTAVES))
    for index in range(len(OCTAVES)):
        part = power[:, spectra.octave(index)]
        weights = part.sum(axis=1)
        flat = 10.0 * (np.log10(part).mean(axis=1) - np.log10(part.mean(axis=1)))
        flatness[index] = np.average(flat, weights=weights)
        tonal[index] = _tonal_db(part)
    orders, pitched = _orders(power, spectra.hz)
    return Density(flatness, tonal, orders, pitched)


def _tonal_db(part: Samples) -> float:
    """Local peaks with the lines beside them, against the rest."""
    peak = np.zeros(part.shape, bool)
    peak[:, 1:-1] = (part[:, 1:-1] > part[:, :-2]) & (part[:, 1:-1] > part[:, 2:])
    peak &= part > 8.0 * np.median(part, axis=1, keepdims=True)
    near = peak.copy()
    near[:, 1:] |= peak[:, :-1]
    near[:, :-1] |= peak[:, 1:]
    inside = float((part * near).sum())
    level = 10.0 * np.log10((inside + 1e-20) / (float(part.sum()) - inside + 1e-20))
    return float(np.clip(level, -_FARTHEST_DB, _FARTHEST_DB))


def _orders(power: Samples, hz: Samples) -> tuple[Samples, float]:
    """Mean level of each partial of the frames that have one pitch, and their share."""
    likeness = np.fft.irfft(power, axis=1)
    rate = 2.0 * hz[-1]
    first, last = int(rate / _HIGHEST_HZ), int(rate / _LOWEST_HZ) + 1
    stretch = likeness[:, first:last]
    period = stretch.argmax(axis=1)
    rows = np.arange(power.shape[0])
    # What falls from the start on is no period.
    inner = (period > 0) & (period < stretch.shape[1] - 1)
    pitched = inner & (stretch[rows, period] > _PITCHED * likeness[:, 0])
    if not pitched.any():
        return np.full(len(ORDERS), -10.0), 0.0
    first_hz = rate / (period[pitched] + first)
    lines = np.rint(first_hz[:, None] * ORDERS / hz[1]).astype(int)
    reach = np.minimum(lines[..., None] + np.arange(-_PARTIAL_LINES, _PARTIAL_LINES + 1), power.shape[1] - 1)
    levels = power[pitched][np.arange(int(pitched.sum()))[:, None, None], reach].sum(axis=2)
    shares = (levels / levels.sum(axis=1, keepdims=True)).mean(axis=0)
    return np.asarray(10.0 * np.log10(shares + 1e-8)), float(pitched.mean())
