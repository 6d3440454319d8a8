"""Session files (.ember): JSON, with audio beside them by relative path."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yellow_ember.dsp.chain import StageSettings
from yellow_ember.files.atomic import write_text
from yellow_ember.session.edits import use_impulse
from yellow_ember.session.model import (
    LOUDEST_DB,
    MASTER,
    RATES,
    SILENT_DB,
    Loop,
    Quality,
    Session,
    Strip,
    StripKind,
)
from yellow_ember.session.reading import (
    SessionFileError,
    check_format,
    flag,
    items,
    load_object,
    number,
    only,
    read_macros,
    read_stages,
    text,
    whole,
    write_macros,
    write_stages,
)

FORMAT, VERSION = "yellow-ember/session", 2
SUFFIX = ".ember"
MIGRATIONS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {1: lambda found: found}
"""From a version to the next: every change of the format adds one.  2 brought macros, of which 1 has none."""

_SESSION_NAMES = ("format", "version", "name", "rate", "tempo", "beats_per_bar", "reference_dbfs",
                  "ceiling_dbfs", "seed", "quality", "loop", "strips")
_STRIP_NAMES = ("id", "name", "kind", "out", "audio", "volume_db", "pan", "mute", "solo", "match_db", "chain",
                "macros")
_LONGEST = 2**40


def session_to_json(session: Session, folder: Path | None) -> str:
    """The session as a file's text; audio relative to `folder`, or absolute where that is None."""

    def audio(path: Path | None) -> str | None:
        if path is None:
            return None
        return str(path) if folder is None else os.path.relpath(path, folder)

    strips = [{"id": strip.id, "name": strip.name, "kind": strip.kind.value, "out": strip.out,
               "audio": audio(strip.audio), "volume_db": strip.volume_db, "pan": strip.pan, "mute": strip.mute,
               "solo": strip.solo, "match_db": strip.match_db, "chain": write_stages(strip.chain, folder),
               "macros": write_macros(strip.macros, strip.chain)}
              for strip in session.strips]
    return json.dumps({
        "format": FORMAT, "version": VERSION, "name": session.name, "rate": session.rate,
        "tempo": session.tempo, "beats_per_bar": session.beats_per_bar,
        "reference_dbfs": session.reference_dbfs, "ceiling_dbfs": session.ceiling_dbfs, "seed": session.seed,
        "quality": {"live": session.quality.live, "printing": session.quality.printing},
        "loop": {"start": session.loop.start, "end": session.loop.end, "on": session.loop.on},
        "strips": strips,
    }, indent=1) + "\n"


def write_session(session: Session, path: Path) -> None:
    """Save, whole or not at all.  SessionFileError where it can't be."""
    try:
        write_text(path, session_to_json(session, path.parent.resolve()))
    except OSError as error:
        raise SessionFileError(f"{path} can't be saved: {error.strerror}") from None


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
    return Session(
        name=text(found, "name", "Untitled", ""), rate=rate,
        tempo=number(found, "tempo", 120.0, 20.0, 400.0, ""),
        beats_per_bar=whole(found, "beats_per_bar", 4, 1, 16, ""),
        reference_dbfs=number(found, "reference_dbfs", -18.0, -30.0, 0.0, ""),
        ceiling_dbfs=number(found, "ceiling_dbfs", -0.3, -20.0, 0.0, ""),
        seed=whole(found, "seed", 1, 0, 2**31, ""), quality=factors,
        loop=Loop(start, whole(loop, "end", start, start, _LONGEST, "loop."), flag(loop, "on", False, "loop.")),
        strips=_strips(items(found, "strips", ""), folder))


def _part(found: dict[str, Any], name: str) -> dict[str, Any]:
    part = found.get(name, {})
    if not isinstance(part, dict):
        raise ValueError(f"{name}: must be an object")
    return part


def _strips(found: list[dict[str, Any]], folder: Path) -> tuple[Strip, ...]:
    strips = []
    kinds = [kind.value for kind in StripKind]
    for position, item in enumerate(found):
        here = f"strips[{position}]."
        only(item, _STRIP_NAMES, here)
        kind = text(item, "kind", None, here)
        if kind not in kinds:
            raise ValueError(f"{here}kind: must be one of {', '.join(kinds)}, not {kind!r}")
        audio = None
        if item.get("audio") is not None:
            audio = Path(os.path.normpath(folder / text(item, "audio", None, here)))
        chain = read_stages(items(item, "chain", here) if "chain" in item else [], folder, f"{here}chain")
        macros = read_macros(items(item, "macros", here) if "macros" in item else [], chain, f"{here}macros")
        strips.append(Strip(
            id=text(item, "id", None, here), name=text(item, "name", None, here), kind=StripKind(kind),
            out=text(item, "out", "" if kind == "master" else MASTER, here), audio=audio,
            volume_db=number(item, "volume_db", 0.0, SILENT_DB, LOUDEST_DB, here),
            pan=number(item, "pan", 0.0, -100.0, 100.0, here), mute=flag(item, "mute", False, here),
            solo=flag(item, "solo", False, here), match_db=number(item, "match_db", 0.0, -60.0, 60.0, here),
            chain=chain, macros=macros))
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
        here = f"strips[{position}].out"
        seen, at = {strip.id}, strip
        while at.kind is not StripKind.MASTER:
            if at.out not in by_id or by_id[at.out].kind is StripKind.TRACK:
                raise ValueError(f"{here}: {at.out!r} is no bus")
            at = by_id[at.out]
            if at.id in seen:
                raise ValueError(f"{here}: the routing goes round in a circle")
            seen.add(at.id)


def missing_audio(session: Session) -> list[Strip]:
    """Tracks whose file is not there."""
    return [strip for strip in session.strips if strip.audio is not None and not strip.audio.is_file()]


def impulse_files(session: Session) -> list[tuple[Strip, StageSettings, Path]]:
    """Where stages name an impulse response of the user's: strip, stage, file."""
    return [(strip, stage, Path(path)) for strip in session.strips for stage in strip.chain
            if (path := stage.declaration.impulse(stage.params))]


def relocate(session: Session, folder: Path) -> Session:
    """Point tracks and stages whose file is missing to one of the same name below `folder`, where there is one."""
    by_name = {path.name: path for path in folder.rglob("*") if path.is_file()}
    for strip in missing_audio(session):
        if strip.audio is not None and strip.audio.name in by_name:
            session = session.with_strip(strip.with_(audio=by_name[strip.audio.name]))
    for strip, stage, path in impulse_files(session):
        if not path.is_file() and path.name in by_name:
            session = use_impulse(session, strip.id, stage.id, by_name[path.name])
    return session
