"""Files of the user's own (presets, sets), one for each, in the XDG data folder."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from yellow_ember.files.atomic import free_name
from yellow_ember.folders import Base, folder
from yellow_ember.session.io.file_format import SessionFileError

Found = TypeVar("Found")


def own_files_folder(name: str) -> Path:
    """Where the user's own of that name lie."""
    return folder(Base.DATA, name)


def read_own(index: Path, read: Callable[[Path], Found]) -> tuple[list[Found], tuple[str, ...]]:
    """All in a folder that can be read, and what is wrong with the rest."""
    result, troubles = [], []
    for path in sorted(index.glob("*.json")):
        try:
            result.append(read(path))
        except SessionFileError as error:
            troubles.append(str(error))
    return result, tuple(troubles)


def fresh_file(index: Path, name: str) -> Path:
    """A file for something of that name, that is not there yet."""
    return free_name(index / f"{re.sub(r'[^a-z0-9]+', '-', name.lower()).strip('-') or 'own'}.json")
