#!/usr/bin/env python3
"""Write what is repeated of the declarations: the stages' reference, the JSON Schemas and the manual page.

Usage: make_reference.py [--check]      --check writes nothing and fails where the docs are behind
"""

import argparse
import json
import sys
from pathlib import Path
from typing import Any

from yellow_ember import __version__
from yellow_ember.cli import parser
from yellow_ember.commands import parameter_listing
from yellow_ember.dsp.parameters import Edges, Impulse, Steps
from yellow_ember.dsp.stages import STAGES
from yellow_ember.session.io.chain_file import CHAIN_FORMAT
from yellow_ember.session.io.presets import PRESET_FORMAT
from yellow_ember.session.io.session_file import SESSION_FORMAT
from yellow_ember.session.io.sets import SET_FORMAT

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


def schemas() -> dict[str, dict[str, Any]]:
    """JSON Schema by file name."""
    return {f"{title.lower()}.schema.json": format.schema(title) for title, format in (
        ("Chain", CHAIN_FORMAT), ("Preset", PRESET_FORMAT), ("Set", SET_FORMAT), ("Session", SESSION_FORMAT))}


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
