"""What sways slowly: all-passes that sweep, delays that breathe, a level that swells."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY
from yellow_ember.dsp.kernels.motion import TAPS, read_at

PHASER, CHORUS, TREMOLO = range(3)
DEPTH, BLEND, FEEDBACK, CENTRE, APART = range(5)
"""Figures that glide: how far it sways, the share that sways, what goes round again, the phaser's middle as an angle
a frame, and by how much of a turn the second channel is behind."""
FIGURES = 5
MAX_PASSES = 12
LAST = MAX_PASSES
STATES = MAX_PASSES + 1
_SWEEP_OCTAVES = 2.0
_TWO_PI = 2.0 * math.pi


@kernel
def swing(turn: float, triangle: bool) -> float:
    """-1 to 1 at a place of a turn (0 to 1)."""
    if triangle:
        t = turn + 0.25 - np.floor(turn + 0.25)
        return float(4.0 * t - 1.0 if t < 0.5 else 3.0 - 4.0 * t)
    return math.sin(_TWO_PI * turn)


@kernel
def sway(block: Samples, effect: int, figures: Samples, requested: Samples, glide: float, step: float, triangle: bool,
         passes: int, base: float, reach: float, table: Samples, ring: Samples, index: int, phase: Samples,
         states: Samples) -> int:
    """A block that sways, in place; returns the ring's new place.

    Parameters
    ----------
    figures, requested : Samples
        (FIGURES,), as they are and where they glide to.
    step : float
        Of a turn, a frame; where it glides to.
    passes : int
        Of the phaser.
    base, reach : float
        Of the chorus's delays, in frames.
    ring : Samples
        (channels, 2 length), every sample written twice.
    phase : Samples
        (2,), place in a turn, and how much of one a frame is now.
    states : Samples
        (channels, STATES).
    """
    channels, length = block.shape[0], ring.shape[1] // 2
    at, turn, now = index, phase[0], phase[1]
    for i in range(block.shape[1]):
        for k in range(FIGURES):
            figures[k] += glide * (requested[k] - figures[k])
        now += glide * (step - now)
        turn += now
        turn -= np.floor(turn)
        for c in range(channels):
            x, own = block[c, i], states[c]
            # Whatever sways, a chorus that comes in finds what was before it.
            ring[c, at] = ring[c, at + length] = x
            here = turn - c * figures[APART]
            if effect == TREMOLO:
                block[c, i] = x * (1.0 - figures[DEPTH] * (0.5 - 0.5 * swing(here, triangle)))
                continue
            if effect == CHORUS:
                made = 0.0
                for voice in range(2):
                    delay = base * (1.0 + 0.35 * voice) + reach * figures[DEPTH] * swing(here + voice / 3.0, triangle)
                    first = at + length - delay - (TAPS // 2 - 1)
                    whole = int(np.floor(first))
                    made += 0.5 * read_at(ring[c], table, whole % length, first - whole)
                recorded = x + figures[FEEDBACK] * made
                ring[c, at] = recorded
                ring[c, at + length] = recorded
            else:
                octaves = _SWEEP_OCTAVES * figures[DEPTH] * swing(here, triangle)
                warped = math.tan(min(0.5 * figures[CENTRE] * 2.0**octaves, 1.5))
                a = (warped - 1.0) / (warped + 1.0)
                made = x + figures[FEEDBACK] * own[LAST]
                for n in range(passes):
                    y = a * made + own[n]
                    own[n] = made - a * y
                    made = y
                own[LAST] = made
            block[c, i] = x + figures[BLEND] * (made - x)
        at += 1
        if at == length:
            at = 0
    phase[0], phase[1] = turn, now
    for c in range(channels):
        for k in range(STATES):
            if abs(states[c, k]) < TINY:
                states[c, k] = 0.0
    return at
