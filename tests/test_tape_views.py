"""What the window shows and lets one do of tape, motion and wear: bench, lane, line-up, presets."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import QFileDialog, QInputDialog
from pytestqt.qtbot import QtBot

from conftest import measured, said
from test_value_bar import drag
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.pictures.reels import pack_radii, turned
from yellow_ember.app.state.settings import load_settings, save_settings
from yellow_ember.app.tools.line_up import LineUpTool
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.tools.preset_table import ADDED, FAVOURITE, NAME, TONE
from yellow_ember.app.widgets.step_lane import StepLane
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.parameters import as_pair
from yellow_ember.dsp.stage import Reels
from yellow_ember.dsp.stages import STAGES
from yellow_ember.session.io.presets import own_folder


def added(window: MainWindow, kind: str, strip: str = "rhythm") -> dict[str, Any]:
    """A stage of that kind on a strip, and its bench's controls."""
    window.workspace.selection.select(strip)
    window.path_view.add(kind)
    window.bench.controls.open_all(True)
    return window.bench.bars


def params(window: MainWindow) -> Any:
    workspace = window.workspace
    return workspace.selection.strip.stage(workspace.selection.stage_id).params


# -- bench ----------------------------------------------------------------------------------


def test_left_and_right_are_taken_apart_and_joined(window: MainWindow, qtbot: QtBot) -> None:
    bar = added(window, "tape")["record_db"]
    mark = QPoint(bar.width() - 8, bar.height() // 2)
    qtbot.mouseClick(bar, Qt.MouseButton.LeftButton, pos=mark)
    assert params(window)["record_db"] == (0.0, 0.0)
    upper = QPoint(bar.width() // 2, 6)
    drag(qtbot, bar, upper, upper + QPoint(30, 0))
    left, right = params(window)["record_db"]
    assert left > 1.0
    assert right == 0.0
    qtbot.keyClick(bar, Qt.Key.Key_Right)
    assert params(window)["record_db"][1] > 0.0, "keys move both"
    bar.edit()
    bar.editor.setText("3 | -2")
    qtbot.keyClick(bar.editor, Qt.Key.Key_Return)
    assert params(window)["record_db"] == (3.0, -2.0)
    assert bar.accessibleDescription().startswith("+3.0 | \u22122.0 dB")
    qtbot.mouseClick(bar, Qt.MouseButton.LeftButton, pos=mark)
    assert params(window)["record_db"] == 0.5
    window.workspace.selection.select("rhythm")
    before = window.workspace.selection.strip.chain[0].params["record_db"]
    window.path_view.drive(2.0)
    assert window.workspace.selection.strip.chain[0].params["record_db"] == before + 2.0


def test_what_is_left_to_the_machine_is_shown_as_such(window: MainWindow, qtbot: QtBot) -> None:
    bar = added(window, "tape")["gap_um"]
    assert params(window)["gap_um"] is None
    assert "auto" in bar.toolTip()
    drag(qtbot, bar, QPoint(4, 15), QPoint(60, 15))
    assert params(window)["gap_um"] > 0.5
    qtbot.mouseDClick(bar, Qt.MouseButton.LeftButton, pos=QPoint(60, 15))
    assert params(window)["gap_um"] is None


def test_another_stock_says_what_moved(window: MainWindow) -> None:
    bars = added(window, "tape")
    bars["stock"].ask("beacon", commit=True)
    assert "Lined up for Beacon: bias +3.3 dB" in said(window)
    bars["line_up"].ask("manual", commit=True)
    bars["stock"].ask("harbour", commit=True)
    assert "Not lined up for Harbour" in said(window)
    assert bars["bias_db"].setting == pytest.approx(3.3, abs=0.1)
    window.undo()
    assert bars["bias_db"].setting == 0.0, "the stock and what followed it are one step"


def test_the_picture_reads_wow_and_flutter(window: MainWindow, qtbot: QtBot) -> None:
    bars = added(window, "motion")
    reader = window.bench.picture.speed_reader
    qtbot.waitUntil(lambda: "weighted peak" in reader.text, timeout=40000)
    bars["wow_pct"].ask(0.4, commit=True)
    qtbot.waitUntil(lambda: reader.text.startswith(("reads 0.3", "reads 0.4")), timeout=40000)
    added(window, "tape")
    qtbot.waitUntil(lambda: reader.text == "runs steady", timeout=40000)
    assert not window.bench.picture.grab().isNull()


def test_reels_turn_at_the_tapes_speed_and_trade_their_packs() -> None:
    reels = Reels("any", 0.381, 52e-6, 30.0)
    for at in (0.0, 400.0, 1200.0):
        supply, take_up = pack_radii(reels, at)
        turns = np.subtract(turned(reels, at + 0.01), turned(reels, at)) / 0.01
        assert turns * (supply, take_up) == pytest.approx([0.381, 0.381], rel=1e-3)
        assert math.hypot(supply, take_up) == pytest.approx(math.hypot(*pack_radii(reels, 0.0)), rel=1e-6)


# -- lane -----------------------------------------------------------------------------------


def test_steps_are_drawn_let_go_and_marked_while_playing(window: MainWindow, qtbot: QtBot) -> None:
    bars = added(window, "wear", "harmonium")
    bars["drop_mode"].ask("random", commit=True)
    bars["drop_note"].ask("1/8", commit=True)
    lane = bars["drop_steps"]
    assert isinstance(lane, StepLane)
    window.grab()
    box = lane._lane()
    width = box.width() / 32.0

    def at(step: int, depth: float) -> QPoint:
        return QPoint(round(box.left() + (step + 0.5) * width), round(box.top() + depth * box.height()))

    drag(qtbot, lane, at(2, 0.5), at(4, 0.9))
    drawn = params(window)["drop_steps"]
    assert drawn[2] == pytest.approx(0.5, abs=0.15)
    assert drawn[4] == pytest.approx(0.9, abs=0.05)
    assert window.workspace.sessions.document.undo_label == "Drawn steps"
    bars["drop_seed"].ask(7.0, commit=True)
    assert lane.pattern[4] == drawn[4], "another seed leaves what is drawn"
    lane.setFocus()
    qtbot.keyClick(lane, Qt.Key.Key_Down)
    assert params(window)["drop_steps"][4] == pytest.approx(drawn[4] + 0.05, abs=0.01)
    qtbot.mouseClick(lane, Qt.MouseButton.RightButton, pos=at(4, 0.5))
    assert len(params(window)["drop_steps"]) == 4 or params(window)["drop_steps"][4] is None
    qtbot.keyClick(lane, Qt.Key.Key_Left)
    assert "Step 4 of 32" in lane.accessibleDescription()
    window.workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: lane._playing is not None, timeout=60000)
    eighth = 60.0 / window.workspace.sessions.session.tempo / 2.0
    state = window.workspace.playback.state
    expected = int(state.position / window.workspace.sessions.session.rate // eighth) % 32
    assert abs(lane._playing - expected) <= 1


# -- line-up --------------------------------------------------------------------------------


@pytest.fixture
def line_up(window: MainWindow, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> LineUpTool:
    bars = added(window, "tape")
    for name, value in (("deck", "stoker"), ("channel_spread_pct", 100.0), ("line_up", "manual"), ("stock", "beacon")):
        bars[name].ask(value, commit=True)
    window.bench.line_up.click()
    bench = window.findChild(LineUpTool)
    qtbot.waitUntil(lambda: bench.reading is not None, timeout=60000)
    return bench


def test_lining_up_by_hand(line_up: LineUpTool, window: MainWindow, qtbot: QtBot) -> None:
    first = line_up.reading.vu[0]
    line_up.bars["play_db"].ask(1.5, commit=True)
    qtbot.waitUntil(lambda: line_up.reading.vu[0] == pytest.approx(first + 1.5, abs=0.01), timeout=60000)
    assert params(window)["play_db"] == 1.5
    line_up.bars["tone"].ask("10000", commit=True)
    qtbot.waitUntil(lambda: line_up.reading.hz == 10000.0, timeout=60000)
    assert abs(line_up.reading.phase_deg) > 5.0
    line_up.bars["azimuth_arcmin"].ask(-1.92, commit=True)
    qtbot.waitUntil(lambda: abs(line_up.reading.phase_deg) < 2.0, timeout=60000)
    line_up.bars["source"].ask("oscillator", commit=True)
    line_up.bars["tone"].ask("1000", commit=True)
    qtbot.waitUntil(lambda: line_up.reading.hz == 1000.0 and line_up.reading.third_pct[0] > 0.01, timeout=60000)
    line_up.bars["linked"].ask(False, commit=True)
    assert isinstance(params(window)["bias_db"], tuple)
    line_up.bars["tone"].ask("sweep", commit=True)
    qtbot.waitUntil(lambda: len(line_up._sweep) > 4, timeout=60000)
    assert not line_up.grab().isNull()


def test_it_lines_itself_up_step_by_step(line_up: LineUpTool, window: MainWindow, qtbot: QtBot) -> None:
    before = params(window)
    line_up.run.click()
    assert line_up.run.text() == "Stop"
    qtbot.waitUntil(lambda: line_up.log.count() == 9, timeout=40000)
    assert line_up.log.item(0).text().startswith("Playback level: 1000 Hz from")
    assert line_up.log.item(8).text() == "The machine is lined up."
    line_up.bars["source"].ask("oscillator", commit=True)
    qtbot.waitUntil(lambda: line_up.reading.hz == 1000.0 and np.abs(line_up.reading.vu).max() < 0.15, timeout=60000)
    assert window.workspace.sessions.document.undo_label == "Line-up"
    window.undo()
    assert params(window) == before, "all of it is one step"


def test_alignments_are_kept_and_recalled(line_up: LineUpTool, window: MainWindow,
                                          monkeypatch: pytest.MonkeyPatch) -> None:
    line_up.bars["bias_db"].ask(-1.0, commit=True)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("Night machine", True))
    line_up.keep()
    line_up.bars["bias_db"].ask(2.0, commit=True)
    assert line_up.kept.currentText() == "Night machine"
    line_up.recall()
    assert as_pair(params(window)["bias_db"]) == (-1.0, -1.0)
    line_up.drop()
    assert line_up.kept.count() == 0
    line_up.restoring.click()
    assert line_up.kept.currentText() == "Night machine"
    assert line_up.restoring.isHidden()
    line_up.bars["bias_db"].ask(4.0, commit=True)
    line_up.keep()
    line_up.restoring.click()
    line_up.recall()
    assert as_pair(params(window)["bias_db"]) == (-1.0, -1.0), "what was kept over is back"


def test_the_line_up_bench_closes_with_its_machine(line_up: LineUpTool, window: MainWindow) -> None:
    window.path_view.remove_chosen()
    assert not line_up.isVisible()


# -- presets --------------------------------------------------------------------------------


def browser(window: MainWindow) -> PresetBrowser:
    window.path_view.open_presets()
    return window.findChild(PresetBrowser)


def test_presets_are_heard_matched_and_left_again(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("upright-bass")
    measured(qtbot, window)
    start = workspace.sessions.session
    workspace.playback.toggle_play()
    result = browser(window)
    result.source.setCurrentText("bass")
    assert {preset.source for preset in result.shown} == {"bass"}
    qtbot.keyClick(result.table, Qt.Key.Key_Down)
    qtbot.waitUntil(lambda: result.heard is not None, timeout=40000)
    first = result.heard
    qtbot.keyClick(result.table, Qt.Key.Key_Down)
    qtbot.waitUntil(lambda: result.heard not in (None, first), timeout=40000)
    assert workspace.sessions.document.undo_label is None, "trying is no step"
    measured(qtbot, window)
    measurement = workspace.measurer.latest("upright-bass")
    after = measurement.after.integrated_lufs + workspace.selection.strip.match_db
    assert after == pytest.approx(measurement.before.integrated_lufs, abs=0.1)
    qtbot.keyClick(result, Qt.Key.Key_Escape)
    assert workspace.sessions.session.strip("upright-bass").chain == start.strip("upright-bass").chain
    assert not result.isVisible()


def test_a_tried_preset_is_kept_as_one_step(window: MainWindow, qtbot: QtBot) -> None:
    window.workspace.selection.select("harmonium")
    result = browser(window)
    result.intention.setCurrentText("age")
    result.table.choose(0)
    qtbot.waitUntil(lambda: result.heard is not None, timeout=40000)
    name = result.heard
    result.keep()
    assert window.workspace.sessions.document.undo_label == f"Preset {name}"
    window.undo()
    assert window.workspace.selection.strip.chain == ()


def test_own_presets_in_the_browser(window: MainWindow, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch,
                                    tmp_path: Path) -> None:
    added(window, "tape", "voice")
    result = browser(window)
    result.source.setCurrentText("all")
    result.name.setText("My voice")
    qtbot.keyClick(result.name, Qt.Key.Key_Return)
    result.fill("My voice")
    assert result.chosen is not None
    assert result.chosen.source == "bus"
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("My other voice", True))
    result.rename()
    assert result.chosen.name == "My other voice"
    result.file_under(source="effect", intention="destroy")
    assert (result.chosen.source, result.chosen.intention) == ("effect", "destroy")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "out.json"), ""))
    result.export()
    result.delete()
    assert all(preset.name != "My other voice" for preset in result.shown)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "out.json"), ""))
    result.import_file()
    assert result.chosen.name == "My other voice"
    result.look_for("Keel weight")
    result.table.choose(0)
    with pytest.raises(ValueError, match="Keel weight comes with the program and stays"):
        result.delete()
    for path in own_folder().glob("*.json"):
        path.unlink()


def test_presets_are_searched_sorted_marked_and_found_again(window: MainWindow, qtbot: QtBot) -> None:
    window.workspace.selection.select("harmonium")
    result = browser(window)
    result.look_for("megaphone voice")
    assert [preset.name for preset in result.shown] == ["Through a megaphone"]
    result.search.setText("")
    result.source.setCurrentText("all")
    result.table.sortByColumn(ADDED, Qt.SortOrder.DescendingOrder)
    levels = [preset.figures.added_db for preset in result.shown]
    assert levels == sorted(levels, reverse=True)
    result.table.sortByColumn(TONE, Qt.SortOrder.AscendingOrder)
    tones = [preset.figures.brightness for preset in result.shown]
    assert tones == sorted(tones)
    assert tones[0] < -2.0 < 2.0 < tones[-1] + 1.5
    name = result.shown[5].name
    result.table.choose(5)
    result.mark()
    assert result.chosen.name == name
    assert result.table.rows.text(result.shown[5], FAVOURITE) == "\u2605"
    result.which.setCurrentText("favourites")
    assert [preset.name for preset in result.shown] == [name]
    result.table.choose(0)
    qtbot.waitUntil(lambda: result.heard is not None, timeout=40000)
    result.keep()
    assert window.workspace.settings.heard == (name,)
    window.path_view.open_presets()
    later = window.findChildren(PresetBrowser)[-1]
    later.which.setCurrentText("kept lately")
    assert [preset.name for preset in later.shown] == [name]
    later.close()


def test_one_s_own_words_on_a_preset_are_kept_and_found(window: MainWindow, qtbot: QtBot) -> None:
    window.workspace.selection.select("harmonium")
    result = browser(window)
    assert not result.own_note.isEnabled()
    result.look_for("keel weight")
    result.table.choose(0)
    result.own_note.setText("For the second verse")
    result.own_note.editingFinished.emit()
    assert window.workspace.settings.notes == {"Keel weight": "For the second verse"}
    save_settings(window.workspace.settings)
    assert load_settings().notes == {"Keel weight": "For the second verse"}
    result.search.setText("second verse")
    assert [preset.name for preset in result.shown] == ["Keel weight"]
    tip = result.table.rows.data(result.table.rows.index(0, NAME), Qt.ItemDataRole.ToolTipRole)
    assert "For the second verse" in tip
    result.table.choose(0)
    result.own_note.setText("")
    result.own_note.editingFinished.emit()
    assert window.workspace.settings.notes == {}
    result.go_back()


def test_a_preset_goes_onto_all_chosen_strips(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.choose_only("harmonium")
    workspace.selection.choose_also("plucked-guitar")
    result = browser(window)
    assert result.windowTitle().endswith("and 1 more")
    result.search.setText("two diodes")
    result.table.choose(0)
    qtbot.waitUntil(lambda: result.heard is not None, timeout=40000)
    result.keep()
    assert all(workspace.sessions.session.strip(strip_id).chain for strip_id in ("harmonium", "plucked-guitar"))
    qtbot.waitUntil(lambda: all(workspace.measurer.fresh(strip_id) for strip_id in workspace.selection.chosen),
                    timeout=60000)
    window.undo()
    assert not any(strip.chain for strip in workspace.sessions.session.strips)


@pytest.mark.parametrize("size", [(1280, 800), (1024, 700)])
def test_benches_fit(size: tuple[int, int], window: MainWindow, qtbot: QtBot) -> None:
    window.resize(*size)
    qtbot.waitExposed(window)
    for kind in STAGES:
        bars = added(window, kind.kind)
        window.grab()
        inside = window.rect()
        assert window.size().width() == size[0], kind.kind
        assert window.bench.picture.width() >= 220, kind.kind
        for bar in bars.values():
            assert bar.width() >= 100, kind.kind
            assert bar.mapTo(window, QPoint(bar.width(), 0)).x() <= inside.right(), kind.kind
        window.path_view.remove_chosen()


def test_the_lane_shows_its_pattern_as_it_is(window: MainWindow) -> None:
    bars = added(window, "wear")
    lane = bars["drop_steps"]
    pattern: Samples = np.array(lane.pattern)
    assert pattern.size == 32
    assert not pattern.any()
    bars["drop_mode"].ask("random", commit=True)
    assert np.array(lane.pattern).any()


def test_the_steps_of_a_long_lane_are_wide_enough_for_a_hand(window: MainWindow, qtbot: QtBot) -> None:
    bars = added(window, "wear")
    lane = bars["drop_steps"]
    lane.resize(360, lane.height())
    bars["drop_count"].ask(64.0, commit=True)
    assert len(lane.pattern) == 64
    assert lane.step_width >= 12.0
    assert not lane._thumb().isEmpty()
    box = lane._lane()
    for _ in range(63):
        qtbot.keyClick(lane, Qt.Key.Key_Right)
    assert "Step 64 of 64" in lane.accessibleDescription()
    assert box.left() <= lane._left_of(63) <= box.right() - lane.step_width + 1.0
    end = lane._left_of(63) + 6.0
    assert lane._step_at(QPointF(end, box.center().y())) == 63
    lane.scroll_to(0.0)
    assert lane._step_at(QPointF(box.left() + 13.0, box.center().y())) == 1
    qtbot.mouseClick(lane, Qt.MouseButton.LeftButton, pos=QPoint(round(box.right()) - 2, round(box.bottom()) + 5))
    assert lane._left_of(63) <= box.right()
    assert not lane.grab().isNull()
