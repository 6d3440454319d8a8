"""A track's regions with the ready copies of their files: what is read, and where in the session it lies."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from yellow_ember.files.conformed import Conformed, find_conformed
from yellow_ember.session.values.model import Session, Strip
from yellow_ember.session.values.regions import Region, Span


@dataclass(frozen=True, slots=True)
class Placed:
    """A region, the copy of its file, and where it lies in frames."""

    region: Region
    sound: Conformed
    span: Span


def placed(strip: Strip, rate: int, find: Callable[[Path, int], Conformed | None] = find_conformed
           ) -> tuple[Placed, ...]:
    """Return a strip's regions whose files have a ready copy.

    Parameters
    ----------
    find : Callable[[Path, int], Conformed | None]
        File and rate -> its ready copy, None where there is none.
    """
    sounds = {path: find(path, rate) for path in strip.files}
    return tuple(Placed(region, sound, region.span(rate, sound.frames)) for region in strip.regions
                 if (sound := sounds[region.audio]) is not None)


def end_of(places: Iterable[Placed]) -> int:
    """Return the frame behind the last of some regions, 0 where there are none."""
    return max((place.span.end for place in places), default=0)


def files_reaching(session: Session, strip_ids: Iterable[str]) -> tuple[Path, ...]:
    """Return the files of all that reaches some strips, each once."""
    reaching = frozenset[str]().union(*(session.upstream(strip_id) for strip_id in strip_ids))
    return tuple(dict.fromkeys(path for strip in session.strips if strip.id in reaching for path in strip.files))
