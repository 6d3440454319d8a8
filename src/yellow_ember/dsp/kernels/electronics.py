"""Sample loops of what stands around a tape: transformers, compander, peak control, hum, modulation noise."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY
from yellow_ember.dsp.kernels.noise import INCREMENT, LOW_HALF, MULTIPLIER, as_noise, joined

STEP, LOST, FULL, LEAK = range(4)
"""What `transformer` takes: flux that a unit of signal builds up in a frame, so that a unit at 40 Hz is one; how much
of the flux the core's hysteresis takes at one; the flux at which it is full; what the flux loses a frame."""
CORE = 4
TURNS = 16
"""Reversals of the flux that a core remembers."""
FLUX, FIELD, SHIFT, DEPTH = range(4)
_TURNED = 4
CORE_STATES = _TURNED + 2 * TURNS
"""Flux, what hysteresis makes of it, what forgetting moved that by, reversals remembered; then each of those, flux and
field."""
_FORGETS = 0.9995


@kernel
def hysteresis(b: float, own: Samples) -> float:
    """What a core's losses make of a flux: Rayleigh's law between reversals, and Madelung's rules at them.

    From rest it goes by the flux's square, on branches by half the square from where they began; a branch that comes
    past the beginning of the one before it is forgotten with it.  So the third harmonic falls with the level.
    """
    depth, before = int(own[DEPTH]), own[FLUX]
    turns = own[_TURNED:]
    start, height = 0.0, 0.0
    if depth > 0:
        start, height = turns[2 * depth - 2], turns[2 * depth - 1]
    if (b - before) * (before - start) < 0.0:
        field = own[FIELD]
        if depth == TURNS:
            # The smallest loop gives its place; what it was off the branch about it fades.
            depth -= 2
            start, height = turns[2 * depth - 2], turns[2 * depth - 1]
            on_branch = height + 0.5 * (before - start) * abs(before - start)
            own[SHIFT] += field - on_branch
            field = on_branch
        turns[2 * depth], turns[2 * depth + 1] = before, field
        depth += 1
    while depth > 1 and (b - turns[2 * depth - 4]) * (turns[2 * depth - 2] - turns[2 * depth - 4]) <= 0.0:
        depth -= 2
    if depth == 1 and abs(b) >= abs(turns[0]):
        depth = 0
    if depth == 0:
        result = b * abs(b)
    else:
        start, height = turns[2 * depth - 2], turns[2 * depth - 1]
        result = height + 0.5 * (b - start) * abs(b - start)
    own[FLUX], own[FIELD], own[DEPTH] = b, result, depth
    own[SHIFT] *= _FORGETS
    return float(result + own[SHIFT])


@kernel
def transformer(block: Samples, core: Samples, state: Samples) -> None:
    """A voltage through a transformer, in place: its flux lags by what the core's hysteresis takes of it.

    The voltage is the flux's change, so the third harmonic is in proportion to level and to one over the frequency.

    Parameters
    ----------
    state : Samples
        (channels, 1 + CORE_STATES), the flux that the voltage asks for, then the core's.
    """
    over_step, over_full = 1.0 / core[STEP], 1.0 / core[FULL]
    for c in range(block.shape[0]):
        flux, own = state[c, 0], state[c, 1:]
        for i in range(block.shape[1]):
            x = block[c, i]
            flux += core[STEP] * x - core[LEAK] * flux
            before = own[FIELD] + own[SHIFT]
            taken = hysteresis(flux / (1.0 + over_full * abs(flux)), own)
            block[c, i] = x - core[LOST] * over_step * (taken - before)
        state[c, 0] = flux if abs(flux) > TINY else 0.0


RISE, FALL, SENSITIVITY, SLIDE, BOOST = range(5)
"""What the compander takes: one-pole coefficients of its control, one over its threshold, the
lowest corner as a share of a sample (pi f / rate), the side path's gain."""
COMPANDER = 5
SQUASH_TICK = 16


@kernel
def compand(block: Samples, figures: Samples, decoding: bool, state: Samples) -> None:
    """A sliding-band compander, in place: encode quiet highs up, or decode them down again.

    The side path is a first-order high-pass whose corner slides up with what passes it.
    Decoding solves for the input from which encoding would have made this output, so that the
    two are exact inverses while their levels agree.

    Parameters
    ----------
    state : Samples
        (channels, 2), the filter's and the control's.
    """
    for c in range(block.shape[0]):
        held, control = state[c, 0], state[c, 1]
        for i in range(block.shape[1]):
            slid = control * figures[SENSITIVITY]
            g = min(figures[SLIDE] * (1.0 + slid * slid * slid), 30.0)
            share = 1.0 / (1.0 + g)
            y = block[c, i]
            x = (y + figures[BOOST] * share * held) / (1.0 + figures[BOOST] * share) if decoding else y
            side = (x - held) * share
            block[c, i] = x if decoding else x + figures[BOOST] * side
            held += 2.0 * g * side
            a = abs(side)
            control += (figures[RISE] if a > control else figures[FALL]) * (a - control)
        state[c, 0] = held if abs(held) > TINY else 0.0
        state[c, 1] = control if control > TINY else 0.0


@kernel
def squash(block: Samples, threshold: float, share: float, rise: float, fall: float, state: Samples) -> None:
    """Hold down what passes a level by a share of its excess in dB, in place.

    The gain is looked at every `SQUASH_TICK` frames and slides between.

    Parameters
    ----------
    state : Samples
        (channels, 4), level, gain taken off one, its slope, frames until the next look.
    """
    for c in range(block.shape[0]):
        level, off, slope, left = state[c, 0], state[c, 1], state[c, 2], state[c, 3]
        for i in range(block.shape[1]):
            x = abs(block[c, i])
            level += (rise if x > level else fall) * (x - level)
            if left == 0.0:
                left = SQUASH_TICK
                to = 1.0 - (threshold / level) ** share if level > threshold else 0.0
                slope = (to - off) / SQUASH_TICK
            left -= 1.0
            off += slope
            block[c, i] *= 1.0 - off
        state[c, 0] = level if level > TINY else 0.0
        state[c, 1] = off if abs(off) > TINY else 0.0
        state[c, 2], state[c, 3] = slope, left


SLOW, SLOW_SHARE, QUICK, QUICK_SHARE = range(4)
"""What `modulate` takes: one-pole coefficients of two parts of a tape's roughness, and how much of each."""
ROUGHNESS = 4


@kernel
def modulate(block: Samples, figures: Samples, state: Samples) -> None:
    """Let a rough coat and uneven contact move the level, in place; state (channels, 4), a generator and two filters.

    The roughness is made of long waves more than of short ones, so side bands rise towards what they are of.
    """
    for c in range(block.shape[0]):
        seed, slow, quick = joined(state[c, 0], state[c, 1]), state[c, 2], state[c, 3]
        for i in range(block.shape[1]):
            seed = seed * MULTIPLIER + INCREMENT
            x = as_noise(seed)
            slow += figures[SLOW] * (x - slow)
            quick += figures[QUICK] * (x - quick)
            block[c, i] *= 1.0 + figures[SLOW_SHARE] * slow + figures[QUICK_SHARE] * quick
        state[c, 0], state[c, 1] = np.float64(seed >> np.uint64(32)), np.float64(seed & LOW_HALF)
        state[c, 2], state[c, 3] = slow, quick


@kernel
def repeat(block: Samples, wave: Samples, step: float, state: Samples) -> None:
    """Fill every channel with a wave read again and again; state (1,), where in it, 0 to 1."""
    at, size = state[0], wave.size - 1
    for i in range(block.shape[1]):
        position = at * size
        low = int(position)
        block[0, i] = wave[low] + (position - low) * (wave[low + 1] - wave[low])
        at += step
        if at >= 1.0:
            at -= 1.0
    for c in range(1, block.shape[0]):
        for i in range(block.shape[1]):
            block[c, i] = block[0, i]
    state[0] = at
