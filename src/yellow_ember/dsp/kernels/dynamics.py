"""Gains that follow a level: compression, and a limiter that sees a peak before it comes."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY

TICK = 4
"""Samples that the detector hears between two looks at the gain curve."""
THRESHOLD_DB, SLOPE, KNEE_DB, ATTACK, RELEASE, EVERY = range(6)
"""What `compress` takes: where it sets in, 1 - 1/ratio, width of its bend, shares of the way a look, frames for each
sample that the detector hears."""
FIGURES = 6
SECTIONS = 5
"""All-passes of each branch of the detector."""
HELD, GAIN, STEP, LEFT, SKIPPED, LOUDEST, PARITY, LATE = range(8)
"""Of the state: dB held down, gain and its step a frame, frames until the next look and until the next sample that is
heard, the loudest since the last look; then the detector's."""
_BRANCH = 2 * (SECTIONS + 1)
STATES = LATE + 1 + 2 * _BRANCH


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
def turned(x: float, coefficients: Samples, memory: Samples, parity: int) -> float:
    """A sample through a branch of all-passes of every second sample."""
    for k in range(SECTIONS):
        before = memory[2 * k + parity]
        memory[2 * k + parity] = x
        x = coefficients[k] * (x + memory[2 * k + 2 + parity]) - before
    memory[2 * SECTIONS + parity] = x
    return x


@kernel
def envelope(x: float, branches: Samples, own: Samples) -> float:
    """The height of what a sample is part of: of a steady sine its peak at every moment.

    Two branches of all-passes, a quarter of a turn apart, are a signal's two coordinates.

    Parameters
    ----------
    branches : Samples
        (2, SECTIONS).
    own : Samples
        (STATES,).
    """
    parity = int(own[PARITY])
    first = turned(x, branches[0], own[LATE + 1:LATE + 1 + _BRANCH], parity)
    second = turned(own[LATE], branches[1], own[LATE + 1 + _BRANCH:], parity)
    own[LATE], own[PARITY] = x, 1.0 - parity
    return float(math.sqrt(first * first + second * second))


@kernel
def look(own: Samples, figures: Samples) -> None:
    """Read the gain curve at the loudest since the last look, and go there in the times set."""
    target = reduction_db(20.0 * math.log10(max(own[LOUDEST], 1e-9)), figures)
    own[HELD] += figures[ATTACK if target > own[HELD] else RELEASE] * (target - own[HELD])
    own[LEFT] = TICK * figures[EVERY]
    own[STEP] = (10.0 ** (-own[HELD] / 20.0) - own[GAIN]) / own[LEFT]
    own[LOUDEST] = 0.0


@kernel
def compress(block: Samples, heard: Samples, figures: Samples, linked: bool, branches: Samples,
             state: Samples) -> None:
    """Hold down what `heard` is over a threshold, in place.

    Parameters
    ----------
    heard : Samples
        (channels, frames), what the detector listens to.
    branches : Samples
        Of the detector, see `envelope`.
    state : Samples
        (channels, STATES); linked channels share the first one's gain.
    """
    channels = block.shape[0]
    groups = 1 if linked else channels
    for c in range(groups):
        own = state[c]
        for i in range(block.shape[1]):
            if own[SKIPPED] == 0.0:
                own[SKIPPED] = figures[EVERY]
                level = envelope(heard[c, i], branches, own)
                if linked:
                    for other in range(1, channels):
                        level = max(level, envelope(heard[other, i], branches, state[other]))
                own[LOUDEST] = max(own[LOUDEST], level)
            own[SKIPPED] -= 1.0
            if own[LEFT] == 0.0:
                look(own, figures)
            own[LEFT] -= 1.0
            own[GAIN] += own[STEP]
            if linked:
                for other in range(channels):
                    block[other, i] *= own[GAIN]
            else:
                block[c, i] *= own[GAIN]
    for c in range(channels):
        for k in range(LATE + 1, STATES):
            if abs(state[c, k]) < TINY:
                state[c, k] = 0.0


TOP_STATES = 4
_LOUD, _SHARE, _TURN, _WHOLE = range(4)
_LEAST_TOP, _WHOLE_TOP = 0.02, 0.1
"""Of the ceiling: how loud what lies at the very top may be before it begins to go, and where it has gone."""
_NEAR, _AT, _RISE = 0.7, 1.0, 3.0
"""Likewise of the sound with that top, which may rise so many times as high between samples."""


@kernel
def lower_top(block: Samples, taps: Samples, ceiling: float, fade: int, held: float, past: Samples, tops: Samples,
              shares: Samples, state: Samples, line: Samples) -> None:
    """Take away what lies close to half the rate, where it is loud, in place; late by half the filter and `fade`.

    No interpolator of any length can tell how high that rises between samples, and nobody hears it.

    Parameters
    ----------
    taps : Samples
        (2 half + 1,), a symmetric high-pass.
    fade : int
        Frames in which it goes and comes.
    held : float
        What stays of its loudness a frame.
    past : Samples
        (channels, 2 half + fade).
    tops, shares : Samples
        (channels, fade), that top, and how much of it was to go.
    state : Samples
        (channels, TOP_STATES).
    line : Samples
        Scratch of 2 half + fade + frames.
    """
    half, n = taps.size // 2, block.shape[1]
    before = past.shape[1]
    for c in range(block.shape[0]):
        own, row = state[c], block[c]
        for i in range(before):
            line[i] = past[c, i]
        for i in range(n):
            line[before + i] = row[i]
        for i in range(before):
            past[c, i] = line[n + i]
        for i in range(n):
            row[i] = 0.0
        for k in range(taps.size):
            h, delay = taps[k], line[fade + k:fade + k + n]
            for i in range(n):
                row[i] += h * delay[i]
        # Now the row is the top of what came `half` frames ago; that of what goes out was found `fade` frames before.
        loud, total, turn, whole = own[_LOUD], own[_SHARE], int(own[_TURN]), own[_WHOLE]
        for i in range(n):
            loud = max(abs(row[i]), loud * held)
            whole = max(abs(line[fade + half + i]) + _RISE * loud, whole * held)
            share = min(max((loud / ceiling - _LEAST_TOP) / (_WHOLE_TOP - _LEAST_TOP), 0.0), 1.0)
            share *= min(max((whole / ceiling - _NEAR) / (_AT - _NEAR), 0.0), 1.0)
            total += share - shares[c, turn]
            shares[c, turn] = share
            top = tops[c, turn]
            tops[c, turn] = row[i]
            turn = turn + 1 if turn + 1 < fade else 0
            row[i] = line[half + i] - min(max(total / fade, 0.0), 1.0) * top
        own[_LOUD], own[_SHARE], own[_TURN] = (loud if loud > TINY else 0.0), (total if total > 1e-9 else 0.0), turn
        own[_WHOLE] = whole if whole > TINY else 0.0


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
