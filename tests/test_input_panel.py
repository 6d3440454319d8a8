"""A track that listens, in the window: chosen by its row's menu, its gain at hand, its level and delay seen."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QMenu
from pytestqt.qtbot import QtBot

from conftest import OpenWindow
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.matcher import MatchState
from yellow_ember.app.state.settings import Settings, load_settings, save_settings
from yellow_ember.app.tools.dialogs import SettingsDialog
from yellow_ember.engine.live.devices import OWN_OUTPUT, SILENT_CARD
from yellow_ember.session.values.live_input import InputKind, LiveInput
from yellow_ember.shipped import DEMO

RATE = 48000


@pytest.fixture
def feed(tmp_path: Path) -> Path:
    """A tone for the silent card that clips once a second."""
    sound = 0.25 * np.sin(2.0 * np.pi * 500.0 * np.arange(RATE) / RATE)
    sound[1000:1050] = 1.0
    path = tmp_path / "guest.wav"
    soundfile.write(path, sound, RATE, "FLOAT")
    return path


@pytest.fixture
def listening(open_window: OpenWindow, feed: Path, qtbot: QtBot) -> MainWindow:
    """The demo with a new input track."""
    window = open_window(DEMO, settings=Settings(feed=str(feed), block=128))
    window.workspace.commands.find("Insert an input track").action.trigger()
    qtbot.waitUntil(lambda: window.workspace.playback.state.live_latency is not None, timeout=30000)
    return window


def entry(menu: QMenu | None, *words: str) -> QAction:
    """The entry of a menu, or of one below it."""
    assert menu is not None
    action = next(action for action in menu.actions() if action.text() == words[0])
    return action if len(words) == 1 else entry(action.menu(), *words[1:])


def test_a_new_input_track_is_heard_at_once(listening: MainWindow, qtbot: QtBot) -> None:
    workspace, panel = listening.workspace, listening.desk.input
    strip = workspace.selection.strip
    assert (strip.name, strip.live) == ("Input 1", LiveInput())
    assert panel.isVisibleTo(listening)
    engine = workspace.playback.engine
    assert engine is not None
    qtbot.waitUntil(lambda: engine.reading(strip.id).vu.max() > 0.05, timeout=10000)
    assert not workspace.playback.state.playing
    # Two blocks of the card, and the tapes of the bus and the master.
    late = 1000.0 * (workspace.playback.state.live_latency + 2 * 128) / RATE
    assert panel.text.text() == f"Input 1, heard after {late:.1f} ms"
    assert f"live {late:.1f} ms" in listening.top_line.engine.text()
    workspace.sessions.document.undo()
    qtbot.waitUntil(lambda: workspace.playback.state.live_latency is None, timeout=10000)
    assert not panel.isVisibleTo(listening)


def test_gain_is_one_step_and_heard(listening: MainWindow, qtbot: QtBot) -> None:
    workspace, panel = listening.workspace, listening.desk.input
    strip_id, engine = workspace.selection.strip_id, workspace.playback.engine
    assert engine is not None
    level = 0.25 / np.sqrt(2.0)
    qtbot.waitUntil(lambda: engine.reading(strip_id).vu.max() == pytest.approx(level, rel=0.05), timeout=10000)
    panel.bars["input_db"].ask(12.0, commit=False)
    panel.bars["input_db"].ask(-12.0, commit=True)
    assert workspace.selection.strip.live.input_db == -12.0
    quieter = level * 10.0 ** (-12.0 / 20.0)
    qtbot.waitUntil(lambda: engine.reading(strip_id).vu.max() == pytest.approx(quieter, rel=0.05), timeout=10000)
    workspace.sessions.document.undo()
    assert workspace.selection.strip.live.input_db == 0.0


def test_clipping_is_held_until_it_is_clicked_away(listening: MainWindow, qtbot: QtBot) -> None:
    panel = listening.desk.input
    qtbot.waitUntil(lambda: panel.clip.isVisibleTo(listening), timeout=10000)
    listening.desk.rows[listening.workspace.selection.strip_id].grab()
    # What clips goes on once a second: between two of them it is forgotten.
    qtbot.waitUntil(lambda: (panel.clip.click() or not panel.clip.isVisibleTo(listening)), timeout=10000)


def test_a_track_is_told_what_to_listen_to_by_its_menu(open_window: OpenWindow, qtbot: QtBot) -> None:
    window = open_window(DEMO)
    workspace, row = window.workspace, window.desk.rows["upright-bass"]
    entry(row.menu(), "Input", "Card input 1 and 2").trigger()
    strip = workspace.sessions.session.strip("upright-bass")
    assert strip.live == LiveInput(channels=(1, 2))
    assert "listens to input 1 and 2" in row.accessibleDescription()
    assert strip.regions, "its files stay"
    entry(row.menu(), "Input", "Ports, stereo").trigger()
    assert workspace.sessions.session.strip("upright-bass").live.kind is InputKind.PORTS
    entry(row.menu(), "Leave by ports of its own").trigger()
    assert workspace.sessions.session.strip("upright-bass").own_ports
    assert entry(row.menu(), "Leave by ports of its own").isChecked()
    entry(row.menu(), "Input", "None, its files").trigger()
    assert workspace.sessions.session.strip("upright-bass").live is None
    assert [action.text() for action in window.desk.rows["band"].menu().actions() if action.text() == "Input"] == []


def test_the_silent_card_is_fed_as_settings_say(listening: MainWindow, feed: Path, qtbot: QtBot) -> None:
    dialog = listening.workspace.give(SettingsDialog, listening)
    assert dialog.feed.currentText() == feed.name
    assert f"{SILENT_CARD}, 48 kHz, blocks of 128 frames" in dialog.now.text()
    dialog.feed.setCurrentIndex(dialog.feed.findData(OWN_OUTPUT))
    dialog.accept()
    assert listening.workspace.settings.feed == OWN_OUTPUT
    qtbot.waitUntil(lambda: any("would be fed with what it makes" in message.text
                                for message in listening.workspace.messages.all), timeout=15000)
    save_settings(listening.workspace.settings)
    assert load_settings().feed == OWN_OUTPUT


def test_a_stage_makes_it_later_and_says_so(listening: MainWindow, qtbot: QtBot) -> None:
    listening.path_view.add("limit")
    state = listening.workspace.playback
    qtbot.waitUntil(lambda: (state.state.live_latency or 0) > 0, timeout=20000)
    late = 1000.0 * (state.state.live_latency + state.state.delay) / RATE
    assert listening.workspace.matcher.state(listening.workspace.selection.strip) is MatchState.MATCHED
    qtbot.waitUntil(lambda: f"heard after {late:.1f} ms" in listening.desk.input.text.text(), timeout=5000)
    qtbot.keyClick(listening, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: state.state.playing, timeout=5000)
