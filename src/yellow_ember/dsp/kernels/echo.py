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
def recorded(x: float, colour: float) -> float:
    """What stays on the tape: rounded by the drive, and never more than two."""
    if colour > 1e-6:
        x = math.tanh(colour * x) / colour
    a = abs(x)
    if a > 1.0:
        a = 1.0 + math.tanh(a - 1.0)
        x = a if x > 0.0 else -a
    return x


@kernel
def from_tape(track: Samples, table: Samples, place: int, late: float, exact: bool) -> float:
    """The sample that was recorded `late` frames before the ring's `place`."""
    length = track.size // 2
    if exact:
        return float(track[(place + length - int(late)) % length])
    at = place + length - late - (TAPS // 2 - 1)
    whole = int(np.floor(at))
    return read_at(track, table, whole % length, at - whole)


@kernel
def echo(block: Samples, figures: Samples, wanted: Samples, glide: float, heads: Samples, offset: float, fade: float,
         motion: Samples, pointers: Samples, table: Samples, ring: Samples, place: int, filters: Samples,
         sent: Samples, returned: Samples, early: int) -> int:
    """A block with its echoes, in place; returns the ring's new place.

    figures, wanted : (FIGURES,), as they are and where they glide to by the share `glide` a frame
    heads : (HEADS, 4); offset : frames by which the right track is read later; fade : of a head's move, a frame
    motion, pointers : (4,) each; ring : (channels, 2 length), every sample written twice
    filters : (channels, 4), states of the loop's cuts
    sent, returned : (channels, at least frames), what is fed back and what of it came round another way, `early`
    frames late; where they are empty, feedback is recorded at once
    """
    around = sent.shape[1] > 0
    channels, length = block.shape[0], ring.shape[1] // 2
    still = wanted[WOW] + wanted[FLUTTER] + figures[WOW] + figures[FLUTTER] < 1e-6
    last = channels - 1
    at = place
    gliding = False
    for k in range(FIGURES):
        gliding = gliding or figures[k] != wanted[k]
    for i in range(block.shape[1]):
        if gliding:
            gliding = False
            for k in range(FIGURES):
                # Where the tape is moves slowly: a quick change would be heard as pitch.
                figures[k] += (0.05 * glide if k >= WOW and k <= FLUTTER else glide) * (wanted[k] - figures[k])
                if abs(figures[k] - wanted[k]) > _THERE * max(1.0, abs(wanted[k])):
                    gliding = True
                else:
                    figures[k] = wanted[k]
        moved = 0.0
        if not still:
            c, s = pointers[PHASE_C], pointers[PHASE_S]
            pointers[PHASE_C] = c * motion[WOW_C] - s * motion[WOW_S]
            pointers[PHASE_S] = s * motion[WOW_C] + c * motion[WOW_S]
            c, s = pointers[FAST_C], pointers[FAST_S]
            pointers[FAST_C] = c * motion[FLUTTER_C] - s * motion[FLUTTER_S]
            pointers[FAST_S] = s * motion[FLUTTER_C] + c * motion[FLUTTER_S]
            moved = figures[WOW] * pointers[PHASE_S] + figures[FLUTTER] * pointers[FAST_S]
        left, right, loop_left, loop_right, held_left, held_right = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        nearest = float(length)
        for k in range(HEADS):
            gain_left, gain_right = figures[HEAD + 3 * k], figures[HEAD + 3 * k + 1]
            back = figures[HEAD + 3 * k + 2]
            own = heads[k]
            if own[FADE] > 0.0:
                own[FADE] += fade
                if own[FADE] >= 1.0:
                    own[NOW], own[FADE] = own[NEXT], 0.0
            if own[FADE] == 0.0 and own[TARGET] != own[NOW]:
                own[NEXT], own[FADE] = own[TARGET], fade
            if gain_left + gain_right + back < 1e-7:
                continue
            nearest = min(nearest, own[NOW], own[TARGET])
            late = own[NOW] + moved
            heard_left = from_tape(ring[0], table, at, late, still)
            heard_right = from_tape(ring[last], table, at, late + offset, still) if channels == 2 else heard_left
            if own[FADE] > 0.0:
                late = own[NEXT] + moved
                next_left = from_tape(ring[0], table, at, late, still)
                next_right = from_tape(ring[last], table, at, late + offset, still) if channels == 2 else next_left
                heard_left += own[FADE] * (next_left - heard_left)
                heard_right += own[FADE] * (next_right - heard_right)
            left += gain_left * heard_left
            right += gain_right * heard_right
            loop_left += back * heard_left
            loop_right += back * heard_right
            if held_left == 0.0 and held_right == 0.0:
                held_left, held_right = heard_left, heard_right
        x_left, x_right = block[0, i], block[last, i]
        for c in range(channels):
            own, other = (loop_left, loop_right) if c == 0 else (loop_right, loop_left)
            back = figures[SAME] * own + figures[CROSSED] * other
            # Both cuts twice one pole.
            filters[c, 0] += figures[HIGH_CUT] * (back - filters[c, 0])
            filters[c, 1] += figures[HIGH_CUT] * (filters[c, 0] - filters[c, 1])
            back = filters[c, 1]
            filters[c, 2] += figures[LOW_CUT] * (back - filters[c, 2])
            back -= filters[c, 2]
            filters[c, 3] += figures[LOW_CUT] * (back - filters[c, 3])
            back -= filters[c, 3]
            if c == 0:
                fresh = figures[LEFT_IN] * x_left + figures[LEFT_FROM_RIGHT] * x_right
            else:
                fresh = figures[RIGHT_IN] * x_right + figures[RIGHT_FROM_LEFT] * x_left
            turn = figures[FEEDBACK] * back
            if around:
                sent[c, i] = turn
                turn = 0.0
            on_tape = recorded(fresh + turn, figures[COLOUR])
            hold = figures[HOLD]
            on_tape += hold * ((held_left if c == 0 else held_right) - on_tape)
            ring[c, at] = on_tape
            ring[c, at + length] = on_tape
            if around:
                # What comes round belongs where feedback would have been recorded, if no head has passed there yet.
                back_by = min(early, max(int(nearest) - 2 * TAPS, 0))
                there = (at + length - back_by) % length
                more = (1.0 - hold) * recorded(returned[c, i], figures[COLOUR])
                ring[c, there] += more
                ring[c, there + length] += more
        block[0, i] = figures[DIRECT] * x_left + figures[LEVEL] * left
        if channels == 2:
            block[1, i] = figures[DIRECT] * x_right + figures[LEVEL] * right
        at += 1
        if at == length:
            at = 0
    for c in range(channels):
        for k in range(4):
            if abs(filters[c, k]) < TINY:
                filters[c, k] = 0.0
    return at
