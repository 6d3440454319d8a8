"""What menus, keys and the palette do with the chosen strips; each is one step of the history."""

from __future__ import annotations

from collections.abc import Callable

from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.session.edits.live_edits import insert_input_track
from yellow_ember.session.edits.strip_edits import (
    bus_for,
    clear_paths,
    duplicate_strip,
    insert_track,
    reset_strips,
    tint_strips,
)
from yellow_ember.session.values.live_input import LiveInput
from yellow_ember.session.values.model import Session


def new_bus(sessions: SessionKeeper, selection: Selection, messages: Messages) -> None:
    """Make a bus that the chosen strips feed, and choose it."""
    _make(sessions, selection, messages, "New bus", lambda session: bus_for(session, selection.chosen, "New bus"))


def new_track(sessions: SessionKeeper, selection: Selection, messages: Messages) -> None:
    """Put an empty track behind the chosen one, or into the chosen bus, and choose it."""
    _make(sessions, selection, messages, "New track",
          lambda session: insert_track(session, selection.strip_id, "Track"))


def new_input_track(sessions: SessionKeeper, selection: Selection, messages: Messages) -> None:
    """Put a track that listens to the card behind the chosen one, or into the chosen bus, and choose it."""
    _make(sessions, selection, messages, "New input track",
          lambda session: insert_input_track(session, selection.strip_id, LiveInput()))


def duplicate(sessions: SessionKeeper, selection: Selection, messages: Messages) -> None:
    """Make a copy of the chosen strip behind it, and choose it."""
    _make(sessions, selection, messages, f"Duplicate {selection.strip.name}",
          lambda session: duplicate_strip(session, selection.strip_id))


def clear_path(sessions: SessionKeeper, selection: Selection) -> None:
    """Take all stages and macros out of the chosen strips."""
    chosen = selection.chosen
    sessions.document.commit(f"Clear the path of {_name(selection)}", lambda session: clear_paths(session, chosen))


def reset(sessions: SessionKeeper, selection: Selection) -> None:
    """Make the chosen strips as new ones are: their sound and their bus stay."""
    chosen = selection.chosen
    sessions.document.commit(f"Reset {_name(selection)}", lambda session: reset_strips(session, chosen))


def tint(sessions: SessionKeeper, selection: Selection, colour: str) -> None:
    """Give the chosen strips a colour on screen, or none."""
    chosen = selection.chosen
    sessions.document.commit(f"Colour {_name(selection)}", lambda session: tint_strips(session, chosen, colour))


def _make(sessions: SessionKeeper, selection: Selection, messages: Messages, label: str,
          make: Callable[[Session], tuple[Session, str]]) -> None:
    """Commit an edit that makes a strip, and choose that strip; say why where it can't be."""
    made: list[str] = []

    def edit(session: Session) -> Session:
        session, strip_id = make(session)
        made.append(strip_id)
        return session

    try:
        sessions.document.commit(label, edit)
    except ValueError as reason:
        messages.warn(str(reason))
    else:
        selection.choose_only(made[-1])


def _name(selection: Selection) -> str:
    count = len(selection.chosen)
    return selection.strip.name if count == 1 else f"{count} strips"
