"""The record process of a biased tape at the raised rate.  Model: docs/models/tape.md."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY
from yellow_ember.dsp.oversampling import CHUNK, OversamplingRecord, beside, fall, rise
from yellow_ember.dsp.record import cube


@kernel
def magnetise(field: Samples, n: int, curve: Samples, offset: float, rest: float, erased: Samples) -> None:
    """Remanence that a biased record head leaves, in place (docs/models/tape.md, eq. 2).

    Parameters
    ----------
    field : Samples
        Field over coercivity; becomes magnetisation, saturation = 1.
    curve : Samples
        (cells, 4) cubic coefficients over u = |x| / (1 + |x|); without cells nothing changes.
    offset, rest : float
        What a magnetised head and a lopsided bias add to the field, and what that alone leaves.
    erased : Samples
        By how much the limit of short wavelengths falls, squared, as the field erases what it has just recorded.
    """
    cells = curve.shape[0]
    if cells == 0:
        for i in range(n):
            erased[i] = 1.0
        return
    for i in range(n):
        x = field[i] + offset
        a = abs(x)
        u = a / (1.0 + a) * cells
        cell = int(u)
        t = u - cell
        y = curve[cell, 0] + t * (curve[cell, 1] + t * (curve[cell, 2] + t * curve[cell, 3]))
        field[i] = (y if x >= 0.0 else -y) - rest
        square = x * x
        erased[i] = 1.0 + ERASURE * square * square / (ERASING + square)


ERASURE, ERASING = 0.6, 30.0


@kernel
def demagnetise(flux: Samples, n: int, erased: Samples, slow: Samples, corner: float, limit: float,
                state: Samples) -> None:
    """Short wavelengths demagnetise themselves (eq. 3 and 4), in place.

    Parameters
    ----------
    erased : Samples
        What `magnetise` says of the limit.
    corner : float
        Coefficient of the one-pole low-pass whose complement is held down.
    limit : float
        The greatest magnetisation at short wavelengths, D0.
    """
    held, last = state[0], state[1]
    keep = 1.0 - 2.0 * corner
    slow[0] = corner * (flux[0] + last)
    ahead, target = flux[1:n], slow[1:n]
    for i in range(n - 1):
        target[i] = corner * (flux[i] + ahead[i])
    state[1] = flux[n - 1]
    for i in range(n):
        held = keep * held + slow[i]
        slow[i] = held
    inverse = 1.0 / limit
    for i in range(n):
        d = flux[i] - slow[i]
        r = d * inverse
        r *= r * erased[i]
        flux[i] = slow[i] + d / np.sqrt(np.sqrt(1.0 + r * r))
    state[0] = held if abs(held) > TINY else 0.0


@kernel
def magnetise_block(block: Samples, curves: Samples, offsets: Samples, corner: float, limit: float,
                    demag_state: Samples, erased: Samples, fast: OversamplingRecord) -> None:
    """Head field to magnetisation, in place, the non-linear part at the raised rate.

    Parameters
    ----------
    curves : Samples
        (channels, cells, 4), one for `magnetise` each.
    offsets : Samples
        (channels, 2), what is added to its field and what that leaves.
    erased : Samples
        Scratch of a chunk at the raised rate.
    """
    up = cube(fast.up)
    for c in range(block.shape[0]):
        for start in range(0, block.shape[1], CHUNK):
            part = block[c, start:min(start + CHUNK, block.shape[1])]
            high, count = rise(fast, up[c], part), part.shape[0] << fast.levels
            magnetise(high, count, curves[c], offsets[c, 0], offsets[c, 1], erased)
            demagnetise(high, count, erased, beside(fast), corner, limit, demag_state[c])
            fall(fast, c, high, part)
