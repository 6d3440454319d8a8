"""The desk with many strips: low rows, folded buses, a search, and strips that are dragged to other places."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QMenu
from pytestqt.qtbot import QtBot

from conftest import OpenWindow
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.panels.strip_row import COMPACT_ROW, ROW, STRIP_MIME, StripRow
from yellow_ember.app.state.settings import load_settings, save_settings
from yellow_ember.app.widgets import theme
from yellow_ember.session.edits.edits import add_bus
from yellow_ember.session.io.session_file import read_session, write_session
from yellow_ember.session.values.model import MASTER
from yellow_ember.shipped import DEMO


@pytest.fixture
def demo_window(open_window: OpenWindow) -> MainWindow:
    return open_window(DEMO)


def shown(window: MainWindow) -> list[str]:
    return [strip_id for strip_id, row in window.desk.rows.items() if not row.isHidden()]


def drop_strip(window: MainWindow, strip_id: str, on: str, share: float) -> None:
    mime = QMimeData()
    mime.setData(STRIP_MIME, strip_id.encode())
    row = window.desk.rows[on]
    row.dropEvent(QDropEvent(QPointF(60.0, share * row.height()), Qt.DropAction.MoveAction, mime,
                             Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier))


def test_rows_are_low_in_the_compact_desk(demo_window: MainWindow) -> None:
    assert {row.height() for row in demo_window.desk.rows.values()} == {ROW}
    demo_window.workspace.commands.find("Compact desk").action.trigger()
    assert {row.height() for row in demo_window.desk.rows.values()} == {COMPACT_ROW} == {28}
    for row in demo_window.desk.rows.values():
        assert not row.grab().isNull()
        assert row.glyph_box().right() <= row.figure_box().left() <= row.button_box(0).left()
    demo_window.workspace.commands.find("Compact desk").action.trigger()
    assert {row.height() for row in demo_window.desk.rows.values()} == {ROW}


def test_a_bus_folds_and_is_remembered(demo_window: MainWindow, open_window: OpenWindow, qtbot: QtBot) -> None:
    desk = demo_window.desk
    qtbot.mouseClick(desk.rows["band"], Qt.MouseButton.LeftButton, pos=desk.rows["band"].fold_box().center().toPoint())
    assert "harmonium" not in shown(demo_window)
    assert "plucked-guitar" not in shown(demo_window)
    assert "upright-bass" in shown(demo_window)
    save_settings(demo_window.workspace.settings)
    again = open_window(DEMO, settings=load_settings())
    assert "harmonium" not in shown(again)
    qtbot.keyClick(again.desk.rows["band"], Qt.Key.Key_Right)
    assert "harmonium" in shown(again)
    qtbot.keyClick(again.desk.rows["band"], Qt.Key.Key_Left)
    assert "harmonium" not in shown(again)


def test_what_is_chosen_elsewhere_comes_into_sight(demo_window: MainWindow) -> None:
    demo_window.desk.fold("band", fold=True)
    demo_window.workspace.selection.choose_only("harmonium")
    assert "harmonium" in shown(demo_window)


def test_a_bus_in_a_folded_bus_is_folded_too(demo_window: MainWindow) -> None:
    document = demo_window.workspace.sessions.document
    document.commit("Bus", lambda session: add_bus(session, "Inner", "band"))
    inner = next(strip.id for strip in document.session.strips if strip.name == "Inner")
    drop_strip(demo_window, "harmonium", inner, 0.5)
    assert document.session.strip("harmonium").out == inner
    demo_window.desk.fold("band", fold=True)
    assert inner not in shown(demo_window)
    assert "harmonium" not in shown(demo_window)


def test_strips_are_found_by_typing(demo_window: MainWindow) -> None:
    desk = demo_window.desk
    assert desk.search.isHidden(), "a few strips are seen at a glance"
    document = demo_window.workspace.sessions.document
    for number in range(12):
        document.commit("Bus", lambda session, number=number: add_bus(session, f"Spare {number}"))  # type: ignore[misc]
    assert not desk.search.isHidden()
    desk.fold("band", fold=True)
    desk.search.setText("harm")
    assert shown(demo_window) == ["harmonium"], "a search looks into folded buses"
    desk.search.clear()
    assert "harmonium" not in shown(demo_window)
    assert MASTER in shown(demo_window)


def test_strips_are_dragged_to_another_place_and_bus(demo_window: MainWindow) -> None:
    document = demo_window.workspace.sessions.document
    drop_strip(demo_window, "upright-bass", "brushed-drums", 0.1)
    assert [strip.id for strip in document.session.feeding("rhythm")] == ["upright-bass", "brushed-drums"]
    drop_strip(demo_window, "upright-bass", "harmonium", 0.9)
    assert [strip.id for strip in document.session.feeding("band")][:2] == ["harmonium", "upright-bass"]
    drop_strip(demo_window, "upright-bass", "voice", 0.5)
    assert document.session.strip("upright-bass").out == "voice"
    drop_strip(demo_window, "upright-bass", MASTER, 0.9)
    assert document.session.strip("upright-bass").out == MASTER
    before = document.session
    drop_strip(demo_window, "rhythm", "brushed-drums", 0.1)
    assert document.session == before
    assert "circle" in demo_window.workspace.messages.all[-1].text
    demo_window.undo()
    assert document.session.strip("upright-bass").out == "voice"


def test_all_strips_or_those_of_a_bus_are_chosen_together(demo_window: MainWindow) -> None:
    selection = demo_window.workspace.selection
    demo_window.workspace.commands.find("Choose all strips").action.trigger()
    assert len(selection.chosen) == len(demo_window.workspace.sessions.session.strips) - 1
    selection.choose_only("band")
    demo_window.desk.rows["band"]._choose_feeding()
    assert set(selection.chosen) == {"harmonium", "plucked-guitar"}


def test_strips_have_colours_of_their_own(demo_window: MainWindow, tmp_path: Path) -> None:
    workspace = demo_window.workspace
    workspace.selection.choose_only("upright-bass")
    workspace.selection.choose_also("harmonium")
    row = demo_window.desk.rows["harmonium"]
    colours = submenu(row.menu(), "Colour")
    next(action for action in colours.actions() if action.text() == "Moss").trigger()
    tint = dict(theme.TINTS)["Moss"]
    session = workspace.sessions.session
    assert [strip.id for strip in session.strips if strip.tint == tint] == ["upright-bass", "harmonium"]
    assert tint in colours_of(row)
    write_session(session, tmp_path / "tinted.ember")
    assert read_session(tmp_path / "tinted.ember").strip("harmonium").tint == tint
    workspace.sessions.document.undo()
    assert not any(strip.tint for strip in workspace.sessions.session.strips)
    assert tint not in colours_of(row)


def submenu(menu: QMenu, text: str) -> QMenu:
    return next(found for action in menu.actions() if action.text() == text and (found := action.menu()))


def colours_of(row: StripRow) -> set[str]:
    image = row.grab().toImage()
    return {image.pixelColor(6, y).name() for y in range(image.height())}
