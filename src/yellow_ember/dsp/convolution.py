"""Convolution with long responses, without delay.  Kernels: `dsp/kernels/partitioned.py`."""

from __future__ import annotations

import functools
import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.partitioned import convolve
from yellow_ember.dsp.record import Record, cube, matrix, scratch, setting, shared, state, vector, whole

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


class ConvolutionRecord(Record):
    """Each channel with a response of its own.  Sizes: `convolution_sizes`."""

    used: int = whole()
    head: Samples = setting("channels", "partition")
    re: Samples = setting("channels", "later", "bins")
    im: Samples = setting("channels", "later", "bins")
    turns: Samples = shared(2)
    twist: Samples = shared(2)
    fine: Samples = shared(2)
    recent: Samples = state("channels", "partition_twice")
    ring_re: Samples = state("channels", "later", "bins")
    ring_im: Samples = state("channels", "later", "bins")
    tail: Samples = state("channels", "partition")
    index: Samples = state(2)
    work: Samples = scratch(4, "partition")
    line: Samples = scratch("partition_twice")
    sums: Samples = scratch(2, "bins")


def convolution_sizes(taps: int) -> dict[str, int]:
    """Sizes in a record with a `ConvolutionRecord` in it; taps : length of the longest response to come"""
    size = _SHORT if taps < _LONG_TAPS else _LONG
    return {"partition": size, "partition_twice": 2 * size, "later": max(1, -(-taps // size) - 1), "bins": size + 1}


def set_response(record: ConvolutionRecord, responses: Samples) -> None:
    """Take new responses (channels, at most the longest's taps); what went in before goes on with them."""
    channels, taps = responses.shape
    size = record.head.shape[1]
    record.turns, record.twist, record.fine = _turns(size)
    whole = -(-taps // size)
    padded = np.zeros((channels, max(whole, 1) * size))
    padded[:, :taps] = responses
    record.head = padded[:, :size]
    record.used = used = max(0, whole - 1)
    if used:
        later = padded[:, size:].reshape(channels, used, size)
        spectra = np.fft.rfft(later, 2 * size, axis=2)
        record.re[:, :used], record.im[:, :used] = spectra.real, spectra.imag


@inlined
def convolve_block(record: ConvolutionRecord, block: Samples) -> None:
    """Convolve a block (channels, frames) in place."""
    convolve(block, matrix(record.head), cube(record.re), cube(record.im), record.used, matrix(record.recent),
             cube(record.ring_re), cube(record.ring_im), matrix(record.tail), vector(record.index),
             matrix(record.turns), matrix(record.twist), matrix(record.fine), matrix(record.work),
             vector(record.line), matrix(record.sums))
