"""The record process of a biased tape at the raised rate.  Model: docs/models/tape.md."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY
from yellow_ember.dsp.kernels.halfband import Cascade, delay_short, lower_rate, raise_rate


@kernel
def magnetise(field: Samples, n: int, curve: Samples) -> None:
    """Remanence that a biased record head leaves, in place (docs/models/tape.md, eq. 2).

    field : field over coercivity; becomes magnetisation, saturation = 1
    curve : (cells, 4) cubic coefficients over u = |x| / (1 + |x|); without cells nothing changes
    """
    cells = curve.shape[0]
    if cells == 0:
        return
    for i in range(n):
        x = field[i]
        a = abs(x)
        u = a / (1.0 + a) * cells
        cell = int(u)
        t = u - cell
        y = curve[cell, 0] + t * (curve[cell, 1] + t * (curve[cell, 2] + t * curve[cell, 3]))
        field[i] = y if x >= 0.0 else -y


@kernel
def demagnetise(flux: Samples, n: int, slow: Samples, corner: float, limit: float, state: Samples) -> None:
    """Short wavelengths demagnetise themselves (eq. 3 and 4), in place.

    corner : coefficient of the one-pole low-pass whose complement is held down
    limit : the greatest magnetisation at short wavelengths, D0
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
        r *= r
        flux[i] = slow[i] + d / np.sqrt(np.sqrt(1.0 + r * r))
    state[0] = held if abs(held) > TINY else 0.0


@kernel
def magnetise_block(block: Samples, curves: Samples, corner: float, limit: float, demag_state: Samples,
           chunk: int, levels: int, pad: int, passes: Cascade, up: Samples, down: Samples,
           odd: Samples, pads: Samples, ping: Samples, pong: Samples, line: Samples, odd_line: Samples,
           total: Samples) -> None:
    """Head field to magnetisation, in place, the non-linear part at the raised rate.

    curves : (channels, cells, 4), one for `magnetise` each
    """
    frames = block.shape[1]
    for c in range(block.shape[0]):
        row = block[c]
        for start in range(0, frames, chunk):
            n = min(chunk, frames - start)
            fast = n << levels
            part = row[start:start + n]
            high = raise_rate(part, n, levels, passes, up[c], ping, pong, line, total)
            other = pong if levels % 2 == 0 else ping
            magnetise(high, fast, curves[c])
            demagnetise(high, fast, other, corner, limit, demag_state[c])
            delay_short(high, fast, pads[c], pad, line)
            lower_rate(high, other, n, levels, passes, down[c], odd[c], line, odd_line, part)

