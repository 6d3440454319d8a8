"""Tape echo: heads that read what was recorded some time ago, and feedback that is recorded again."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY
from yellow_ember.dsp.kernels.motion import TAPS, read_at

HEADS = 4
_THERE = 1e-9
"""Share of a figure that no longer counts."""
(DIRECT, LEVEL, LEFT_IN, RIGHT_IN, LEFT_FROM_RIGHT, RIGHT_FROM_LEFT, SAME, CROSSED, FEEDBACK, COLOUR, LOW_CUT, HIGH_CUT,
 HOLD, WOW, FLUTTER) = range(15)
"""Gains and coefficients that glide: direct sound, echoes; what of each input is recorded on each track; where
feedback goes; drive into the tape; one-pole coefficients of the loop's cuts; 1 to hold what is in the loop; frames
by which the tape's speed moves it."""
HEAD = 15
"""Where the heads' gains begin: to the left, to the right, into the loop, for each."""
FIGURES = HEAD + 3 * HEADS
NOW, NEXT, FADE, TARGET = range(4)
"""Of a head: frames of delay, those it fades to, how far that has come, and where it is to be in the end."""
(PHASE_C, PHASE_S, FAST_C, FAST_S) = range(4)
"""Two turning pointers, of wow and flutter."""
WOW_C, WOW_S, FLUTTER_C, FLUTTER_S = range(4)
"""The turn of each pointer a frame."""


@kernel
def held_in(x: float) -> float:
    """What a tape takes beyond one, and never more than two."""
    a = abs(x)
    if a > 1.0:
        a = 1.0 + math.tanh(a - 1.0)
        x = a if x > 0.0 else -a
    return x


@kernel
def from_tape(track: Samples, table: Samples, index: int, delay: float, exact: bool) -> float:
    """The sample that was recorded `delay` frames before the ring's `index`."""
    length = track.size - TAPS
    if exact:
        return float(track[(index + length - int(delay)) % length])
    at = index + length - delay - (TAPS // 2 - 1)
    whole = int(np.floor(at))
    return read_at(track, table, whole % length, at - whole)


@kernel
def below_top(x: float, sections: Samples, state: Samples) -> float:
    """What goes round without the top of the band, where images of what the tape makes would gather; state (2, 2)."""
    for k in range(2):
        y = sections[k, 0] * x + state[k, 0]
        state[k, 0] = sections[k, 1] * x - sections[k, 3] * y + state[k, 1]
        state[k, 1] = sections[k, 2] * x - sections[k, 4] * y
        x = y
    return x


@kernel
def glide_figures(figures: Samples, targets: Samples, glide: float) -> bool:
    """Bring the figures a frame nearer to their targets; False where they are there."""
    gliding = False
    for k in range(FIGURES):
        # Where the tape is moves slowly: a quick change would be heard as pitch.
        figures[k] += (0.05 * glide if k >= WOW and k <= FLUTTER else glide) * (targets[k] - figures[k])
        if abs(figures[k] - targets[k]) > _THERE * max(1.0, abs(targets[k])):
            gliding = True
        else:
            figures[k] = targets[k]
    return gliding


@kernel
def turn(pointers: Samples, motion: Samples, figures: Samples) -> float:
    """Turn both pointers by a frame; frames by which the tape's speed moves it."""
    c, s = pointers[PHASE_C], pointers[PHASE_S]
    pointers[PHASE_C] = c * motion[WOW_C] - s * motion[WOW_S]
    pointers[PHASE_S] = s * motion[WOW_C] + c * motion[WOW_S]
    c, s = pointers[FAST_C], pointers[FAST_S]
    pointers[FAST_C] = c * motion[FLUTTER_C] - s * motion[FLUTTER_S]
    pointers[FAST_S] = s * motion[FLUTTER_C] + c * motion[FLUTTER_S]
    return float(figures[WOW] * pointers[PHASE_S] + figures[FLUTTER] * pointers[FAST_S])


@kernel
def move_head(head: Samples, fade: float) -> None:
    """Take a head a frame further on its way from one delay to another."""
    if head[FADE] > 0.0:
        head[FADE] += fade
        if head[FADE] >= 1.0:
            head[NOW], head[FADE] = head[NEXT], 0.0
    if head[FADE] == 0.0 and head[TARGET] != head[NOW]:
        head[NEXT], head[FADE] = head[TARGET], fade


@kernel
def faded(heard: float, head: Samples, track: Samples, table: Samples, at: int, moved: float, exact: bool) -> float:
    """What a head that moves is heard as: what it reads, and more and more of what it will read."""
    return heard + float(head[FADE]) * (from_tape(track, table, at, head[NEXT] + moved, exact) - heard)


@kernel
def cut(x: float, figures: Samples, state: Samples) -> float:
    """The cuts of the loop, each twice one pole."""
    state[0] += figures[HIGH_CUT] * (x - state[0])
    state[1] += figures[HIGH_CUT] * (state[0] - state[1])
    x = state[1]
    state[2] += figures[LOW_CUT] * (x - state[2])
    x -= state[2]
    state[3] += figures[LOW_CUT] * (x - state[3])
    return float(x - state[3])


PIECE = 32
"""Frames that are read before what they leave on the tape is written: no head is nearer."""
UNCOLOURED, LEAST_COLOUR, COLOURED = 1e-6, 1e-3, 0.02
"""A drive that changes nothing, the least at which the shape runs, where it is straight, and one that counts."""


@kernel
def play(block: Samples, figures: Samples, targets: Samples, glide: float, heads: Samples, offset: float, fade: float,
         motion: Samples, pointers: Samples, table: Samples, ring: Samples, index: int, least: float, top: Samples,
         top_states: Samples, filters: Samples, sent: Samples, first: int, inputs: Samples, held: Samples,
         colours: Samples, nearest: Samples) -> None:
    """A piece with its echoes, in place, and what is to be recorded of it.

    Parameters
    ----------
    figures, targets : Samples
        (FIGURES,), as they are and where they glide to by the share `glide` a frame.
    heads : Samples
        (HEADS, 4).
    offset : float
        Frames by which the right track is read later.
    fade : float
        Of a head's move, a frame.
    motion, pointers : Samples
        (4,) each.
    ring : Samples
        (channels, length + TAPS), its beginning once more at its end, so that what is read lies in one piece.
    index : int
        Where the piece begins in it.
    least : float
        Frames from where the tape is written for good.
    top, top_states : Samples
        (2, 5) and (channels, 2, 2), of `below_top`.
    filters : Samples
        (channels, 4), states of the loop's cuts.
    sent : Samples
        (channels, at least frames), what is fed back another way, from `first` on; empty where it is recorded.
    inputs, held : Samples
        (channels, PIECE), what goes to the tape, and what the first head hears, to hold it.
    colours, nearest : Samples
        (PIECE,), drive into the tape, and frames to the nearest head that is heard.
    """
    around = sent.shape[1] > 0
    channels, length = block.shape[0], ring.shape[1] - TAPS
    still = targets[WOW] + targets[FLUTTER] + figures[WOW] + figures[FLUTTER] < 1e-6
    last = channels - 1
    at = index
    gliding = True
    for i in range(block.shape[1]):
        if gliding:
            gliding = glide_figures(figures, targets, glide)
        moved = 0.0 if still else turn(pointers, motion, figures)
        left, right, loop_left, loop_right, held_left, held_right = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        colours[i] = figures[COLOUR]
        nearest[i] = float(length)
        for k in range(HEADS):
            gain_left, gain_right = figures[HEAD + 3 * k], figures[HEAD + 3 * k + 1]
            back = figures[HEAD + 3 * k + 2]
            head = heads[k]
            move_head(head, fade)
            if gain_left + gain_right + back < 1e-7:
                continue
            nearest[i] = min(nearest[i], head[NOW], head[TARGET])
            moves = max(moved, least - head[NOW])
            heard_left = from_tape(ring[0], table, at, head[NOW] + moves, still)
            heard_right = heard_left
            if channels == 2:
                heard_right = from_tape(ring[last], table, at, head[NOW] + moves + offset, still)
            if head[FADE] > 0.0:
                moves = max(moved, least - head[NEXT])
                heard_left = faded(heard_left, head, ring[0], table, at, moves, still)
                heard_right = faded(heard_right, head, ring[last], table, at, moves + offset, still)
            left += gain_left * heard_left
            right += gain_right * heard_right
            loop_left += back * heard_left
            loop_right += back * heard_right
            if held_left == 0.0 and held_right == 0.0:
                held_left, held_right = heard_left, heard_right
        x_left, x_right = block[0, i], block[last, i]
        for c in range(channels):
            own, other = (loop_left, loop_right) if c == 0 else (loop_right, loop_left)
            around_again = cut(figures[SAME] * own + figures[CROSSED] * other, figures, filters[c])
            rounded = below_top(around_again, top, top_states[c])
            share = min(figures[COLOUR] / COLOURED, 1.0)
            back = figures[FEEDBACK] * (around_again + share * (rounded - around_again))
            if c == 0:
                fresh = figures[LEFT_IN] * x_left + figures[LEFT_FROM_RIGHT] * x_right
            else:
                fresh = figures[RIGHT_IN] * x_right + figures[RIGHT_FROM_LEFT] * x_left
            if around:
                sent[c, first + i] = back
                back = 0.0
            inputs[c, i] = fresh + back
            held[c, i] = held_left if c == 0 else held_right
        block[0, i] = figures[DIRECT] * x_left + figures[LEVEL] * left
        if channels == 2:
            block[1, i] = figures[DIRECT] * x_right + figures[LEVEL] * right
        at = at + 1 if at + 1 < length else 0
    for c in range(channels):
        for k in range(4):
            if abs(filters[c, k]) < TINY:
                filters[c, k] = 0.0
            if abs(top_states[c, k // 2, k % 2]) < TINY:
                top_states[c, k // 2, k % 2] = 0.0


@kernel
def put_on(track: Samples, at: int, x: float) -> None:
    """Record a sample."""
    track[at] = x
    if at < TAPS:
        track[at + track.size - TAPS] = x


@kernel
def record_piece(inputs: Samples, held: Samples, hold: float, late: int, ring: Samples, index: int) -> int:
    """Write a piece (channels, frames), `late` frames late, on the tape; returns where the next one begins."""
    length = ring.shape[1] - TAPS
    at = index
    for c in range(inputs.shape[0]):
        at = index
        for i in range(inputs.shape[1]):
            x = held_in(inputs[c, i])
            put_on(ring[c], (at + length - late) % length, x + hold * (held[c, i] - x))
            at = at + 1 if at + 1 < length else 0
    return at


@kernel
def add_returned(returned: Samples, keep: float, late: int, early: int, nearest: Samples, ring: Samples,
                 index: int) -> None:
    """Add what came round another way, (channels, frames), where feedback would have been recorded.

    Parameters
    ----------
    keep : float
        How much of it is recorded.
    late, early : int
        Frames by which it was coloured late, and by which it came round late.
    nearest : Samples
        (frames,), frames to the nearest head: what it has passed can't be changed.
    """
    length = ring.shape[1] - TAPS
    for c in range(returned.shape[0]):
        at = index
        for i in range(returned.shape[1]):
            back = min(early + late, max(int(nearest[i]) - 2 * TAPS, 0))
            there = (at + length - back) % length
            put_on(ring[c], there, ring[c, there] + keep * held_in(returned[c, i]))
            at = at + 1 if at + 1 < length else 0
