"""Checking what a file holds, with the place of every mistake."""

from __future__ import annotations

import json
import math
import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from yellow_ember.dsp.chain import StageSettings
from yellow_ember.dsp.parameters import Impulse, Parameter, Value
from yellow_ember.dsp.stage import StageKind
from yellow_ember.dsp.stage_values import STAGE_VALUES
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.files.json_files import JsonFileError, read_object
from yellow_ember.plain_text import path_text, plain, plain_line
from yellow_ember.session.values.limits import MAXIMUM_NAME, MAXIMUM_STAGES, check_count
from yellow_ember.session.values.macros import MOST_MACROS, Bend, Macro, Target
from yellow_ember.session.values.model import new_id


class SessionFileError(Exception):
    """A file that can't be used: its name, the place in it and the reason."""


def load_object(path: Path) -> dict[str, Any]:
    """A JSON object from a file, whatever lies there.  SessionFileError says what is wrong with it."""
    try:
        return read_object(path)
    except JsonFileError as error:
        raise SessionFileError(str(error)) from None


def check_format(found: dict[str, Any], wanted: str, version: int) -> int:
    """The version of the file; ValueError where it is another kind of file or a newer one."""
    if found.get("format") != wanted:
        raise ValueError(f"format: must be {wanted!r}, not {found.get('format')!r}")
    number = found.get("version")
    if isinstance(number, bool) or not isinstance(number, int) or number < 1:
        raise ValueError(f"version: must be a whole number from 1, not {number!r}")
    if number > version:
        raise ValueError(f"version: {number} was written by a newer Yellow Ember; this one reads up to {version}")
    return number


def only(found: dict[str, Any], known: tuple[str, ...], place: str) -> None:
    """ValueError for names that mean nothing here."""
    for name in found:
        if name not in known:
            raise ValueError(f"{place}{name}: means nothing here (known: {', '.join(known)})")


def number(found: dict[str, Any], name: str, default: float, low: float, high: float, place: str) -> float:
    value = found.get(name, default)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise ValueError(f"{place}{name}: must be a number, not {_word(value)}")
    if not math.isfinite(value) or not low <= value <= high:
        raise ValueError(f"{place}{name}: must lie between {low:g} and {high:g}, not {value:g}")
    return float(value)


def whole(found: dict[str, Any], name: str, default: int, low: int, high: int, place: str) -> int:
    value = number(found, name, default, low, high, place)
    if value != int(value):
        raise ValueError(f"{place}{name}: must be a whole number, not {value:g}")
    return int(value)


def flag(found: dict[str, Any], name: str, default: bool, place: str) -> bool:
    value = found.get(name, default)
    if not isinstance(value, bool):
        raise ValueError(f"{place}{name}: must be true or false, not {_word(value)}")
    return value


def text(found: dict[str, Any], name: str, default: str | None, place: str, longest: int = MAXIMUM_NAME) -> str:
    """A name or other words, made fit to be shown."""
    value = found.get(name, default)
    if not isinstance(value, str):
        raise ValueError(f"{place}{name}: must be text, not {_word(value)}")
    if len(value) > longest:
        raise ValueError(f"{place}{name}: must have at most {longest} characters, not {len(value)}")
    return plain(value) if longest > MAXIMUM_NAME else plain_line(value)


def file_path(found: dict[str, Any], name: str, folder: Path, place: str) -> Path:
    """The path of a file, relative to a folder; the file itself may be missing or no good."""
    value = found.get(name)
    if not isinstance(value, str):
        raise ValueError(f"{place}{name}: must be a file's path, not {_word(value)}")
    if len(value) > _LONGEST_PATH:
        raise ValueError(f"{place}{name}: must have at most {_LONGEST_PATH} characters, not {len(value)}")
    return Path(os.path.normpath(folder / path_text(value)))


def one_of(found: dict[str, Any], name: str, allowed: Sequence[str], place: str, default: str | None = None) -> str:
    value = text(found, name, default, place)
    if value not in allowed:
        raise ValueError(f"{place}{name}: must be one of {', '.join(allowed)}, not {value!r}")
    return value


def values(found: dict[str, Any], parameters: Sequence[Parameter], place: str) -> dict[str, Any]:
    """What a file holds of declared values, by id; the default of each that it leaves out."""
    return {parameter.id: value(found, parameter, place) for parameter in parameters}


def value(found: dict[str, Any], parameter: Parameter, place: str) -> Any:
    """What a file holds of one declared value."""
    if parameter.id not in found:
        return parameter.default_value
    try:
        return parameter.check(found[parameter.id])
    except ValueError as reason:
        raise ValueError(f"{place}{parameter.id}: {reason}") from None


def items(found: dict[str, Any], name: str, place: str) -> list[dict[str, Any]]:
    value = found.get(name)
    if not isinstance(value, list):
        raise ValueError(f"{place}{name}: must be a list, not {_word(value)}")
    for position, item in enumerate(value):
        if not isinstance(item, dict):
            raise ValueError(f"{place}{name}[{position}]: must be an object, not {_word(item)}")
    return value


def texts(found: dict[str, Any], name: str, place: str) -> tuple[str, ...]:
    value = found.get(name)
    if not isinstance(value, list) or not all(isinstance(entry, str) for entry in value):
        raise ValueError(f"{place}{name}: must be a list of texts, not {_word(value)}")
    return tuple(plain_line(entry) for entry in value)


def _word(value: object) -> str:
    """A value of the wrong type, in a few characters."""
    if isinstance(value, list | dict):
        return "a list" if isinstance(value, list) else "an object"
    return "nothing" if value is None else json.dumps(value)[:40]


_LONGEST_PATH = 4096
_STAGE_NAMES = ("id", "kind", *(parameter.id for parameter in STAGE_VALUES), "params")


def read_stages(found: list[dict[str, Any]], folder: Path, place: str = "stages") -> tuple[StageSettings, ...]:
    """Stages of a chain; ValueError names the place (`stages[0].params.record_db`) and the reason.

    folder : what paths of impulse responses are relative to
    """
    check_count(found, MAXIMUM_STAGES, place, "stages")
    stages = []
    for position, item in enumerate(found):
        here = f"{place}[{position}]."
        only(item, _STAGE_NAMES, here)
        kind_name = text(item, "kind", None, here)
        try:
            kind = stage_kind(kind_name)
        except ValueError as reason:
            raise ValueError(f"{here}kind: {reason}") from None
        params = item.get("params", {})
        if not isinstance(params, dict):
            raise ValueError(f"{here}params: must be an object, not {_word(params)}")
        stages.append(StageSettings(
            id=text(item, "id", new_id(kind_name), here), kind=kind_name, **values(item, STAGE_VALUES, here),
            params=_impulses(kind, kind.check(params, f"{here}params"),
                             lambda path: os.path.normpath(folder / path_text(path)))))
    return tuple(stages)


def _impulses(kind: StageKind, params: dict[str, Value], change: Callable[[str], str]) -> dict[str, Value]:
    """The values with every path of an impulse response changed."""
    return {**params, **{p.id: change(str(params[p.id])) for p in kind.parameters
                         if isinstance(p, Impulse) and params[p.id]}}


def write_stages(stages: tuple[StageSettings, ...], folder: Path | None) -> list[dict[str, Any]]:
    """Stages as JSON values, the inverse of `read_stages`; paths stay absolute where `folder` is None."""

    def shown(path: str) -> str:
        return path if folder is None else os.path.relpath(path, folder)

    return [{"id": stage.id, "kind": stage.kind, **stage.own_values,
             "params": _impulses(stage.declaration, dict(stage.params), shown)} for stage in stages]


_MACRO_NAMES, _TARGET_NAMES = ("id", "name", "value", "targets"), ("stage", "parameter", "low", "high", "curve")


def read_macros(found: list[dict[str, Any]], stages: tuple[StageSettings, ...], place: str) -> tuple[Macro, ...]:
    """Macros of a chain, whose targets name stages by their place from 0; ValueError names place and reason."""
    if len(found) > MOST_MACROS:
        raise ValueError(f"{place}: a strip holds at most {MOST_MACROS} macros, not {len(found)}")
    macros = []
    for position, item in enumerate(found):
        here = f"{place}[{position}]."
        only(item, _MACRO_NAMES, here)
        targets = tuple(_read_target(target, stages, f"{here}targets[{number}].")
                        for number, target in enumerate(items(item, "targets", here)))
        macros.append(Macro(text(item, "id", new_id("macro"), here), text(item, "name", None, here),
                            number(item, "value", 0.0, 0.0, 100.0, here), targets))
    return tuple(macros)


def _read_target(found: dict[str, Any], stages: tuple[StageSettings, ...], here: str) -> Target:
    only(found, _TARGET_NAMES, here)
    at = whole(found, "stage", 0, 0, max(len(stages) - 1, 0), here)
    if not stages:
        raise ValueError(f"{here}stage: there are no stages")
    stage, name = stages[at], text(found, "parameter", None, here)
    curve = one_of(found, "curve", [bend.value for bend in Bend], here, Bend.STRAIGHT.value)
    try:
        parameter = stage.declaration.number(name)
    except (KeyError, TypeError):
        raise ValueError(f"{here}parameter: {stage.kind} has no number {name!r}") from None
    low, high = (number(found, end, parameter.minimum, parameter.minimum, parameter.maximum, here)
                 for end in ("low", "high"))
    return Target(stage.id, name, low, high, Bend(curve))


def write_macros(macros: tuple[Macro, ...], stages: tuple[StageSettings, ...]) -> list[dict[str, Any]]:
    """Macros as JSON values, the inverse of `read_macros`."""
    place = {stage.id: at for at, stage in enumerate(stages)}
    return [{"id": macro.id, "name": macro.name, "value": macro.value, "targets": [
        {"stage": place[target.stage], "parameter": target.parameter, "low": target.low, "high": target.high,
         "curve": target.bend.value} for target in macro.targets]} for macro in macros]


def write_nameless(stages: tuple[StageSettings, ...], macros: tuple[Macro, ...]) -> dict[str, Any]:
    """A chain that is no strip's: stages and macros as JSON values without ids, paths absolute."""
    return {name: [{key: value for key, value in entry.items() if key != "id"} for entry in entries]
            for name, entries in (("stages", write_stages(stages, None)), ("macros", write_macros(macros, stages)))}
