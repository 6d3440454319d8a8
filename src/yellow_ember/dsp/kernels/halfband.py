"""Half-band interpolation and decimation by two, and cascades of them, for one channel."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.convolution import Taps, add_folded, folded

Passes = tuple[Taps, ...]
"""Folded even-indexed coefficients of one half-band filter, cut into passes of equal length."""
Cascade = tuple[Passes, Passes, Passes, Passes]
"""The filters of four doublings, from the base rate up."""


@kernel
def double_rate(source: Samples, n: int, target: Samples, passes: Passes, history: Samples, line: Samples,
                total: Samples) -> None:
    """Write 2n samples made from n.

    Parameters
    ----------
    passes : Passes
        Of a half-band filter of 4 pairs - 1 taps with gain two; the odd-indexed branch is a plain delay.
    history : Samples
        The last 2 pairs - 1 inputs.
    line, total : Samples
        Scratch.
    """
    width = len(passes[0])
    pairs = width * len(passes)
    held = 2 * pairs - 1
    for i in range(held):
        line[i] = history[i]
    now, delay = line[held:held + n], line[pairs:pairs + n]
    for i in range(n):
        now[i] = source[i]
    if len(passes) == 1:
        for i in range(np.uintp(n)):
            target[i + i] = folded(line, i, i + np.uintp(held), passes[0])
            target[i + i + np.uintp(1)] = delay[i]
    else:
        for i in range(n):
            total[i] = 0.0
        for k in range(len(passes)):
            add_folded(total, line, k * width, held - k * width, passes[k], n)
        for i in range(np.uintp(n)):
            target[i + i] = total[i]
            target[i + i + np.uintp(1)] = delay[i]
    for i in range(held):
        history[i] = line[n + i]


@kernel
def halve_rate(source: Samples, n: int, target: Samples, passes: Passes, history: Samples, line: Samples,
               odd_history: Samples, odd_line: Samples) -> None:
    """Write n samples made from 2n; the mirror of `double_rate`, with gain one."""
    width = len(passes[0])
    pairs = width * len(passes)
    held = 2 * pairs - 1
    for i in range(held):
        line[i] = history[i]
    for i in range(pairs):
        odd_line[i] = odd_history[i]
    even, odd = line[held:held + n], odd_line[pairs:pairs + n]
    for i in range(np.uintp(n)):
        even[i] = source[i + i]
        odd[i] = source[i + i + np.uintp(1)]
    if len(passes) == 1:
        for i in range(np.uintp(n)):
            target[i] = 0.5 * (odd_line[i] + folded(line, i, i + np.uintp(held), passes[0]))
    else:
        for i in range(n):
            target[i] = odd_line[i]
        for k in range(len(passes)):
            add_folded(target, line, k * width, held - k * width, passes[k], n)
        for i in range(n):
            target[i] *= 0.5
    for i in range(held):
        history[i] = line[n + i]
    for i in range(pairs):
        odd_history[i] = odd_line[n + i]


@kernel
def raise_rate(source: Samples, n: int, levels: int, passes: Cascade, history: Samples, ping: Samples, pong: Samples,
               line: Samples, total: Samples) -> Samples:
    """n samples through `levels` doublings; returns whichever of ping and pong holds the result."""
    if levels == 0:
        for i in range(n):
            ping[i] = source[i]
        return ping
    double_rate(source, n, pong, passes[0], history[0], line, total)
    if levels == 1:
        return pong
    double_rate(pong, 2 * n, ping, passes[1], history[1], line, total)
    if levels == 2:
        return ping
    double_rate(ping, 4 * n, pong, passes[2], history[2], line, total)
    if levels == 3:
        return pong
    double_rate(pong, 8 * n, ping, passes[3], history[3], line, total)
    return ping


@kernel
def lower_rate(ping: Samples, pong: Samples, n: int, levels: int, passes: Cascade, history: Samples,
               odd_history: Samples, line: Samples, odd_line: Samples, target: Samples) -> None:
    """`levels` halvings of what `ping` holds down to n samples in `target`; `pong` is scratch."""
    if levels == 0:
        for i in range(n):
            target[i] = ping[i]
        return
    if levels > 3:
        halve_rate(ping, 8 * n, pong, passes[3], history[3], line, odd_history[3], odd_line)
        ping, pong = pong, ping
    if levels > 2:
        halve_rate(ping, 4 * n, pong, passes[2], history[2], line, odd_history[2], odd_line)
        ping, pong = pong, ping
    if levels > 1:
        halve_rate(ping, 2 * n, pong, passes[1], history[1], line, odd_history[1], odd_line)
        ping, pong = pong, ping
    halve_rate(ping, n, target, passes[0], history[0], line, odd_history[0], odd_line)


@kernel
def delay_short(samples: Samples, n: int, held: Samples, frames: int, line: Samples) -> None:
    """Delay by `frames` in place; `held` carries them over, oldest first, `line` is scratch."""
    now = line[frames:frames + n]
    for i in range(frames):
        line[i] = held[i]
    for i in range(n):
        now[i] = samples[i]
    for i in range(n):
        samples[i] = line[i]
    for i in range(frames):
        held[i] = line[n + i]
