"""Writing audio files, whole or not at all."""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from yellow_ember.files.atomic import appearing, cannot_write
from yellow_ember.files.reading import AudioFileError

FORMATS = {"wav": "WAV", "flac": "FLAC"}
DTYPES = {"pcm16": "PCM_16", "pcm24": "PCM_24", "float32": "FLOAT"}
KINDS = (("WAV, 32 bit float", "wav", "float32"), ("WAV, 24 bit", "wav", "pcm24"), ("WAV, 16 bit", "wav", "pcm16"),
         ("FLAC, 24 bit", "flac", "pcm24"), ("FLAC, 16 bit", "flac", "pcm16"))
"""What a user can choose: words, format, samples."""
_NEARLY_FULL_BYTES = 2**17
_BITS = {"pcm16": 16, "pcm24": 24}


class AudioWriter:
    """Takes blocks (channels, frames) of float64.  Made by `writing`.

    Parameters
    ----------
    path : Path
        Where the file is once it is whole; another than was asked for where that name was taken meanwhile.
    """

    def __init__(self, file: soundfile.SoundFile, dtype: str, path: Path) -> None:
        self._file = file
        self.path = path
        self._bits = _BITS.get(dtype)
        self._random = np.random.default_rng(2026)
        self.clipped = 0

    def write(self, block: NDArray[np.float64]) -> None:
        """Append a block.  Integer formats get triangular dither of two steps' width."""
        if self._bits is None:
            self._file.write(block.T.astype(np.float32))
            return
        steps = 2.0 ** (self._bits - 1)
        dither = self._random.random(block.shape) - self._random.random(block.shape)
        scaled = np.rint(block * steps + dither)
        limited = np.clip(scaled, -steps, steps - 1.0)
        self.clipped += int(np.count_nonzero(np.abs(block) > 1.0))
        self._file.write((limited.T.astype(np.int64) << (32 - self._bits)).astype(np.int32))


@contextmanager
def writing(path: Path, rate: int, channels: int, dtype: str = "float32", *,
            over_empty: bool = False) -> Iterator[AudioWriter]:
    """Open `path` (.wav or .flac) for writing; it appears only when all went well, and never in place of another.

    Parameters
    ----------
    over_empty : bool
        A file of no bytes may be replaced.
    dtype : str
        "pcm16", "pcm24" or "float32"; FLAC holds no floats.

    Raises
    ------
    AudioFileError
        Where the format, the folder or the disk does not allow it.
    """
    format_name = FORMATS.get(path.suffix.lower().lstrip("."))
    if format_name is None:
        raise AudioFileError(f"{path}: write to a name that ends in .wav or .flac")
    if format_name == "FLAC" and dtype == "float32":
        raise AudioFileError(f"{path}: FLAC holds 16 or 24 bits, not floats; choose pcm24, or a .wav name")
    if format_name == "FLAC" and rate > 655350:
        raise AudioFileError(f"{path}: FLAC can't hold a rate of {rate} Hz; write a .wav")
    if not path.parent.is_dir():
        raise AudioFileError(f"{path}: there is no folder {path.parent}")
    try:
        with appearing(path, over_empty=over_empty) as arrival:
            try:
                with soundfile.SoundFile(os.fsencode(arrival.temporary), "w", rate, channels, DTYPES[dtype],
                                         format=format_name) as file:
                    writer = AudioWriter(file, dtype, path)
                    yield writer
            except soundfile.LibsndfileError as error:
                # libsndfile keeps the system's reason to itself; what was written still takes its room.
                full = shutil.disk_usage(path.parent).free < _NEARLY_FULL_BYTES
                raise OSError(errno.ENOSPC if full else errno.EIO, error.error_string) from None
        writer.path = arrival.path
    except OSError as error:
        raise AudioFileError(cannot_write(path, error)) from None
