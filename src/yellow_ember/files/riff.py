"""Chunks of WAV files: plain RIFF, and RF64 for files over 4 GB (EBU Tech 3306)."""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

_UNKNOWN = 0xFFFFFFFF
"""What a 32 bit size says where the true one stands in `ds64`."""
_MOST_CHUNKS = 1000
"""More than so many in a file are damage."""


@dataclass(frozen=True, slots=True)
class Chunk:
    """A chunk: its name of four bytes, and where its content lies."""

    name: bytes
    start: int
    size: int


def chunks(file: BinaryIO) -> Iterator[Chunk]:
    """Give the chunks of an open file in their order; none where it is no WAV, and those before any damage."""
    file.seek(0)
    head = file.read(12)
    if len(head) < 12 or head[:4] not in (b"RIFF", b"RF64") or head[8:] != b"WAVE":
        return
    length = os.fstat(file.fileno()).st_size
    position, data_size = 12, _UNKNOWN
    for _ in range(_MOST_CHUNKS):
        file.seek(position)
        header = file.read(8)
        if len(header) < 8:
            return
        name, size = struct.unpack("<4sI", header)
        start = position + 8
        if name == b"ds64" and size >= 24:
            _, data_size, _ = struct.unpack("<QQQ", file.read(24).ljust(24, b"\0"))
        elif name == b"data" and size == _UNKNOWN:
            size = data_size
        if start + size > length:
            return
        yield Chunk(name, start, size)
        position = start + size + (size & 1)


def content(file: BinaryIO, chunk: Chunk, longest: int = 1 << 20) -> bytes:
    """Return what a chunk holds, `longest` bytes at most."""
    file.seek(chunk.start)
    return file.read(min(chunk.size, longest))


def append_chunk(path: Path, name: bytes, body: bytes) -> None:
    """Put a chunk behind the others of a WAV file.

    Raises
    ------
    OSError
        Where that is not possible.
    """
    body += b"\0" * (len(body) & 1)
    with path.open("r+b") as file:
        is_large = file.read(4) == b"RF64"
        end = file.seek(0, os.SEEK_END)
        if end & 1:
            file.write(b"\0")
        file.write(struct.pack("<4sI", name, len(body)) + body)
        size = file.tell() - 8
        # In an RF64 the size stands in its first chunk, `ds64`.
        file.seek(20 if is_large else 4)
        file.write(struct.pack("<Q" if is_large else "<I", size))
