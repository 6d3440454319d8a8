"""Sample loops of what stands around a tape: transformers, compander, peak control, hum, modulation noise."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY
from yellow_ember.dsp.kernels.noise import INCREMENT, LOW_HALF, MULTIPLIER, as_noise, joined

SHAPE, COUPLING, PINNING, REVERSIBLE, RESISTANCE, STEP = range(6)
"""What `transformer` takes: Jiles-Atherton's a, alpha, k and c with Ms = 1; share of the magnetising
field that is lost in the winding's resistance; flux density that a unit of signal builds up in
a frame."""
CORE = 6


@kernel
def field_share(h: float, m: float, db: float, core: Samples) -> float:
    """The field's share dH/dB = 1 / (1 + dM/dH) in a change of flux density of the sign of `db`.

    Jiles and Atherton, J. Magn. Magn. Mater. 61 (1986), eq. 32.  In place of Langevin's
    coth x - 1/x stands a quotient of polynomials with the same first two terms at rest and the
    same approach to one, nowhere off by more than 0.006.
    """
    x = (h + core[COUPLING] * m) / core[SHAPE]
    a = abs(x)
    top, bottom = a * (7.5 + a * (3.5 + a)), 22.5 + a * (10.5 + a * (4.5 + a))
    part = 1.0 / bottom
    langevin = top * part
    slope = part * ((7.5 + a * (7.0 + 3.0 * a)) - langevin * (10.5 + a * (9.0 + 3.0 * a)))
    gap = (langevin if x >= 0.0 else -langevin) - m
    # Magnetisation that would run against the field's direction stays where it is.
    gap = max(gap if db >= 0.0 else -gap, 0.0)
    reversible = core[REVERSIBLE] / core[SHAPE] * slope
    pinned = max(core[PINNING] - core[COUPLING] * gap, 1e-6)
    bottom = pinned * max(1.0 - core[COUPLING] * reversible, 0.1)
    return float(bottom / (bottom + (1.0 - core[REVERSIBLE]) * gap + reversible * pinned))


@kernel
def transformer(block: Samples, core: Samples, state: Samples) -> None:
    """A winding's voltage on a core with hysteresis, in place.

    Flux is the integral of what the resistance leaves of the voltage, so it is smooth from
    frame to frame even where the signal is not, and one step a frame follows it, with the slope
    at its middle, where the last step's slope leads to; the field that flux needs takes its
    share from the signal.

    Parameters
    ----------
    state : Samples
        (channels, 3), field, magnetisation, the last step's dH/dB.
    """
    for c in range(block.shape[0]):
        h, m, share = state[c, 0], state[c, 1], state[c, 2]
        for i in range(block.shape[1]):
            x = block[c, i]
            db = (x - core[RESISTANCE] * h) * core[STEP]
            half = 0.5 * db * share
            share = field_share(h + half, m + 0.5 * db - half, db, core)
            dh = db * share
            h += dh
            m += db - dh
            block[c, i] = x - core[RESISTANCE] * h
        state[c, 0] = h if abs(h) > TINY else 0.0
        state[c, 1], state[c, 2] = m, share


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


@kernel
def modulate(block: Samples, amount: float, smooth: float, state: Samples) -> None:
    """Noise that the signal carries with it, in place; state (channels, 3), a generator and a filter."""
    scale = amount / np.sqrt(smooth / (2.0 - smooth))
    for c in range(block.shape[0]):
        seed, held = joined(state[c, 0], state[c, 1]), state[c, 2]
        for i in range(block.shape[1]):
            seed = seed * MULTIPLIER + INCREMENT
            held += smooth * (as_noise(seed) - held)
            block[c, i] *= 1.0 + scale * held
        state[c, 0], state[c, 1] = np.float64(seed >> np.uint64(32)), np.float64(seed & LOW_HALF)
        state[c, 2] = held


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
