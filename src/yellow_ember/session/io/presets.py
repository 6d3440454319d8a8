"""Presets: chains with a name, a source, an intention and one sentence.

Some come with the program; the user's own lie in the XDG data folder, a file each.
"""

from __future__ import annotations

import contextlib
import functools
import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.files.atomic import write_text
from yellow_ember.files.json_files import JsonFileError, read_object
from yellow_ember.folders import Base, folder
from yellow_ember.plain_text import plain_file_name
from yellow_ember.session.io import migrations
from yellow_ember.session.io.chain_content import macros_from, nameless_chain, stages_from
from yellow_ember.session.io.content_types import PresetContent
from yellow_ember.session.io.file_format import FileFormat
from yellow_ember.session.io.own_files import fresh_file, own_files_folder, read_own
from yellow_ember.session.values.macros import Macro
from yellow_ember.session.values.purposes import SOURCES
from yellow_ember.shipped import DATA

PRESET_FORMAT = FileFormat("yellow-ember/preset", PresetContent, migrations.PRESET)
SHIPPED = DATA / "presets"
FIGURES_FILE = DATA / "preset-figures.json"
"""What the shipped presets add to the demo's dry mix and drums, and their brightness: script/measure_presets.py."""
SUITABLE: dict[str, tuple[str, ...]] = {
    "drums": ("brushed-drums",), "bass": ("upright-bass",), "guitar": ("plucked-guitar",), "keys": ("harmonium",),
    "voice": ("ships-announcer",), "bus": (), "master": (), "effect": ()}
"""Tracks of the demo that shipped presets of a source are matched on, all of them where none is named."""


@dataclass(frozen=True, slots=True)
class Figures:
    """What a chain does to a common sound (`engine.jobs.preset_figures`).

    added_db, brightness : as `measure.character` gives them
    tone_db : change of level at equal loudness, in octaves from 31.5 Hz to 16 kHz
    """

    added_db: float
    brightness: float
    tone_db: tuple[float, ...]


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
    figures : Figures | None
        What it does to a common sound, None where that was not measured.
    """

    name: str
    source: str
    intention: str
    note: str
    stages: tuple[StageSettings, ...]
    macros: tuple[Macro, ...] = ()
    match_db: float = 0.0
    path: Path | None = None
    figures: Figures | None = None


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
    figures = read_figures(FIGURES_FILE)
    presets = [read_preset(path) for path in SHIPPED.glob("*.json")]
    return by_source([replace(preset, figures=figures.get(preset.name)) for preset in presets])


def read_figures(path: Path) -> dict[str, Figures]:
    """Figures by name or key; none where the file is missing or of another kind."""
    try:
        content = read_object(path)
        return {name: Figures(float(entry["added_db"]), float(entry["brightness"]),
                              tuple(float(value) for value in entry["tone_db"])) for name, entry in content.items()}
    except (OSError, JsonFileError, KeyError, TypeError, ValueError):
        return {}


def write_figures(path: Path, figures: Mapping[str, Figures]) -> None:
    """Write what `read_figures` reads.  OSError where it can't be."""
    write_text(path, json.dumps({name: asdict(entry) for name, entry in sorted(figures.items())}, indent=1) + "\n")


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


def change_preset(preset: Preset, changed: Preset) -> Preset:
    """Write a preset of one's own with another name, note, source or intention.

    ValueError for shipped ones and names that are taken.
    """
    if preset.path is None:
        raise ValueError(f"{preset.name} comes with the program and stays as it is")
    if any(other.name.lower() == changed.name.lower() and other.path != preset.path for other in all_presets()):
        raise ValueError(f"another preset is called {changed.name}")
    write_preset(changed, preset.path)
    return changed


def delete_preset(preset: Preset) -> None:
    """Put a preset of one's own away, from where it can be restored; ValueError for shipped ones."""
    if preset.path is None:
        raise ValueError(f"{preset.name} comes with the program and stays")
    preset.path.rename(fresh_file(_deleted_folder(), preset.path.stem))


def deleted_presets() -> tuple[Preset, ...]:
    """The presets that were put away and can be read."""
    return by_source(read_own(_deleted_folder(), lambda path: replace(read_preset(path), path=path))[0])


def restore_preset(preset: Preset) -> Preset:
    """Bring a deleted preset back; its name is changed where another has it meanwhile."""
    assert preset.path is not None
    kept = keep_preset(preset)
    preset.path.unlink(missing_ok=True)
    return kept


def _deleted_folder() -> Path:
    return folder(Base.DATA, "presets", "deleted")


def figures_key(preset: Preset) -> str:
    """What tells chains apart whose figures are kept."""
    content = json.dumps(nameless_chain(preset.stages, ()), default=str, sort_keys=True)
    return hashlib.sha256(content.encode()).hexdigest()[:24]


def kept_figures() -> dict[str, Figures]:
    """Figures of the user's own presets that were measured here, by `figures_key`."""
    return read_figures(_own_figures_file())


def keep_figures(key: str, figures: Figures) -> None:
    """Keep figures of a preset of one's own; where the folder allows nothing they are measured again."""
    with contextlib.suppress(OSError):
        write_figures(_own_figures_file(), {**kept_figures(), key: figures})


def _own_figures_file() -> Path:
    return folder(Base.CACHE) / "preset-figures.json"


def import_preset(path: Path) -> Preset:
    """Take a preset file of somebody's into one's own.  SessionFileError where it is none."""
    return keep_preset(read_preset(path))


def find_preset(name: str) -> Preset:
    """The preset of that name, however capitalised; ValueError where there is none."""
    # Reading all of them takes a quarter of a second, and most files are called as what they hold.
    likely = SHIPPED / f"{plain_file_name(name).lower().replace(' ', '-')}.json"
    if likely.is_file() and (preset := read_preset(likely)).name.lower() == name.lower():
        return preset
    presets = all_presets()
    for preset in presets:
        if preset.name.lower() == name.lower():
            return preset
    known = ", ".join(preset.name for preset in presets)
    raise ValueError(f"no preset is called {name!r}; there are {known}")
