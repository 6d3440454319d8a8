"""Recursive and short linear filters on (channels, frames) blocks."""

from __future__ import annotations

from yellow_ember.dsp.arrays import Counts, Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.convolution import add_symmetric

TINY = 1e-30
"""States below this are set to zero at the end of a block: denormals cost thirty times."""


@kernel
def biquads(block: Samples, sections: Samples, state: Samples) -> None:
    """Second-order sections in series, in place, transposed direct form II.

    Parameters
    ----------
    sections : Samples
        (count, 5), b0 b1 b2 a1 a2 with a0 = 1.
    state : Samples
        (channels, count, 2).
    """
    if block.shape[0] == 2:
        # Two channels side by side hide each other's waiting for the last result.
        for k in range(sections.shape[0]):
            section_of_two(block[0], block[1], sections[k], state[0, k], state[1, k])
        return
    for c in range(block.shape[0]):
        row = block[c]
        for k in range(sections.shape[0]):
            b0, b1, b2 = sections[k, 0], sections[k, 1], sections[k, 2]
            a1, a2 = sections[k, 3], sections[k, 4]
            s1, s2 = state[c, k, 0], state[c, k, 1]
            for i in range(row.size):
                x = row[i]
                y = b0 * x + s1
                s1 = b1 * x - a1 * y + s2
                s2 = b2 * x - a2 * y
                row[i] = y
            if abs(s1) < TINY:
                s1 = 0.0
            if abs(s2) < TINY:
                s2 = 0.0
            state[c, k, 0], state[c, k, 1] = s1, s2


@kernel
def section_of_two(left: Samples, right: Samples, section: Samples, left_state: Samples, right_state: Samples) -> None:
    """One section on two channels, in place; states (2,)."""
    b0, b1, b2, a1, a2 = section[0], section[1], section[2], section[3], section[4]
    s1, s2, r1, r2 = left_state[0], left_state[1], right_state[0], right_state[1]
    for i in range(left.size):
        x, u = left[i], right[i]
        y, v = b0 * x + s1, b0 * u + r1
        s1, r1 = b1 * x - a1 * y + s2, b1 * u - a1 * v + r2
        s2, r2 = b2 * x - a2 * y, b2 * u - a2 * v
        left[i], right[i] = y, v
    left_state[0], left_state[1] = (s1 if abs(s1) >= TINY else 0.0), (s2 if abs(s2) >= TINY else 0.0)
    right_state[0], right_state[1] = (r1 if abs(r1) >= TINY else 0.0), (r2 if abs(r2) >= TINY else 0.0)


@kernel
def make_room(past: Samples, held: int, index: Counts, frames: int) -> int:
    """Where so many new inputs go behind the last `held`, which are moved to the front where there is no room."""
    at = max(int(index[0]), held)
    if at + frames > past.shape[1]:
        for c in range(past.shape[0]):
            for i in range(held):
                past[c, i] = past[c, at - held + i]
        at = held
    index[0] = at + frames
    return at


@kernel
def _filter_row(row: Samples, taps: Samples, line: Samples) -> None:
    """Filter a row whose inputs are added at the end of `line`, behind those before them."""
    held, n = taps.size - 1, row.size
    half = held // 2
    now, centre, middle = line[held:held + n], line[half:half + n], taps[half]
    for i in range(n):
        now[i] = row[i]
    for i in range(n):
        row[i] = middle * centre[i]
    add_symmetric(row, line, taps, half, n)


@kernel
def fir(block: Samples, taps: Samples, past: Samples, index: Counts) -> None:
    """A symmetric FIR filter of odd length, in place.

    Parameters
    ----------
    past : Samples
        (channels, `filters.past_length`), inputs, the last of them and room for those to come.
    index : Counts
        (1,), where the next input goes.
    """
    held, frames = taps.size - 1, block.shape[1]
    at = make_room(past, held, index, frames)
    for c in range(block.shape[0]):
        _filter_row(block[c], taps, past[c, at - held:at + frames])


@kernel
def fir_each(block: Samples, taps: Samples, past: Samples, index: Counts) -> None:
    """`fir` with a filter of its own for each channel; taps (channels, odd length)."""
    held, frames = taps.shape[1] - 1, block.shape[1]
    at = make_room(past, held, index, frames)
    for c in range(block.shape[0]):
        _filter_row(block[c], taps[c], past[c, at - held:at + frames])


@kernel
def delay(block: Samples, ring: Samples, position: int) -> int:
    """Delay a block in place by ring.shape[1] frames; returns the ring's new position."""
    length = ring.shape[1]
    if length == 0:
        return 0
    at = position
    for c in range(block.shape[0]):
        at = position
        for i in range(block.shape[1]):
            late = ring[c, at]
            ring[c, at] = block[c, i]
            block[c, i] = late
            at += 1
            if at == length:
                at = 0
    return at
