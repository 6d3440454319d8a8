"""A room or a plate: first reflections, what blurs and disperses them, and a network of delays that feed each other."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Counts, Samples, block_view
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY, make_room

LINES, HALF = 32, 16
SPREADERS = 4
DISPERSERS = 40
TICK = 64
"""Frames over which a line's length moves on in a straight line; no line is shorter."""
EARLY, LATE, APART = range(3)
"""Gains that glide: first reflections, what follows, and what differs between left and right."""
FIGURES = 3
_DIFFUSION = 0.62
_SCALE = 1.0 / math.sqrt(LINES)
"""With it the mixing keeps all power."""
_NEAREST = 0.6
"""The least that is left of a length for the all-pass that reads between two samples."""


@kernel
def reflect(block: Samples, before: int, taps: Counts, tap_gains: Samples, past: Samples, index: Counts,
            early: Samples, feed: Samples) -> None:
    """First reflections of a block, and the block as late as their clock starts, (channels, frames) all.

    Parameters
    ----------
    before : int
        Frames until the first reflections' clock starts.
    taps, tap_gains : Counts, Samples
        (channels, count), reflections.
    past, index : Samples, Counts
        As `filters.make_room` takes them.
    """
    frames = block.shape[1]
    at = make_room(past, past.shape[1] // 2, index, frames)
    for c in range(block.shape[0]):
        line, first, late = past[c], early[c], feed[c]
        for i in range(frames):
            line[at + i] = block[c, i]
            first[i] = 0.0
            late[i] = line[at - before + i]
        for k in range(taps.shape[1]):
            from_, gain = line[at - before - taps[c, k]:], tap_gains[c, k]
            for i in range(frames):
                first[i] += gain * from_[i]


@kernel
def disperse(block: Samples, coefficients: Samples, state: Samples) -> None:
    """First-order all-passes in series that hold lows back longer than highs, in place.

    Parameters
    ----------
    coefficients : Samples
        (DISPERSERS,).
    state : Samples
        (channels, DISPERSERS, 2), last inputs and outputs.
    """
    last = block.shape[0] - 1
    left, right = block[0], block[last]
    for k in range(coefficients.size):
        a = coefficients[k]
        x1, y1, u1, v1 = state[0, k, 0], state[0, k, 1], state[last, k, 0], state[last, k, 1]
        # Two channels side by side hide each other's waiting for the last result.
        for i in range(np.uintp(left.size)):
            x, u = left[i], right[i]
            y1, v1 = (x1 - a * x) + a * y1, (u1 - a * u) + a * v1
            x1, u1 = x, u
            right[i] = v1
            left[i] = y1
        state[last, k, 0], state[last, k, 1] = (u1 if abs(u1) > TINY else 0.0), (v1 if abs(v1) > TINY else 0.0)
        state[0, k, 0], state[0, k, 1] = (x1 if abs(x1) > TINY else 0.0), (y1 if abs(y1) > TINY else 0.0)


@kernel
def blur(block: Samples, spreads: Counts, blurred: Samples, places: Counts) -> None:
    """All-passes in series, in place, so that no echoes stand out.

    Parameters
    ----------
    spreads : Counts
        (channels, SPREADERS), lengths in frames.
    blurred : Samples
        (channels, SPREADERS, length).
    places : Counts
        (channels, SPREADERS).
    """
    for c in range(block.shape[0]):
        row = block[c]
        for k in range(SPREADERS):
            held, at, length = blurred[c, k], int(places[c, k]), int(spreads[c, k])
            for i in range(row.size):
                late = held[at]
                out = late - _DIFFUSION * row[i]
                kept = row[i] + _DIFFUSION * out
                held[at] = kept if abs(kept) > TINY else 0.0
                row[i] = out
                at += 1
                at -= length if at >= length else 0
            places[c, k] = at


@kernel
def move_on(lines: Counts, depth: float, turns: Samples, lengths: Samples, phasors: Samples) -> None:
    """Lengths of all lines at the beginning and at the end of the next tick, (LINES, 2)."""
    for k in range(LINES):
        c, s = phasors[k, 0], phasors[k, 1]
        phasors[k, 0], phasors[k, 1] = c * turns[k, 0] - s * turns[k, 1], s * turns[k, 0] + c * turns[k, 1]
        lengths[k, 0], lengths[k, 1] = lines[k] + depth * s, lines[k] + depth * phasors[k, 1]


@kernel
def read_line(line: Samples, at: int, since: int, lengths: Samples, gain: float, pole: float, memory: Samples,
              out: Samples) -> None:
    """What comes back (n,) from a line whose length moves, with its loss.

    Between two samples it is read by a first-order all-pass, which takes nothing from the highs.

    Parameters
    ----------
    at : int
        Where the first of them would be written.
    since : int
        Frames of the tick that are over.
    lengths : Samples
        (2,), frames at the tick's beginning and end.
    memory : Samples
        (2,), of the all-pass and of the loss.
    """
    whole = int(lengths[0] - _NEAREST)
    first = (1.0 - (lengths[0] - whole)) / (1.0 + (lengths[0] - whole))
    last = (1.0 - (lengths[1] - whole)) / (1.0 + (lengths[1] - whole))
    step = (last - first) / TICK
    held, low = memory[0], memory[1]
    through, keep = gain * (1.0 - pole), pole
    from_ = line[at - whole - 1:]
    before, a = from_[0], first + step * since
    for i in range(np.uintp(out.size)):
        now = from_[i + np.uintp(1)]
        held = (a * now + before) - a * held
        before = now
        a += step
        low = through * held + keep * low
        out[i] = low
    memory[0], memory[1] = (held if abs(held) > TINY else 0.0), (low if abs(low) > TINY else 0.0)


@kernel
def mix(lines: Samples) -> None:
    """Hadamard's matrix on all frames of all lines (LINES, TICK), in place: sums and differences of ever less."""
    flat = block_view(lines, 1, LINES * TICK)[0]
    half = HALF * TICK
    while half >= TICK:
        for start in range(0, flat.size, 2 * half):
            first, second = flat[start:start + half], flat[start + half:start + 2 * half]
            for i in range(np.uintp(half)):
                a, b = first[i], second[i]
                first[i], second[i] = a + b, a - b
        half //= 2


@kernel
def sustain(feed: Samples, lines: Counts, gains: Samples, poles: Samples, depth: float, turns: Samples,
            rings: Samples, index: Counts, lengths: Samples, phasors: Samples, memory: Samples, heard: Samples,
            sums: Samples) -> None:
    """What the network of lines makes of a block, in place: what is common to left and right, and what is not.

    Left feeds every other line and right those between.

    Parameters
    ----------
    lines : Counts
        (LINES,), lengths in frames.
    gains, poles : Samples
        (LINES,), of each line's loss and its damping (Jot and Chaigne, AES 90, 1991).
    depth, turns : float, Samples
        Frames by which a line's length sways; cosine and sine of how far that turns in a tick, (LINES, 2).
    rings, index : Samples, Counts
        As `filters.make_room` takes them; the index's second is the frame of the tick.
    lengths, phasors, memory : Samples
        (LINES, 2).
    heard, sums : Samples
        Scratch, (LINES, TICK) and (2, TICK).
    """
    frames, last = feed.shape[1], feed.shape[0] - 1
    at = make_room(rings, rings.shape[1] // 2, index, frames)
    start = 0
    while start < frames:
        since = int(index[1])
        if since == 0:
            move_on(lines, depth, turns, lengths, phasors)
        n = min(TICK - since, frames - start)
        for k in range(LINES):
            read_line(rings[k], at + start, since, lengths[k], gains[k], poles[k], memory[k], heard[k, :n])
        left, right = feed[0, start:start + n], feed[last, start:start + n]
        common, apart = sums[0], sums[1]
        # What is fed must be used before what is heard takes its place.
        for k in range(LINES):
            written, fed = rings[k, at + start:at + start + n], left if k % 2 == 0 else right
            sign = 1.0 if k // 2 % 2 == 0 else -1.0
            for i in range(np.uintp(n)):
                written[i] = sign * fed[i]
        for i in range(np.uintp(n)):
            common[i] = apart[i] = 0.0
        for k in range(HALF):
            sign, a, b = (1.0 if k % 2 == 0 else -1.0), heard[k], heard[k + HALF]
            for i in range(np.uintp(n)):
                common[i] += sign * a[i]
                apart[i] += sign * b[i]
        for i in range(np.uintp(n)):
            left[i] = common[i]
            if last > 0:
                right[i] = apart[i]
        mix(heard)
        for k in range(LINES):
            written = rings[k, at + start:at + start + n]
            for i in range(np.uintp(n)):
                written[i] += _SCALE * heard[k, i]
        index[1] = (since + n) % TICK
        start += n


@kernel
def gather(block: Samples, early: Samples, blurred: Samples, late: Samples, fill: float, figures: Samples,
           requested: Samples, glide: float) -> None:
    """Fill a block with reflections and with what follows, each as loud as asked.

    Parameters
    ----------
    early, blurred : Samples
        (channels, frames).
    late : Samples
        (channels, frames), what is common to left and right, and what is not.
    fill : float
        How loud `blurred` is, which bridges the time until the first line is through.
    figures, requested : Samples
        (FIGURES,), gains now and where they glide to.
    """
    stereo = block.shape[0] == 2
    for i in range(block.shape[1]):
        for k in range(FIGURES):
            figures[k] += glide * (requested[k] - figures[k])
        if stereo:
            common = 0.5 * fill * (blurred[0, i] + blurred[1, i]) + late[0, i]
            apart = figures[APART] * (0.5 * fill * (blurred[0, i] - blurred[1, i]) + late[1, i])
            block[0, i] = figures[EARLY] * early[0, i] + figures[LATE] * (common + apart)
            block[1, i] = figures[EARLY] * early[1, i] + figures[LATE] * (common - apart)
        else:
            block[0, i] = figures[EARLY] * early[0, i] + figures[LATE] * (fill * blurred[0, i] + late[0, i])
