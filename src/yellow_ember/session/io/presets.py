"""Presets: chains with a name, a source, an intention and one sentence.

Some come with the program; the user's own lie in the XDG data folder, a file each.
"""

from __future__ import annotations

import functools
import json
from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.session.io import migrations
from yellow_ember.session.io.chain_content import macros_from, nameless_chain, stages_from
from yellow_ember.session.io.content_types import PresetContent
from yellow_ember.session.io.file_format import FileFormat
from yellow_ember.session.io.own_files import fresh_file, own_files_folder, read_own
from yellow_ember.session.values.macros import Macro
from yellow_ember.session.values.purposes import SOURCES

PRESET_FORMAT = FileFormat("yellow-ember/preset", PresetContent, migrations.PRESET)
SHIPPED = Path(__file__).parents[2] / "data" / "presets"
FIGURES_FILE = Path(__file__).parents[2] / "data" / "preset-figures.json"
"""What the shipped presets add to the demo's dry mix and drums, and their brightness: script/measure_presets.py."""
SUITABLE: dict[str, tuple[str, ...]] = {
    "drums": ("brushed-drums",), "bass": ("upright-bass",), "guitar": ("plucked-guitar",), "keys": ("harmonium",),
    "voice": ("ships-announcer",), "bus": (), "master": (), "effect": ()}
"""Tracks of the demo that shipped presets of a source are matched on, all of them where none is named."""


@dataclass(frozen=True, slots=True)
class Preset:
    """A chain to start from.

    Attributes
    ----------
    source, intention : str
        One of SOURCES and INTENTIONS.
    path : Path | None
        The file of one's own, None for shipped ones.
    match_db : float
        What made it as loud as what went in where it was made.
    added_db, brightness : float | None
        `measure.character` on a common sound, None where it was not measured.
    """

    name: str
    source: str
    intention: str
    note: str
    stages: tuple[StageSettings, ...]
    macros: tuple[Macro, ...] = ()
    match_db: float = 0.0
    path: Path | None = None
    added_db: float | None = None
    brightness: float | None = None


def read_preset(path: Path) -> Preset:
    """Read a preset file; SessionFileError names the file, the position and the reason."""
    return PRESET_FORMAT.read(path, _preset_from)


def _preset_from(content: PresetContent) -> Preset:
    stages = stages_from(content.stages, "stages", "beats")
    return Preset(content.name, content.source, content.intention, content.note, stages,
                  macros_from(content.macros, stages, "macros"), content.match_db)


def write_preset(preset: Preset, path: Path) -> None:
    """Write a preset file, whole or not at all.  SessionFileError where it can't be."""
    PRESET_FORMAT.write(PresetContent.model_construct(
        name=preset.name, source=preset.source, intention=preset.intention, note=preset.note,
        match_db=preset.match_db, **nameless_chain(preset.stages, preset.macros)), path)


@functools.cache
def shipped_presets() -> tuple[Preset, ...]:
    """The presets that come with the program, by source, then by name."""
    figures = json.loads(FIGURES_FILE.read_text("utf-8")) if FIGURES_FILE.exists() else {}
    presets = [read_preset(path) for path in SHIPPED.glob("*.json")]
    return by_source([replace(preset, **figures.get(preset.name, {})) for preset in presets])


def by_source(presets: Iterable[Preset]) -> tuple[Preset, ...]:
    """Presets by source, then by name."""
    return tuple(sorted(presets, key=lambda preset: (SOURCES.index(preset.source), preset.name)))


def own_folder() -> Path:
    """Where the user's own presets lie."""
    return own_files_folder("presets")


def own_presets() -> tuple[tuple[Preset, ...], tuple[str, ...]]:
    """The user's own presets, and what is wrong with files that can't be used."""
    result, troubles = read_own(own_folder(), lambda path: replace(read_preset(path), path=path))
    return by_source(result), troubles


def all_presets() -> tuple[Preset, ...]:
    """Shipped ones and the user's own, by source, then by name."""
    return by_source([*shipped_presets(), *own_presets()[0]])


def keep_preset(preset: Preset) -> Preset:
    """Keep a preset of one's own as a new file; with the name changed where another has it."""
    taken = {other.name.lower() for other in all_presets()}
    name, number = preset.name, 2
    while name.lower() in taken:
        name, number = f"{preset.name} {number}", number + 1
    path = fresh_file(own_folder(), name)
    kept = replace(preset, name=name, path=path)
    write_preset(kept, path)
    return kept


def rename_preset(preset: Preset, name: str) -> Preset:
    """Give a preset of one's own another name; ValueError for shipped ones and names that are taken."""
    if preset.path is None:
        raise ValueError(f"{preset.name} comes with the program and keeps its name")
    if any(other.name.lower() == name.lower() and other.path != preset.path for other in all_presets()):
        raise ValueError(f"another preset is called {name}")
    renamed = replace(preset, name=name)
    write_preset(renamed, preset.path)
    return renamed


def delete_preset(preset: Preset) -> None:
    """Delete a preset of one's own; ValueError for shipped ones."""
    if preset.path is None:
        raise ValueError(f"{preset.name} comes with the program and stays")
    preset.path.unlink(missing_ok=True)


def import_preset(path: Path) -> Preset:
    """Take a preset file of somebody's into one's own.  SessionFileError where it is none."""
    return keep_preset(read_preset(path))


def find_preset(name: str) -> Preset:
    """The preset of that name, however capitalised; ValueError where there is none."""
    presets = all_presets()
    for preset in presets:
        if preset.name.lower() == name.lower():
            return preset
    known = ", ".join(preset.name for preset in presets)
    raise ValueError(f"no preset is called {name!r}; there are {known}")
