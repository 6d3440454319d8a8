"""Impulse responses of the user's: WAV, FLAC and whatever else is read, any rate, one or two channels."""

from __future__ import annotations

import functools
import os
from pathlib import Path

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from yellow_ember.files.reading import AudioFileError, probe

LONGEST_SECONDS = 10.0
_SILENT = 1e-5
_KEPT = 24
"""Responses that stay in memory."""


def read_impulse(path: Path, rate: float) -> NDArray[np.float64]:
    """An impulse response (channels, taps) at a rate.

    AudioFileError says why a file can't be one: not there, no sound file, more than two channels, longer than
    LONGEST_SECONDS, silent, or with samples that are no numbers.
    """
    try:
        stamp = path.stat()
    except OSError:
        raise AudioFileError(f"{path} is not there") from None
    return _read(path, stamp.st_mtime_ns, stamp.st_size, rate)


@functools.lru_cache(maxsize=_KEPT)
def _read(path: Path, _changed: int, _size: int, rate: float) -> NDArray[np.float64]:
    info = probe(path)
    if info.seconds > LONGEST_SECONDS:
        minutes = f"{info.seconds / 60:.0f} minutes" if info.seconds > 120 else f"{info.seconds:.1f} s"
        raise AudioFileError(f"{path} lasts {minutes}; an impulse response may last up to {LONGEST_SECONDS:g} s. "
                             "If it is a recording, import it as a track instead")
    try:
        samples, own_rate = soundfile.read(os.fsencode(path), dtype="float64", always_2d=True)
    except (soundfile.LibsndfileError, RuntimeError) as error:
        raise AudioFileError(f"{path} is damaged: {error}") from None
    bad = int(np.count_nonzero(~np.isfinite(samples)))
    if bad:
        raise AudioFileError(f"{path} holds {bad} samples that are no numbers, so it can't be an impulse response")
    if np.abs(samples).max() < _SILENT:
        raise AudioFileError(f"{path} is silent, so nothing would be heard through it")
    if own_rate != rate:
        # A response is a density: with more samples a second each carries less.
        samples = soxr.resample(samples, own_rate, rate, quality="VHQ") * (own_rate / rate)
    return np.ascontiguousarray(samples.T, dtype=np.float64)


def find_impulse(path: str, rate: float) -> NDArray[np.float64] | None:
    """`read_impulse`, or None where the file can't be used."""
    try:
        return read_impulse(Path(path), rate)
    except AudioFileError:
        return None
