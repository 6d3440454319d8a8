"""Where a track's files lie in the session, and which part of them is heard."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

MAXIMUM_REGIONS = 256
"""On one track."""
LAST_SECOND = 24 * 3600.0
"""Nothing begins later than that."""
SHORTEST_SECONDS = 0.001
"""A region is as long as that at least."""


def _new_region_id() -> str:
    return f"region-{secrets.token_hex(4)}"


@dataclass(frozen=True, slots=True)
class Span:
    """A region in frames of the session.

    Attributes
    ----------
    first, frames : int
        Where it begins, and how long it is.
    offset : int
        The frame of the file that it begins with.
    fade_in, fade_out : int
        How long the fades are.
    """

    first: int
    frames: int
    offset: int
    fade_in: int
    fade_out: int

    @property
    def shift(self) -> int:
        """What makes a frame of the file one of the session."""
        return self.first - self.offset

    @property
    def end(self) -> int:
        """The frame behind its last."""
        return self.first + self.frames


@dataclass(frozen=True, slots=True, kw_only=True)
class Region:
    """A file, or a part of it, on a track.  All times are in seconds.

    Attributes
    ----------
    start : float
        Where it begins in the session.
    begin, end : float, float | None
        The part of the file that is heard: its in and its out, None for the file's end.
    fade_in, fade_out : float
        How long the fades at both ends are.
    """

    audio: Path
    start: float = 0.0
    begin: float = 0.0
    end: float | None = None
    fade_in: float = 0.0
    fade_out: float = 0.0
    id: str = field(default_factory=_new_region_id)

    def span(self, rate: float, length: int) -> Span:
        """Where it lies in frames; length : of the file, in frames at `rate`"""
        offset = min(round(self.begin * rate), length)
        end = length if self.end is None else min(round(self.end * rate), length)
        frames = max(0, end - offset)
        fade_in = min(round(self.fade_in * rate), frames)
        return Span(round(self.start * rate), frames, offset, fade_in, min(round(self.fade_out * rate), frames))


def files_of(regions: Iterable[Region]) -> tuple[Path, ...]:
    """The files of some regions, each once."""
    return tuple(dict.fromkeys(region.audio for region in regions))
