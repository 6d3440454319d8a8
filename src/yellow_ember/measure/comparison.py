"""What was added: the part of a stage's output that no linear tone change of its input explains.

Non-coherent output power (Bendat and Piersol, Random Data, 4th ed., section 6.1): output
power less what the best linear system makes of the input.  The linear system is fitted
again in each narrow stretch of the spectrum as a polynomial over frequency (local
polynomial method: Pintelon and Schoukens, System Identification, 2nd ed., chapter 7), so
that filters and delays, whose response bends within a stretch, leave nothing behind.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.bands import BAND_CENTRES, band_sums

_DEGREE = 4
_LINES_PER_UNKNOWN = 8
_RIDGE = 1e-14
_TOGETHER = 1024
"""Stretches that are worked on at once: a minute of sound would fill a gigabyte."""
_DENSE_HZ, _SPARSE = 1500.0, 4
"""Above this one stretch in so many stands for all of them, where that is enough: third octaves have hundreds there."""


@dataclass(frozen=True, slots=True, eq=False)
class Comparison:
    """Before against after.

    Attributes
    ----------
    added_db : float
        Non-coherent power against coherent output power; -inf where nothing is added.
    bands : Samples
        Third-octave centres in Hz.
    before_db, after_db : Samples
        Band levels in dBFS (mean square, full-scale sine = -3 dB).
    added_bands_db : Samples
        Band levels of the non-coherent part.
    tone_db : Samples
        Change of each band by the coherent part, nan where the input has nothing.
    """

    added_db: float
    bands: Samples
    before_db: Samples
    after_db: Samples
    added_bands_db: Samples
    tone_db: Samples


def compare(before: Samples, after: Samples, rate: float, *, loop: bool = False) -> Comparison:
    """Tone change and what was added between two aligned signals (channels, frames) of the same length.

    A single-channel input may meet a two-channel output.

    Parameters
    ----------
    loop : bool
        Both are one turn of a loop that came round before, and are not padded.
    """
    return Before(before, rate, loop=loop, keep=False).against(after)


class Before:
    """A signal with which several others are compared: what can be known of it alone is worked out once.

    Parameters
    ----------
    before, rate, loop
        As in `compare`.
    keep : bool
        It is compared with more than one.
    quick : bool
        Many are compared with it, each late by a few hundred frames at most, and levels to half a dB are enough.
    """

    def __init__(self, before: Samples, rate: float, *, loop: bool = False, keep: bool = True,
                 quick: bool = False) -> None:
        self._frames = before.shape[1]
        self._size = self._frames if loop else _fast_size(2 * self._frames)
        self._scale = 2.0 / (self._size * self._frames)
        self._channels = before.shape[0]
        self._hz: Samples = np.asarray(np.fft.rfftfreq(self._size, 1.0 / rate), dtype=np.float64)
        self._chosen: slice | NDArray[np.int64] = slice(None)
        if quick:
            self._chosen, standing_for = _some_stretches(self._hz, self._channels)
            self._hz = self._hz[self._chosen]
            self._scale = self._scale * standing_for
        lines = self.lines_of(before)
        self._linear = _Linear(lines, self._frames / self._size, self._size, keep=keep, late=not quick)
        self._power = band_sums(self._power_of(lines), self._hz)

    def lines_of(self, sound: Samples) -> NDArray[np.complex128]:
        """The spectrum of a sound (channels, frames) as long as this one, as far as it is looked at: for others of its
        length and kind too, which are compared with the same sound."""
        if sound.shape[1] != self._frames:
            raise ValueError(f"lengths differ: {self._frames} and {sound.shape[1]} frames")
        return np.asarray(np.fft.rfft(sound, self._size, axis=1)[:, self._chosen])

    def _power_of(self, lines: NDArray[np.complex128]) -> Samples:
        """Mean squares (lines,)."""
        return np.asarray(np.sum(lines.real**2 + lines.imag**2, axis=0) * self._scale)

    def against(self, after: Samples) -> Comparison:
        """What was done to it to make `after` (channels, frames)."""
        return self.against_lines(self.lines_of(after))

    def against_lines(self, lines: NDArray[np.complex128]) -> Comparison:
        """What was done to it to make a sound of this spectrum."""
        fitted, freedom = self._linear.fit(lines)
        channels, before_power = lines.shape[0], self._power
        added, explained = self._power_of(lines - fitted) * freedom, self._power_of(fitted)
        after_power = band_sums(self._power_of(lines), self._hz)
        added_power, explained_power = band_sums(added, self._hz), band_sums(explained, self._hz)
        audible = (self._hz >= 20.0) & (self._hz <= 20000.0)
        total_added, total = float(added[audible].sum()), float(explained[audible].sum())
        level = 10.0 * math.log10(total_added / total) if total_added > 0.0 and total > 0.0 else -math.inf
        quiet = before_power < 1e-9 * max(float(before_power.max()), 1e-20)
        with np.errstate(divide="ignore", invalid="ignore"):
            tone = np.where(quiet, np.nan,
                            10.0 * np.log10(explained_power / before_power * (self._channels / channels)))
        return Comparison(level, BAND_CENTRES, _db(before_power / self._channels), _db(after_power / channels),
                          _db(added_power / channels), tone)


def _some_stretches(hz: Samples, channels: int) -> tuple[NDArray[np.int64], Samples]:
    """Lines of whole stretches that stand for all, and for how many each stands."""
    width = _width(channels)
    stretch = np.arange(hz.size) // width
    first_sparse = int(np.searchsorted(hz, _DENSE_HZ)) // width
    chosen = np.flatnonzero((stretch < first_sparse) | ((stretch - first_sparse) % _SPARSE == 0))
    return chosen, np.where(stretch[chosen] < first_sparse, 1.0, _SPARSE)


def _width(inputs: int) -> int:
    """Lines of a stretch."""
    return _LINES_PER_UNKNOWN * inputs * (_DEGREE + 1)


def added_part(before: Samples, after: Samples) -> Samples:
    """What no linear tone change of `before` explains in `after`, as sound; both one turn of a loop, aligned.

    Parameters
    ----------
    before, after : Samples
        (channels, frames); the result is like `after`.
    """
    if before.shape[1] != after.shape[1]:
        raise ValueError(f"lengths differ: {before.shape[1]} and {after.shape[1]} frames")
    y = np.fft.rfft(after, axis=1)
    fitted, _ = _Linear(np.fft.rfft(before, axis=1), 1.0, after.shape[1]).fit(y)
    return np.asarray(np.fft.irfft(y - fitted, after.shape[1], axis=1))


def _delay(x: NDArray[np.complex128], y: NDArray[np.complex128], size: int) -> NDArray[np.complex128]:
    """The factors (lines,) of the whole frames by which y is late against x, where they correlate most."""
    together = np.abs(np.fft.irfft(np.sum(np.conj(x.sum(axis=0)) * y, axis=0), size))
    return np.asarray(np.exp(-2j * np.pi * np.arange(x.shape[1]) * int(np.argmax(together)) / size))


class _Linear:
    """All that linear systems make of a spectrum.

    Parameters
    ----------
    x : NDArray[np.complex128]
        (inputs, lines).
    independent : float
        Share of the lines that padding did not interpolate.
    size : int
        Frames of the transform.
    keep : bool
        What the fits need of x is kept for the next one: of a minute of two channels a quarter of a gigabyte.
    """

    def __init__(self, x: NDArray[np.complex128], independent: float, size: int, *, keep: bool = False,
                 late: bool = True) -> None:
        self._x, self._size, self._independent, self._late = x, size, independent, late
        self._width = _width(x.shape[0])
        self._kept = list(self._bases()) if keep else None

    def _bases(self) -> Iterator[tuple[slice, NDArray[np.complex128], Samples]]:
        """Lines that are worked on at once, what spans their fits, and by how much a fit makes less of the rest."""
        powers = np.stack([np.linspace(-1.0, 1.0, self._width)**k for k in range(_DEGREE + 1)])
        lines = self._x.shape[1]
        for first in range(0, lines, _TOGETHER * self._width):
            inside = slice(first, min(first + _TOGETHER * self._width, lines))
            count = -(-(inside.stop - first) // self._width)
            basis, used = _basis(_in_stretches(self._x[:, inside], count, self._width), powers)
            freedom = np.repeat(1.0 / (1.0 - used / (self._width * self._independent)), self._width)
            yield inside, basis, freedom[:inside.stop - first]

    def fit(self, y: NDArray[np.complex128]) -> tuple[NDArray[np.complex128], Samples]:
        """What comes nearest to y (outputs, lines), like y; and by how much the fit made less of the rest, by line."""
        # A long delay turns faster over frequency than a polynomial can follow: it is taken off first, where that
        # helps.  (Of a sound that repeats itself the best correlation may be a turn too far.)
        late_by = _delay(self._x, y, self._size) if self._late else None
        delays = (None,) if late_by is None or np.all(late_by == 1.0) else (None, late_by)
        fits, freedom = [np.zeros_like(y) for _ in delays], np.ones(y.shape[1])
        for inside, basis, free in self._bases() if self._kept is None else self._kept:
            freedom[inside] = free
            for fitted, delay in zip(fits, delays, strict=True):
                turned = y[:, inside] if delay is None else y[:, inside] * np.conj(delay[inside])
                for channel, target in enumerate(_in_stretches(turned, basis.shape[0], self._width)):
                    along = np.conj(np.conj(target)[:, None, :] @ basis)
                    part = (basis @ np.swapaxes(along, 1, 2)).ravel()[:free.size]
                    fitted[channel, inside] = part if delay is None else part * delay[inside]
        return min(fits, key=lambda fitted: float(np.sum(np.abs(y - fitted) ** 2))), freedom


def _in_stretches(lines: NDArray[np.complex128], count: int, width: int) -> NDArray[np.complex128]:
    """Spectral lines (channels, lines) as stretches (channels, count, width), the last filled up with nothing."""
    padded = np.zeros((lines.shape[0], count * width), complex)
    padded[:, :lines.shape[1]] = lines
    return padded.reshape(lines.shape[0], count, width)


def _basis(x: NDArray[np.complex128], powers: Samples) -> tuple[NDArray[np.complex128], Samples]:
    """Orthonormal directions (stretches, width, unknowns) of what a linear system can make of x, and how many count.

    Parameters
    ----------
    x : NDArray[np.complex128]
        (inputs, stretches, width).
    powers : Samples
        (degree + 1, width), of the place in a stretch.
    """
    _, stretches, width = x.shape
    regressors = np.einsum("isw,kw->swik", x, powers).reshape(stretches, width, -1)
    norm = np.sqrt(np.sum(np.abs(regressors) ** 2, axis=1, keepdims=True))
    norm[norm == 0.0] = 1.0
    basis, triangle = np.linalg.qr(regressors / norm)
    # Directions that the input does not excite would fit rounding noise; they explain nothing.
    sound = np.abs(np.diagonal(triangle, axis1=1, axis2=2)) > _RIDGE**0.5
    return basis * sound[:, None, :], sound.sum(axis=1)


def _fast_size(frames: int) -> int:
    """The next length whose transform is quick: 2^a 3^b 5^c."""
    best = 1 << (frames - 1).bit_length()
    five = 1
    while five < best:
        three = five
        while three < best:
            size = three << max(0, (-(-frames // three) - 1).bit_length())
            if frames <= size < best:
                best = size
            three *= 3
        five *= 5
    return best


def _db(power: Samples) -> Samples:
    return np.asarray(10.0 * np.log10(np.maximum(power, 1e-18)))

