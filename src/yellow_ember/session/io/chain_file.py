"""Chain files: stages in series, to be kept, passed on, and used from the command line."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from yellow_ember.dsp.chain import StageSettings
from yellow_ember.files.json_files import parse_object
from yellow_ember.session.io.reading import (
    SessionFileError,
    check_format,
    items,
    load_object,
    only,
    read_stages,
    write_stages,
)

FORMAT, VERSION = "yellow-ember/chain", 1


def _chain(found: dict[str, Any], folder: Path) -> tuple[StageSettings, ...]:
    check_format(found, FORMAT, VERSION)
    only(found, ("format", "version", "stages"), "")
    return read_stages(items(found, "stages", ""), folder)


def chain_to_text(stages: tuple[StageSettings, ...]) -> str:
    """A chain file's text, with whole paths."""
    return json.dumps({"format": FORMAT, "version": VERSION, "stages": write_stages(stages, None)}, indent=1) + "\n"


def chain_from_text(text: str, folder: Path) -> tuple[StageSettings, ...]:
    """The stages of a chain file's text; ValueError where it is none."""
    return _chain(parse_object(text), folder)


def read_chain(path: Path) -> tuple[StageSettings, ...]:
    """The stages of a chain file; SessionFileError names the file, the place and the reason."""
    found = load_object(path)
    try:
        return _chain(found, path.parent.resolve())
    except ValueError as reason:
        raise SessionFileError(f"{path}: {reason}") from None
