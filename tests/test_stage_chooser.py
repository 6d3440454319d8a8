"""The chooser behind the plus: found by typing, heard on arrow keys, kept with Enter."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.stage_chooser import StageChooser
from yellow_ember.dsp.glyphs import arc, box, line, wave
from yellow_ember.dsp.stages import FAMILIES, STAGES


@pytest.fixture
def chooser(window: MainWindow) -> StageChooser:
    window.workspace.selection.select("upright-bass")
    window.path_view.open_chooser()
    tool = window.work_area.current
    assert isinstance(tool, StageChooser)
    return tool


def kinds(window: MainWindow) -> list[str]:
    return [stage.kind for stage in window.workspace.selection.strip.chain]


def test_every_stage_is_in_one_family_and_has_a_glyph_of_its_own() -> None:
    assert [kind for family in FAMILIES.values() for kind in family] == list(STAGES)
    assert len({kind.glyph for kind in STAGES}) == len(STAGES)
    for kind in STAGES:
        assert kind.glyph
        for stroke in kind.glyph:
            assert len(stroke) > 1
            assert all(0.0 <= x <= 1.0 and 0.0 <= y <= 1.0 for x, y in stroke), kind.kind


def test_strokes() -> None:
    assert arc(0.5, 0.5, 0.5)[0] == pytest.approx((1.0, 0.5))
    assert arc(0.5, 0.5, 0.5, 0.0, 90.0)[-1] == pytest.approx((0.5, 1.0))
    assert wave(0.0, 1.0, 0.5, 0.5, 1.0, 5)[1] == pytest.approx((0.25, 0.0)), "it begins upwards"
    assert box(0.0, 0.0, 1.0, 1.0)[0] == box(0.0, 0.0, 1.0, 1.0)[-1]
    assert line((0.0, 0.0), (1.0, 1.0)) == ((0.0, 0.0), (1.0, 1.0))


def test_kinds_are_grouped_and_chains_stand_beside_them(chooser: StageChooser) -> None:
    headings = [entry.label for entry in chooser.stages.entries if not entry.key]
    assert headings == list(FAMILIES)
    assert [entry.key for entry in chooser.stages.entries if entry.key] == [kind.kind for kind in STAGES]
    assert all(entry.words for entry in chooser.stages.entries if entry.key), "each says what it does"
    presets = [entry.preset for entry in chooser.chains.entries if entry.preset is not None]
    assert presets
    assert {preset.source for preset in presets} == {"bass"}
    assert all(len(preset.stages) > 1 for preset in presets)


def test_neighbours_that_suit_come_first(window: MainWindow) -> None:
    window.workspace.selection.select("upright-bass")
    window.path_view.add("amp")
    chooser = window.workspace.tools.open(StageChooser)
    entries = chooser.stages.entries
    assert entries[0].label == "Suits behind Amp"
    assert [entry.key for entry in entries[1:3]] == ["cabinet", "eq"]


def test_typing_finds_and_arrows_hear(window: MainWindow, chooser: StageChooser, qtbot: QtBot) -> None:
    assert chooser.search.hasFocus() or chooser.focusProxy() is None
    qtbot.keyClicks(chooser.search, "speaker")
    assert "cabinet" in [entry.key for entry in chooser.stages.entries]
    assert "comp" not in [entry.key for entry in chooser.stages.entries]
    chooser.search.clear()
    qtbot.keyClicks(chooser.search, "saturation")
    before = window.workspace.sessions.document.committed
    qtbot.keyClick(chooser.search, Qt.Key.Key_Down)
    qtbot.waitUntil(lambda: chooser.heard == "drive", timeout=60000)
    assert kinds(window) == ["drive"]
    assert window.workspace.sessions.document.committed is before, "trying is no step"
    qtbot.keyClick(chooser.search, Qt.Key.Key_Down)
    qtbot.waitUntil(lambda: chooser.heard == "bands", timeout=60000)
    assert kinds(window) == ["bands"]
    qtbot.keyClick(chooser.search, Qt.Key.Key_Return)
    assert kinds(window) == ["bands"]
    assert window.workspace.sessions.document.undo_label == "Add Band saturation"
    assert window.workspace.selection.stage_id == window.workspace.selection.strip.chain[0].id
    assert window.work_area.current is None
    assert window.bench.isVisible()


def test_escape_leaves_the_path_as_it_was(window: MainWindow, chooser: StageChooser, qtbot: QtBot) -> None:
    qtbot.keyClick(chooser.search, Qt.Key.Key_Down)
    qtbot.waitUntil(lambda: chooser.heard is not None, timeout=60000)
    qtbot.keyClick(chooser.search, Qt.Key.Key_Escape)
    assert kinds(window) == []
    assert window.workspace.sessions.document.undo_label is None


def test_enter_at_once_adds_what_was_typed(window: MainWindow, chooser: StageChooser, qtbot: QtBot) -> None:
    qtbot.keyClicks(chooser.search, "limiter")
    qtbot.keyClick(chooser.search, Qt.Key.Key_Return)
    assert kinds(window) == ["limit"]


def test_a_stage_goes_behind_the_chosen_one_and_a_chain_too(window: MainWindow, qtbot: QtBot) -> None:
    selection = window.workspace.selection
    selection.select("upright-bass")
    window.path_view.add("eq")
    window.path_view.add("trim")
    selection.select("upright-bass", selection.strip.chain[0].id)
    chooser = window.workspace.tools.open(StageChooser)
    qtbot.keyClicks(chooser.search, "saturation")
    qtbot.keyClick(chooser.search, Qt.Key.Key_Return)
    assert kinds(window) == ["eq", "drive", "trim"]
    chooser = window.workspace.tools.open(StageChooser)
    qtbot.keyClick(chooser.search, Qt.Key.Key_Tab)
    qtbot.waitUntil(lambda: chooser.heard is not None, timeout=60000)
    assert chooser.heard is not None
    preset = next(entry.preset for entry in chooser.chains.entries if entry.key == chooser.heard)
    assert preset is not None
    chooser.keep()
    assert kinds(window) == ["eq", "drive", *(stage.kind for stage in preset.stages), "trim"]


def test_every_chosen_strip_gets_it(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.choose_only("harmonium")
    workspace.selection.choose_also("upright-bass")
    chooser = workspace.tools.open(StageChooser)
    qtbot.keyClicks(chooser.search, "bit reduction")
    qtbot.keyClick(chooser.search, Qt.Key.Key_Return)
    for strip_id in ("harmonium", "upright-bass"):
        assert [stage.kind for stage in workspace.sessions.session.strip(strip_id).chain] == ["bits"]
    window.undo()
    assert not workspace.sessions.session.strip("harmonium").chain


def test_a_full_strip_says_so(window: MainWindow, qtbot: QtBot) -> None:
    window.workspace.selection.select("upright-bass")
    while True:
        before = len(kinds(window))
        window.path_view.add("trim")
        if len(kinds(window)) == before:
            break
    chooser = window.workspace.tools.open(StageChooser)
    qtbot.keyClick(chooser.search, Qt.Key.Key_Down)
    assert "holds at most" in chooser.state.text()
