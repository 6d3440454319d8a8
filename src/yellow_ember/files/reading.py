"""Reading audio files: what they are, and their samples block by block."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from yellow_ember.files.kinds import kind_of_file, why_unreadable

LOWEST_RATE, HIGHEST_RATE = 8_000, 384_000
MAX_CHANNELS = 2
READABLE = (".wav", ".rf64", ".w64", ".flac", ".aif", ".aiff", ".caf", ".ogg", ".oga", ".opus", ".mp3")
_LOSSY = ("OGG", "MP3", "MPEG")
"""Formats whose headers give the length roughly."""


class AudioFileError(Exception):
    """A file that can't be used; the message says which, why, and what to do."""


@dataclass(frozen=True, slots=True)
class AudioInfo:
    """rate in Hz, channels, frames; `warning` is empty or says what is odd about the file."""

    path: Path
    rate: int
    channels: int
    frames: int
    warning: str = ""

    @property
    def seconds(self) -> float:
        return self.frames / self.rate


def probe(path: Path) -> AudioInfo:
    """What the file is.  AudioFileError where it can't be used."""
    try:
        status = path.stat()
        if not stat.S_ISREG(status.st_mode):
            raise AudioFileError(f"{path} is {kind_of_file(status.st_mode)}, not an audio file")
        size = status.st_size
        if size == 0:
            raise AudioFileError(f"{path} is empty (0 bytes)")
        info = soundfile.info(os.fsencode(path))
    except soundfile.LibsndfileError as error:
        raise AudioFileError(
            f"{path} is not an audio file that can be read ({error.error_string}); "
            "WAV, RF64, W64, FLAC, AIFF, CAF, OGG, Opus and MP3 can") from None
    except (OSError, ValueError) as error:
        raise AudioFileError(why_unreadable(path, error)) from None
    if info.channels > MAX_CHANNELS:
        raise AudioFileError(
            f"{path} has {info.channels} channels; one or two can be used. "
            "Split it, or mix it down to stereo, and open the result")
    if not LOWEST_RATE <= info.samplerate <= HIGHEST_RATE:
        raise AudioFileError(
            f"{path} has a sample rate of {info.samplerate} Hz; "
            f"{LOWEST_RATE} to {HIGHEST_RATE} Hz can be used")
    if info.frames <= 0:
        raise AudioFileError(f"{path} holds no sound (its header promises none, or it was cut short)")
    return AudioInfo(path, info.samplerate, info.channels, info.frames, _cut_short(path, size))


def _cut_short(path: Path, size: int) -> str:
    """A warning where a RIFF or AIFF header promises more than the file holds."""
    with path.open("rb") as file:
        head = file.read(12)
    if head[:4] == b"RIFF" and head[8:] == b"WAVE":
        promised = int.from_bytes(head[4:8], "little") + 8
    elif head[:4] == b"FORM":
        promised = int.from_bytes(head[4:8], "big") + 8
    else:
        return ""
    if promised > size + 1 and promised < 0xFFFFFF00:
        return f"{path.name} was cut short: {size} of {promised} bytes are there, and are used"
    return ""


def read_blocks(path: Path, block: int = 65536) -> Iterator[NDArray[np.float64]]:
    """The file's samples as float64 (channels, frames), at most `block` frames each.

    AudioFileError where the data turns out damaged.  Samples are as stored: NaN stays NaN.
    """
    probe(path)
    position = 0
    try:
        with soundfile.SoundFile(os.fsencode(path)) as file:
            total, is_exact = file.frames, file.format not in _LOSSY
            while True:
                data = file.read(block, dtype="float64", always_2d=True)
                if len(data) == 0:
                    break
                position += len(data)
                yield np.ascontiguousarray(data.T)
            rate = file.samplerate
    except (soundfile.LibsndfileError, RuntimeError) as error:
        raise AudioFileError(f"{path} is damaged after frame {position}: {error}") from None
    if position < total and is_exact:
        raise AudioFileError(f"{path} is damaged or cut short: it ends after {position / rate:.2f} s "
                             f"of {total / rate:.2f} s")


class RateChanger:
    """Streaming resampling by soxr (very high quality); passes through where rates are equal."""

    def __init__(self, from_rate: float, to_rate: float, channels: int) -> None:
        self._stream = None if from_rate == to_rate else soxr.ResampleStream(
            from_rate, to_rate, channels, dtype="float32", quality="VHQ")

    def process(self, interleaved: NDArray[np.float32], *, last: bool) -> NDArray[np.float32]:
        """Samples (frames, channels) in and out; with `last` the tail comes too."""
        if self._stream is None:
            return interleaved
        return np.asarray(self._stream.resample_chunk(interleaved, last=last))
