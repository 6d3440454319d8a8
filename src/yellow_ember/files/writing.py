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

from yellow_ember.choices import DTYPES, FORMATS
from yellow_ember.files.atomic import appearing, cannot_write
from yellow_ember.files.file_marks import write_time_stamp
from yellow_ember.files.reading import AudioFileError, RateChanger

KINDS = (("WAV, 32 bit float", "wav", "float32"), ("WAV, 24 bit", "wav", "pcm24"), ("WAV, 16 bit", "wav", "pcm16"),
         ("FLAC, 24 bit", "flac", "pcm24"), ("FLAC, 16 bit", "flac", "pcm16"), ("Opus", "opus", "float32"))
"""What a user can choose: words, format, samples."""
_NEARLY_FULL_BYTES = 2**17
LARGEST_WAV = 2**32 - 2**16
"""Bytes of sound from which on a WAV is written as RF64."""
_BYTES = {"pcm16": 2, "pcm24": 3, "float32": 4}
OPUS_RATE = 48000
"""The only rate that Opus is written at; other sound is brought to it."""
_BITS = {"pcm16": 16, "pcm24": 24}


class AudioWriter:
    """Takes blocks (channels, frames) of float64.  Made by `writing`.

    Parameters
    ----------
    path : Path
        Where the file is once it is whole; another than was asked for where that name was taken meanwhile.
    """

    def __init__(self, file: soundfile.SoundFile, dtype: str, path: Path, changer: RateChanger) -> None:
        self._file, self._changer = file, changer
        self.path = path
        self._bits = None if file.format == "OGG" else _BITS.get(dtype)
        self._random = np.random.default_rng(2026)
        self.clipped = 0

    def write(self, block: NDArray[np.float64]) -> None:
        """Append a block.  Integer formats get triangular dither of two steps' width."""
        if self._bits is None:
            self._file.write(self._changer.process(block.T.astype(np.float32), last=False))
            return
        steps = 2.0 ** (self._bits - 1)
        dither = self._random.random(block.shape) - self._random.random(block.shape)
        scaled = np.rint(block * steps + dither)
        limited = np.clip(scaled, -steps, steps - 1.0)
        self.clipped += int(np.count_nonzero(np.abs(block) > 1.0))
        self._file.write((limited.T.astype(np.int64) << (32 - self._bits)).astype(np.int32))


    def finish(self) -> None:
        """Write what is left of a change of rate."""
        if self._bits is None:
            self._file.write(self._changer.process(np.zeros((0, self._file.channels), np.float32), last=True))


@contextmanager
def writing(path: Path, rate: int, channels: int, dtype: str = "float32", *, over_empty: bool = False,
            frames: int = 0, time: float | None = None) -> Iterator[AudioWriter]:
    """Open `path` (.wav, .flac or .opus); it appears only when all went well, and never in place of another.

    Parameters
    ----------
    frames : int
        How many will come, where that is known: a WAV that would be larger than 4 GB is an RF64.
    time : float | None
        Seconds since midnight at the first sample, for a WAV (EBU Tech 3285).
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
        raise AudioFileError(f"{path}: write to a name that ends in .wav, .flac or .opus")
    if format_name == "FLAC" and dtype == "float32":
        raise AudioFileError(f"{path}: FLAC holds 16 or 24 bits, not floats; choose pcm24, or a .wav name")
    if format_name == "FLAC" and rate > 655350:
        raise AudioFileError(f"{path}: FLAC can't hold a rate of {rate} Hz; write a .wav")
    if format_name == "WAV" and frames * channels * _BYTES[dtype] > LARGEST_WAV:
        format_name = "RF64"
    is_opus = format_name == "OGG"
    changer = RateChanger(rate, OPUS_RATE if is_opus else rate, channels)
    if not path.parent.is_dir():
        raise AudioFileError(f"{path}: there is no folder {path.parent}")
    try:
        with appearing(path, over_empty=over_empty) as arrival:
            try:
                with soundfile.SoundFile(os.fsencode(arrival.temporary), "w", OPUS_RATE if is_opus else rate, channels,
                                         "OPUS" if is_opus else DTYPES[dtype], format=format_name) as file:
                    writer = AudioWriter(file, dtype, path, changer)
                    yield writer
                    writer.finish()
                if time is not None and format_name in ("WAV", "RF64"):
                    write_time_stamp(arrival.temporary, time, rate)
            except soundfile.LibsndfileError as error:
                # libsndfile keeps the system's reason to itself; what was written still takes its room.
                full = shutil.disk_usage(path.parent).free < _NEARLY_FULL_BYTES
                raise OSError(errno.ENOSPC if full else errno.EIO, error.error_string) from None
        writer.path = arrival.path
    except OSError as error:
        raise AudioFileError(cannot_write(path, error)) from None
