"""The inner loop of every symmetric FIR filter.

Indices are unsigned: a signed one may be negative in Python's sense, and the check for
that keeps a loop from vectorising.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel

EIGHT = 8
Index = int | np.unsignedinteger[Any]
_1, _2, _3, _4, _5, _6, _7, _8 = (np.uintp(k) for k in range(1, 9))


@kernel
def eight_folded(line: Samples, first: Index, last: Index, h0: float, h1: float, h2: float, h3: float, h4: float,
                 h5: float, h6: float, h7: float) -> float:
    """Sum of h_k (line[first + k] + line[last + 7 - k])."""
    return float(h0 * (line[first] + line[last + _7]) + h1 * (line[first + _1] + line[last + _6])
            + h2 * (line[first + _2] + line[last + _5]) + h3 * (line[first + _3] + line[last + _4])
            + (h4 * (line[first + _4] + line[last + _3]) + h5 * (line[first + _5] + line[last + _2])
               + h6 * (line[first + _6] + line[last + _1]) + h7 * (line[first + _7] + line[last])))


@kernel
def add_folded(total: Samples, line: Samples, taps: Samples, pairs: int, span: int, scale: float,
               n: int) -> None:
    """total[i] += scale * sum over k < pairs of taps[k] (line[i + k] + line[i + span - k]).

    Eight taps a pass keep the sums in registers.
    """
    count, whole, last = np.uintp(n), np.uintp(pairs // EIGHT * EIGHT), np.uintp(span)
    for k in range(np.uintp(0), whole, _8):
        h0, h1, h2, h3 = scale * taps[k], scale * taps[k + _1], scale * taps[k + _2], scale * taps[k + _3]
        h4, h5, h6, h7 = scale * taps[k + _4], scale * taps[k + _5], scale * taps[k + _6], scale * taps[k + _7]
        back = last - k - _7
        for i in range(count):
            total[i] += eight_folded(line, i + k, i + back, h0, h1, h2, h3, h4, h5, h6, h7)
    for k in range(whole, np.uintp(pairs)):
        h = scale * taps[k]
        back = last - k
        for i in range(count):
            total[i] += h * (line[i + k] + line[i + back])
