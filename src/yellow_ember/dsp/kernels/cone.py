"""A loudspeaker's cone that leaves its linear travel."""

from __future__ import annotations

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY

STIFFENING, WEAKENING = 1.2, 1.5
"""How much the suspension stiffens and the motor weakens at a travel of one."""


@kernel
def travel(block: Samples, drive: float, stiffness: float, damping: float, state: Samples) -> None:
    """The force that is left on the cone, in place; what a box makes of it is linear.

    A mass on a spring that stiffens with its travel, driven by a motor that weakens with it
    (Klippel, JAES 54, 2006): f = x / (1 + w e^2) - s e^3 / (1 + e^2 / 5), e'' + d e' + k e = k f.

    Parameters
    ----------
    drive : float
        Travel that a unit of signal makes at rest.
    stiffness, damping : float
        K and d over the rate.
    state : Samples
        (channels, 2), travel and velocity.
    """
    over = 1.0 / drive
    for c in range(block.shape[0]):
        e, v = state[c, 0], state[c, 1]
        for i in range(block.shape[1]):
            square = e * e
            force = drive * block[c, i] / (1.0 + WEAKENING * square) - STIFFENING * square * e / (1.0 + 0.2 * square)
            block[c, i] = over * force
            v += stiffness * (force - e) - damping * v
            e += v
        state[c, 0] = e if abs(e) > TINY else 0.0
        state[c, 1] = v if abs(v) > TINY else 0.0
