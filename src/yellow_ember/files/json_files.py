"""JSON from files that anybody may have written: bounded in size, time and depth, refused in words."""

from __future__ import annotations

import json
import os
import stat
from pathlib import Path
from typing import Any

from yellow_ember.files.kinds import kind_of_file, why_unreadable


class JsonFileError(Exception):
    """A file that can't be used: its name and the reason."""


MAXIMUM_BYTES = 64 * 2**20
"""Of a file; a session of all that it can hold is smaller."""
_MAXIMUM_PARTS, _MAXIMUM_VALUES = 1_000_000, 4_000_000
"""Lists and objects, and values: what a hostile file could make of a few bytes each."""
_MAXIMUM_DIGITS = 19


def read_object(path: Path) -> dict[str, Any]:
    """A JSON object from a file, whatever lies there.  JsonFileError says what is wrong with it."""
    try:
        # Without this flag the opening of a pipe that nobody writes to would never end.
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
        with open(handle, "rb") as file:
            status = os.fstat(handle)
            if not stat.S_ISREG(status.st_mode):
                raise JsonFileError(f"{path} is {kind_of_file(status.st_mode)}, not a file")
            if status.st_size > MAXIMUM_BYTES:
                raise JsonFileError(f"{path} is {status.st_size / 2**20:.0f} MB large; "
                                       f"a file of this kind has at most {MAXIMUM_BYTES // 2**20} MB")
            text = file.read(MAXIMUM_BYTES).decode("utf-8")
    except UnicodeDecodeError:
        raise JsonFileError(f"{path} is not text") from None
    except (OSError, ValueError) as error:
        raise JsonFileError(why_unreadable(path, error)) from None
    if not text.strip():
        raise JsonFileError(f"{path} is empty")
    try:
        return parse_object(text)
    except json.JSONDecodeError as error:
        raise JsonFileError(f"{path} is not whole JSON (line {error.lineno}: {error.msg})") from None
    except ValueError as reason:
        raise JsonFileError(f"{path}: {reason}") from None


def parse_object(text: str) -> dict[str, Any]:
    """A JSON object from text that may be hostile; ValueError says what is wrong with it."""
    if text.count("[") + text.count("{") > _MAXIMUM_PARTS or text.count(",") > _MAXIMUM_VALUES:
        raise ValueError("holds more than any session can")
    try:
        result = json.loads(text, parse_int=_parse_int, parse_constant=_refuse_constant)
    except RecursionError:
        raise ValueError("is nested too deeply") from None
    if not isinstance(result, dict):
        raise ValueError("does not hold a JSON object")
    return result


def _parse_int(digits: str) -> int:
    if len(digits) > _MAXIMUM_DIGITS:
        raise ValueError(f"holds a number of {len(digits)} digits")
    return int(digits)


def _refuse_constant(word: str) -> float:
    raise ValueError(f"holds {word}, which is no JSON number")
