"""The inner loop of every symmetric FIR filter."""

from __future__ import annotations

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel


@kernel
def add_folded(total: Samples, line: Samples, taps: Samples, pairs: int, span: int, scale: float,
               n: int) -> None:
    """total[i] += scale * sum over k < pairs of taps[k] (line[i + k] + line[i + span - k]).

    Four taps a pass keep the sums in registers; slices from zero let the compiler vectorise.
    """
    out = total[:n]
    k = 0
    while k + 4 <= pairs:
        h0, h1, h2, h3 = scale * taps[k], scale * taps[k + 1], scale * taps[k + 2], scale * taps[k + 3]
        a0, b0 = line[k:k + n], line[span - k:span - k + n]
        a1, b1 = line[k + 1:k + 1 + n], line[span - k - 1:span - k - 1 + n]
        a2, b2 = line[k + 2:k + 2 + n], line[span - k - 2:span - k - 2 + n]
        a3, b3 = line[k + 3:k + 3 + n], line[span - k - 3:span - k - 3 + n]
        for i in range(n):
            out[i] += (h0 * (a0[i] + b0[i]) + h1 * (a1[i] + b1[i])
                       + h2 * (a2[i] + b2[i]) + h3 * (a3[i] + b3[i]))
        k += 4
    while k < pairs:
        h = scale * taps[k]
        a, b = line[k:k + n], line[span - k:span - k + n]
        for i in range(n):
            out[i] += h * (a[i] + b[i])
        k += 1
