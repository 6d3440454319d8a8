"""Half-band interpolation and decimation by two, and cascades of them, for one channel."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Counts, Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.convolution import EIGHT, add_folded, eight_folded


@kernel
def double_rate(source: Samples, n: int, target: Samples, taps: Samples, pairs: int,
                history: Samples, line: Samples, total: Samples) -> None:
    """Write 2n samples made from n.

    `taps[:pairs]` are the folded even-indexed coefficients of a half-band filter of
    4 pairs - 1 taps with gain two; the odd-indexed branch is a plain delay.
    `history` holds the last 2 pairs - 1 inputs; `line` and `total` are scratch.
    """
    held = 2 * pairs - 1
    for i in range(held):
        line[i] = history[i]
    now, late = line[held:held + n], line[pairs:pairs + n]
    for i in range(n):
        now[i] = source[i]
    if pairs == EIGHT:
        h0, h1, h2, h3, h4, h5, h6, h7 = taps[0], taps[1], taps[2], taps[3], taps[4], taps[5], taps[6], taps[7]
        for i in range(np.uintp(n)):
            target[i + i] = eight_folded(line, i, i + np.uintp(EIGHT), h0, h1, h2, h3, h4, h5, h6, h7)
            target[i + i + np.uintp(1)] = late[i]
    else:
        for i in range(n):
            total[i] = 0.0
        add_folded(total, line, taps, pairs, held, 1.0, n)
        for i in range(np.uintp(n)):
            target[i + i] = total[i]
            target[i + i + np.uintp(1)] = late[i]
    for i in range(held):
        history[i] = line[n + i]


@kernel
def halve_rate(source: Samples, n: int, target: Samples, taps: Samples, pairs: int,
               history: Samples, line: Samples, odd_history: Samples, odd_line: Samples) -> None:
    """Write n samples made from 2n; the mirror of `double_rate`, with gain one."""
    held = 2 * pairs - 1
    for i in range(held):
        line[i] = history[i]
    for i in range(pairs):
        odd_line[i] = odd_history[i]
    even, odd = line[held:held + n], odd_line[pairs:pairs + n]
    for i in range(np.uintp(n)):
        even[i] = source[i + i]
        odd[i] = source[i + i + np.uintp(1)]
    if pairs == EIGHT:
        h0, h1, h2, h3, h4, h5, h6, h7 = taps[0], taps[1], taps[2], taps[3], taps[4], taps[5], taps[6], taps[7]
        for i in range(np.uintp(n)):
            target[i] = 0.5 * (odd_line[i] + eight_folded(line, i, i + np.uintp(EIGHT),
                                                          h0, h1, h2, h3, h4, h5, h6, h7))
    else:
        for i in range(n):
            target[i] = 0.5 * odd_line[i]
        add_folded(target, line, taps, pairs, held, 0.5, n)
    for i in range(held):
        history[i] = line[n + i]
    for i in range(pairs):
        odd_history[i] = odd_line[n + i]


@kernel
def raise_rate(source: Samples, n: int, levels: int, taps: Samples, pairs: Counts, history: Samples,
               ping: Samples, pong: Samples, line: Samples, total: Samples) -> Samples:
    """n samples through `levels` doublings; returns whichever of ping and pong holds the result."""
    for i in range(n):
        ping[i] = source[i]
    for level in range(levels):
        double_rate(ping, n, pong, taps[level], pairs[level], history[level], line, total)
        n *= 2
        ping, pong = pong, ping
    return ping


@kernel
def lower_rate(ping: Samples, pong: Samples, n: int, levels: int, taps: Samples, pairs: Counts,
               history: Samples, odd_history: Samples, line: Samples, odd_line: Samples,
               target: Samples) -> None:
    """`levels` halvings of what `ping` holds down to n samples in `target`; `pong` is scratch."""
    frames = n << levels
    for level in range(levels - 1, -1, -1):
        frames //= 2
        halve_rate(ping, frames, pong, taps[level], pairs[level], history[level], line,
                   odd_history[level], odd_line)
        ping, pong = pong, ping
    for i in range(n):
        target[i] = ping[i]


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
