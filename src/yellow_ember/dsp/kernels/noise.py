"""Noise from a seed.

A generator's state is a 64-bit number kept as two 32-bit halves in float64, advanced by a
linear congruential step (Knuth, TAOCP vol. 2, 3.3.4).
"""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel

MULTIPLIER = np.uint64(6364136223846793005)
INCREMENT = np.uint64(1442695040888963407)
LOW_HALF = np.uint64(0xFFFFFFFF)


@kernel
def joined(high: float, low: float) -> np.uint64:
    """A generator's state from its halves."""
    return (np.uint64(high) << np.uint64(32)) | np.uint64(low)


@kernel
def as_noise(seed: np.uint64) -> float:
    """A generator's state as a number, evenly spread about zero with unit power."""
    return float((2.0 * np.float64(seed >> np.uint64(11)) * 2.0**-53 - 1.0) * 1.7320508075688772)


@kernel
def draw(generator: Samples) -> float:
    """The next number of one generator (2,)."""
    seed = joined(generator[0], generator[1]) * MULTIPLIER + INCREMENT
    generator[0], generator[1] = np.float64(seed >> np.uint64(32)), np.float64(seed & LOW_HALF)
    return as_noise(seed)


@kernel
def white(block: Samples, generator: Samples) -> None:
    """Fill with near-Gaussian white noise of unit power; generator (channels, 2)."""
    for c in range(block.shape[0]):
        seed = joined(generator[c, 0], generator[c, 1])
        for i in range(block.shape[1]):
            total = 0.0
            for _ in range(3):
                seed = seed * MULTIPLIER + INCREMENT
                total += as_noise(seed)
            block[c, i] = total * 0.5773502691896258
        generator[c, 0], generator[c, 1] = np.float64(seed >> np.uint64(32)), np.float64(seed & LOW_HALF)


@kernel
def hashed(seed: float, index: float) -> float:
    """A number between 0 and 1 that depends on a seed and a whole number alone.

    The mixing steps of SplitMix64 (Steele, Lea and Flood, OOPSLA 2014).
    """
    x = np.uint64(np.int64(seed)) * MULTIPLIER + np.uint64(np.int64(index)) * np.uint64(0x9E3779B97F4A7C15)
    x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    x = x ^ (x >> np.uint64(31))
    return float(np.float64(x >> np.uint64(11)) * 2.0**-53)
