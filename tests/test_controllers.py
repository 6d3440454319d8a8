"""MIDI controllers in the window: learnt by moving them, taken from where the value is, told where values are."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from PyQt6.QtWidgets import QMenu
from pytestqt.qtbot import QtBot

from conftest import said
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.controllers import Assignment
from yellow_ember.app.state.lane_writer import Ride
from yellow_ember.app.state.settings import load_settings, save_settings
from yellow_ember.app.tools.controllers_tool import ControllersTool
from yellow_ember.dsp.parameters import Option
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.strip_values import VOLUME

CC = 0xB0


def turn(window: MainWindow, value: int, number: int = 74) -> None:
    window.workspace.controllers.take(bytes((CC, number, value)))


def assign(window: MainWindow, target: str, number: int = 74, **ways: Any) -> None:
    """Learn it, and take it in some way."""
    workspace = window.workspace
    workspace.controllers.learn(target)
    turn(window, 0, number)
    workspace.controllers.keep(replace(Assignment(f"cc 1 {number}", target), **ways))


def settled(qtbot: QtBot) -> None:
    qtbot.wait(750)


def test_a_control_learns_a_controller_by_its_menu(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    window.path_view.add("tape")
    bar, menu = window.bench.bar("record_db"), QMenu()
    bar.menu_opening.emit(menu)
    next(action for action in menu.actions() if action.text() == "Learn a controller").trigger()
    assert "Move a controller: it will move Tape machine: Record level" in said(window)
    turn(window, 3)
    assert workspace.controllers.all == [Assignment("cc 1 74", "stage tape record_db")]
    # It was only learnt by that; nothing moved.
    stage = workspace.selection.strip.chain[0]
    assert stage.params["record_db"] == stage.declaration.parameter("record_db").default_value
    save_settings(workspace.settings)
    assert load_settings().controllers == workspace.settings.controllers


def test_a_controller_of_the_system_moves_what_it_has_learnt(window: MainWindow) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    assign(window, "strip volume_db", jumps=True)
    workspace.midi_devices.moved.emit(bytes((CC, 74, 90)))
    assert workspace.selection.strip.volume_db == pytest.approx(VOLUME.at(90.0 / 127.0))


def test_it_is_picked_up_where_the_value_is(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    assign(window, "strip volume_db")
    steps, before = len(workspace.sessions.document.steps), workspace.selection.strip.volume_db
    place = round(127 * VOLUME.position(before))
    turn(window, 5)
    turn(window, 20)
    assert workspace.selection.strip.volume_db == before
    turn(window, min(place + 10, 127))
    assert workspace.selection.strip.volume_db == pytest.approx(VOLUME.at(min(place + 10, 127) / 127.0))
    turn(window, place - 30)
    assert workspace.selection.strip.volume_db == pytest.approx(VOLUME.at((place - 30) / 127.0))
    settled(qtbot)
    # One step for one turn.
    assert len(workspace.sessions.document.steps) == steps + 1
    # Another strip has another value: it is picked up there again.
    workspace.selection.select("upright-bass")
    other = workspace.selection.strip.volume_db
    turn(window, 3)
    assert workspace.selection.strip.volume_db == other


def test_it_jumps_or_goes_by_turns_where_it_is_told_to(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    assign(window, "strip volume_db", jumps=True)
    turn(window, 64)
    assert workspace.selection.strip.volume_db == pytest.approx(VOLUME.at(64 / 127.0))
    assign(window, "strip pan", number=75, relative=True)
    pan = workspace.selection.strip.pan
    turn(window, 5, 75)
    right = workspace.selection.strip.pan
    assert right > pan
    turn(window, 128 - 10, 75)
    assert workspace.selection.strip.pan < pan
    settled(qtbot)


def test_commands_macros_options_and_switches(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    assign(window, "command Loop")
    was = workspace.sessions.session.loop.on
    turn(window, 127)
    assert workspace.sessions.session.loop.on != was
    turn(window, 0)
    assert workspace.sessions.session.loop.on != was
    # A macro that is not there moves nothing.
    assign(window, "macro 8", number=70, jumps=True)
    session = workspace.sessions.session
    turn(window, 90, 70)
    assert workspace.sessions.session == session
    window.path_view.add("tape")
    assign(window, "stage tape stock", number=71, jumps=True)
    stocks = stage_kind("tape").parameter("stock")
    assert isinstance(stocks, Option)
    turn(window, 127, 71)
    assert workspace.selection.strip.chain[0].params["stock"] == stocks.choices[-1].id
    settled(qtbot)


def test_moves_are_rides_where_riding_is_armed(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    assign(window, "strip volume_db", jumps=True)
    workspace.lane_writer.set_ride(Ride.TOUCH)
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: workspace.playback.state.playing, timeout=30000)
    for value in range(40, 100, 10):
        turn(window, value)
        qtbot.wait(60)
    qtbot.waitUntil(lambda: bool(workspace.selection.strip.lanes), timeout=10000)
    assert workspace.selection.strip.lanes[0].parameter == VOLUME.id


def test_controllers_are_told_where_values_are(window: MainWindow, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
                                               ) -> None:
    workspace, sent = window.workspace, list[bytes]()
    workspace.selection.select("harmonium")
    qtbot.waitUntil(lambda: workspace.playback.engine is not None, timeout=60000)
    monkeypatch.setattr(workspace.playback.engine, "send_midi", sent.extend)
    assign(window, "strip volume_db")
    place = round(127 * VOLUME.position(workspace.selection.strip.volume_db))
    qtbot.waitUntil(lambda: sent[-1:] == [bytes((CC, 74, place))], timeout=5000)
    workspace.sessions.document.commit("Volume", lambda session: edit_strip(
        session, "harmonium", lambda strip: strip.with_(volume_db=VOLUME.at(0.25))))
    qtbot.waitUntil(lambda: sent[-1] == bytes((CC, 74, round(127 * 0.25))), timeout=5000)


def test_the_table_shows_and_changes_assignments(window: MainWindow) -> None:
    workspace = window.workspace
    tool = workspace.tools.open(ControllersTool)
    assert isinstance(tool, ControllersTool)
    tool.targets.setCurrentIndex(tool.targets.findText("Play or stop"))
    tool.learn()
    workspace.controllers.take(bytes((0x91, 60, 100)))
    assert [tool.table.item(0, column).text() for column in (0, 1)] == ["note 2 60", "Play or stop"]
    assign(window, "strip pan")
    box = tool.table.cellWidget(0, 2)
    box.setCurrentIndex(1)
    box.activated.emit(1)
    assert Assignment("cc 1 74", "strip pan", relative=True) in workspace.controllers.all
    tool.table.setCurrentCell(0, 0)
    tool.forget()
    assert [assignment.message for assignment in workspace.controllers.all] == ["note 2 60"]


@pytest.mark.parametrize("message", [b"", b"\xb0", b"\xb0\x4a", b"\xf8", bytes((0xE0, 1, 2)), bytes((0x80, 60, 0))])
def test_what_no_controller_sends_is_nothing(message: bytes, window: MainWindow) -> None:
    assign(window, "strip volume_db", jumps=True)
    session = window.workspace.sessions.session
    window.workspace.controllers.take(message)
    assert window.workspace.sessions.session == session


def test_targets_that_are_unknown_move_nothing(window: MainWindow) -> None:
    workspace = window.workspace
    for number, target in enumerate(("stage none record_db", "stage tape none", "command None", "macro x", "odd", "")):
        workspace.controllers.keep(Assignment(f"cc 1 {number}", target, jumps=True))
        session = workspace.sessions.session
        turn(window, 100, number)
        assert workspace.sessions.session == session
        assert workspace.controllers.words(target) is not None
    workspace.tools.open(ControllersTool)
