"""The array types that the processing passes around."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Samples = NDArray[np.float64]
"""float64, C-contiguous; a block is (channels, frames), +-1.0 = 0 dBFS."""

Counts = NDArray[np.int64]
"""Whole numbers, one an entry."""


def block_view(store: Samples, channels: int, frames: int) -> Samples:
    """The beginning of a C-contiguous `store` as a block (channels, frames); nothing is allocated or copied."""
    return store.reshape(-1)[:channels * frames].reshape(channels, frames)


def db(ratio: float | Samples) -> Samples:
    """20 log10 of an amplitude ratio; -300 dB stands for nothing at all."""
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(ratio), 1e-15)))


def gain(decibels: float) -> float:
    """Amplitude ratio of a level in dB."""
    return float(10.0 ** (decibels / 20.0))
