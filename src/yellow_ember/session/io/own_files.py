"""Files of the user's own (presets, sets), one for each, in the XDG data folder."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from yellow_ember.files.atomic import cannot_write, free_name, write_text
from yellow_ember.folders import Base, folder
from yellow_ember.session.io.reading import SessionFileError

Found = TypeVar("Found")


def own_files_folder(name: str) -> Path:
    """Where the user's own of that name lie."""
    return folder(Base.DATA, name)


def read_own(place: Path, read: Callable[[Path], Found]) -> tuple[list[Found], tuple[str, ...]]:
    """All in a folder that can be read, and what is wrong with the rest."""
    found, troubles = [], []
    for path in sorted(place.glob("*.json")):
        try:
            found.append(read(path))
        except SessionFileError as error:
            troubles.append(str(error))
    return found, tuple(troubles)


def fresh_file(place: Path, name: str) -> Path:
    """A file for something of that name, that is not there yet."""
    return free_name(place / f"{re.sub(r'[^a-z0-9]+', '-', name.lower()).strip('-') or 'own'}.json")


def write_object(content: dict[str, Any], path: Path) -> None:
    """Write JSON, whole or not at all.  SessionFileError where it can't be."""
    try:
        write_text(path, json.dumps(content, indent=1) + "\n")
    except OSError as error:
        raise SessionFileError(cannot_write(path, error)) from None
