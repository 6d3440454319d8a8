"""Keeps edits from making a session larger than it may be."""

from __future__ import annotations

from yellow_ember.session.values.limits import (
    MAXIMUM_DEPTH,
    MAXIMUM_NAME,
    MAXIMUM_STAGES,
    MAXIMUM_STRIPS,
    depth_of_buses,
)
from yellow_ember.session.values.model import Session


class LimitError(ValueError):
    """An edit that would make the session larger than it may be; the message is for the user."""


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
