"""A Broadcast WAV file that can be opened however its writing ends: its sizes are settled again and again.

EBU Tech 3285 (time stamp) and 3306 (RF64 over 4 GB).
"""

from __future__ import annotations

import os
import struct
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellow_ember.files.file_marks import bext

_FLOAT = 3
"""`WAVE_FORMAT_IEEE_FLOAT`."""
_LARGEST = 0xFFFFFFFF
_DS64_SIZE = 28


class BroadcastWriter:
    """Writes 32 bit floats.  OSError where the file can't be made, or is there already.

    Parameters
    ----------
    time_reference : int
        Frames since midnight at the first sample.
    """

    def __init__(self, path: Path, rate: int, channels: int, time_reference: int, description: str = "") -> None:
        self.path = path
        self.frames = 0
        self._frame_bytes = 4 * channels
        marks = bext(time_reference, description)
        sound = struct.pack("<HHIIHHH", _FLOAT, channels, rate, rate * self._frame_bytes, self._frame_bytes, 32, 0)
        # Room for the sizes of an RF64, which a file may only become while it grows.
        chunks = (_chunk(b"JUNK", bytes(_DS64_SIZE)), _chunk(b"bext", marks), _chunk(b"fmt ", sound),
                  _chunk(b"fact", bytes(4)))
        head = b"RIFF" + bytes(4) + b"WAVE" + b"".join(chunks) + b"data" + bytes(4)
        self._fact_at, self._data_at = len(head) - 12, len(head)
        self._handle = os.open(path, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o644)
        try:
            self._write_all(head, 0)
            self.settle()
        except OSError:
            os.close(self._handle)
            path.unlink(missing_ok=True)
            raise

    def _write_all(self, data: bytes, at: int) -> int:
        """Write at a place, as much as there is room for; how much that was.  OSError where there is none at all."""
        done = 0
        while done < len(data):
            done += os.pwrite(self._handle, data[done:], at + done)
        return done

    def write(self, sound: NDArray[np.float32]) -> None:
        """Put (frames, channels) behind what is there.  OSError where that fails; whole frames before it are kept."""
        data = np.ascontiguousarray(sound, "<f4").tobytes()
        self._write_all(data, self._data_at + self.frames * self._frame_bytes)
        self.frames += len(sound)

    def settle(self) -> None:
        """Write down how long it is, so that it can be opened as it is now."""
        size = self.frames * self._frame_bytes
        riff = self._data_at - 8 + size
        if riff <= _LARGEST:
            small = (riff, self.frames, size)
        else:
            small = (_LARGEST, _LARGEST, _LARGEST)
            self._write_all(_chunk(b"ds64", struct.pack("<QQQI", riff, size, self.frames, 0)), 12)
            self._write_all(b"RF64", 0)
        for number, at in zip(small, (4, self._fact_at, self._data_at - 4), strict=True):
            self._write_all(struct.pack("<I", number), at)

    def close(self) -> None:
        """Settle and let go."""
        try:
            self.settle()
        finally:
            os.close(self._handle)


def _chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + bytes(len(body) & 1)
