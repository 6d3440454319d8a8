"""Edits of what lies where in time: regions, markers and passages."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import Session
from yellow_ember.session.values.places import MAXIMUM_PLACES, Marker, Passage, fitting
from yellow_ember.session.values.regions import LAST_SECOND, MAXIMUM_REGIONS, SHORTEST_SECONDS, Region

_HOUR = 3600.0


def add_region(session: Session, strip_id: str, audio: Path, start: float) -> Session:
    """All of a file on a track, from a second on; ValueError where the track is full."""
    strip = session.strip(strip_id)
    if len(strip.regions) >= MAXIMUM_REGIONS:
        raise ValueError(f"{strip.name} has {MAXIMUM_REGIONS} regions, which is as many as a track can hold")
    region = Region(audio=audio, start=min(max(start, 0.0), LAST_SECOND))
    return session.with_strip(strip.with_(regions=(*strip.regions, region)))


def remove_region(session: Session, strip_id: str, region_id: str) -> Session:
    """Without that region; the track stays."""
    return edit_strip(session, strip_id, lambda strip: strip.with_(
        regions=tuple(region for region in strip.regions if region.id != region_id)))


def edit_region(session: Session, strip_id: str, region: Region, length: float) -> Session:
    """The region in place of the one with its id, brought within its file.

    Parameters
    ----------
    length : float
        Of the file, in seconds.
    """
    begin = min(max(region.begin, 0.0), max(0.0, length - SHORTEST_SECONDS))
    end = length if region.end is None else min(max(region.end, begin + SHORTEST_SECONDS), length)
    fits = replace(region, start=min(max(region.start, 0.0), LAST_SECOND), begin=begin,
                   end=None if end >= length else end,
                   fade_in=min(max(region.fade_in, 0.0), end - begin),
                   fade_out=min(max(region.fade_out, 0.0), end - begin))
    return edit_strip(session, strip_id, lambda strip: strip.with_(
        regions=tuple(fits if old.id == region.id else old for old in strip.regions)))


def place_by_time_stamp(session: Session, times: Mapping[Path, float]) -> Session:
    """Every region of a file with a time stamp to where that puts it.

    A session that has no time of day yet takes the hour of the earliest.

    Parameters
    ----------
    times : Mapping[Path, float]
        Seconds since midnight at a file's first sample.
    """
    stamped = [path for path in session.files if path in times]
    if not stamped:
        return session
    earliest = min(times[path] for path in stamped)
    begins = session.starts_at
    if begins == 0.0 or begins > earliest:
        begins = earliest // _HOUR * _HOUR
    strips = tuple(strip.with_(regions=tuple(
        replace(region, start=times[region.audio] - begins + region.begin)
        if region.audio in times and times[region.audio] - begins + region.begin <= LAST_SECOND else region
        for region in strip.regions)) for strip in session.strips)
    return session.with_(strips=strips, starts_at=begins)


def add_marker(session: Session, at: float, name: str = "") -> Session:
    """A marker at a second; one that is there already takes the name."""
    others = tuple(marker for marker in session.markers if abs(marker.at - at) > SHORTEST_SECONDS)
    if len(others) >= MAXIMUM_PLACES:
        raise ValueError(f"a session holds at most {MAXIMUM_PLACES} markers")
    return session.with_(markers=tuple(sorted((*others, Marker(at, name or f"Marker {len(others) + 1}")))))


def replace_marker(session: Session, old: Marker, new: Marker | None) -> Session:
    """Another marker in the place of one, or none."""
    others = [marker for marker in session.markers if marker != old]
    return session.with_(markers=tuple(sorted([*others, *([] if new is None else [new])])))


def add_passage(session: Session, passage: Passage) -> Session:
    """A passage more; ValueError where the session is full."""
    if len(session.passages) >= MAXIMUM_PLACES:
        raise ValueError(f"a session holds at most {MAXIMUM_PLACES} passages")
    return session.with_(passages=_in_order((*session.passages, fitting(passage))))


def edit_passage(session: Session, passage: Passage) -> Session:
    """The passage in place of the one with its id."""
    return session.with_(passages=_in_order(tuple(
        fitting(passage) if old.id == passage.id else old for old in session.passages)))


def remove_passage(session: Session, passage_id: str) -> Session:
    """Without that passage."""
    return session.with_(passages=tuple(passage for passage in session.passages if passage.id != passage_id))


def _in_order(passages: tuple[Passage, ...]) -> tuple[Passage, ...]:
    return tuple(sorted(passages, key=lambda passage: (passage.start, passage.end)))


def passages_between_markers(session: Session, end: float) -> Session:
    """A passage from every marker to the next, the last to the session's end, named after them."""
    ends = [marker.at for marker in session.markers[1:]] + [end]
    for marker, until in zip(session.markers, ends, strict=False):
        if until > marker.at:
            session = add_passage(session, Passage(name=marker.name, start=marker.at, end=until))
    return session
