"""Sends: where they may go, what they carry, and how solo treats them; in the engine and in the window."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtWidgets import QMenu

from yellow_ember.app.main_window import MainWindow
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.files.conformed import conform
from yellow_ember.session.edits.edits import (
    add_bus,
    add_stage,
    edit_strip,
    remove_send,
    remove_strip,
    replace_stage,
    route,
    set_send,
)
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.session_file import read_session, session_to_object, write_session
from yellow_ember.session.values.model import MASTER, Send, Session, new_stage, session_from_audio

RATE = 48000


@pytest.fixture
def session(make_audio: Callable[..., Path]) -> Session:
    """Two mono tracks and a bus for an effect, to which the first sends."""
    paths = [make_audio("a.wav"), make_audio("b.wav")]
    for path in paths:
        conform(path, RATE)
    made = session_from_audio(paths, RATE).with_(ceiling_dbfs=0.0)
    first, second = (strip.with_(id=name, volume_db=-6.0) for name, strip in zip("ab", made.strips, strict=False))
    made = made.with_(strips=(first, second, made.master))
    made = add_bus(made, "Effect")
    bus = next(strip for strip in made.strips if strip.name == "Effect")
    made = made.with_(strips=tuple(strip.with_(id="effect") if strip is bus else strip for strip in made.strips))
    return set_send(made, "a", Send(to="effect", level_db=-6.0))


def run(session: Session, frames: int = 24000, oversample: int = 4) -> Samples:
    """What comes out of the master, its latency taken off."""
    graph = Graph(session, GraphSettings(oversample, 512))
    total = frames + graph.latency
    out = np.zeros((2, total))
    for at in range(0, total, 512):
        count = min(512, total - at)
        out[:, at:at + count] = graph.process([(at, count)], count)
    return out[:, graph.latency:]


def alone(session: Session, strip_id: str, **changes: Any) -> Session:
    return edit_strip(session, strip_id, lambda strip: strip.with_(**changes))


def test_a_send_adds_what_stands_behind_the_fader(session: Session) -> None:
    dry = run(alone(remove_send(session, "a", "effect"), "b", mute=True))
    both = run(alone(session, "b", mute=True))
    np.testing.assert_allclose(both, dry * (1.0 + 10.0 ** (-6.0 / 20.0)), atol=1e-9)
    lower = run(alone(alone(session, "b", mute=True), "a", volume_db=-80.0))
    assert np.abs(lower).max() == 0.0, "behind the fader: nothing is left"


def test_before_the_fader_the_fader_does_not_matter(session: Session) -> None:
    session = alone(set_send(session, "a", Send(to="effect", level_db=0.0, pre=True)), "b", mute=True)
    whole = run(alone(remove_send(session, "a", "effect"), "a", volume_db=0.0))
    for volume in (-80.0, -20.0):
        apart = run(alone(remove_send(session, "a", "effect"), "a", volume_db=volume))
        np.testing.assert_allclose(run(alone(session, "a", volume_db=volume)) - apart, whole, atol=1e-9)
    assert np.abs(run(alone(session, "a", mute=True))).max() == 0.0


def test_what_is_sent_arrives_in_step(session: Session) -> None:
    stage = new_stage("drive")
    rest = replace_stage(stage, params=stage_kind("drive").complete(stage_kind("drive").rest or {}))
    delay = add_stage(alone(session, "b", mute=True), "effect", rest)
    dry = run(alone(remove_send(session, "a", "effect"), "b", mute=True))
    # Noise has highs that the half-band filters take: what is compared lies below them.
    difference = np.fft.rfft(run(delay)[0] - dry[0] * (1.0 + 10.0 ** (-6.0 / 20.0)))[:8000]
    assert np.abs(difference).max() < 1e-3 * np.abs(np.fft.rfft(dry[0])[:8000]).max()


def test_solo_of_an_effect_lets_just_what_it_gets_through(session: Session) -> None:
    effect = run(alone(session, "effect", solo=True))
    dry = run(alone(remove_send(session, "a", "effect"), "b", mute=True))
    np.testing.assert_allclose(effect, dry * 10.0 ** (-6.0 / 20.0), atol=1e-9)
    track = run(alone(session, "a", solo=True))
    np.testing.assert_allclose(track, run(alone(session, "b", mute=True)), atol=1e-9)


def test_ways_that_are_refused(session: Session) -> None:
    with pytest.raises(ValueError, match="go round in a circle"):
        set_send(session, "effect", Send(to="effect"))
    with pytest.raises(ValueError, match="can't be fed"):
        set_send(session, "a", Send(to="b"))
    other = add_bus(session, "Other")
    other_id = next(strip.id for strip in other.strips if strip.name == "Other")
    other = set_send(other, "effect", Send(to=other_id))
    with pytest.raises(ValueError, match="go round in a circle"):
        route(other, other_id, "effect")
    with pytest.raises(ValueError, match="go round in a circle"):
        set_send(other, other_id, Send(to="effect"))
    order = [strip.id for strip in other.processing_order()]
    assert order.index("a") < order.index("effect") < order.index(other_id) < order.index(MASTER)
    assert other.upstream(other_id) == {other_id, "effect", "a"}
    assert remove_strip(other, "effect").strip("a").sends == ()


def test_sessions_hold_sends(session: Session, tmp_path: Path) -> None:
    session = set_send(alone(session, "b", bypass=True), "a", Send(to="effect", level_db=-3.0, pre=True))
    write_session(session, tmp_path / "a.ember")
    assert read_session(tmp_path / "a.ember") == session
    result = session_to_object(session, tmp_path)
    result["version"] = 2
    for strip in result["strips"]:
        del strip["sends"], strip["bypass"]
    del result["links"]
    (tmp_path / "old.ember").write_text(json.dumps(result))
    assert read_session(tmp_path / "old.ember").strip("a").sends == ()


@pytest.mark.parametrize(("sends", "words"), [
    ([{"to": "b"}], r"strips\[0\]\.sends\[0\]\.to: 'b' is no bus"),
    ([{"to": "effect"}, {"to": "effect"}], r"strips\[0\]\.sends: two sends go to one bus"),
    ([{"to": "effect", "level_db": 40}], r"strips\[0\]\.sends\[0\]\.level_db: must lie between"),
])
def test_odd_sends_are_named(sends: list[Any], words: str, session: Session, tmp_path: Path) -> None:
    result = session_to_object(session, tmp_path)
    result["strips"][0]["sends"] = sends
    (tmp_path / "a.ember").write_text(json.dumps(result))
    with pytest.raises(SessionFileError, match=words):
        read_session(tmp_path / "a.ember")


def test_a_circle_through_a_send_is_named(session: Session, tmp_path: Path) -> None:
    session = add_bus(session, "Other", "effect")
    result = session_to_object(session, tmp_path)
    index = next(at for at, strip in enumerate(result["strips"]) if strip["id"] == "effect")
    result["strips"][index]["sends"] = [{"to": next(s["id"] for s in result["strips"] if s["name"] == "Other")}]
    (tmp_path / "a.ember").write_text(json.dumps(result))
    with pytest.raises(SessionFileError, match="the routing goes round in a circle"):
        read_session(tmp_path / "a.ember")


def test_bypass_lets_the_input_through_in_step(session: Session) -> None:
    dry = run(alone(remove_send(session, "a", "effect"), "b", mute=True))
    driven = add_stage(alone(remove_send(session, "a", "effect"), "b", mute=True), "a", new_stage("drive"))
    assert np.abs(run(driven) - dry).max() > 0.01
    np.testing.assert_allclose(run(alone(driven, "a", bypass=True, match_db=-9.0)), dry, atol=1e-9)


# -- in the window ----------------------------------------------------------------------------


def test_sends_are_added_moved_and_taken_away(window: MainWindow) -> None:
    workspace = window.workspace
    workspace.selection.select("plucked-guitar")
    row = window.desk.rows["plucked-guitar"]
    pick(row.menu(), "Add bus")
    bus = next(strip.id for strip in workspace.sessions.session.strips if strip.name == "Bus")
    pick(window.desk.sends.menu(), "Bus")
    assert workspace.sessions.document.undo_label == "Send to Bus"
    bar = window.desk.sends.bars[bus]
    bar.ask(-3.0, commit=True)
    assert workspace.selection.strip.sends == (Send(to=bus, level_db=-3.0),)
    menu = QMenu()
    bar.menu_opening.emit(menu)
    pick(menu, "Pre-fader")
    assert workspace.selection.strip.sends[0].pre
    menu = QMenu()
    window.desk.sends.bars[bus].menu_opening.emit(menu)
    pick(menu, "Remove the send")
    assert workspace.selection.strip.sends == ()
    assert bus not in window.desk.sends.bars
    window.undo()
    assert workspace.selection.strip.sends != ()
    assert "sends to Bus" in window.desk.rows["plucked-guitar"].accessibleDescription()


def pick(menu: QMenu, text: str) -> None:
    next(action for action in menu.actions() if action.text() == text).trigger()
