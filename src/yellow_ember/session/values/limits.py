"""How large a session can get."""

from __future__ import annotations

from collections.abc import Sized

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


def check_count(things: Sized, maximum: int, index: str, what: str) -> None:
    """ValueError where a file brings more of something than a session can hold."""
    if len(things) > maximum:
        raise ValueError(f"{index}: {len(things)} {what}; there can be at most {maximum}")


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
