"""Saturation in bands: the split, shapes side by side or one after another, and feedback round it all."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Counts, Samples, block_view
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.dynamics import compress
from yellow_ember.dsp.kernels.filters import TINY, biquads, fir
from yellow_ember.dsp.kernels.halfband import delay_short
from yellow_ember.dsp.kernels.mixing import LEFT, LOUDEST, STEP, TARGET, VALUE, add, advance, glide, put, silence
from yellow_ember.dsp.kernels.shapes import BEND_DELAY, CHUNK, bend
from yellow_ember.dsp.oversampling import OversamplingRecord, fall, rise
from yellow_ember.dsp.record import cube, vector

MOST = 5
KIND, STEPS = 0, 1
"""Columns of the bands' shapes."""
DRIVE, CLEAN, BENT = 0, 1, 2
"""Rows of the bands' ramps: gain into the shape, weights of what passed it by and of what it made."""


@kernel
def split_up(parts: Samples, lows: Samples, highs: Samples, passes: Samples, low_states: Samples,
             high_states: Samples, pass_states: Samples) -> None:
    """The first of parts (bands, channels, frames) into all of them; their sum is an all-pass.

    Parameters
    ----------
    lows, highs : Samples
        (edges, 2, 5).
    passes : Samples
        (edges, 1, 5), what each split sums to.
    low_states, high_states : Samples
        (edges, channels, 2, 2).
    pass_states : Samples
        (edges, edges, channels, 1, 2).
    """
    edges = parts.shape[0] - 1
    for k in range(edges):
        put(parts[k + 1], parts[k])
        biquads(parts[k], lows[k], low_states[k])
        biquads(parts[k + 1], highs[k], high_states[k])
    for j in range(edges):
        # Lower bands go through what the later splits do to the phase.
        for k in range(j + 1, edges):
            biquads(parts[j], passes[k], pass_states[j, k])


@kernel
def part_ways(parts: Samples, spare: Samples, squashed: Counts, figures: Samples, branches: Samples,
              held_states: Samples, ramps: Samples, corrections: Samples, pasts: Samples, past_indices: Counts,
              active: Counts, clean: Samples) -> int:
    """What passes the shapes by into `clean`; parts are driven for theirs.  Returns how many are active.

    Parameters
    ----------
    parts : Samples
        (bands, channels, frames), squashed first where that is 1.
    figures : Samples
        (bands, FIGURES) for `compress`.
    corrections : Samples
        (bands, taps), what the shape will lose of the highs.
    active : Counts
        The bands whose shape is heard.
    """
    count = 0
    silence(clean)
    for k in range(parts.shape[0]):
        part = parts[k]
        if squashed[k] == 1:
            put(spare, part)
            compress(part, spare, figures[k], False, branches, held_states[k])
        passed, drive, bent = ramps[CLEAN, k], ramps[DRIVE, k], ramps[BENT, k]
        if passed[TARGET] != 0.0 or passed[LEFT] > 0.0:
            put(spare, part)
            glide(spare, passed)
            add(clean, spare)
        if bent[TARGET] == 0.0 and bent[LEFT] == 0.0:
            drive[VALUE], drive[LEFT] = drive[TARGET], 0.0
            continue
        active[count] = k
        count += 1
        fir(part, corrections[k], pasts[k], past_indices[k])
        glide(part, drive)
    return count


@kernel
def bend_side_by_side(parts: Samples, active: Counts, shapes: Counts, curves: Samples, ramps: Samples,
                      bend_states: Samples, ups: Samples, wait: Samples, places: Samples, values: Samples,
                      seconds: Samples, bent: Samples, high_sum: Samples, fast: OversamplingRecord,
                      out: Samples) -> None:
    """The active parts (bands, channels, frames), each bent by its shape, summed at the raised rate into `out`.

    Parameters
    ----------
    shapes : Counts
        (bands, 2), curves : (bands, 2 cells, 4).
    ramps : Samples
        (3, bands, 4).
    ups : Samples
        (bands, channels, ...), each band's filters on the way up.
    wait : Samples
        (channels, frames of delay).
    """
    channels, frames = out.shape
    line = vector(fast.line)
    for start in range(0, frames, CHUNK):
        n = min(CHUNK, frames - start)
        count = n << fast.levels
        for c in range(channels):
            for i in range(count):
                high_sum[i] = 0.0
            for k in active:
                high = rise(fast, ups[k, c], parts[k, c, start:start + n])
                bend(high, count, shapes[k, KIND], curves[k], shapes[k, STEPS], 0.0, 0.0, 0.0, bend_states[k, c],
                     line, places, values, seconds, bent)
                ramp = ramps[BENT, k]
                weight, step = ramp[VALUE], glide_step(ramp, n, count)
                for i in range(count):
                    high_sum[i] += (weight + step * i) * high[i]
            delay_short(high_sum, count, wait[c], wait.shape[1], line)
            fall(fast, c, high_sum, out[c, start:start + n])
        for k in active:
            advance(ramps[BENT, k], n)


@kernel
def glide_step(ramp: Samples, frames: int, steps: int) -> float:
    """What a ramp that moves over `frames` adds each of `steps`."""
    moved = min(float(frames), ramp[LEFT]) * ramp[STEP]
    return float(moved / steps)


@kernel
def take_part(high: Samples, own: Samples, held: Samples, fast: int, section: Samples, section_state: Samples,
              figures: Samples, squashed: bool, branches: Samples, held_state: Samples, ramp: Samples, n: int) -> None:
    """Part a band from the whole, hold it down, and put it back at the gliding gain `ramp`.

    Parameters
    ----------
    high : Samples
        The whole, in place.
    own : Samples
        What is heard of the part.
    held : Samples
        The part before its gain.
    """
    for i in range(fast):
        own[i] = high[i]
    own_row, held_row = block_view(own, 1, fast), block_view(held, 1, fast)
    biquads(own_row, section, section_state)
    for i in range(fast):
        held[i] = own[i]
    if squashed:
        compress(held_row, own_row, figures, False, branches, held_state)
    weight, step = ramp[VALUE], glide_step(ramp, n, fast)
    for i in range(fast):
        made = (weight + step * i) * held[i]
        high[i] += made - own[i]
        own[i] = made


@kernel
def add_bent(high: Samples, heard: Samples, bent: Samples, fast: int, solo: bool, ramp: Samples, n: int) -> None:
    """Add what a band's shape made, at the gliding gain `ramp`, to the whole, and to what is heard alone."""
    weight, step = ramp[VALUE], glide_step(ramp, n, fast)
    for i in range(fast):
        made = (weight + step * i) * bent[i]
        high[i] += made
        if solo:
            heard[i] += made


@kernel
def bend_in_series(block: Samples, bands: int, active: Counts, alone: bool, solos: Counts, sections: Samples,
                   figures: Samples, branches: Samples, squashed: Counts, shapes: Counts, curves: Samples,
                   ramps: Samples, section_states: Samples, held_states: Samples, bend_states: Samples, waits: Samples,
                   alone_waits: Samples, own: Samples, held: Samples, places: Samples, values: Samples,
                   seconds: Samples, bent: Samples, heard: Samples, fast: OversamplingRecord) -> None:
    """One band after another changes the whole signal, in place: what it makes of its part replaces that part.

    Parameters
    ----------
    active : Counts
        (bands,), 1 where the shape is heard.
    solos : Counts
        Likewise.
    alone : bool
        Only soloed bands' parts are heard.
    sections : Samples
        (bands, 1, 5) at the raised rate.
    figures : Samples
        (bands, FIGURES) for `compress` there.
    waits, alone_waits : Samples
        (MOST, channels, BEND_DELAY).
    """
    channels, frames = block.shape
    up, line = cube(fast.up), vector(fast.line)
    for start in range(0, frames, CHUNK):
        n = min(CHUNK, frames - start)
        count = n << fast.levels
        for c in range(channels):
            part = block[c, start:start + n]
            high = rise(fast, up[c], part)
            for i in range(count):
                heard[i] = 0.0
            for k in range(MOST):
                if k < bands:
                    take_part(high, own, held, count, sections[k], section_states[k, c:c + 1], figures[k],
                              squashed[k] == 1, branches, held_states[k, c:c + 1], ramps[CLEAN, k], n)
                delay_short(high, count, waits[k, c], BEND_DELAY, line)
                if alone:
                    if k < bands and solos[k] == 1:
                        for i in range(count):
                            heard[i] += own[i]
                    delay_short(heard, count, alone_waits[k, c], BEND_DELAY, line)
                if k < bands and active[k] == 1:
                    ramp = ramps[DRIVE, k]
                    weight, step = ramp[VALUE], glide_step(ramp, n, count)
                    for i in range(count):
                        held[i] *= weight + step * i
                    bend(held, count, shapes[k, KIND], curves[k], shapes[k, STEPS], 0.0, 0.0, 0.0, bend_states[k, c],
                         line, places, values, seconds, bent)
                    add_bent(high, heard, held, count, solos[k] == 1, ramps[BENT, k], n)
                # Shapes without a limit, one after another, would leave all numbers behind.
                for i in range(count):
                    high[i] = min(max(high[i], -LOUDEST), LOUDEST)
            if alone:
                for i in range(count):
                    high[i] = heard[i]
            fall(fast, c, high, part)
        for k in range(bands):
            for row in range(3):
                advance(ramps[row, k], n)


AMOUNT, FOLLOW, RISE, FALL, FULL = range(5)
"""What `feed_back` takes: gain of the loop, share that the level decides, one-pole coefficients, level of all."""
FIGURES = 5


@kernel
def feed_back(heard: Samples, figures: Samples, delay: int, ring: Samples, index: int, followed: Samples,
              out: Samples) -> None:
    """What comes round to the input, (channels, frames): the output `delay` frames ago, never over one.

    With FOLLOW over zero loud notes open the loop, under zero they close it.

    Parameters
    ----------
    heard : Samples
        The input, whose level is followed.
    ring : Samples
        (channels, length).
    followed : Samples
        (channels,).
    """
    length = ring.shape[1]
    share = figures[FOLLOW]
    for c in range(out.shape[0]):
        level = followed[c]
        at = index - delay
        at += length if at < 0 else 0
        for i in range(out.shape[1]):
            x = abs(heard[c, i])
            level += (figures[RISE] if x > level else figures[FALL]) * (x - level)
            near = min(level / figures[FULL], 1.0)
            opened = 1.0 - share * (1.0 - near) if share >= 0.0 else 1.0 + share * near
            out[c, i] = math.tanh(figures[AMOUNT] * opened * ring[c, at])
            at += 1
            if at == length:
                at = 0
        followed[c] = level if level > TINY else 0.0


@kernel
def hold_within(block: Samples, limit: float) -> None:
    """Cut what passes a limit, in place."""
    for c in range(block.shape[0]):
        for i in range(block.shape[1]):
            block[c, i] = min(max(block[c, i], -limit), limit)


@kernel
def keep(block: Samples, ring: Samples, index: int) -> int:
    """Write a block into a ring; returns the new place."""
    length = ring.shape[1]
    at = index
    for c in range(block.shape[0]):
        at = index
        for i in range(np.uintp(block.shape[1])):
            ring[c, at] = block[c, i]
            at += 1
            if at == length:
                at = 0
    return at
