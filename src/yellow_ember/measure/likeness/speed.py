"""Wow and flutter, read from partials that stand still but for them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from yellow_ember.dsp.arrays import Samples

_FRAME_SECONDS, _HOP_SECONDS = 2048.0 / 48000.0, 512.0 / 48000.0
_WOW_HZ = (0.4, 6.0)
_FLUTTER_HZ = (6.0, 40.0)
_SHORTEST_SECONDS = 0.25
_LOWEST_HZ, _HIGHEST_HZ = 60.0, 5000.0
_HEARD_DB = 35.0
_STEADY = 0.02
"""What moves faster from frame to frame is another note."""
_APART = 0.006
"""By how much partials of one machine's speed may differ; those of noise differ more."""
_TOGETHER = 0.5
"""Share of the partials, by amplitude, that has to move together."""


@dataclass(frozen=True, slots=True, eq=False)
class Speed:
    """Variation of speed in percent, rms; sure : share of the time in which a partial could be followed"""

    wow_pct: float
    flutter_pct: float
    sure: float


def speed(pieces: Sequence[Samples], rate: float) -> Speed:
    """Follow by how much all partials of a moment move together to the next."""
    squares, weights, followed, total = np.zeros(2), np.zeros(2), 0, 0
    for piece in pieces:
        steps, together = _steps(piece.mean(axis=0), rate)
        total += steps.size
        for run in _runs(steps, together):
            followed += run.size
            for index, (low, high) in enumerate((_WOW_HZ, _FLUTTER_HZ)):
                squares[index] += run.size * _power_between(run, low, high)
                weights[index] += run.size
    wow, flutter = 100.0 * np.sqrt(squares / np.maximum(weights, 1.0))
    return Speed(float(wow), float(flutter), followed / max(total, 1))


def _steps(sound: Samples, rate: float) -> tuple[Samples, np.ndarray]:
    """Logarithmic change of pitch from hop to hop, and whether the partials agree on it."""
    size, hop = round(_FRAME_SECONDS * rate), round(_HOP_SECONDS * rate)
    if sound.size < size + 3 * hop:
        return np.zeros(0), np.zeros(0, bool)
    lines = np.fft.rfft(sliding_window_view(sound, size)[::hop] * np.hanning(size), axis=1)
    width = rate / size
    lines = lines[:, int(_LOWEST_HZ / width):int(_HIGHEST_HZ / width)]
    place = np.arange(lines.shape[1]) + int(_LOWEST_HZ / width)
    # The frequency of a partial is told by the turn of its phase over a hop.
    turns = np.angle(lines[1:] * np.conj(lines[:-1])) / (2.0 * np.pi)
    hz = (np.rint(place * width * hop / rate - turns) + turns) * rate / hop
    level = np.abs(lines[1:-1])
    peak = np.zeros(level.shape, bool)
    peak[:, 1:-1] = (level[:, 1:-1] > level[:, :-2]) & (level[:, 1:-1] >= level[:, 2:])
    heard = max(float(level.max()), 1e-12) * 10.0 ** (-_HEARD_DB / 20.0)
    peak &= level > np.maximum(level.max(axis=1, keepdims=True) * 10.0 ** (-_HEARD_DB / 20.0), heard)
    change = np.log(np.maximum(hz[1:], 1.0) / np.maximum(hz[:-1], 1.0))
    weight = level * peak
    agreed = weight * (np.abs(change) < _STEADY)
    total = np.maximum(agreed.sum(axis=1), 1e-12)
    step = (agreed * change).sum(axis=1) / total
    apart = np.sqrt((agreed * (change - step[:, None]) ** 2).sum(axis=1) / total)
    share = agreed.sum(axis=1) / np.maximum(weight.sum(axis=1), 1e-12)
    return step, (share > _TOGETHER) & (apart < _APART)


def _runs(steps: Samples, together: np.ndarray) -> list[Samples]:
    """Deviations, as shares, of stretches in which the partials move together."""
    shortest = round(_SHORTEST_SECONDS / _HOP_SECONDS)
    edges = np.flatnonzero(np.diff(together.astype(int))) + 1
    return [np.cumsum(steps[begin:end]) for begin, end in zip((0, *edges), (*edges, together.size), strict=True)
            if end - begin >= shortest and together[begin]]


def _power_between(run: Samples, low: float, high: float) -> float:
    """Mean square of a run's deviations in a range of frequencies, its drift taken off."""
    time = np.arange(run.size)
    level = run - np.polyval(np.polyfit(time, run, 1), time)
    power = np.abs(np.fft.rfft(level)) ** 2 * 2.0 / run.size**2
    hz = np.fft.rfftfreq(run.size, _HOP_SECONDS)
    return float(power[(hz >= low) & (hz < high)].sum())
