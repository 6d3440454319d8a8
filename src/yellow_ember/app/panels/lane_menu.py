"""Lanes at controls: what their menus offer, and what their bars show."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QMenu

from yellow_ember.app.state.lane_writer import Control, LaneWriter
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets.text import menu_text
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Switch, Value
from yellow_ember.session.edits.lane_edits import (
    acting_lane,
    begin_lane,
    everywhere,
    from_here_on,
    not_in,
    only_in,
    remove_lane,
)
from yellow_ember.session.values.drawn import drawable, find_lane
from yellow_ember.session.values.model import Session, Strip
from yellow_ember.session.values.places import USUAL_FADE, Passage


def follow_lane(bar: ValueBar, writer: LaneWriter, control: Control, otherwise: Value) -> None:
    """Let a bar show what its control's lane says now, or another value where it has none."""
    value = writer.drawn_value(control)
    bar.show_drawn(value is not None)
    if value is None:
        bar.show_value(otherwise)
    elif not bar.under_hand:
        bar.show_value(value >= 0.5 if isinstance(bar.parameter, Switch) else value)


def add_lane_menu(menu: QMenu, sessions: SessionKeeper, control: Control) -> None:
    """Offer a lane for a control that can have one, or to take it away."""
    strip_id, stage_id, name = control
    strip = sessions.session.strip(strip_id)
    parameter = drawable(strip, stage_id, name)
    if parameter is None:
        return
    label = parameter.label
    if find_lane(strip, stage_id, name) is None:
        menu.addAction("Draw over time", lambda: sessions.document.commit(
            f"Lane of {label}", lambda session: begin_lane(session, strip_id, stage_id, name)))
    else:
        menu.addAction("Remove its lane", lambda: sessions.document.commit(
            f"Remove the lane of {label}", lambda session: remove_lane(session, strip_id, stage_id, name)))


def add_acting_menu(menu: QMenu, sessions: SessionKeeper, strip_id: str, stage_id: str, name: str,
                    seconds: Callable[[], float]) -> None:
    """Offer where in the session a stage, or a strip's whole path, is to act.

    Parameters
    ----------
    stage_id : str
        "" for the whole path.
    name : str
        What the history calls it.
    seconds : Callable[[], float]
        Where playing is.
    """
    commit = sessions.document.commit

    def add(words: str, edit: Callable[[Session, str, str, Passage], Session]) -> None:
        inner = menu.addMenu(words)
        assert inner is not None
        for passage in sessions.session.passages:
            inner.addAction(menu_text(passage.name), lambda chosen=passage: commit(
                f"{name}: {words.lower()} {chosen.name}", lambda session: edit(session, strip_id, stage_id, chosen)))
        inner.setEnabled(bool(sessions.session.passages))

    menu.addSeparator()
    add("Only in", only_in)
    add("Not in", not_in)
    menu.addAction("From here on", lambda: commit(f"{name}: from here on", lambda session: from_here_on(
        session, strip_id, stage_id, seconds(), USUAL_FADE)))
    if acting_lane(sessions.session.strip(strip_id), stage_id) is not None:
        menu.addAction("Everywhere", lambda: commit(
            f"{name}: everywhere", lambda session: everywhere(session, strip_id, stage_id)))


def acting_words(session: Session, strip: Strip, stage_id: str) -> str:
    """Where a stage, or a strip's path, acts, in words; "" where that is everywhere."""
    lane = acting_lane(strip, stage_id)
    if lane is None or not lane.on:
        return ""
    for passage in session.passages:
        for words, edit in (("only in", only_in), ("not in", not_in)):
            if acting_lane(edit(session, strip.id, stage_id, passage).strip(strip.id), stage_id) == lane:
                return f"{words} {passage.name}"
    return "on and off by its lane"
