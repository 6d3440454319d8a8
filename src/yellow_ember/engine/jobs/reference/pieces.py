"""Which seconds of a recording stand for all of it, by clustering, so that few have to be run."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.bands import band_sums

PIECE_SECONDS = 1.0
PIECES = 3
_STEP_SECONDS = 0.25
_SILENT_DB = 50.0
_ROUNDS = 8


def representative(sound: Samples, rate: float, pieces: int = PIECES, seconds: float = PIECE_SECONDS) -> list[int]:
    """First frames of pieces of so many seconds; of a sound that is no longer, its beginning alone.

    The pieces' spectra and levels are clustered (Lloyd's k-means, begun with what lies farthest apart), and the
    piece next to each centre is taken; the largest cluster's comes first.

    Parameters
    ----------
    sound : Samples
        (channels, frames).
    """
    length, step = round(seconds * rate), round(_STEP_SECONDS * rate)
    starts = np.arange(0, max(sound.shape[1] - length, 0) + 1, step)
    features = np.stack([_features(sound[:, at:at + length], rate) for at in starts])
    level = features[:, 0]
    heard = np.flatnonzero(level > level.max() - _SILENT_DB)
    starts, features = starts[heard], features[heard]
    count = min(pieces, max(1, starts.size * step // length))
    centres = features[_far_apart(features, count)]
    nearest = np.zeros(starts.size, int)
    for _ in range(_ROUNDS):
        nearest = np.square(features[:, None] - centres[None]).sum(axis=2).argmin(axis=1)
        centres = np.stack([features[nearest == index].mean(axis=0) if (nearest == index).any() else centres[index]
                            for index in range(count)])
    sizes = np.bincount(nearest, minlength=count)
    chosen: list[int] = []
    for index in np.argsort(-sizes, kind="stable"):
        order = np.square(features - centres[index]).sum(axis=1).argsort(kind="stable")
        free = [int(starts[at]) for at in order if all(abs(int(starts[at]) - other) >= length for other in chosen)]
        chosen += free[:1]
    return chosen


def representative_pieces(sound: Samples, rate: float, pieces: int = PIECES,
                          seconds: float = PIECE_SECONDS) -> list[Samples]:
    """The pieces (channels, frames) themselves, which end where the sound does."""
    length = round(seconds * rate)
    return [sound[:, at:at + length] for at in representative(sound, rate, pieces, seconds)]


def _features(piece: Samples, rate: float) -> Samples:
    """Level in dB, and third octaves against it."""
    power = np.sum(np.abs(np.fft.rfft(piece, axis=1)) ** 2, axis=0)
    hz: Samples = np.asarray(np.fft.rfftfreq(piece.shape[1], 1.0 / rate), dtype=np.float64)
    bands = band_sums(power, hz) + 1e-12
    level = 10.0 * np.log10(bands.sum())
    shape = 10.0 * np.log10(bands / bands.sum() + 1e-6)
    return np.concatenate(([level], shape / np.sqrt(shape.size)))


def _far_apart(features: Samples, count: int) -> list[int]:
    """The piece next to the middle, then again and again the one farthest from all that were taken."""
    chosen = [int(np.square(features - features.mean(axis=0)).sum(axis=1).argmin())]
    while len(chosen) < count:
        apart = np.min([np.square(features - features[one]).sum(axis=1) for one in chosen], axis=0)
        chosen.append(int(apart.argmax()))
    return chosen
