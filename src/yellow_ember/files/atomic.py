"""Writing a file so that it is either whole or not there."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """A temporary path beside `path`; on success it is synced and renamed, on failure removed.

    The folder must exist.  Raises OSError where it can't be written.
    """
    temporary = path.with_name(f".{path.name}.{secrets.token_hex(4)}.part")
    try:
        yield temporary
        with temporary.open("rb") as written:
            os.fsync(written.fileno())
        os.replace(temporary, path)
        _sync_folder(path.parent)
    finally:
        temporary.unlink(missing_ok=True)


def write_text(path: Path, text: str) -> None:
    """Write text atomically."""
    with replacing(path) as temporary:
        temporary.write_text(text, encoding="utf-8")


def free_name(path: Path) -> Path:
    """`path`, or the first of `path 2`, `path 3` ... that is not taken."""
    candidate, number = path, 2
    while candidate.exists():
        candidate = path.with_name(f"{path.stem} {number}{path.suffix}")
        number += 1
    return candidate


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
