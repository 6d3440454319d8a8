"""Noise from a seed."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel


@kernel
def white(block: Samples, generator: Samples) -> None:
    """Fill with near-Gaussian white noise of unit power.

    generator : (channels, 2), each channel's 64-bit random state as two 32-bit halves,
    advanced by a linear congruential step (Knuth, TAOCP vol. 2, 3.3.4).
    """
    multiplier = np.uint64(6364136223846793005)
    increment = np.uint64(1442695040888963407)
    for c in range(block.shape[0]):
        seed = (np.uint64(generator[c, 0]) << np.uint64(32)) | np.uint64(generator[c, 1])
        for i in range(block.shape[1]):
            # The sum of three uniform values, of variance 1/12 each, scaled to variance one.
            total = -1.5
            for _ in range(3):
                seed = seed * multiplier + increment
                total += np.float64(seed >> np.uint64(11)) * 2.0**-53
            block[c, i] = 2.0 * total
        generator[c, 0] = np.float64(seed >> np.uint64(32))
        generator[c, 1] = np.float64(seed & np.uint64(0xFFFFFFFF))
