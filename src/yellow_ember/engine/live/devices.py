"""Where sound goes: the cards that PortAudio knows, and the silent card that is always there."""

from __future__ import annotations

import contextlib
import math
import time
from pathlib import Path
from types import ModuleType
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

SILENT_CARD = "Silent card"
QUEUED_SECONDS = 0.07
"""Sound that waits in a card's queue.  Nothing is played in live, so a late wake-up of some
tens of milliseconds, as busy desktops and virtual machines have them, need not be heard."""


def queued_frames(rate: int, block: int) -> int:
    """Length of a card's queue: whole blocks, at least three."""
    return max(3, math.ceil(QUEUED_SECONDS * rate / block)) * block


class DeviceError(Exception):
    """A device that can't be used; the message says why."""


class Card(Protocol):
    """An output.  `write` takes interleaved float32 (frames, 2) and waits until there is room."""

    missed: int

    def write(self, block: NDArray[np.float32]) -> None: ...

    def close(self) -> None: ...


class SilentCard:
    """Keeps real time like a card and makes no sound; can record what it is sent.

    Parameters
    ----------
    record : Path | None
        File for raw interleaved float32, or None.
    """

    def __init__(self, rate: int, block: int, record: Path | None = None) -> None:
        self._rate = rate
        self._queue = queued_frames(rate, block)
        self._started = 0.0
        self._written = 0
        self.missed = 0
        self._file = record.open("wb", buffering=0) if record is not None else None

    def write(self, block: NDArray[np.float32]) -> None:
        now = time.monotonic()
        if self._written == 0 or now > self._started + self._written / self._rate:
            # The queue ran dry before this block came.
            self.missed += self._written > 0
            self._started = now
            self._written = 0
        if self._file is not None:
            self._file.write(block.data)
        self._written += len(block)
        wait = self._started + (self._written - self._queue) / self._rate - now
        if wait > 0.0:
            time.sleep(wait)

    def close(self) -> None:
        if self._file is not None:
            self._file.close()


class PortAudioCard:
    """A real card, written to with PortAudio's blocking calls."""

    def __init__(self, sounddevice: ModuleType, name: str, rate: int, block: int) -> None:
        self.missed = 0
        try:
            self._stream = sounddevice.RawOutputStream(
                samplerate=rate, blocksize=block, device=name, channels=2, dtype="float32",
                latency=queued_frames(rate, block) / rate)
            self._stream.start()
        except (sounddevice.PortAudioError, ValueError) as error:
            raise DeviceError(f"{name} can't play at {rate} Hz: {error}") from None

    def write(self, block: NDArray[np.float32]) -> None:
        self.missed += bool(self._stream.write(block))

    def close(self) -> None:
        self._stream.stop()
        self._stream.close()


def _portaudio() -> ModuleType | None:
    """The sounddevice package, or None where PortAudio's library is not installed."""
    try:
        import sounddevice
    except OSError:
        return None
    result: ModuleType = sounddevice
    return result


def device_names() -> list[str]:
    """The silent card, and every output that PortAudio finds."""
    names = [SILENT_CARD]
    sounddevice = _portaudio()
    if sounddevice is not None:
        with contextlib.suppress(sounddevice.PortAudioError):
            names += [device["name"] for device in sounddevice.query_devices() if device["max_output_channels"] >= 2]
    return names


def open_card(name: str, rate: int, block: int, record: Path | None = None) -> Card:
    """Open an output by name.  DeviceError where it is not there or does not take the rate."""
    if name == SILENT_CARD:
        return SilentCard(rate, block, record)
    sounddevice = _portaudio()
    if sounddevice is None:
        raise DeviceError(f"{name} needs the PortAudio library, which is not installed")
    return PortAudioCard(sounddevice, name, rate, block)
