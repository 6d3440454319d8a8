"""The inner loops of every symmetric FIR filter.

Coefficients come as short tuples: their number is known when a loop is compiled, so that
sums stay in registers and the loop over samples vectorises.  Indices are unsigned: a signed
one may be negative in Python's sense, and the check for that keeps a loop from vectorising.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel

Index = int | np.unsignedinteger[Any]
Taps = tuple[float, ...]
"""At most twelve coefficients of one pass; longer tuples are not unrolled by the compiler."""

EIGHT = 8
_0, _1, _2, _3, _4, _5, _6, _7 = (np.uintp(k) for k in range(EIGHT))


@kernel
def folded(line: Samples, first: Index, last: Index, taps: Taps) -> float:
    """Sum over k of taps[k] (line[first + k] + line[last - k])."""
    total = float(taps[0] * (line[first] + line[last]))
    for k in range(_1, np.uintp(len(taps))):
        total += taps[k] * (line[first + k] + line[last - k])
    return total


@kernel
def add_folded(total: Samples, line: Samples, first: int, last: int, taps: Taps, n: int) -> None:
    """total[i] += sum over k of taps[k] (line[i + first + k] + line[i + last - k])."""
    front, back = np.uintp(first), np.uintp(last)
    for i in range(np.uintp(n)):
        total[i] += folded(line, i + front, i + back, taps)


@kernel
def add_symmetric(total: Samples, line: Samples, taps: Samples, pairs: int, n: int) -> None:
    """total[i] += all but the middle of a symmetric filter of 2 pairs + 1 taps, eight taps a pass."""
    whole, span = pairs // EIGHT * EIGHT, 2 * pairs
    for k in range(0, whole, EIGHT):
        h = taps[k:k + EIGHT]
        add_folded(total, line, k, span - k,
                   (h[_0], h[_1], h[_2], h[_3], h[_4], h[_5], h[_6], h[_7]), n)
    for k in range(whole, pairs):
        add_folded(total, line, k, span - k, (taps[k],), n)
