"""Gains that follow a level: compression, and a limiter that sees a peak before it comes."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY

TICK = 8
"""Frames between two looks at the gain curve."""
THRESHOLD_DB, SLOPE, KNEE_DB, RISE, FALL = range(5)
"""What `compress` takes: where it sets in, 1 - 1/ratio, width of its bend, one-pole coefficients."""
FIGURES = 5


@kernel
def reduction_db(level_db: float, figures: Samples) -> float:
    """By how many dB a level is held down; quadratic within the knee (Giannoulis, Massberg, Reiss, JAES 60, 2012)."""
    over = level_db - figures[THRESHOLD_DB]
    knee = figures[KNEE_DB]
    if 2.0 * over <= -knee:
        return 0.0
    if 2.0 * over >= knee:
        return float(figures[SLOPE] * over)
    return float(figures[SLOPE] * (over + 0.5 * knee) ** 2 / (2.0 * knee))


@kernel
def compress(block: Samples, heard: Samples, figures: Samples, linked: bool, state: Samples) -> None:
    """Hold down what `heard` is over a threshold, in place.

    Parameters
    ----------
    heard : Samples
        (channels, frames), what the detector listens to.
    state : Samples
        (channels, 4), level, gain, its slope, frames until the next look; linked channels share the first one.
    """
    channels = block.shape[0]
    groups = 1 if linked else channels
    for c in range(groups):
        level, gain, slope, left = state[c, 0], state[c, 1], state[c, 2], state[c, 3]
        for i in range(block.shape[1]):
            x = abs(heard[c, i])
            if linked:
                for other in range(1, channels):
                    x = max(x, abs(heard[other, i]))
            level += (figures[RISE] if x > level else figures[FALL]) * (x - level)
            if left == 0.0:
                left = TICK
                held = reduction_db(20.0 * math.log10(max(level, 1e-9)), figures)
                slope = (10.0 ** (-held / 20.0) - gain) / TICK
            left -= 1.0
            gain += slope
            if linked:
                for other in range(channels):
                    block[other, i] *= gain
            else:
                block[c, i] *= gain
        state[c, 0] = level if level > TINY else 0.0
        state[c, 1], state[c, 2], state[c, 3] = gain, slope, left


@kernel
def true_peaks(block: Samples, phases: Samples, history: Samples, line: Samples, peaks: Samples) -> None:
    """Magnitude at and about every frame, between samples as well; peaks like block.

    What is found lies (taps - 1) / 2 frames back.

    Parameters
    ----------
    phases : Samples
        (count, taps), BS.1770-5 annex 2.
    history : Samples
        (channels, taps - 1).
    """
    count, taps = phases.shape
    held, n = taps - 1, block.shape[1]
    for c in range(block.shape[0]):
        for i in range(held):
            line[i] = history[c, i]
        for i in range(n):
            line[held + i] = block[c, i]
        result = peaks[c]
        for i in range(n):
            result[i] = abs(line[held // 2 + 1 + i])
        for p in range(count):
            for i in range(n):
                total = 0.0
                for k in range(taps):
                    total += phases[p, k] * line[held + i - k]
                result[i] = max(result[i], abs(total))
        for i in range(held):
            history[c, i] = line[n + i]


PLACE, LETTING, SMOOTHED, TURN, RECENT = range(5)
"""The limiter's state: place in its rings, gain that lets go, its mean, place among the recent gains."""


@kernel
def limit(block: Samples, peaks: Samples, ceiling: float, fall: float, linked: bool, ring: Samples, requested: Samples,
          state: Samples) -> None:
    """Bring peaks under a ceiling by a gain that is there before them, in place.

    block is delayed by ring.shape[1] frames; wanted : like ring, gains asked for
    The least gain of the ring's length is smoothed over the span, which is shorter by what the
    detector is late: so it is reached in time, and has no corners.

    Parameters
    ----------
    state : Samples
        (channels, RECENT + span), the last `span` gains at its end.
    """
    channels, length = ring.shape
    span = state.shape[1] - RECENT
    groups = 1 if linked else channels
    for c in range(groups):
        own = state[c]
        index, turn, gain = int(own[PLACE]), int(own[TURN]), own[LETTING]
        for i in range(block.shape[1]):
            peak = peaks[c, i]
            if linked:
                for other in range(1, channels):
                    peak = max(peak, peaks[other, i])
            requested[c, index] = min(1.0, ceiling / max(peak, 1e-12))
            least = 1.0
            for k in range(np.uintp(length)):
                least = min(least, requested[c, k])
            gain = least if least < gain else gain + fall * (least - gain)
            own[SMOOTHED] += (gain - own[RECENT + turn]) / span
            own[RECENT + turn] = gain
            smooth = min(own[SMOOTHED], 1.0)
            for other in range(channels if linked else 1):
                row = other if linked else c
                delay = ring[row, index]
                ring[row, index] = block[row, i]
                block[row, i] = delay * smooth
            index = index + 1 if index + 1 < length else 0
            turn += 1
            if turn == span:
                turn = 0
                # The mean is made again once a turn, so that rounding never adds up.
                total = 0.0
                for k in range(span):
                    total += own[RECENT + k]
                own[SMOOTHED] = total / span
        own[PLACE], own[TURN], own[LETTING] = index, turn, gain
