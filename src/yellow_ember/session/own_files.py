"""Files of the user's own (presets, sets), one for each, in the XDG data folder."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import platformdirs

from yellow_ember.files.atomic import free_name, write_text
from yellow_ember.session.reading import SessionFileError

Found = TypeVar("Found")


def own_files_folder(name: str) -> Path:
    """Where the user's own of that name lie."""
    folder = Path(platformdirs.user_data_dir("yellow-ember")) / name
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def read_own(folder: Path, read: Callable[[Path], Found]) -> tuple[list[Found], tuple[str, ...]]:
    """All in a folder that can be read, and what is wrong with the rest."""
    found, troubles = [], []
    for path in sorted(folder.glob("*.json")):
        try:
            found.append(read(path))
        except SessionFileError as error:
            troubles.append(str(error))
    return found, tuple(troubles)


def fresh_file(folder: Path, name: str) -> Path:
    """A file for something of that name, that is not there yet."""
    return free_name(folder / f"{re.sub(r'[^a-z0-9]+', '-', name.lower()).strip('-') or 'own'}.json")


def write_object(content: dict[str, Any], path: Path) -> None:
    """Write JSON, whole or not at all.  SessionFileError where it can't be."""
    try:
        write_text(path, json.dumps(content, indent=1) + "\n")
    except OSError as error:
        raise SessionFileError(f"{path} can't be written: {error.strerror}") from None
