"""Session files (.ember): JSON, with audio beside them by relative path."""

from __future__ import annotations

import dataclasses
import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yellow_ember.dsp.chain import StageSettings
from yellow_ember.files.atomic import cannot_write, write_text
from yellow_ember.files.kinds import files_below, is_file
from yellow_ember.session.edits.edits import use_impulse
from yellow_ember.session.io.reading import (
    SessionFileError,
    check_format,
    file_path,
    flag,
    items,
    load_object,
    number,
    one_of,
    only,
    read_macros,
    read_stages,
    text,
    texts,
    value,
    values,
    whole,
    write_macros,
    write_stages,
)
from yellow_ember.session.io.snapshot_file import read_snapshots, write_snapshot
from yellow_ember.session.values.limits import MAXIMUM_DEPTH, MAXIMUM_STRIPS, check_count, depth_of_buses
from yellow_ember.session.values.links import FEWEST, LinkGroup
from yellow_ember.session.values.model import (
    LOUDEST_LUFS,
    MASTER,
    QUIETEST_LUFS,
    RATES,
    Loop,
    Quality,
    Send,
    Session,
    Strip,
    StripKind,
    new_id,
    reached,
)
from yellow_ember.session.values.strip_values import SEND_LEVEL, STRIP_VALUES

FORMAT, VERSION = "yellow-ember/session", 5
SUFFIX = ".ember"
MIGRATIONS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {
    version: lambda found: found for version in range(1, VERSION)}
"""From a version to the next: every change of the format adds one.  What is new is left out in older files:
2 brought macros; 3 sends, bypass and links; 4 snapshots and loudness zones; 5 the strip that is shown."""

_SESSION_NAMES = ("format", "version", "name", "rate", "tempo", "beats_per_bar", "reference_dbfs",
                  "ceiling_dbfs", "seed", "quality", "loop", "strips", "links",
                  "snapshots", "shown")
_STRIP_NAMES = ("id", "name", "kind", "out", "sends", "audio",
                *(parameter.id for parameter in STRIP_VALUES), "zone_lufs", "chain", "macros")
_SEND_NAMES = ("to", "level_db", "pre")
_LINK_NAMES = ("id", "name", "members", "of_stages", "relative", "parameters")
_LONGEST = 2**40


def session_to_object(session: Session, folder: Path | None) -> dict[str, Any]:
    """The session as a file's JSON; audio relative to `folder`, or absolute where that is None."""

    def audio(path: Path | None) -> str | None:
        if path is None:
            return None
        return str(path) if folder is None else os.path.relpath(path, folder)

    strips = [{"id": strip.id, "name": strip.name, "kind": strip.kind.value, "out": strip.out,
               "sends": [dataclasses.asdict(send) for send in strip.sends],
               "audio": audio(strip.audio), **{value.id: getattr(strip, value.id) for value in STRIP_VALUES},
               "zone_lufs": None if strip.zone_lufs is None else list(strip.zone_lufs),
               "chain": write_stages(strip.chain, folder), "macros": write_macros(strip.macros, strip.chain)}
              for strip in session.strips]
    return {
        "format": FORMAT, "version": VERSION, "name": session.name, "rate": session.rate,
        "tempo": session.tempo, "beats_per_bar": session.beats_per_bar,
        "reference_dbfs": session.reference_dbfs, "ceiling_dbfs": session.ceiling_dbfs, "seed": session.seed,
        "quality": {"live": session.quality.live, "printing": session.quality.printing},
        "loop": {"start": session.loop.start, "end": session.loop.end, "on": session.loop.on},
        "strips": strips,
        "links": [{**dataclasses.asdict(group), "members": list(group.members), "parameters": list(group.parameters)}
                  for group in session.links],
        "snapshots": [write_snapshot(one, folder) for one in session.snapshots],
        "shown": session.shown,
    }


def session_to_json(session: Session, folder: Path | None) -> str:
    """The session as a file's text, as `session_to_object` gives it."""
    return json.dumps(session_to_object(session, folder), indent=1) + "\n"


def write_session(session: Session, path: Path) -> None:
    """Save, whole or not at all.  SessionFileError where it can't be."""
    try:
        write_text(path, session_to_json(session, path.parent.resolve()))
    except OSError as error:
        raise SessionFileError(cannot_write(path, error)) from None


def read_session(path: Path) -> Session:
    """Open a session file.  SessionFileError names the file, the place and the reason.

    Audio files may be missing: `missing_audio` lists them.
    """
    found = load_object(path)
    try:
        return session_from_json(found, path.parent.resolve())
    except ValueError as reason:
        raise SessionFileError(f"{path}: {reason}") from None


def session_from_json(found: dict[str, Any], folder: Path) -> Session:
    """A session from a file's JSON; ValueError names the place and the reason."""
    for version in range(check_format(found, FORMAT, VERSION), VERSION):
        found = MIGRATIONS[version](found)
    only(found, _SESSION_NAMES, "")
    quality, loop = _part(found, "quality"), _part(found, "loop")
    only(quality, ("live", "printing"), "quality.")
    only(loop, ("start", "end", "on"), "loop.")
    rate = whole(found, "rate", 48000, RATES[0], RATES[-1], "")
    if rate not in RATES:
        raise ValueError(f"rate: must be one of {', '.join(map(str, RATES))}, not {rate}")
    try:
        factors = Quality(live=whole(quality, "live", 4, 1, 16, "quality."),
                          printing=whole(quality, "printing", 8, 1, 16, "quality."))
    except ValueError as reason:
        raise ValueError(f"quality: {reason}") from None
    start = whole(loop, "start", 0, 0, _LONGEST, "loop.")
    strips = _strips(items(found, "strips", ""), folder)
    return Session(
        name=text(found, "name", "Untitled", ""), rate=rate,
        tempo=number(found, "tempo", 120.0, 20.0, 400.0, ""),
        beats_per_bar=whole(found, "beats_per_bar", 4, 1, 16, ""),
        reference_dbfs=number(found, "reference_dbfs", -18.0, -30.0, 0.0, ""),
        ceiling_dbfs=number(found, "ceiling_dbfs", -0.3, -20.0, 0.0, ""),
        seed=whole(found, "seed", 1, 0, 2**31, ""), quality=factors,
        loop=Loop(start, whole(loop, "end", start, start, _LONGEST, "loop."), flag(loop, "on", False, "loop.")),
        strips=strips, links=_links(items(found, "links", "") if "links" in found else [], strips),
        snapshots=read_snapshots(items(found, "snapshots", "") if "snapshots" in found else [],
                                 {strip.id for strip in strips}, folder),
        shown=text(found, "shown", "", ""))


def _part(found: dict[str, Any], name: str) -> dict[str, Any]:
    part = found.get(name, {})
    if not isinstance(part, dict):
        raise ValueError(f"{name}: must be an object")
    return part


def _strips(found: list[dict[str, Any]], folder: Path) -> tuple[Strip, ...]:
    check_count(found, MAXIMUM_STRIPS, "strips", "strips")
    strips = []
    kinds = [kind.value for kind in StripKind]
    for position, item in enumerate(found):
        here = f"strips[{position}]."
        only(item, _STRIP_NAMES, here)
        kind = one_of(item, "kind", kinds, here)
        audio = None
        if item.get("audio") is not None:
            audio = file_path(item, "audio", folder, here)
        chain = read_stages(items(item, "chain", here) if "chain" in item else [], folder, f"{here}chain")
        macros = read_macros(items(item, "macros", here) if "macros" in item else [], chain, f"{here}macros")
        strips.append(Strip(
            id=text(item, "id", None, here), name=text(item, "name", None, here), kind=StripKind(kind),
            out=text(item, "out", "" if kind == "master" else MASTER, here), audio=audio,
            sends=_sends(items(item, "sends", here) if "sends" in item else [], f"{here}sends"),
            **values(item, STRIP_VALUES, here),
            zone_lufs=_zone(item, here), chain=chain, macros=macros))
    _check_routing(strips)
    return tuple(strips)


def _check_routing(strips: list[Strip]) -> None:
    by_id = {strip.id: strip for strip in strips}
    if len(by_id) != len(strips):
        raise ValueError("strips: two strips share an id")
    if MASTER not in by_id or sum(strip.kind is StripKind.MASTER for strip in strips) != 1:
        raise ValueError(f"strips: there must be one master, with the id {MASTER!r}")
    stage_ids = [stage.id for strip in strips for stage in strip.chain]
    if len(set(stage_ids)) != len(stage_ids):
        raise ValueError("strips: two stages share an id")
    for position, strip in enumerate(strips):
        if strip.kind is StripKind.MASTER:
            if strip.feeds:
                raise ValueError(f"strips[{position}].out: the master feeds nothing")
            continue
        for place, to in enumerate(strip.feeds):
            here = f"strips[{position}]." + ("out" if place == 0 else f"sends[{place - 1}].to")
            if to not in by_id or by_id[to].kind is StripKind.TRACK:
                raise ValueError(f"{here}: {to!r} is no bus")
            if strip.id in reached(to, lambda at: by_id[at].feeds if at in by_id else ()):
                raise ValueError(f"{here}: the routing goes round in a circle")
    depth = depth_of_buses({strip.id: strip.feeds for strip in strips})
    if depth > MAXIMUM_DEPTH:
        raise ValueError(f"strips: {depth} of them feed each other in a row; there can be at most {MAXIMUM_DEPTH}")


def _zone(item: dict[str, Any], here: str) -> tuple[float, float] | None:
    found = item.get("zone_lufs")
    if found is None:
        return None
    if not isinstance(found, list) or len(found) != 2:
        raise ValueError(f"{here}zone_lufs: must be two numbers, or nothing")
    ends = dict(zip(("low", "high"), found, strict=True))
    low, high = (number(ends, name, 0.0, QUIETEST_LUFS, LOUDEST_LUFS, f"{here}zone_lufs.") for name in ends)
    if low >= high:
        raise ValueError(f"{here}zone_lufs: must go up, not from {low:g} to {high:g}")
    return low, high


def _sends(found: list[dict[str, Any]], place: str) -> tuple[Send, ...]:
    sends = []
    for position, item in enumerate(found):
        here = f"{place}[{position}]."
        only(item, _SEND_NAMES, here)
        sends.append(Send(to=text(item, "to", None, here), pre=flag(item, "pre", False, here),
                          level_db=value({"level_db": 0.0, **item}, SEND_LEVEL, here)))
    if len({send.to for send in sends}) != len(sends):
        raise ValueError(f"{place}: two sends go to one bus")
    return tuple(sends)


def _links(found: list[dict[str, Any]], strips: tuple[Strip, ...]) -> tuple[LinkGroup, ...]:
    kinds: dict[str, str] = {strip.id: "" for strip in strips}
    kinds |= {stage.id: stage.kind for strip in strips for stage in strip.chain}
    links, taken = [], set[str]()
    for position, item in enumerate(found):
        here = f"links[{position}]."
        only(item, _LINK_NAMES, here)
        members = texts(item, "members", here)
        of_stages = flag(item, "of_stages", False, here)
        unknown = [member for member in members if member not in kinds or (kinds[member] != "") != of_stages]
        if unknown:
            raise ValueError(f"{here}members: {unknown[0]!r} is no {'stage' if of_stages else 'strip'}")
        if len({kinds[member] for member in members}) > 1:
            raise ValueError(f"{here}members: only stages of one kind can be linked")
        if len(set(members)) < FEWEST or taken & set(members):
            raise ValueError(f"{here}members: must be at least {FEWEST}, each in one link only")
        taken |= set(members)
        links.append(LinkGroup(text(item, "id", new_id("link"), here), text(item, "name", None, here), members,
                               of_stages, flag(item, "relative", True, here),
                               texts(item, "parameters", here) if "parameters" in item else ()))
    return tuple(links)


def missing_audio(session: Session) -> list[Strip]:
    """Tracks whose file is not there."""
    return [strip for strip in session.strips if strip.audio is not None and not is_file(strip.audio)]


def impulse_files(session: Session) -> list[tuple[Strip, StageSettings, Path]]:
    """Where stages name an impulse response of the user's: strip, stage, file."""
    return [(strip, stage, Path(path)) for strip in session.strips for stage in strip.chain
            if (path := stage.declaration.impulse(stage.params))]


def relocate(session: Session, folder: Path) -> Session:
    """Point tracks and stages whose file is missing to one of the same name below `folder`, where there is one."""
    by_name = {path.name: path for path in files_below(folder)}
    for strip in missing_audio(session):
        if strip.audio is not None and strip.audio.name in by_name:
            session = session.with_strip(strip.with_(audio=by_name[strip.audio.name]))
    for strip, stage, path in impulse_files(session):
        if not is_file(path) and path.name in by_name:
            session = use_impulse(session, strip.id, stage.id, by_name[path.name])
    return session
