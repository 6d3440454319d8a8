"""Sets: chains for a bus and the tracks that feed it, or for a whole session, put on all of them in one go."""

from __future__ import annotations

import functools
from dataclasses import dataclass, replace
from pathlib import Path

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.session.edits.edits import use_chain
from yellow_ember.session.edits.link_edits import link_strips
from yellow_ember.session.io.chain_content import macros_from, nameless_chain, stages_from
from yellow_ember.session.io.content_types import PartContent, SetContent
from yellow_ember.session.io.file_format import FileFormat
from yellow_ember.session.io.own_files import fresh_file, own_files_folder, read_own
from yellow_ember.session.values.drawn import lanes_in_beats, lanes_in_seconds, without_lanes
from yellow_ember.session.values.links import FEWEST
from yellow_ember.session.values.macros import Macro
from yellow_ember.session.values.model import Session, Strip, StripKind
from yellow_ember.session.values.purposes import ANY_SOURCE, SET_SCOPES
from yellow_ember.shipped import DATA

SET_FORMAT = FileFormat("yellow-ember/set", SetContent)
SHIPPED_SETS = DATA / "sets"
_WORDS = {
    "drums": ("drum", "kit", "kick", "snare", "hat", "brush", "percussion", "cymbal", "tom"),
    "bass": ("bass", "sub"),
    "guitar": ("guitar", "pluck", "banjo", "mandolin", "lute"),
    "keys": ("key", "piano", "organ", "harmonium", "synth", "reed", "accordion"),
    "voice": ("voice", "vocal", "speech", "announcer", "narrat", "sing", "choir")}
"""What names of strips say about what is on them."""


@dataclass(frozen=True, slots=True)
class Part:
    """A chain for strips of a kind, and of a source or of any."""

    where: StripKind
    source: str
    stages: tuple[StageSettings, ...]
    macros: tuple[Macro, ...] = ()
    match_db: float = 0.0


@dataclass(frozen=True, slots=True)
class StripSet:
    """scope : a bus with what feeds it, or all of a session; linked : its tracks are linked, relative"""

    name: str
    scope: str
    intention: str
    note: str
    parts: tuple[Part, ...]
    linked: bool = False
    path: Path | None = None


def read_set(path: Path) -> StripSet:
    """Read a set's file; SessionFileError names the file, the position and the reason."""
    return SET_FORMAT.read(path, _set_from)


def _set_from(content: SetContent) -> StripSet:
    parts = tuple(_part_from(part, f"parts[{index}]") for index, part in enumerate(content.parts))
    return StripSet(content.name, content.scope, content.intention, content.note, parts, content.linked)


def _part_from(content: PartContent, position: str) -> Part:
    stages = stages_from(content.stages, f"{position}.stages", "beats")
    return Part(StripKind(content.where), content.source, stages,
                macros_from(content.macros, stages, f"{position}.macros"), content.match_db)


def write_set(strip_set: StripSet, path: Path) -> None:
    """Write a set's file, whole or not at all.  SessionFileError where it can't be."""
    parts = [PartContent.model_construct(where=part.where.value, source=part.source, match_db=part.match_db,
                                         **nameless_chain(part.stages, part.macros)) for part in strip_set.parts]
    SET_FORMAT.write(SetContent.model_construct(
        name=strip_set.name, scope=strip_set.scope, intention=strip_set.intention, note=strip_set.note,
        linked=strip_set.linked, parts=parts), path)


@functools.cache
def shipped_sets() -> tuple[StripSet, ...]:
    """Those that come with the program, buses first."""
    return tuple(sorted((read_set(path) for path in SHIPPED_SETS.glob("*.json")),
                        key=lambda result: (SET_SCOPES.index(result.scope), result.name)))


def own_sets_folder() -> Path:
    """Where the user's own lie."""
    return own_files_folder("sets")


def own_sets() -> tuple[tuple[StripSet, ...], tuple[str, ...]]:
    """The user's own, and what is wrong with files that can't be used."""
    result, troubles = read_own(own_sets_folder(), lambda path: replace(read_set(path), path=path))
    return tuple(result), troubles


def keep_set(strip_set: StripSet) -> StripSet:
    """Keep a set of one's own as a new file."""
    path = fresh_file(own_sets_folder(), strip_set.name)
    write_set(strip_set, path)
    return replace(strip_set, path=path)


def guessed_source(strip: Strip) -> str:
    """What is on a strip, by its name."""
    name = strip.name.lower()
    return next((source for source, words in _WORDS.items() if any(word in name for word in words)), ANY_SOURCE)


def strips_in(session: Session, scope: str, bus_id: str) -> tuple[Strip, ...]:
    """The strips that a set is about, in the desk's order: a bus and what feeds it, or all."""
    if scope == "session":
        return tuple(strip for strip, _ in session.depth_first())
    return (session.strip(bus_id), *session.feeding(bus_id))


def parts_for(session: Session, strip_set: StripSet, bus_id: str) -> dict[str, int | None]:
    """Which part suits each strip: of its kind and source, or of its kind and any; None where there is none."""
    chosen: dict[str, int | None] = {}
    for strip in strips_in(session, strip_set.scope, bus_id):
        where = StripKind.BUS if strip_set.scope == "bus" and strip.id == bus_id else strip.kind
        source = guessed_source(strip)
        fitting = [index for index, part in enumerate(strip_set.parts) if part.where is where]
        exact = [index for index in fitting if strip_set.parts[index].source == source]
        loose = [index for index in fitting if strip_set.parts[index].source == ANY_SOURCE]
        chosen[strip.id] = next(iter((*exact, *loose)), None)
    return chosen


def use_set(session: Session, strip_set: StripSet, chosen: dict[str, int | None]) -> Session:
    """A set's chains in place of the strips' own, by the parts chosen for them; where there is none, all stays."""
    tracks = []
    for strip_id, index in chosen.items():
        if index is None:
            continue
        part = strip_set.parts[index]
        session = use_chain(session, strip_id, lanes_in_seconds(part.stages, session), part.macros, part.match_db)
        if session.strip(strip_id).kind is StripKind.TRACK:
            tracks.append(strip_id)
    if strip_set.linked and len(tracks) >= FEWEST:
        session = link_strips(session, tuple(tracks))
    return session


def set_from(session: Session, scope: str, bus_id: str, name: str, intention: str, note: str, *,
             with_lanes: bool = False) -> StripSet:
    """A set of what is on a bus and its tracks now, or on all of a session; with what moves over time, or without.

    ValueError where none of them has a stage.
    """
    parts: list[Part] = []
    for strip in strips_in(session, scope, bus_id):
        where = StripKind.BUS if scope == "bus" and strip.id == bus_id else strip.kind
        source = guessed_source(strip) if where is StripKind.TRACK else ANY_SOURCE
        if strip.chain and all((part.where, part.source) != (where, source) for part in parts):
            stages = lanes_in_beats(strip.chain, session) if with_lanes else without_lanes(strip.chain)
            parts.append(Part(where, source, stages, strip.macros, strip.match_db))
    if not parts:
        raise ValueError("none of these strips has a stage")
    return StripSet(name, scope, intention, note, tuple(parts))
