"""Presets: chains with a name, a source, an intention and one sentence."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from pathlib import Path

from yellow_ember.dsp.chain import StageSettings
from yellow_ember.session.reading import (
    SessionFileError,
    check_format,
    items,
    load_object,
    only,
    read_stages,
    text,
)

FORMAT, VERSION = "yellow-ember/preset", 1
SOURCES = ("drums", "bass", "guitar", "keys", "voice", "bus", "master", "effect")
INTENTIONS = ("glue", "weight", "soften", "air", "age", "destroy")
_NAMES = ("format", "version", "name", "source", "intention", "note", "stages")
_SHIPPED = Path(__file__).parents[1] / "data" / "presets"


@dataclass(frozen=True, slots=True)
class Preset:
    """A chain to start from.  source and intention: one of SOURCES and INTENTIONS."""

    name: str
    source: str
    intention: str
    note: str
    stages: tuple[StageSettings, ...]


def read_preset(path: Path) -> Preset:
    """A preset file; SessionFileError names the file, the place and the reason."""
    found = load_object(path)
    try:
        check_format(found, FORMAT, VERSION)
        only(found, _NAMES, "")
        source, intention = text(found, "source", None, ""), text(found, "intention", None, "")
        if source not in SOURCES:
            raise ValueError(f"source: must be one of {', '.join(SOURCES)}, not {source!r}")
        if intention not in INTENTIONS:
            raise ValueError(f"intention: must be one of {', '.join(INTENTIONS)}, not {intention!r}")
        return Preset(text(found, "name", None, ""), source, intention, text(found, "note", "", ""),
                      read_stages(items(found, "stages", "")))
    except ValueError as reason:
        raise SessionFileError(f"{path}: {reason}") from None


@functools.cache
def shipped_presets() -> tuple[Preset, ...]:
    """The presets that come with the program, by source, then by name."""
    presets = [read_preset(path) for path in _SHIPPED.glob("*.json")]
    return tuple(sorted(presets, key=lambda preset: (SOURCES.index(preset.source), preset.name)))


def find_preset(name: str) -> Preset:
    """The preset of that name, however capitalised; ValueError where there is none."""
    for preset in shipped_presets():
        if preset.name.lower() == name.lower():
            return preset
    known = ", ".join(preset.name for preset in shipped_presets())
    raise ValueError(f"no preset is called {name!r}; there are {known}")
