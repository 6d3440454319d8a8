"""What is taken hold of in pictures: equaliser points, bands' edges, taming; by mouse and by keys."""

from __future__ import annotations

from typing import Any

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from conftest import measured, said
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.pictures.picture import Picture
from yellow_ember.dsp.stages import stage_kind


def picture_of(window: MainWindow, kind: str) -> Picture:
    window.workspace.selection.select("harmonium")
    window.path_view.add(kind)
    picture = window.bench.picture
    picture.grab()
    picture.setFocus()
    return picture


def params(window: MainWindow) -> dict[str, Any]:
    workspace = window.workspace
    return dict(workspace.selection.strip.stage(workspace.selection.stage_id).params)


def place(picture: Picture, number: int) -> QPoint:
    handle, axes = picture.handles.handles[number], picture.handles.axes
    return QPointF(axes.x(handle.hz), axes.y(handle.level_db)).toPoint()


def drag(qtbot: QtBot, picture: Picture, start: QPoint, by: QPoint) -> None:
    qtbot.mousePress(picture, Qt.MouseButton.LeftButton, pos=start)
    for share in (0.3, 0.7, 1.0):
        qtbot.mouseMove(picture, start + by * share)
        picture.grab()
    qtbot.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=start + by)


def test_an_equaliser_point_is_dragged_as_one_step(window: MainWindow, qtbot: QtBot) -> None:
    picture = picture_of(window, "eq")
    before = params(window)
    drag(qtbot, picture, place(picture, 3), QPoint(30, -40))
    after = params(window)
    assert after["band4_hz"] > before["band4_hz"] * 1.2
    assert after["band4_db"] > 2.0
    assert window.workspace.sessions.document.undo_label == "Band 4"
    assert window.bench.bar("band4_db").setting == after["band4_db"], "the control shows it as well"
    window.undo()
    assert params(window) == before
    picture.grab()
    at = QPointF(place(picture, 3))
    QApplication.sendEvent(picture, QWheelEvent(
        at, picture.mapToGlobal(at), QPoint(), QPoint(0, 240), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False))
    assert params(window)["band4_q"] < before["band4_q"]
    drag(qtbot, picture, place(picture, 3), QPoint(0, -40))
    picture.grab()
    qtbot.mouseDClick(picture, Qt.MouseButton.LeftButton, pos=place(picture, 3))
    assert params(window)["band4_db"] == 0.0


def test_an_equaliser_point_is_moved_by_keys(window: MainWindow, qtbot: QtBot) -> None:
    picture = picture_of(window, "eq")
    hz = params(window)["band2_hz"]
    qtbot.keyClick(picture, Qt.Key.Key_PageUp)
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Up, Qt.Key.Key_Plus):
        qtbot.keyClick(picture, key)
        picture._stale = True
        picture.drawn_at = 0.0
        picture.grab()
    after = params(window)
    assert after["band2_hz"] == pytest.approx(hz * 2.0 ** (1 / 24), abs=0.1)
    assert after["band2_db"] == 1.0
    assert "Band 2" in picture.accessibleDescription()
    qtbot.waitUntil(lambda: window.workspace.sessions.document.undo_label in ("Band 2", "Q"))
    qtbot.keyClick(picture, Qt.Key.Key_Backspace)
    assert params(window)["band2_db"] == 0.0


def test_edges_are_dragged_added_and_removed(window: MainWindow, qtbot: QtBot) -> None:
    picture = picture_of(window, "bands")
    edges = params(window)["edges_hz"]
    drag(qtbot, picture, place(picture, 1), QPoint(25, 0))
    after = params(window)["edges_hz"]
    assert after[1] > 1.2 * edges[1]
    assert (after[0], after[2]) == (edges[0], edges[2])
    picture.grab()
    drag(qtbot, picture, place(picture, 1), QPoint(-900, 0))
    assert params(window)["edges_hz"][1] == pytest.approx(1.25 * edges[0]), "it stops before its neighbour"
    picture.drawn_at = 0.0
    picture.grab()
    axes = picture.handles.axes
    qtbot.mouseDClick(picture, Qt.MouseButton.LeftButton,
                      pos=QPointF(axes.x(1500.0), axes.frame.center().y()).toPoint())
    assert len(params(window)["edges_hz"]) == 4
    assert window.workspace.sessions.document.undo_label == "Add an edge"
    assert not window.bench.bar("band5_drive_db").isHidden()
    picture.drawn_at = 0.0
    picture.grab()
    qtbot.keyClick(picture, Qt.Key.Key_Insert)
    assert "No room for another edge" in said(window)
    qtbot.keyClick(picture, Qt.Key.Key_Delete)
    assert len(params(window)["edges_hz"]) == 3
    now = params(window)["edges_hz"]
    picture.drawn_at = 0.0
    picture.grab()
    picture.handles.chosen = 2
    qtbot.keyClick(picture, Qt.Key.Key_Left)
    assert params(window)["edges_hz"][2] == pytest.approx(now[2] * 2.0 ** (-1 / 24), rel=1e-3)


def test_edges_are_typed(window: MainWindow, qtbot: QtBot) -> None:
    picture_of(window, "bands")
    bar = window.bench.bar("edges_hz")
    qtbot.keyClick(bar, Qt.Key.Key_Return)
    bar.editor.setText("200, 2000")
    qtbot.keyClick(bar.editor, Qt.Key.Key_Return)
    assert params(window)["edges_hz"] == (200.0, 2000.0)
    assert window.bench.controls.groups["Band 4"].isHidden()


def test_groups_that_do_nothing_are_left_out(window: MainWindow) -> None:
    picture_of(window, "bands")
    groups = window.bench.controls.groups
    assert not groups["Band 4"].isHidden()
    assert groups["Band 5"].isHidden()
    assert not window.bench.bar("filter_q").isEnabled()


def test_tame_proposes_bands_from_what_the_drive_added(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("upright-bass")
    window.path_view.add("drive")
    for name, value in (("shape", "hard"), ("drive_db", 30.0)):
        window.bench.bar(name).ask(value, commit=True)
    window.path_view.add("tame")
    measured(qtbot, window)
    window.bench.propose.click()
    qtbot.waitUntil(lambda: "Proposed" in said(window), timeout=40000)
    result = params(window)
    depths = [result[f"band{number}_depth_db"] for number in range(1, 5)]
    assert max(depths) >= 6.0
    rates = [result[f"band{number}_hz"] for number, depth in enumerate(depths, 1) if depth > 0.0]
    assert rates == sorted(rates)
    assert all(1500.0 < hz < 13000.0 for hz in rates)
    assert workspace.sessions.document.undo_label == "Propose bands"
    window.undo()
    assert params(window) == stage_kind("tame").defaults()
    workspace.selection.select("harmonium")
    window.path_view.add("tame")
    measured(qtbot, window)
    window.bench.propose.click()
    qtbot.waitUntil(lambda: "nothing harsh" in said(window), timeout=40000)
