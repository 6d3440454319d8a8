"""What lies at a path, without an error where one may not look."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path


def kind_of_file(mode: int) -> str:
    """What lies at a path that is no regular file, by its mode."""
    kinds = ((stat.S_ISDIR, "a folder"), (stat.S_ISFIFO, "a pipe"), (stat.S_ISSOCK, "a socket"))
    return next((word for test, word in kinds if test(mode)), "a device")


def why_unreadable(path: Path, error: OSError | ValueError) -> str:
    """Why a file could not be opened, for the user; a ValueError is what Python makes of names with a NUL."""
    if isinstance(error, FileNotFoundError):
        return f"{path} is not there"
    return f"{path} can't be read: {error.strerror}" if isinstance(error, OSError) else f"{path} is no file's name"


def is_file(path: Path) -> bool:
    """True where a file is there; False also where one may not look."""
    try:
        return path.is_file()
    except OSError:
        return False


def files_below(folder: Path) -> Iterator[Path]:
    """All files in a folder and its folders, in the order of their names; what one may not enter is left out."""
    for parent, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            path = Path(parent) / name
            if is_file(path):
                yield path


FileState = tuple[int, int, int]
"""What changes when a file is written or replaced: inode, size, time of the last change in nanoseconds."""


def state_of_file(path: Path) -> FileState | None:
    """The present state of a file; None where it is not there, or one may not look."""
    try:
        status = path.stat()
    except (OSError, ValueError):
        return None
    return file_state(status)


def file_state(status: os.stat_result) -> FileState:
    """The part of a file's status that tells whether it is as it was."""
    return status.st_ino, status.st_size, status.st_mtime_ns
