"""Uniformly partitioned convolution: the first partition directly, the others by their spectra.

A block's spectrum stands in a ring; its products with the partitions' spectra are due one block
later at the earliest, when the direct part has covered the time until then: nothing is delayed.
(Stockham, 1966; Gardner, JAES 43, 1995; Wefers, 2015.)
"""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.convolution import EIGHT, Taps
from yellow_ember.dsp.kernels.filters import TINY

FILLED, TURN = 0, 1
"""Where in the present block, and where in the ring of spectra."""


@kernel
def transform_columns(re: Samples, im: Samples, rows: int, turns: Samples, re2: Samples, im2: Samples) -> None:
    """Fourier transforms of length `rows` of all columns of a matrix that lies row by row, in place.

    The order is Stockham's.

    Parameters
    ----------
    turns : Samples
        (2, rows / 2), cosine and -sine.
    """
    n = re.size
    width = n // rows
    length, stride, step = rows // 2, width, 1
    a, b, c, d = re, im, re2, im2
    while length >= 1:
        for p in range(length):
            wr, wi = turns[0, p * step], turns[1, p * step]
            x, u = np.uintp(p * stride), np.uintp((p + length) * stride)
            to, turned = np.uintp(2 * p * stride), np.uintp((2 * p + 1) * stride)
            for q in range(np.uintp(stride)):
                zr, zi = a[x + q] - a[u + q], b[x + q] - b[u + q]
                c[to + q], d[to + q] = a[x + q] + a[u + q], b[x + q] + b[u + q]
                c[turned + q], d[turned + q] = zr * wr - zi * wi, zr * wi + zi * wr
        a, b, c, d = c, d, a, b
        length //= 2
        stride *= 2
        step *= 2
    if a is not re:
        for i in range(n):
            re[i], im[i] = a[i], b[i]


@kernel
def transform(re: Samples, im: Samples, turns: Samples, twist: Samples, re2: Samples, im2: Samples) -> None:
    """Complex Fourier transform of m^2 points, in place: as a matrix's columns, then as its rows.

    So every loop runs over at least m neighbours.

    Parameters
    ----------
    turns : Samples
        (2, m / 2).
    twist : Samples
        (2, m^2), cosine and -sine; scratch re2, im2 like re.
    """
    m = 2 * turns.shape[1]
    transform_columns(re, im, m, turns, re2, im2)
    for i in range(m):
        for k in range(m):
            at, to = i * m + k, k * m + i
            re2[to] = re[at] * twist[0, at] - im[at] * twist[1, at]
            im2[to] = re[at] * twist[1, at] + im[at] * twist[0, at]
    transform_columns(re2, im2, m, turns, re, im)
    for i in range(re.size):
        re[i], im[i] = re2[i], im2[i]


@kernel
def forward(real: Samples, re: Samples, im: Samples, turns: Samples, twist: Samples, scratch: Samples,
            fine: Samples) -> None:
    """Spectrum (n + 1 bins) of 2 n real samples; scratch : (4, n); fine : (2, n + 1), cosine and -sine of pi k / n."""
    n = real.size // 2
    pr, pi = scratch[0], scratch[1]
    for i in range(n):
        pr[i], pi[i] = real[2 * i], real[2 * i + 1]
    transform(pr, pi, turns, twist, scratch[2], scratch[3])
    re[0], im[0] = pr[0] + pi[0], 0.0
    re[n], im[n] = pr[0] - pi[0], 0.0
    for k in range(1, n):
        er, ei = 0.5 * (pr[k] + pr[n - k]), 0.5 * (pi[k] - pi[n - k])
        dr, di = 0.5 * (pi[k] + pi[n - k]), -0.5 * (pr[k] - pr[n - k])
        re[k] = er + dr * fine[0, k] - di * fine[1, k]
        im[k] = ei + dr * fine[1, k] + di * fine[0, k]


@kernel
def backward(re: Samples, im: Samples, real: Samples, turns: Samples, twist: Samples, scratch: Samples,
             fine: Samples) -> None:
    """The inverse of `forward`."""
    n = real.size // 2
    pr, pi = scratch[0], scratch[1]
    for k in range(n):
        er, ei = 0.5 * (re[k] + re[n - k]), 0.5 * (im[k] - im[n - k])
        dr, di = 0.5 * (re[k] - re[n - k]), 0.5 * (im[k] + im[n - k])
        odd_r, odd_i = dr * fine[0, k] + di * fine[1, k], di * fine[0, k] - dr * fine[1, k]
        # The transform's inverse is the transform with real and imaginary parts exchanged.
        pi[k], pr[k] = er - odd_i, ei + odd_r
    transform(pr, pi, turns, twist, scratch[2], scratch[3])
    scale = 1.0 / n
    for i in range(n):
        real[2 * i], real[2 * i + 1] = scale * pi[i], scale * pr[i]


@kernel
def add_products(sums: Samples, ring_re: Samples, ring_im: Samples, re: Samples, im: Samples, c: int, used: int,
                 turn: int) -> None:
    """sums = the products of the ring's spectra, the newest first, with the partitions' of channel c."""
    bins, slots = sums.shape[1], ring_re.shape[1]
    for k in range(bins):
        sums[0, k] = sums[1, k] = 0.0
    for p in range(used):
        back = np.uintp(turn - p if turn >= p else turn - p + slots)
        at, own = np.uintp(p), np.uintp(c)
        for k in range(np.uintp(bins)):
            xr, xi, hr, hi = ring_re[own, back, k], ring_im[own, back, k], re[own, at, k], im[own, at, k]
            sums[np.uintp(0), k] += xr * hr - xi * hi
            sums[np.uintp(1), k] += xr * hi + xi * hr


@kernel
def add_eight(total: Samples, line: Samples, first: int, taps: Taps, n: int) -> None:
    """total[i] += sum over k of taps[k] line[i + first + k]."""
    front = np.uintp(first)
    for i in range(np.uintp(n)):
        result = taps[0] * line[i + front]
        for k in range(np.uintp(1), np.uintp(len(taps))):
            result += taps[k] * line[i + front + k]
        total[i] += result


@kernel
def add_direct(total: Samples, line: Samples, taps: Samples, n: int) -> None:
    """total[i] += sum over k of taps[k] line[taps.size - 1 + i - k], eight taps a pass."""
    for k in range(0, taps.size, EIGHT):
        add_eight(total, line, taps.size - 8 - k, (taps[k + 7], taps[k + 6], taps[k + 5], taps[k + 4],
                                                   taps[k + 3], taps[k + 2], taps[k + 1], taps[k]), n)


@kernel
def convolve(block: Samples, head: Samples, re: Samples, im: Samples, used: int, recent: Samples, ring_re: Samples,
             ring_im: Samples, tail: Samples, index: Samples, turns: Samples, twist: Samples, fine: Samples,
             scratch: Samples, line: Samples, sums: Samples) -> None:
    """Convolve each channel with a response of its own, in place, whatever the block's length.

    Parameters
    ----------
    head : Samples
        (channels, size), the first partition.
    re, im : Samples
        (channels, partitions, size + 1), spectra of the others, of which `used` count.
    recent : Samples
        (channels, 2 size), the input's last block and the present one.
    ring_re, ring_im : Samples
        As re.
    tail : Samples
        (channels, size), what the present block still gets.
    index : Samples
        (2,).
    scratch : Samples
        (4, size).
    line : Samples
        (2 size).
    sums : Samples
        (2, size + 1).
    """
    channels, frames = block.shape
    size, slots = head.shape[1], ring_re.shape[1]
    filled, turn = int(index[FILLED]), int(index[TURN])
    at = 0
    while at < frames:
        n = min(frames - at, size - filled)
        for c in range(channels):
            own, row = recent[c], block[c, at:at + n]
            for i in range(n):
                own[size + filled + i] = row[i]
            for i in range(size + n - 1):
                line[i] = own[filled + 1 + i]
            for i in range(n):
                row[i] = tail[c, filled + i]
            add_direct(row, line, head[c], n)
        filled += n
        at += n
        if filled == size:
            filled = 0
            for c in range(channels):
                forward(recent[c], ring_re[c, turn], ring_im[c, turn], turns, twist, scratch, fine)
                add_products(sums, ring_re, ring_im, re, im, c, used, turn)
                if used > 0:
                    backward(sums[0], sums[1], line[:2 * size], turns, twist, scratch, fine)
                    for i in range(size):
                        tail[c, i] = line[size + i]
                for i in range(size):
                    x = recent[c, size + i]
                    recent[c, i] = x if abs(x) > TINY else 0.0
            turn = turn + 1 if turn + 1 < slots else 0
    index[FILLED], index[TURN] = filled, turn
