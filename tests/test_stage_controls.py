"""The bench's controls: the front in sight, the groups folded to a line, found by typing."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from conftest import OpenWindow
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.settings import load_settings, save_settings
from yellow_ember.dsp.stages import STAGES, stage_kind
from yellow_ember.shipped import DEMO


def put(window: MainWindow, kind: str) -> None:
    window.workspace.selection.select("rhythm")
    window.path_view.add(kind)


@pytest.fixture
def demo_window(open_window: OpenWindow) -> MainWindow:
    return open_window(DEMO)


def test_every_front_is_in_sight_beside_the_picture(demo_window: MainWindow, qtbot: QtBot) -> None:
    window = demo_window
    window.resize(1280, 800)
    for kind in STAGES:
        assert 3 <= len(kind.front) <= 8, kind.kind
        assert kind.drive is None or kind.drive in kind.front, kind.kind
        put(window, kind.kind)
        qtbot.wait(20)
        controls = window.bench.controls
        view = controls.viewport()
        assert view is not None
        for name in kind.front:
            bar = window.bench.bars[name]
            assert bar.isVisible(), (kind.kind, name)
            assert 0 <= bar.mapTo(view, bar.rect().topLeft()).y() <= view.height() - bar.height(), (kind.kind, name)
        assert window.bench.picture.isVisible()
        assert not any(group.is_open for group in controls.groups.values())
        window.undo()


def test_a_folded_group_says_what_differs(window: MainWindow) -> None:
    put(window, "tape")
    heads = window.bench.controls.groups["Heads"]
    assert heads.heading.differs == ""
    window.bench.bar("gap_um").ask(4.0, commit=True)
    assert heads.is_open
    assert heads.heading.differs == "head gap 4.0 µm"
    window.bench.bar("mix_pct").ask(50.0, commit=True)
    assert window.bench.controls.groups["Output"].heading.differs == "mix 50 %"
    window.undo()
    assert window.bench.controls.groups["Output"].heading.differs == ""


def test_what_is_in_the_front_is_in_no_group(window: MainWindow) -> None:
    for kind in STAGES:
        put(window, kind.kind)
        front = set(window.bench.bars)
        window.bench.controls.open_all(True)
        assert front >= set(kind.front)
        assert set(window.bench.bars) == {*kind.defaults(), "wet_db", "dry_db", "mix_pct", "mono"}
        window.bench.controls.open_all(False)
        window.undo()


def test_open_groups_are_remembered_by_kind(window: MainWindow, qtbot: QtBot) -> None:
    put(window, "tape")
    qtbot.mouseClick(window.bench.controls.groups["Noise"].heading, Qt.MouseButton.LeftButton)
    put(window, "drive")
    assert not any(group.is_open for group in window.bench.controls.groups.values())
    put(window, "tape")
    assert [title for title, group in window.bench.controls.groups.items() if group.is_open] == ["Noise"]
    save_settings(window.workspace.settings)
    assert load_settings().opened["tape"] == "Noise"
    window.bench.all_button.click()
    assert window.bench.controls.all_open
    window.bench.all_button.click()
    assert not any(group.is_open for group in window.bench.controls.groups.values())


def test_the_all_button_shows_whether_all_are_open(window: MainWindow) -> None:
    put(window, "trim")
    for group in window.bench.controls.groups.values():
        assert not window.bench.all_button.isChecked()
        group.open()
    assert window.bench.all_button.isChecked()


def test_a_heading_is_worked_by_keys(window: MainWindow, qtbot: QtBot) -> None:
    put(window, "tape")
    group = window.bench.controls.groups["Heads"]
    qtbot.keyClick(group.heading, Qt.Key.Key_Right)
    assert group.is_open
    assert group.heading.accessibleName() == "Heads, open"
    qtbot.keyClick(group.heading, Qt.Key.Key_Left)
    assert not group.is_open
    qtbot.keyClick(group.heading, Qt.Key.Key_Return)
    assert group.is_open
    window.bench.bar("gap_um").ask(4.0, commit=True)
    window.bench.bar("bias_db").ask(2.0, commit=True)
    assert "head gap 4.0 µm" in group.heading.accessibleDescription()
    qtbot.keyClick(group.heading, Qt.Key.Key_Backspace)
    stage = window.workspace.selection.strip.chain[-1]
    assert (stage.params["gap_um"], stage.params["bias_db"]) == (None, 2.0)
    assert window.workspace.sessions.document.undo_label == "Heads to defaults"


def test_a_control_is_found_by_typing(window: MainWindow, qtbot: QtBot) -> None:
    put(window, "tape")
    controls, line = window.bench.controls, window.bench.find_line
    controls.groups["Noise"].open()
    window.bench.find_control()
    qtbot.keyClicks(line, "head")
    shown = {bar.parameter.label for bar in window.bench.bars.values() if bar.isVisible()}
    assert "Head gap" in shown
    assert "Wow" not in shown
    assert "Stock" not in shown
    qtbot.keyClick(line, Qt.Key.Key_Return)
    focused = window.focusWidget()
    assert focused in window.bench.bars.values()
    assert "head" in focused.accessibleName().lower()
    qtbot.keyClick(line, Qt.Key.Key_Escape)
    assert line.text() == ""
    assert [title for title, group in controls.groups.items() if group.is_open] == ["Noise"]
    assert window.bench.bars["stock"].isVisible()
    qtbot.keyClicks(line, "zzz")
    assert not any(bar.isVisible() for bar in window.bench.bars.values())
    put(window, "drive")
    assert line.text() == ""
    assert window.bench.bars["drive_db"].isVisible()


def test_a_bench_makes_no_more_than_it_shows(window: MainWindow) -> None:
    """Selecting a stage is quick because folded controls are not made."""
    put(window, "tape")
    assert set(window.bench.bars) == set(stage_kind("tape").front)
