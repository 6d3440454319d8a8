"""Edits of what tracks listen to, and of where they go outside the session."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.edits.strip_edits import insert_track
from yellow_ember.session.values.live_input import LiveInput
from yellow_ember.session.values.model import Session, StripKind


def listen(session: Session, strip_id: str, live: LiveInput | None) -> Session:
    """Have a track listen to an input, None for its files.  ValueError for buses."""
    if live is not None and session.strip(strip_id).kind is not StripKind.TRACK:
        raise ValueError(f"{session.strip(strip_id).name} is no track: only tracks listen to inputs")
    return edit_strip(session, strip_id, lambda strip: strip.with_(live=live))


def set_input_value(session: Session, strip_id: str, name: str, value: float | bool) -> Session:
    """Set one of INPUT_VALUES of a track that listens."""
    live = session.strip(strip_id).live
    if live is None:
        raise ValueError(f"{session.strip(strip_id).name} listens to no input")
    changes: dict[str, Any] = {name: value}
    return listen(session, strip_id, replace(live, **changes))


def insert_input_track(session: Session, strip_id: str, live: LiveInput) -> tuple[Session, str]:
    """An empty track that listens, behind a strip or in a bus; the session with it, and its id."""
    session, added = insert_track(session, strip_id, live.words.capitalize())
    return listen(session, added, live), added


def use_own_ports(session: Session, strip_id: str, *, on: bool) -> Session:
    """Let a strip leave by ports of its own instead of the bus that it feeds, or by that again."""
    if session.strip(strip_id).kind is StripKind.MASTER:
        raise ValueError("the master has ports anyway")
    return edit_strip(session, strip_id, lambda strip: strip.with_(own_ports=on))
