"""The palette, and keys that can be changed, exported and imported."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6 import sip
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot

from conftest import OpenWindow
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.settings import load_settings, save_settings
from yellow_ember.app.tools.keys import KeysTool
from yellow_ember.app.tools.palette import Choice, Palette, ranked
from yellow_ember.dsp.stages import STAGES


@pytest.fixture
def palette(window: MainWindow) -> Iterator[Palette]:
    window.open_palette()
    found = window.findChild(Palette)
    assert found is not None
    yield found
    if not sip.isdeleted(found):
        found.reject()


def test_words_that_begin_so_come_first() -> None:
    choices = [Choice(words, where, "", lambda: None) for words, where in (
        ("Unmute", "Desk"), ("Mute the strip", "Desk"), ("Print to files", "Session"), ("Mix", "Session"))]
    assert [choice.words for choice in ranked(choices, "mut")] == ["Mute the strip", "Unmute"]
    assert [choice.words for choice in ranked(choices, "session pri")] == ["Print to files"]
    assert len(ranked(choices, "")) == 4
    assert ranked(choices, "nothing like it") == []


def test_every_command_is_in_the_palette_with_its_keys(window: MainWindow, palette: Palette) -> None:
    shown = {choice.words: choice for choice in palette.shown}
    for command in window.workspace.commands.all:
        if command.action.isEnabled():
            assert shown[command.name].keys == command.keys
    assert {f"Add {kind.label}" for kind in STAGES} <= set(shown)
    assert {f"Go to {strip.name}" for strip in window.workspace.sessions.session.strips} <= set(shown)


def test_typed_and_done(window: MainWindow, palette: Palette, qtbot: QtBot) -> None:
    window.workspace.selection.select("upright-bass")
    qtbot.keyClicks(palette.line, "add satur")
    assert palette.shown[0].words == "Add Saturation"
    qtbot.keyClick(palette.line, Qt.Key.Key_Return)
    assert sip.isdeleted(palette) or not palette.isVisible()
    assert [stage.kind for stage in window.workspace.selection.strip.chain] == ["drive"]


def test_arrows_choose_and_escape_leaves(window: MainWindow, palette: Palette, qtbot: QtBot) -> None:
    before = window.workspace.sessions.session
    qtbot.keyClicks(palette.line, "go to")
    qtbot.keyClick(palette.line, Qt.Key.Key_Down)
    assert palette.list.currentRow() == 1
    qtbot.keyClick(palette.line, Qt.Key.Key_Escape)
    assert sip.isdeleted(palette) or not palette.isVisible()
    assert window.workspace.sessions.session is before


def test_names_are_the_same_in_every_session_and_each_is_one(window: MainWindow) -> None:
    names = [command.name for command in window.workspace.commands.all]
    assert len(set(names)) == len(names)
    window.path_view.add("trim")
    window.undo()
    assert [command.name for command in window.workspace.commands.all] == names


def test_no_two_commands_have_the_same_keys(window: MainWindow) -> None:
    keys = [command.keys for command in window.workspace.commands.all if command.keys]
    assert len(set(keys)) == len(keys)


@pytest.fixture
def keys(window: MainWindow) -> KeysTool:
    window.show_keys()
    tool = window.work_area.current
    assert isinstance(tool, KeysTool)
    return tool


def test_keys_are_changed_and_kept(window: MainWindow, keys: KeysTool, open_window: OpenWindow) -> None:
    commands = window.workspace.commands
    keys.choose("Meters")
    keys.edit.setKeySequence(QKeySequence("Ctrl+B"))
    keys.assign()
    assert commands.find("Meters").keys == "Ctrl+B"
    assert commands.find("Bypass the stage").keys == ""
    assert "Bypass the stage had these keys" in keys.state.text()
    save_settings(window.workspace.settings)
    again = open_window(settings=load_settings())
    assert again.workspace.commands.find("Meters").action.shortcut().toString() == "Ctrl+B"
    keys.choose("Meters")
    keys.buttons["Reset"].click()
    assert commands.find("Meters").keys == "Ctrl+Shift+M"
    keys.buttons["Reset all"].click()
    assert commands.find("Bypass the stage").keys == "Ctrl+B"
    assert window.workspace.settings.keys == {}


def test_keys_of_places_stay(keys: KeysTool) -> None:
    keys.search.setText("type a value")
    assert keys.table.rowCount() == 1
    keys.table.setCurrentCell(0, 1)
    assert keys.chosen == ""
    assert not keys.edit.isEnabled()


def test_keys_go_through_a_file(window: MainWindow, keys: KeysTool, tmp_path: Path,
                                monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "mine.json"
    commands = window.workspace.commands
    commands.change("Meters", "Ctrl+Alt+F9")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(file), ""))
    keys.export()
    assert json.loads(file.read_text())["keys"]["Meters"] == "Ctrl+Alt+F9"
    commands.to_defaults()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))
    keys.import_file()
    assert commands.find("Meters").keys == "Ctrl+Alt+F9"
    file.write_text('{"keys": 5}')
    keys.import_file()
    assert "holds no keys" in keys.state.text()
    assert commands.find("Meters").keys == "Ctrl+Alt+F9"
