"""The pieces that stand for a strip's loop, before any chain."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.comparison import Before
from yellow_ember.measure.likeness.performance import Change, change_of


def alone(piece: Samples, rate: float) -> Before:
    """What a result of a piece (channels, frames) is compared with, channels together."""
    # Two channels that are fitted from two need five times the sums for little.
    return Before(single(piece), rate, quick=True)


def single(sound: Samples) -> Samples:
    """All channels (channels, frames) as one."""
    return np.asarray(sound.mean(axis=0, keepdims=True))


class BeforePieces:
    """Some pieces (channels, frames), and what is compared with each."""

    def __init__(self, pieces: Sequence[Samples], rate: float) -> None:
        self.pieces, self.rate = list(pieces), rate
        self.alone = [alone(piece, rate) for piece in pieces]

    def spectra(self, made: Sequence[Samples]) -> list[NDArray[np.complex128]]:
        """Of what a chain made of the first pieces (channels, frames)."""
        return [before.lines_of(single(piece)) for before, piece in zip(self.alone, made, strict=False)]

    def change(self, spectra: Sequence[NDArray[np.complex128]]) -> Change:
        """What a chain did to the first pieces, of whose results these are the spectra."""
        return change_of([before.against_lines(lines) for before, lines in zip(self.alone, spectra, strict=False)])
