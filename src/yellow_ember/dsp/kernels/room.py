"""A room or a plate: first reflections, then a network of delays that feed each other."""

from __future__ import annotations

from yellow_ember.dsp.arrays import Counts, Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY

LINES = 8
SPREADERS = 4
EARLY, LATE = range(2)
"""Gains that glide: first reflections, and what follows."""
FIGURES = 2
_DIFFUSION = 0.62
_SCALE = 0.35355339059327373
"""One over the root of LINES: the mixing keeps all power."""


@kernel
def reverberate(block: Samples, figures: Samples, requested: Samples, glide: float, before: int, taps: Counts,
                tap_gains: Samples, spreads: Counts, lines: Counts, gains: Samples, poles: Samples, first: Samples,
                blurred: Samples, ring: Samples, at: Counts, lows: Samples, mixed: Samples) -> None:
    """What a room makes of a block, in place.  Each channel has a room of its own.

    Parameters
    ----------
    before : int
        Frames until the first reflections' clock starts.
    taps, tap_gains : Counts, Samples
        (channels, count), reflections.
    spreads : Counts
        (channels, SPREADERS), lengths in frames.
    lines : Counts
        (channels, LINES), lengths in frames.
    gains, poles : Samples
        (channels, LINES), of each line's loss and its damping (Jot and Chaigne, AES 90, 1991).
    first : Samples
        (channels, length), a ring of the input.
    blurred : Samples
        (channels, SPREADERS, length).
    ring : Samples
        (channels, LINES, length).
    at : Counts
        (channels, 1 + SPREADERS + LINES), places in all of them.
    lows : Samples
        (channels, LINES).
    mixed : Samples
        Scratch.
    """
    for i in range(block.shape[1]):
        for k in range(FIGURES):
            figures[k] += glide * (requested[k] - figures[k])
        for c in range(block.shape[0]):
            x = block[c, i]
            own, index = first[c], at[c, 0]
            length = own.size
            own[index] = x
            early = 0.0
            for k in range(taps.shape[1]):
                from_ = index - before - taps[c, k]
                early += tap_gains[c, k] * own[from_ + length if from_ < 0 else from_]
            from_ = index - before
            feed = own[from_ + length if from_ < 0 else from_]
            at[c, 0] = index + 1 if index + 1 < length else 0
            # All-passes in series blur the input, so that no echoes stand out.
            for k in range(SPREADERS):
                held, index = blurred[c, k], at[c, 1 + k]
                delay = held[index]
                out = delay - _DIFFUSION * feed
                held[index] = feed + _DIFFUSION * out
                feed = out
                at[c, 1 + k] = index + 1 if index + 1 < spreads[c, k] else 0
            total = 0.0
            for k in range(LINES):
                index = at[c, 1 + SPREADERS + k]
                heard = gains[c, k] * ring[c, k, index]
                lows[c, k] += (1.0 - poles[c, k]) * (heard - lows[c, k])
                mixed[k] = lows[c, k]
                total += mixed[k] if k % 2 == 0 else -mixed[k]
            # Hadamard's matrix in three steps.
            half = LINES // 2
            while half >= 1:
                for start in range(0, LINES, 2 * half):
                    for k in range(start, start + half):
                        a, b = mixed[k], mixed[k + half]
                        mixed[k], mixed[k + half] = a + b, a - b
                half //= 2
            for k in range(LINES):
                index = at[c, 1 + SPREADERS + k]
                ring[c, k, index] = _SCALE * mixed[k] + (feed if k % 2 == 0 else -feed)
                at[c, 1 + SPREADERS + k] = index + 1 if index + 1 < lines[c, k] else 0
            block[c, i] = figures[EARLY] * early + figures[LATE] * total
    for c in range(block.shape[0]):
        for k in range(LINES):
            if abs(lows[c, k]) < TINY:
                lows[c, k] = 0.0
