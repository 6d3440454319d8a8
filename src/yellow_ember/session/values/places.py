"""Named places of a session: markers, and passages with their fades."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, field

from yellow_ember.session.values.regions import LAST_SECOND

MAXIMUM_PLACES = 1000
"""Markers, or passages, in one session."""
SHORTEST_PASSAGE = 0.01
"""In seconds."""
USUAL_FADE = 0.02
"""What a passage's fades are when it is made, in seconds."""
LONGEST_FADE = 60.0


def _new_passage_id() -> str:
    return f"passage-{secrets.token_hex(4)}"


@dataclass(frozen=True, slots=True, order=True)
class Marker:
    """A named place; at : seconds from the session's start."""

    at: float
    name: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Passage:
    """A named stretch.  All times are in seconds.

    Attributes
    ----------
    start, end : float
        Where it begins and ends.
    fade_in, fade_out : float
        How long what acts in it alone takes to come in, behind its start, and to go out, behind its end.
    """

    name: str
    start: float
    end: float
    fade_in: float = USUAL_FADE
    fade_out: float = USUAL_FADE
    id: str = field(default_factory=_new_passage_id)


def fitting(passage: Passage) -> Passage:
    """The passage with its ends in order and within what a session can hold, and its fades no longer than it is."""
    start = min(max(min(passage.start, passage.end), 0.0), LAST_SECOND - SHORTEST_PASSAGE)
    end = min(max(passage.start, passage.end, start + SHORTEST_PASSAGE), LAST_SECOND)
    longest = min(end - start, LONGEST_FADE)
    return Passage(id=passage.id, name=passage.name, start=start, end=end,
                   fade_in=min(max(passage.fade_in, 0.0), longest), fade_out=min(max(passage.fade_out, 0.0), longest))
