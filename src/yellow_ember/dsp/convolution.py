"""Convolution with long responses, without delay.  Kernels: `dsp/kernels/partitioned.py`."""

from __future__ import annotations

import functools
import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels.partitioned import convolve

_SHORT, _LONG = 256, 1024
_LONG_TAPS = 65536
"""From this length on larger partitions are quicker."""


@functools.cache
def _turns(size: int) -> tuple[Samples, Samples, Samples]:
    """Factors of a complex transform of `size` points (a square), and of its split into a real one's bins."""
    side = math.isqrt(size)
    angles = (2.0 * np.pi * np.arange(side // 2) / side,
              2.0 * np.pi * np.outer(np.arange(side), np.arange(side)).ravel() / size,
              np.pi * np.arange(size + 1) / size)
    first, second, third = (np.stack((np.cos(angle), -np.sin(angle))) for angle in angles)
    return first, second, third


class Convolution:
    """Each channel with a response of its own.

    channels : of the blocks to come; taps : length of the longest response to come
    """

    def __init__(self, channels: int, taps: int) -> None:
        size = _SHORT if taps < _LONG_TAPS else _LONG
        later = max(1, -(-taps // size) - 1)
        self._size = size
        self._head: Samples = np.zeros((channels, size))
        self._re: Samples = np.zeros((channels, later, size + 1))
        self._im: Samples = np.zeros((channels, later, size + 1))
        self._used = 0
        self._recent: Samples = np.zeros((channels, 2 * size))
        self._ring_re: Samples = np.zeros((channels, later, size + 1))
        self._ring_im: Samples = np.zeros((channels, later, size + 1))
        self._tail: Samples = np.zeros((channels, size))
        self._index: Samples = np.zeros(2)
        self._factors = _turns(size)
        self._scratch: Samples = np.zeros((4, size))
        self._line: Samples = np.zeros(2 * size)
        self._sums: Samples = np.zeros((2, size + 1))

    def state(self) -> list[Samples]:
        return [self._recent, self._ring_re, self._ring_im, self._tail, self._index]

    def set(self, responses: Samples) -> None:
        """Take new responses (channels, at most the longest's taps); what went in before goes on with them."""
        channels, taps = responses.shape
        size = self._size
        whole = -(-taps // size)
        padded = np.zeros((channels, max(whole, 1) * size))
        padded[:, :taps] = responses
        self._head[:] = padded[:, :size]
        self._used = max(0, whole - 1)
        if self._used:
            later = padded[:, size:].reshape(channels, self._used, size)
            spectra = np.fft.rfft(later, 2 * size, axis=2)
            self._re[:, :self._used], self._im[:, :self._used] = spectra.real, spectra.imag

    def process(self, block: Samples) -> None:
        """A block (channels, frames) in place."""
        convolve(block, self._head, self._re, self._im, self._used, self._recent, self._ring_re, self._ring_im,
                 self._tail, self._index, *self._factors, self._scratch, self._line, self._sums)
