"""How large a session can get, checked when a file is read and when it is edited."""

from __future__ import annotations

from collections.abc import Sized
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from yellow_ember.session.model import Session

MAXIMUM_STRIPS = 128
"""With the master."""
MAXIMUM_STAGES = 16
"""In a strip's path."""
MAXIMUM_DEPTH = 16
"""Buses that feed each other, one into the next."""
MAXIMUM_NAME = 200
"""Characters of a name."""
MAXIMUM_NOTE = 5000
"""Characters of a note."""


class LimitError(ValueError):
    """An edit that would make the session larger than it may be; the message is for the user."""


def check_count(things: Sized, maximum: int, place: str, what: str) -> None:
    """ValueError where a file brings more of something than a session can hold."""
    if len(things) > maximum:
        raise ValueError(f"{place}: {len(things)} {what}; there can be at most {maximum}")


def check_limits(session: Session) -> None:
    """LimitError where a session is larger than it may be."""
    if len(session.strips) > MAXIMUM_STRIPS:
        raise LimitError(f"A session holds at most {MAXIMUM_STRIPS - 1} tracks and buses beside the master. "
                         "Print some of them to one file, or use two sessions")
    for strip in session.strips:
        if len(strip.chain) > MAXIMUM_STAGES:
            raise LimitError(f"{strip.name} would have {len(strip.chain)} stages; a strip holds at most "
                             f"{MAXIMUM_STAGES}. Feed a bus for more")
        if len(strip.name) > MAXIMUM_NAME:
            raise LimitError(f"A name can have at most {MAXIMUM_NAME} characters, not {len(strip.name)}")
    depth = depth_of_buses({strip.id: strip.feeds for strip in session.strips})
    if depth > MAXIMUM_DEPTH:
        raise LimitError(f"{depth} buses would feed each other; there can be at most {MAXIMUM_DEPTH} in a row")


def depth_of_buses(feeds: dict[str, tuple[str, ...]]) -> int:
    """The longest way through strips that feed each other, in strips; the routing must not go in circles."""
    left = {strip_id: sum(strip_id in others for others in feeds.values()) for strip_id in feeds}
    depth = dict.fromkeys(feeds, 1)
    ready = [strip_id for strip_id, count in left.items() if count == 0]
    while ready:
        strip_id = ready.pop()
        for to in feeds[strip_id]:
            depth[to] = max(depth[to], depth[strip_id] + 1)
            left[to] -= 1
            if left[to] == 0:
                ready.append(to)
    return max(depth.values(), default=0)
