"""A kind of JSON file: its name, version and typed content; reads, migrates, checks, writes and describes it."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Generic, TypeVar

from pydantic import ValidationError
from pydantic.json_schema import GenerateJsonSchema
from pydantic_core import ErrorDetails

from yellow_ember.dsp.stages import stage_kind
from yellow_ember.files.atomic import cannot_write, write_text
from yellow_ember.files.json_files import JsonFileError, parse_object, read_object
from yellow_ember.session.io.content_types import Content
from yellow_ember.session.io.field_types import type_name

ContentType = TypeVar("ContentType", bound=Content)
Value = TypeVar("Value")
Migration = Callable[[dict[str, Any]], None]
"""Turns the JSON object of one version into that of the next, in place."""


class SessionFileError(Exception):
    """A file that can't be used: its name, the position in it and the reason."""


@dataclass(frozen=True)
class FileFormat(Generic[ContentType]):
    """A kind of JSON file.

    Parameters
    ----------
    name : str
        What the file's `format` says, `yellow-ember/chain`.
    content : type of Content
        What the file holds beside `format` and `version`.
    migrations : mapping of int to Migration
        From each older version to the next; their number gives the current version.
    """

    name: str
    content: type[ContentType]
    migrations: Mapping[int, Migration] = field(default_factory=dict)

    @property
    def version(self) -> int:
        return len(self.migrations) + 1

    def parse(self, document: dict[str, Any], folder: Path) -> ContentType:
        """Check and convert a JSON object, migrating it first where it is of an older version.

        Parameters
        ----------
        document : dict
            The parsed file.  It is changed by a migration.
        folder : Path
            What paths in it are relative to.

        Raises
        ------
        ValueError
            Names the position (`stages[0].params.record_db`) and the reason.
        """
        for version in range(self._checked_version(document), self.version):
            self.migrations[version](document)
        body = {key: value for key, value in document.items() if key not in ("format", "version")}
        try:
            return self.content.model_validate(body, context={"folder": folder})
        except ValidationError as error:
            raise ValueError(_reason(error.errors(include_url=False)[0])) from None

    def parse_text(self, text: str, folder: Path) -> ContentType:
        """As `parse`, from a file's text that may be anything."""
        return self.parse(parse_object(text), folder)

    def read(self, path: Path, convert: Callable[[ContentType], Value]) -> Value:
        """Read a file and return what `convert` makes of its content.

        Raises
        ------
        SessionFileError
            Names the file, and the position and the reason of the ValueError that `parse` or `convert` raised.
        """
        document = load_object(path)
        try:
            return convert(self.parse(document, path.parent.resolve()))
        except ValueError as reason:
            raise SessionFileError(f"{path}: {reason}") from None

    def to_object(self, content: ContentType, folder: Path | None) -> dict[str, Any]:
        """Return the file's JSON object, with paths relative to `folder`, or absolute where that is None."""
        return {"format": self.name, "version": self.version, **content.model_dump(context={"folder": folder})}

    def to_text(self, content: ContentType, folder: Path | None) -> str:
        return json.dumps(self.to_object(content, folder), indent=1) + "\n"

    def write(self, content: ContentType, path: Path, folder: Path | None = None) -> None:
        """Write a file, whole or not at all.  SessionFileError where it can't be written."""
        try:
            write_text(path, self.to_text(content, folder))
        except OSError as error:
            raise SessionFileError(cannot_write(path, error)) from None

    def schema(self, title: str) -> dict[str, Any]:
        """Return the JSON Schema of files of the current version."""
        result = self.content.model_json_schema(schema_generator=_Untitled)
        properties = {"format": {"const": self.name}, "version": {"const": self.version}, **result["properties"]}
        required = ["format", "version", *result.get("required", [])]
        return {"$schema": GenerateJsonSchema.schema_dialect, **result, "title": title, "required": required,
                "properties": properties}

    def _checked_version(self, document: dict[str, Any]) -> int:
        if document.get("format") != self.name:
            raise ValueError(f"format: must be {self.name!r}, not {document.get('format')!r}")
        number = document.get("version")
        if isinstance(number, bool) or not isinstance(number, int) or number < 1:
            raise ValueError(f"version: must be a whole number from 1, not {number!r}")
        if number > self.version:
            raise ValueError(f"version: {number} was written by a newer Yellow Ember; "
                             f"this one reads up to {self.version}")
        return number


def load_object(path: Path) -> dict[str, Any]:
    """Read a JSON object from a file that may hold anything.  SessionFileError says what is wrong with it."""
    try:
        return read_object(path)
    except JsonFileError as error:
        raise SessionFileError(str(error)) from None


class _Untitled(GenerateJsonSchema):
    """A schema without a title for each key, which would only repeat it."""

    def field_title_should_be_set(self, schema: Any) -> bool:
        return False


_EXPECTED = {"string_type": "text", "bool_type": "true or false", "int_type": "a whole number",
             "int_from_float": "a whole number", "float_type": "a number", "list_type": "a list",
             "dict_type": "an object", "model_type": "an object", "model_attributes_type": "an object"}
"""What each error of a wrong type wanted, by pydantic's name for it."""


def _reason(error: ErrorDetails) -> str:
    """An error in our words: the position, what must be there, and what is there instead."""
    kind, position = error["type"], _position(error)
    if kind == "value_error":
        reason = str(error["ctx"]["error"])
    elif kind in _EXPECTED:
        reason = f"must be {_EXPECTED[kind]}, not {type_name(error['input'])}"
    elif kind == "extra_forbidden":
        reason = _unknown_key(error["loc"])
    elif kind == "union_tag_invalid":
        return f"{position}.kind: {_unknown_stage(str(error['ctx']['tag']))}"
    elif kind == "union_tag_not_found":
        return f"{position}.kind: is missing"
    elif kind == "missing":
        reason = "is missing"
    elif kind == "too_long":
        reason = f"{error['ctx']['actual_length']} entries; there can be at most {error['ctx']['max_length']}"
    elif kind == "too_short":
        reason = f"must have at least {error['ctx']['min_length']}"
    else:
        reason = error["msg"]
    return f"{position}: {reason}" if position else reason


def _unknown_key(steps: tuple[int | str, ...]) -> str:
    if len(steps) > 2 and steps[-2] == "params":
        kind = stage_kind(str(steps[-3]))
        return f"{kind.kind} has no such parameter (it has {', '.join(kind.defaults())})"
    return "means nothing here"


def _unknown_stage(kind: str) -> str:
    try:
        stage_kind(kind)
    except ValueError as reason:
        return str(reason)
    raise AssertionError(f"{kind} is a stage")


def _position(error: ErrorDetails) -> str:
    """Where an error lies: `strips[0].chain[1].params.record_db`.

    Pydantic names a stage's kind behind its index, which is no step in the file.
    """
    text, steps = "", error["loc"]
    for number, step in enumerate(steps):
        if isinstance(step, int):
            text += f"[{step}]"
        elif number < 2 or not isinstance(steps[number - 1], int) or steps[number - 2] not in ("chain", "stages"):
            text += f".{step}" if text else step
    return text
