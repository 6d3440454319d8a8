"""Edits of whole strips: a bus for some, a copy of one, an empty path, another place."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.session.edits.edits import add_bus, edit_strip, replace_stage, route, without_lost_links
from yellow_ember.session.values.macros import renamed_stages
from yellow_ember.session.values.model import MASTER, Session, Strip, StripKind, new_id


def bus_for(session: Session, strip_ids: Sequence[str], name: str) -> tuple[Session, str]:
    """A new bus that some strips feed, which itself feeds what they all fed, or else the master.

    Returns
    -------
    tuple[Session, str]
        The session and the bus's id.

    Raises
    ------
    ValueError
        Where none of the strips can feed a bus.
    """
    strips = [session.strip(strip_id) for strip_id in strip_ids]
    moved = [strip for strip in strips if strip.kind is not StripKind.MASTER]
    if not moved:
        raise ValueError("Choose the tracks or buses that the new bus is for")
    # A bus that another of them feeds takes that one along.
    moved = [strip for strip in moved if not any(strip.id != other.id and strip.id in session.upstream(other.id)
                                                 for other in moved)]
    outs = {strip.out for strip in moved}
    before = {strip.id for strip in session.strips}
    session = add_bus(session, name, outs.pop() if len(outs) == 1 else MASTER)
    bus_id = next(strip.id for strip in session.strips if strip.id not in before)
    for strip in moved:
        session = route(session, strip.id, bus_id)
    return session, bus_id


def insert_track(session: Session, strip_id: str, name: str) -> tuple[Session, str]:
    """An empty track behind a track, feeding what it feeds; of a bus the first that feeds it.  Its id comes with it."""
    strip = session.strip(strip_id)
    beside = strip.kind is StripKind.TRACK
    track = Strip(id=new_id("track"), name=_free_name(session, name), kind=StripKind.TRACK,
                  out=strip.out if beside else strip.id)
    at = session.strips.index(strip) + 1 if beside else 0
    return session.with_(strips=(*session.strips[:at], track, *session.strips[at:])), track.id


def duplicate_strip(session: Session, strip_id: str) -> tuple[Session, str]:
    """A copy of a track or bus behind it, with ids of its own; links are not copied.  ValueError for the master."""
    strip = session.strip(strip_id)
    if strip.kind is StripKind.MASTER:
        raise ValueError("There is one master; it can't be duplicated")
    stages = {stage.id: new_id(stage.kind) for stage in strip.chain}
    macros = {macro.id: new_id("macro") for macro in strip.macros}
    copy = strip.with_(
        id=new_id(strip.kind.value), name=_free_name(session, strip.name),
        regions=tuple(replace(region, id=new_id("region")) for region in strip.regions),
        chain=tuple(replace_stage(stage, id=stages[stage.id]) for stage in strip.chain),
        macros=renamed_stages(strip.macros, stages, list(macros.values())),
        lanes=tuple(replace(lane, parameter=macros.get(lane.parameter, lane.parameter)) for lane in strip.lanes))
    at = session.strips.index(strip) + 1
    return session.with_(strips=(*session.strips[:at], copy, *session.strips[at:])), copy.id


def _free_name(session: Session, name: str) -> str:
    taken = {strip.name for strip in session.strips}
    if name not in taken:
        return name
    number = 2
    while f"{name} {number}" in taken:
        number += 1
    return f"{name} {number}"


def clear_paths(session: Session, strip_ids: Sequence[str]) -> Session:
    """Strips without stages and macros, and with no match."""
    for strip_id in strip_ids:
        session = edit_strip(session, strip_id, _without_path)
    return without_lost_links(session)


def reset_strips(session: Session, strip_ids: Sequence[str]) -> Session:
    """Strips as new ones: without path, sends, lanes and a target, their faders at rest; sound and bus stay."""
    for strip_id in strip_ids:
        session = edit_strip(session, strip_id, lambda strip: Strip(
            id=strip.id, name=strip.name, kind=strip.kind, out=strip.out, regions=strip.regions))
    return without_lost_links(session)


def tint_strips(session: Session, strip_ids: Sequence[str], tint: str) -> Session:
    """Give strips a colour on screen, "#rrggbb", or "" for none."""
    for strip_id in strip_ids:
        session = edit_strip(session, strip_id, lambda strip: strip.with_(tint=tint))
    return session


def _without_path(strip: Strip) -> Strip:
    none: tuple[StageSettings, ...] = ()
    macros = {macro.id for macro in strip.macros}
    return strip.with_(chain=none, macros=(), match_db=0.0,
                       lanes=tuple(lane for lane in strip.lanes if lane.parameter not in macros))


def move_strip(session: Session, strip_id: str, beside: str, *, after: bool) -> Session:
    """A strip before or after another, in the bus that the other feeds.

    ValueError for the master, and where a bus would go into itself.
    """
    strip, other = session.strip(strip_id), session.strip(beside)
    if StripKind.MASTER in (strip.kind, other.kind):
        raise ValueError("The master stays the last strip")
    if strip_id == beside:
        return session
    if strip.out != other.out:
        session = route(session, strip_id, other.out)
        strip = session.strip(strip_id)
    rest = [one for one in session.strips if one.id != strip_id]
    at = [one.id for one in rest].index(beside) + (1 if after else 0)
    return session.with_(strips=(*rest[:at], strip, *rest[at:]))
