"""Bells that go down only while their part of the sound sticks out."""

from __future__ import annotations

import math

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.dynamics import TICK
from yellow_ember.dsp.kernels.filters import TINY

RISE, FALL, STEADY = range(3)
"""One-pole coefficients: of a band's level up and down, and of the whole sound's."""
FIGURES = 3
GAIN, SLOPE, LEVEL = range(3)
"""State of a band's detector: its gain less one, what that moves by each frame, its level."""
DETECTOR = 3


@kernel
def tame(block: Samples, sections: Samples, most_db: Samples, above_db: float, figures: Samples, linked: bool,
         filters: Samples, detectors: Samples, whole: Samples) -> None:
    """x + (g - 1) band(x) for every band, in place.

    Linked channels share the first one's detectors.

    Parameters
    ----------
    sections : Samples
        (bands, 5), band-passes of gain one.
    most_db : Samples
        (bands,), how far each goes down at most.
    above_db : float
        How far a band's level may come up to the whole's before it goes down, dB for dB.
    filters : Samples
        (channels, bands + 1, 2), in the last row what came in.
    detectors : Samples
        (channels, bands, DETECTOR).
    whole : Samples
        (channels, 2), the level of everything and frames until the next look.
    """
    channels, bands = block.shape[0], sections.shape[0]
    for first in range(1 if linked else channels):
        last = channels if linked else first + 1
        level, left = whole[first, 0], whole[first, 1]
        for i in range(block.shape[1]):
            loudest = 0.0
            for c in range(first, last):
                loudest = max(loudest, abs(block[c, i]))
            level += figures[STEADY] * (loudest - level)
            look = left == 0.0
            left = TICK - 1.0 if look else left - 1.0
            for k in range(bands):
                heard = 0.0
                gain = detectors[first, k, GAIN] + detectors[first, k, SLOPE]
                detectors[first, k, GAIN] = gain
                for c in range(first, last):
                    # All bands hear the same: what one takes away is no reason for another to let go.
                    x = block[c, i] if k == 0 else filters[c, bands, 0]
                    if k == 0:
                        filters[c, bands, 0] = x
                    part = sections[k, 0] * x + filters[c, k, 0]
                    filters[c, k, 0] = sections[k, 1] * x - sections[k, 3] * part + filters[c, k, 1]
                    filters[c, k, 1] = sections[k, 2] * x - sections[k, 4] * part
                    heard = max(heard, abs(part))
                    block[c, i] += gain * part
                own = detectors[first, k, LEVEL]
                own += (figures[RISE] if heard > own else figures[FALL]) * (heard - own)
                detectors[first, k, LEVEL] = own if own > TINY else 0.0
                if look:
                    over = 20.0 * math.log10(max(own, 1e-7) / max(level, 1e-7)) - above_db
                    down = min(max(over, 0.0), most_db[k])
                    detectors[first, k, SLOPE] = (10.0 ** (-down / 20.0) - 1.0 - gain) / TICK
        whole[first, 0], whole[first, 1] = (level if level > TINY else 0.0), left
        for c in range(first, last):
            for k in range(bands):
                for part in range(2):
                    if abs(filters[c, k, part]) < TINY:
                        filters[c, k, part] = 0.0
