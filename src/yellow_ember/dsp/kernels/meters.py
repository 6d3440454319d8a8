"""Sample loops of the meters."""

from __future__ import annotations

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
def true_peak(block: Samples, phases: Samples, history: Samples, line: Samples, between: Samples,
              peak: Samples) -> None:
    """The greatest magnitude between samples, by a polyphase interpolator, per channel.

    Parameters
    ----------
    phases : Samples
        (count, taps), BS.1770-5 annex 2.
    history : Samples
        (channels, taps - 1).
    peak : Samples
        (channels,).
    line, between : Samples
        Scratch.
    """
    count, taps = phases.shape
    held = taps - 1
    n = block.shape[1]
    for c in range(block.shape[0]):
        for i in range(held):
            line[i] = history[c, i]
        for i in range(n):
            line[held + i] = block[c, i]
        most = 0.0
        for p in range(count):
            for i in range(n):
                between[i] = 0.0
            for k in range(taps):
                h, delay = phases[p, k], line[held - k:held - k + n]
                for i in range(n):
                    between[i] += h * delay[i]
            for i in range(n):
                most = max(most, abs(between[i]))
        for i in range(held):
            history[c, i] = line[n + i]
        peak[c] = most


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
