"""The types of single values in a file: names, paths, numbers in a range, choices, and declared parameters."""

from __future__ import annotations

import json
import math
import os
import re
from collections.abc import Sequence
from typing import Annotated, Any

from pydantic import (
    AfterValidator,
    GetCoreSchemaHandler,
    GetJsonSchemaHandler,
    PlainSerializer,
    SerializationInfo,
    ValidationInfo,
)
from pydantic_core import CoreSchema, core_schema

from yellow_ember.dsp.parameters import Edges, Impulse, Number, Option, Parameter, Steps
from yellow_ember.plain_text import path_text, plain, plain_line
from yellow_ember.session.values.limits import MAXIMUM_NAME, MAXIMUM_NOTE

_MAXIMUM_PATH = 4096


def type_name(value: object) -> str:
    """A value of the wrong type, in a few characters."""
    if isinstance(value, list | dict):
        return "a list" if isinstance(value, list) else "an object"
    return "nothing" if value is None else json.dumps(value)[:40]


class Rule:
    """What a value must be beside its type, and how the schema says so; used as `Annotated[float, Rule(...)]`."""

    def check(self, value: Any) -> Any:
        """Return the value as it is kept; ValueError says what is wrong with it."""
        raise NotImplementedError

    def schema(self) -> dict[str, Any]:
        """Return the JSON Schema of the rule."""
        raise NotImplementedError

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_after_validator_function(self.check, handler(source))

    def __get_pydantic_json_schema__(self, core: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        return {**handler(core), **self.schema()}


class Between(Rule):
    """A finite number from `minimum` to `maximum`, both included."""

    def __init__(self, minimum: float, maximum: float) -> None:
        self.minimum, self.maximum = minimum, maximum

    def check(self, value: float) -> float:
        if not math.isfinite(value) or not self.minimum <= value <= self.maximum:
            raise ValueError(f"must lie between {self.minimum:g} and {self.maximum:g}, not {value:g}")
        return value

    def schema(self) -> dict[str, Any]:
        return {"minimum": self.minimum, "maximum": self.maximum}


class OneOf(Rule):
    """One of the allowed values."""

    def __init__(self, allowed: Sequence[str | int]) -> None:
        self.allowed = tuple(allowed)

    def check(self, value: str | int) -> str | int:
        if value not in self.allowed:
            raise ValueError(f"must be one of {', '.join(map(str, self.allowed))}, not {value!r}")
        return value

    def schema(self) -> dict[str, Any]:
        return {"enum": list(self.allowed)}


class Words(Rule):
    """Text of at most `maximum` characters, made fit to be shown; on one line unless `lines`."""

    def __init__(self, maximum: int, *, lines: bool = False) -> None:
        self.maximum, self.lines = maximum, lines

    def check(self, value: str) -> str:
        if len(value) > self.maximum:
            raise ValueError(f"must have at most {self.maximum} characters, not {len(value)}")
        return plain(value) if self.lines else plain_line(value)

    def schema(self) -> dict[str, Any]:
        return {"maxLength": self.maximum}


class Tint(Rule):
    """A colour as "#rrggbb" in small letters, or "" for none."""

    _WRITTEN = "^(#[0-9a-f]{6})?$"

    def check(self, value: str) -> str:
        if not re.fullmatch(self._WRITTEN, value):
            raise ValueError(f'must be a colour as "#rrggbb" or nothing, not {value!r}')
        return value

    def schema(self) -> dict[str, Any]:
        return {"pattern": self._WRITTEN}


class Declared(Rule):
    """A value of a declared parameter."""

    def __init__(self, parameter: Parameter) -> None:
        self.parameter = parameter

    def check(self, value: object) -> object:
        return self.parameter.check(value)

    def schema(self) -> dict[str, Any]:
        return {"description": self.parameter.help, "default": _plain_default(self.parameter),
                **_values_schema(self.parameter)}


def declared_type(parameter: Parameter) -> Any:
    """The type of a parameter's value in a file."""
    path = Annotated[FilePath, Declared(parameter)]
    return path if isinstance(parameter, Impulse) else Annotated[Any, Declared(parameter)]


class DeclaredValues:
    """An object of values of declared parameters: any of them may be missing, and nothing else be there."""

    def __init__(self, parameters: Sequence[Parameter]) -> None:
        self.parameters = parameters

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.typed_dict_schema(
            {parameter.id: core_schema.typed_dict_field(handler.generate_schema(declared_type(parameter)),
                                                        required=False)
             for parameter in self.parameters}, extra_behavior="forbid")


def _plain_default(parameter: Parameter) -> Any:
    value = parameter.default_value
    return list(value) if isinstance(value, tuple) else value


def _values_schema(parameter: Parameter) -> dict[str, Any]:
    """The JSON Schema of the values that a parameter takes."""
    if isinstance(parameter, Option):
        return {"enum": [parameter.value_at(index) for index in range(len(parameter.choices))]}
    if isinstance(parameter, Impulse):
        return {"type": "string"}
    if isinstance(parameter, Steps):
        step = {"type": "number", "minimum": 0.0, "maximum": 1.0}
        return {"type": "array", "maxItems": parameter.longest, "items": {"anyOf": [{"type": "null"}, step]}}
    if isinstance(parameter, Edges):
        return {"type": "array", "minItems": 1, "maxItems": parameter.most, "items": _number_schema(parameter)}
    if isinstance(parameter, Number):
        number = _number_schema(parameter)
        pair = {"type": "array", "items": number, "minItems": 2, "maxItems": 2}
        forms = [number, *([{"type": "null"}] if parameter.unset_word else []),
                 *([pair] if parameter.per_channel else [])]
        return number if len(forms) == 1 else {"anyOf": forms}
    return {"type": "boolean"}


def _number_schema(parameter: Number | Edges) -> dict[str, Any]:
    return {"type": "number", "minimum": parameter.minimum, "maximum": parameter.maximum}


def _folder(info: ValidationInfo | SerializationInfo) -> Any:
    """What paths in the file are relative to; None where they are absolute."""
    assert info.context is not None, "a file is read and written by its FileFormat"
    return info.context["folder"]


def _absolute(value: str, info: ValidationInfo) -> str:
    if len(value) > _MAXIMUM_PATH:
        raise ValueError(f"must have at most {_MAXIMUM_PATH} characters, not {len(value)}")
    return os.path.normpath(_folder(info) / path_text(value)) if value else ""


def _relative(value: str, info: SerializationInfo) -> str:
    folder = _folder(info)
    return os.path.relpath(value, folder) if value and folder is not None else value


Name = Annotated[str, Words(MAXIMUM_NAME)]
Note = Annotated[str, Words(MAXIMUM_NOTE, lines=True)]
FilePath = Annotated[str, AfterValidator(_absolute), PlainSerializer(_relative)]
"""The path of a file, "" for none: relative to the file's folder on disk, absolute in memory."""
