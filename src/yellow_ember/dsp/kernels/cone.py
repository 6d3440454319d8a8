"""A loudspeaker's cone that leaves its linear travel."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY

STIFFENING, WEAKENING = 1.2, 1.5
"""How much the suspension stiffens and the motor weakens at a travel of one."""
FARTHEST = 0.9
"""Where the suspension is drawn tight."""
WARMING = 0.35
"""How much a coil's resistance rises at a mean square travel of one, once it is warm."""
TRAVEL, SPEED, WARMTH = range(3)
"""State of a cone."""
STATES = 3


@kernel
def travel(block: Samples, drive: float, stiffness: float, damping: float, warming: float, states: Samples) -> None:
    """The force that is left on the cone, in place; what a box makes of it is linear.

    A mass on a spring travels: e'' + d e' + k e = k x, as far as the suspension lets it.  The motor weakens with the
    travel and the suspension pulls back: f = x / (1 + w e^2) - s e^3 / (1 + e^2 / 5) (Klippel, JAES 54, 2006).
    The travel goes by what drives it and not by what is left: all loss, no spring that could swing at a part of
    a tone.  The coil warms with the mean square of its travel, and a warm coil takes less.

    Parameters
    ----------
    drive : float
        Travel that a unit of signal makes at rest.
    stiffness, damping : float
        K and d over the rate.
    warming : float
        Share of the way that the warmth goes a sample.
    states : Samples
        (channels, STATES).
    """
    over = 1.0 / drive
    for c in range(block.shape[0]):
        e, v, warmth = states[c, TRAVEL], states[c, SPEED], states[c, WARMTH]
        for i in range(block.shape[1]):
            x = drive * block[c, i]
            v += stiffness * (x - e) - damping * v
            e += v
            far = FARTHEST * e / np.sqrt(FARTHEST * FARTHEST + e * e)
            square = far * far
            warmth += warming * (square - warmth)
            force = x / (1.0 + WEAKENING * square) - STIFFENING * square * far / (1.0 + 0.2 * square)
            block[c, i] = over * force / (1.0 + WARMING * warmth)
        states[c, TRAVEL] = e if abs(e) > TINY else 0.0
        states[c, SPEED] = v if abs(v) > TINY else 0.0
        states[c, WARMTH] = warmth if warmth > TINY else 0.0
