"""Gains that glide, fades between two signals, sums, and what keeps bad samples out."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY

VALUE, TARGET, STEP, LEFT = 0, 1, 2, 3
"""A ramp's state: present value, where it goes, step a frame, frames left."""
LOUDEST = 100.0
"""Samples beyond +40 dBFS are cut to it, so that nothing downstream overflows."""


@kernel
def clean_input(block: Samples) -> int:
    """Replace NaN and infinities by silence and cut absurd levels; returns how many were replaced."""
    bad = 0
    for c in range(block.shape[0]):
        for i in range(block.shape[1]):
            x = block[c, i]
            if not (x > -LOUDEST and x < LOUDEST):
                if x >= LOUDEST and x < 1e300:
                    block[c, i] = LOUDEST
                elif x <= -LOUDEST and x > -1e300:
                    block[c, i] = -LOUDEST
                else:
                    block[c, i] = 0.0
                    bad += 1
    return bad


@kernel
def put(target: Samples, source: Samples) -> None:
    """target := source, (channels, frames) each; a single channel is put to all."""
    for c in range(target.shape[0]):
        k = min(c, source.shape[0] - 1)
        for i in range(target.shape[1]):
            target[c, i] = source[k, i]


@kernel
def silence(block: Samples) -> None:
    """block := 0."""
    for c in range(block.shape[0]):
        for i in range(block.shape[1]):
            block[c, i] = 0.0


@kernel
def glide(block: Samples, ramp: Samples) -> None:
    """Multiply by a gain that moves in a straight line to its target, in place."""
    start, step, left = ramp[VALUE], ramp[STEP], int(ramp[LEFT])
    n = block.shape[1]
    if left == 0:
        if start != 1.0:
            for c in range(block.shape[0]):
                for i in range(n):
                    block[c, i] *= start
        return
    moving = min(n, left)
    for c in range(block.shape[0]):
        for i in range(moving):
            block[c, i] *= start + step * (i + 1)
        for i in range(moving, n):
            block[c, i] *= ramp[TARGET]
    advance(ramp, n)


@kernel
def add_at_gain(total: Samples, part: Samples, ramp: Samples) -> None:
    """Add one channel (frames,) to another at a gliding gain, in place."""
    start, step, left = ramp[VALUE], ramp[STEP], int(ramp[LEFT])
    n = total.shape[0]
    moving = min(n, left)
    for i in range(moving):
        total[i] += (start + step * (i + 1)) * part[i]
    rest = start if left == 0 else ramp[TARGET]
    for i in range(moving, n):
        total[i] += rest * part[i]
    advance(ramp, n)


@kernel
def to_sides(block: Samples, left: Samples, right: Samples, out: Samples) -> None:
    """A block of one or two channels at gliding gains to both sides of `out` (2, frames)."""
    last = block.shape[0] - 1
    for i in range(block.shape[1]):
        out[0, i] = block[0, i]
        out[1, i] = block[last, i]
    glide(out[0:1], left)
    glide(out[1:2], right)


@kernel
def print_to_sides(raw: NDArray[np.float32], ring: Samples, index: int, match: Samples, left: Samples,
                   right: Samples, out: Samples) -> int:
    """A print's frames, late by the ring, at three gliding gains to both sides; returns the ring's new place.

    Parameters
    ----------
    raw : NDArray[np.float32]
        (frames, one or two channels).
    ring : Samples
        (channels, frames late).
    out : Samples
        (2, frames).
    """
    last, delay, at = raw.shape[1] - 1, ring.shape[1], index
    for i in range(raw.shape[0]):
        out[0, i] = raw[i, 0]
        out[1, i] = raw[i, last]
        if delay > 0:
            for c in range(raw.shape[1]):
                old = ring[c, at]
                ring[c, at] = out[c, i]
                out[c, i] = old
            if last == 0:
                out[1, i] = out[0, i]
            at += 1
            if at == delay:
                at = 0
    glide(out, match)
    glide(out[0:1], left)
    glide(out[1:2], right)
    return at


@kernel
def advance(ramp: Samples, frames: int) -> None:
    """Move a ramp on by some frames."""
    left = int(ramp[LEFT])
    if left > frames:
        ramp[VALUE] += ramp[STEP] * frames
        ramp[LEFT] = left - frames
    elif left > 0:
        ramp[VALUE] = ramp[TARGET]
        ramp[LEFT] = 0.0


@kernel
def aim(ramp: Samples, value: float, frames: int) -> None:
    """Let a ramp start towards a value, which it reaches in so many frames."""
    ramp[TARGET] = value
    ramp[LEFT] = frames
    ramp[STEP] = (value - ramp[VALUE]) / frames


@kernel
def jump(ramp: Samples, value: float) -> None:
    """Let a ramp be at a value."""
    ramp[VALUE] = ramp[TARGET] = value
    ramp[STEP] = ramp[LEFT] = 0.0


@kernel
def rests_at(ramp: Samples, value: float) -> bool:
    """Whether a ramp is at a value and stays there."""
    return bool(ramp[LEFT] == 0.0 and ramp[TARGET] == value)


@kernel
def crossfade(first: Samples, second: Samples, ramp: Samples) -> None:
    """first := first (1 - r) + second r, r a gliding ramp."""
    start, step, left = ramp[VALUE], ramp[STEP], int(ramp[LEFT])
    n = first.shape[1]
    moving = min(n, left)
    for c in range(first.shape[0]):
        for i in range(moving):
            r = start + step * (i + 1)
            first[c, i] += r * (second[c, i] - first[c, i])
        rest = start if left == 0 else ramp[TARGET]
        for i in range(moving, n):
            first[c, i] += rest * (second[c, i] - first[c, i])
    advance(ramp, n)


@kernel
def add(block: Samples, other: Samples) -> None:
    """block += other; a single channel is added to all."""
    for c in range(block.shape[0]):
        source = other[c if other.shape[0] > 1 else 0]
        for i in range(block.shape[1]):
            block[c, i] += source[i]


@kernel
def mean(block: Samples, single: Samples) -> None:
    """Both channels' mean into the one of `single` (1, frames)."""
    for i in range(block.shape[1]):
        single[0, i] = 0.5 * (block[0, i] + block[1, i])


@kernel
def level_turn(sent: Samples, turned: Samples, speed: float, levels: Samples) -> None:
    """Take back what a turn has gained over what was sent: `turned` in place, never louder than that on average.

    Parameters
    ----------
    sent : Samples
        (channels, at least frames).
    levels : Samples
        (2,), slow mean squares of both.
    """
    for i in range(turned.shape[1]):
        before, behind = 0.0, 0.0
        for c in range(turned.shape[0]):
            before += sent[c, i] * sent[c, i]
            behind += turned[c, i] * turned[c, i]
        levels[0] += speed * (before - levels[0])
        levels[1] += speed * (behind - levels[1])
        if levels[1] > levels[0]:
            share = math.sqrt(levels[0] / levels[1])
            for c in range(turned.shape[0]):
                turned[c, i] *= share
    for k in range(2):
        if levels[k] < TINY:
            levels[k] = 0.0


@kernel
def ceiling(block: Samples, limit: float, release: float, state: Samples) -> float:
    """Hold peaks under `limit` at once and let go slowly; returns the smallest gain used.

    state[0] is the present gain.  Untouched, to the bit, while no peak passes the limit.
    """
    g = float(state[0])
    least = g
    for i in range(block.shape[1]):
        peak = 0.0
        for c in range(block.shape[0]):
            peak = max(peak, abs(block[c, i]))
        g = min(1.0, g + (1.0 - g) * release)
        if g > 0.99999:
            g = 1.0
        if peak * g > limit:
            g = limit / peak
        least = min(least, g)
        if g < 1.0:
            for c in range(block.shape[0]):
                block[c, i] *= g
    state[0] = g
    return least
