"""Sample loops of the meters."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY

_NEEDLE_DAMPING = 0.81
"""Of critical: 1 to 1.5 % of overshoot."""


@kernel
def needle(block: Samples, speed: float, state: Samples, peak: Samples) -> None:
    """A second-order needle on the rectified signal, and the block's peak, per channel.

    Parameters
    ----------
    speed : float
        Of the needle, in rad a frame (`metering.needle_speed`).
    state : Samples
        (channels, 2), deflection and velocity.
    peak : Samples
        (channels,).
    """
    for c in range(block.shape[0]):
        at, velocity, most = state[c, 0], state[c, 1], 0.0
        for i in range(block.shape[1]):
            x = abs(block[c, i])
            most = max(most, x)
            velocity += speed * (speed * (x - at) - 2.0 * _NEEDLE_DAMPING * velocity)
            at += velocity
        state[c, 0] = at if at > TINY else 0.0
        state[c, 1] = velocity if abs(velocity) > TINY else 0.0
        peak[c] = most


@kernel
def crest(before: float, at: float, after: float) -> float:
    """The height of the parabola through three neighbours, the middle one the highest."""
    bend = before - 2.0 * at + after
    return float(at - (after - before) ** 2 / (8.0 * bend)) if bend < 0.0 else at


@kernel
def true_peaks(block: Samples, phases: Samples, history: Samples, last: Samples, line: Samples, fine: Samples,
               peaks: Samples) -> None:
    """The greatest magnitude about every frame, between samples as well; peaks like block.

    A polyphase interpolator finds the signal at `count` places a frame (BS.1770-5, annex 2), parabolas through three
    of them what lies between.  What is found lies taps / 2 frames back.

    Parameters
    ----------
    phases : Samples
        (count, taps).
    history : Samples
        (channels, taps - 1), and `last` (channels, 2), the last two places.
    line, fine : Samples
        Scratch of taps - 1 + frames, and of count frames + 2.
    """
    count, taps = phases.shape
    held, n = taps - 1, block.shape[1]
    for c in range(block.shape[0]):
        for i in range(held):
            line[i] = history[c, i]
        for i in range(n):
            line[held + i] = block[c, i]
        for p in range(count):
            row = peaks[c]
            for i in range(n):
                row[i] = 0.0
            for k in range(taps):
                h, delay = phases[p, k], line[held - k:held - k + n]
                for i in range(n):
                    row[i] += h * delay[i]
            for i in range(np.uintp(n)):
                fine[2 + np.uintp(count) * i + np.uintp(p)] = abs(row[i])
        fine[0], fine[1] = last[c, 0], last[c, 1]
        last[c, 0], last[c, 1] = fine[count * n], fine[count * n + 1]
        for i in range(n):
            most = 0.0
            for j in range(count * i, count * (i + 1)):
                at = fine[j + 1]
                if at >= fine[j] and at >= fine[j + 2]:
                    at = crest(fine[j], at, fine[j + 2])
                most = max(most, at)
            peaks[c, i] = most
        for i in range(held):
            history[c, i] = line[n + i]


@kernel
def power(block: Samples, start: int, stop: int) -> float:
    """Sum of squares over all channels, from one frame to another."""
    total = 0.0
    for c in range(block.shape[0]):
        for i in range(start, stop):
            total += block[c, i] * block[c, i]
    return total


@kernel
def quasi_peak(block: Samples, rise: float, fall: float, state: Samples) -> None:
    """A peak programme meter: charged while the signal is above it, and falling by a share of itself, per channel.

    Parameters
    ----------
    rise : float
        Share of what is missing, a frame.
    fall : float
        Factor a frame.
    state : Samples
        (channels,).
    """
    for c in range(block.shape[0]):
        at = state[c]
        for i in range(block.shape[1]):
            x = abs(block[c, i])
            at *= fall
            if x > at:
                at += rise * (x - at)
        state[c] = at if at > TINY else 0.0
