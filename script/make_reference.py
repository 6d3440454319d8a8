#!/usr/bin/env python3
"""Write what is repeated of the declarations: the stages' reference, the JSON Schemas and the manual page.

Usage: make_reference.py [--check]      --check writes nothing and fails where the docs are behind
"""

import argparse
import json
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from yellow_ember import __version__
from yellow_ember.cli import parameter_listing, parser
from yellow_ember.dsp.parameters import Edges, Impulse, Number, Parameter, Steps
from yellow_ember.dsp.stage_values import STAGE_VALUES
from yellow_ember.dsp.stages import STAGES
from yellow_ember.session.io.chain_file import FORMAT as CHAIN_FORMAT
from yellow_ember.session.io.chain_file import VERSION as CHAIN_VERSION
from yellow_ember.session.io.presets import FORMAT as PRESET_FORMAT
from yellow_ember.session.io.presets import INTENTIONS, SOURCES
from yellow_ember.session.io.presets import VERSION as PRESET_VERSION
from yellow_ember.session.io.session_file import FORMAT as SESSION_FORMAT
from yellow_ember.session.io.session_file import VERSION as SESSION_VERSION
from yellow_ember.session.io.sets import ANY, SCOPES
from yellow_ember.session.io.sets import FORMAT as SET_FORMAT
from yellow_ember.session.io.sets import VERSION as SET_VERSION
from yellow_ember.session.values.links import FEWEST
from yellow_ember.session.values.macros import MOST_MACROS, Bend
from yellow_ember.session.values.model import (
    LOUDEST_LUFS,
    QUIETEST_LUFS,
    RATES,
    StripKind,
)
from yellow_ember.session.values.snapshots import PLACES
from yellow_ember.session.values.snapshots import SCOPES as SNAPSHOT_SCOPES
from yellow_ember.session.values.strip_values import MATCH, SEND_LEVEL, SNAPSHOT_VALUES, STRIP_VALUES

DOCS = Path(__file__).resolve().parents[1] / "docs"


def reference() -> str:
    """The page that lists every stage and parameter."""
    lines = ["# Stages", "", "Made from the declarations by `script/make_reference.py`.", ""]
    for kind in STAGES:
        lines += [f"## `{kind.kind}`: {kind.label}", "", kind.purpose, "",
                  "| id | label | range | default | what it does |", "|---|---|---|---|---|"]
        for group, parameters in kind.groups():
            lines.append(f"| **{group.value}** | | | | |")
            for parameter in parameters:
                listing = parameter_listing(parameter)
                if listing["choices"]:
                    extent = ", ".join(f"`{choice['id']}`" for choice in listing["choices"])
                elif isinstance(parameter, Impulse):
                    extent = "a file's path, or `\"\"`"
                elif isinstance(parameter, Edges):
                    extent = f"list of 1 to {parameter.most}, {parameter.minimum:g} to {parameter.maximum:g} Hz each"
                elif listing["min"] is None:
                    extent = "`true`, `false`"
                elif isinstance(parameter, Steps):
                    extent = f"list of at most {parameter.longest}, 0 to 1 or `null` each"
                else:
                    extent = f"{listing['min']:g} to {listing['max']:g} {listing['unit']}".rstrip()
                    if parameter.unset_word:
                        extent += f", or `null` ({parameter.unset_word})"
                    if parameter.per_channel:
                        extent += ", or `[left, right]`"
                lines.append(f"| `{parameter.id}` | {parameter.label} | {extent} | {listing['default']} "
                             f"| {parameter.help} |")
        lines.append("")
    return "\n".join(lines)


def _parameter_schema(parameter: Parameter) -> dict[str, Any]:
    listing = parameter_listing(parameter)
    found: dict[str, Any] = {"description": listing["help"], "default": listing["default"]}
    if listing["choices"]:
        return found | {"enum": [choice["id"] for choice in listing["choices"]]}
    if isinstance(parameter, Impulse):
        return found | {"type": "string"}
    if listing["min"] is None:
        return found | {"type": "boolean"}
    number = {"type": "number", "minimum": listing["min"], "maximum": listing["max"]}
    if isinstance(parameter, Steps):
        return found | {"type": "array", "maxItems": parameter.longest, "items": {"anyOf": [{"type": "null"}, number]}}
    if isinstance(parameter, Edges):
        return found | {"type": "array", "minItems": 1, "maxItems": parameter.most, "items": number}
    assert isinstance(parameter, Number)
    forms: list[dict[str, Any]] = [number]
    if parameter.unset_word:
        forms.append({"type": "null"})
    if parameter.per_channel:
        forms.append({"type": "array", "items": number, "minItems": 2, "maxItems": 2})
    return found | (number if len(forms) == 1 else {"anyOf": forms})


def _declared(parameters: Iterable[Parameter]) -> dict[str, Any]:
    return {parameter.id: _parameter_schema(parameter) for parameter in parameters}


def _stages_schema() -> dict[str, Any]:
    kinds = []
    for kind in STAGES:
        params = _declared(kind.parameters)
        kinds.append({
            "type": "object", "required": ["kind"], "additionalProperties": False,
            "properties": {"id": {"type": "string"}, "kind": {"const": kind.kind}, **_declared(STAGE_VALUES),
                           "params": {"type": "object", "additionalProperties": False, "properties": params}}})
    return {"type": "array", "items": {"oneOf": kinds}}


def _macros_schema() -> dict[str, Any]:
    text = {"type": "string"}
    target = {"type": "object", "required": ["stage", "parameter"], "additionalProperties": False, "properties": {
        "stage": {"type": "integer", "minimum": 0, "description": "the stage's place in the chain"},
        "parameter": text, "low": {"type": "number"}, "high": {"type": "number"},
        "curve": {"enum": [bend.value for bend in Bend]}}}
    macro = {"type": "object", "required": ["name", "targets"], "additionalProperties": False, "properties": {
        "id": text, "name": text, "value": {"type": "number", "minimum": 0, "maximum": 100},
        "targets": {"type": "array", "items": target}}}
    return {"type": "array", "maxItems": MOST_MACROS, "items": macro}


def _document(title: str, format_name: str, version: int, required: list[str],
              properties: dict[str, Any]) -> dict[str, Any]:
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, "type": "object",
            "required": ["format", "version", *required], "additionalProperties": False,
            "properties": {"format": {"const": format_name}, "version": {"enum": list(range(1, version + 1))},
                           **properties}}


def schemas() -> dict[str, dict[str, Any]]:
    """JSON Schema by file name."""
    stages, text, flag = _stages_schema(), {"type": "string"}, {"type": "boolean"}
    whole = {"type": "integer", "minimum": 0}
    match = _declared([MATCH])
    factor = {"enum": [1, 2, 4, 8, 16]}
    strip = {
        "type": "object", "required": ["id", "name", "kind"], "additionalProperties": False,
        "properties": {
            "id": text, "name": text, "kind": {"enum": ["track", "bus", "master"]}, "out": text,
            "sends": {"type": "array", "items": {
                "type": "object", "required": ["to"], "additionalProperties": False, "properties": {
                    "to": text, "pre": flag,
                    **_declared([SEND_LEVEL])}}},
            "audio": {"type": ["string", "null"]},
            **_declared(STRIP_VALUES), "macros": _macros_schema(), "zone_lufs": {"anyOf": [{"type": "null"}, {
                "type": "array", "minItems": 2, "maxItems": 2,
                "items": {"type": "number", "minimum": QUIETEST_LUFS, "maximum": LOUDEST_LUFS}}]}, "chain": stages}}
    texts = {"type": "array", "items": text}
    link = {"type": "object", "required": ["name", "members"], "additionalProperties": False, "properties": {
        "id": text, "name": text, "members": {**texts, "minItems": FEWEST}, "of_stages": flag, "relative": flag,
        "parameters": texts}}
    state = {"type": "object", "required": ["strip", "chain"], "additionalProperties": False, "properties": {
        "strip": text, **_declared(SNAPSHOT_VALUES), "chain": stages, "macros": _macros_schema()}}
    snapshot = {"type": "object", "required": ["scope", "place", "states"], "additionalProperties": False,
                "properties": {"scope": {"enum": list(SNAPSHOT_SCOPES)}, "owner": text,
                               "place": {"type": "integer", "minimum": 0, "maximum": PLACES - 1}, "name": text,
                               "note": text, "states": {"type": "array", "items": state}}}
    session = {
        "name": text, "rate": {"enum": list(RATES)}, "tempo": {"type": "number", "minimum": 20, "maximum": 400},
        "beats_per_bar": {"type": "integer", "minimum": 1, "maximum": 16},
        "reference_dbfs": {"type": "number", "minimum": -30, "maximum": 0},
        "ceiling_dbfs": {"type": "number", "minimum": -20, "maximum": 0}, "seed": whole,
        "quality": {"type": "object", "additionalProperties": False,
                    "properties": {"live": factor, "printing": factor}},
        "loop": {"type": "object", "additionalProperties": False,
                 "properties": {"start": whole, "end": whole, "on": flag}},
        "strips": {"type": "array", "items": strip}, "links": {"type": "array", "items": link},
        "snapshots": {"type": "array", "items": snapshot}, "shown": {"type": "string"}}
    preset = {"name": text, "source": {"enum": list(SOURCES)}, "intention": {"enum": list(INTENTIONS)},
              "note": text, **match, "stages": stages, "macros": _macros_schema()}
    part = {"type": "object", "required": ["where", "stages"], "additionalProperties": False, "properties": {
        "where": {"enum": [kind.value for kind in StripKind]}, "source": {"enum": [ANY, *SOURCES]},
        **match, "stages": stages, "macros": _macros_schema()}}
    found_set = {"name": text, "scope": {"enum": list(SCOPES)}, "intention": {"enum": list(INTENTIONS)}, "note": text,
                 "linked": flag, "parts": {"type": "array", "items": part, "minItems": 1}}
    return {
        "chain.schema.json": _document("Chain", CHAIN_FORMAT, CHAIN_VERSION, ["stages"], {"stages": stages}),
        "preset.schema.json": _document("Preset", PRESET_FORMAT, PRESET_VERSION,
                                        ["name", "source", "intention", "stages"], preset),
        "set.schema.json": _document("Set", SET_FORMAT, SET_VERSION, ["name", "scope", "intention", "parts"],
                                     found_set),
        "session.schema.json": _document("Session", SESSION_FORMAT, SESSION_VERSION, ["strips"], session)}


def _roff(text: str) -> str:
    return text.replace("\\", "\\e").replace("-", "\\-")


def _option(action: argparse.Action) -> str:
    """An option as it is typed."""
    if action.nargs == 0:
        return action.option_strings[0]
    value = action.metavar or ("|".join(map(str, action.choices)) if action.choices else action.dest.upper())
    return f"{action.option_strings[0]} {value}"


def manual() -> str:
    """The manual page, from the command line's grammar and the stages."""
    top = parser()
    lines = [f'.TH YELLOW\\-EMBER 1 "" "Yellow Ember {__version__}" "User Commands"', ".SH NAME",
             "yellow\\-ember \\- harmonic colour for tracks and buses", ".SH SYNOPSIS", ".B yellow\\-ember",
             "[\\fICOMMAND\\fR] [\\fIOPTION\\fR]...", ".SH DESCRIPTION", _roff(str(top.description)), ".SH COMMANDS"]
    commands = next(action for action in top._actions if isinstance(action, argparse._SubParsersAction))
    for name, sub in commands.choices.items():
        takes = [action for action in sub._actions if "--help" not in action.option_strings]
        words = [f"[{_option(action)}]" if not action.required else _option(action)
                 for action in takes if action.option_strings]
        words += [str(action.metavar or action.dest) for action in takes if not action.option_strings]
        lines += [".TP", f".B yellow\\-ember {_roff(' '.join([name, *words]))}", _roff(str(sub.description)) + "."]
        for action in takes:
            if action.option_strings and action.help:
                lines += [".RS", ".TP", f".B {_roff(_option(action))}", _roff(action.help), ".RE"]
    lines.append(".SH STAGES")
    for kind in STAGES:
        lines += [".TP", f".B {kind.kind}", _roff(kind.purpose)]
    lines += [".SH FILES", ".TP", ".I *.ember", "Sessions: JSON, with audio beside them by relative path.", ".TP",
              ".I $XDG_CONFIG_HOME/yellow\\-ember", "Settings.", ".TP", ".I $XDG_DATA_HOME/yellow\\-ember",
              "The user's own presets and alignments.", ".TP", ".I $XDG_CACHE_HOME/yellow\\-ember",
              "Conformed audio; may be removed at any time.", ".SH EXIT STATUS",
              "0 where all went well, 1 where a file or a setting can't be used (one line says why), 130 where it was "
              "stopped."]
    return "\n".join(lines) + "\n"


def main() -> int:
    pages = {DOCS / "stages.md": reference(), DOCS.parent / "desktop" / "yellow-ember.1": manual()}
    pages |= {DOCS / "schema" / name: json.dumps(schema, indent=1) + "\n" for name, schema in schemas().items()}
    behind = [path for path, page in pages.items() if not path.exists() or path.read_text("utf-8") != page]
    if "--check" in sys.argv[1:]:
        for path in behind:
            print(f"{path.relative_to(DOCS.parent)} is behind; run script/make_reference.py", file=sys.stderr)
        return 1 if behind else 0
    for path in behind:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(pages[path], encoding="utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
