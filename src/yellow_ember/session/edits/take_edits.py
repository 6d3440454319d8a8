"""Edits of what was recorded: takes are kept with their strip, and one of those that lie at a place is heard."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path

from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import Session, new_id
from yellow_ember.session.values.regions import MAXIMUM_REGIONS, SHORTEST_SECONDS, Region

FADE_SECONDS = 0.005
"""At both ends of what is punched in, so that nothing clicks."""

LengthOf = Callable[[Path], float]
"""The length of a file in seconds."""


def take_of(audio: Path, start: float, seconds: float) -> Region:
    """A take: a whole file, from a second of the session on."""
    fade = min(FADE_SECONDS, seconds / 2.0)
    return Region(audio=audio, start=start, end=seconds, fade_in=fade, fade_out=fade)


def add_takes(session: Session, strip_id: str, takes: Iterable[Region], length_of: LengthOf) -> Session:
    """Takes more of a track; of those at one place the last is heard, and the track no longer listens.

    ValueError where it holds as many as it can.
    """
    for take in takes:
        strip = session.strip(strip_id)
        if len(strip.takes) >= MAXIMUM_REGIONS:
            raise ValueError(f"{strip.name} has {MAXIMUM_REGIONS} takes, which is as many as a track can hold")
        session = session.with_strip(strip.with_(takes=(*strip.takes, take)))
        session = choose_take(session, strip_id, take.id, length_of)
    return edit_strip(session, strip_id, lambda strip: strip.with_(
        live=strip.live and replace(strip.live, on=False)))


def choose_take(session: Session, strip_id: str, take_id: str, length_of: LengthOf) -> Session:
    """Hear a take in place of all that lies where it was recorded."""
    strip = session.strip(strip_id)
    take = next(take for take in strip.takes if take.id == take_id)
    end = take.start + _seconds(take, length_of)
    kept = [part for region in strip.regions for part in _without(region, take.start, end, length_of)]
    if len(kept) >= MAXIMUM_REGIONS:
        raise ValueError(f"{strip.name} has {MAXIMUM_REGIONS} regions, which is as many as a track can hold")
    heard = replace(take, id=new_id("region"))
    return session.with_strip(strip.with_(regions=tuple(sorted((*kept, heard), key=lambda region: region.start))))


def forget_take(session: Session, strip_id: str, take_id: str) -> Session:
    """Without that take; its file stays, and what is heard of it."""
    return edit_strip(session, strip_id, lambda strip: strip.with_(
        takes=tuple(take for take in strip.takes if take.id != take_id)))


def is_heard(regions: Iterable[Region], take: Region) -> bool:
    """True where a region is of the take's file."""
    return any(region.audio == take.audio for region in regions)


def _seconds(region: Region, length_of: LengthOf) -> float:
    return (length_of(region.audio) if region.end is None else region.end) - region.begin


def _without(region: Region, start: float, end: float, length_of: LengthOf) -> list[Region]:
    """What is left of a region outside a stretch of the session."""
    over = region.start + _seconds(region, length_of)
    if over <= start or region.start >= end:
        return [region]
    parts = []
    if start - region.start >= SHORTEST_SECONDS:
        parts.append(replace(region, end=region.begin + start - region.start, fade_out=0.0,
                             fade_in=min(region.fade_in, start - region.start)))
    if over - end >= SHORTEST_SECONDS:
        parts.append(replace(region, start=end, begin=region.begin + end - region.start, fade_in=0.0,
                             fade_out=min(region.fade_out, over - end), id=new_id("region")))
    return parts
