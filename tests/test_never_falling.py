"""Errors in paintings and slots, caches that are damaged while one plays, and things that go away under open tools."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QWidget

import yellow_ember
import yellow_ember.session.document as document_module
from conftest import wait_until
from processes import own_folders, running
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.start import report_unexpected
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets.painting import painted
from yellow_ember.engine.jobs.strip_prints import find_print, print_strip
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.engine.raw_reader import RawReader
from yellow_ember.files.conformed import conform, find_conformed
from yellow_ember.session.document import Document
from yellow_ember.session.edits.edits import add_bus, add_stage, remove_stage, remove_strip, set_parameter
from yellow_ember.session.values.model import Session, new_stage
from yellow_ember.shipped import DEMO

DAMAGE: dict[str, Callable[[Path], object]] = {
    "removed": Path.unlink, "cut short": lambda path: os.truncate(path, 100),
    "emptied": lambda path: os.truncate(path, 0),
    "garbage": lambda path: path.write_bytes(os.urandom(path.stat().st_size)),
    "longer garbage": lambda path: path.write_bytes(os.urandom(path.stat().st_size + 4096))}


# -- painting and slots ---------------------------------------------------------------------


class _Broken(QWidget):
    @painted
    def paintEvent(self, painter: QPainter) -> None:  # type: ignore[override]
        painter.drawLine(0, 0, 9, 9)
        raise RuntimeError("no paint")


def test_a_broken_painting_is_a_placeholder_and_said_once(qapp: Any, monkeypatch: pytest.MonkeyPatch,
                                                         capsys: pytest.CaptureFixture[str]) -> None:
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    messages = Messages()
    report_unexpected(messages)
    widget = _Broken()
    widget.resize(80, 60)
    for _ in range(20):
        widget.grab()
    assert [message.text.count("no paint") for message in messages.all] == [1]
    assert capsys.readouterr().err.count("Traceback") == 1


def test_every_picture_of_the_window_survives_an_error(tmp_path: Path) -> None:
    """Each paintEvent of the program, made to raise, in a process of its own: the window lives on."""
    with running(own_folders(tmp_path)) as program:
        program.ready()
        program.ask("setattr(__import__('PyQt6.QtGui').QtGui.QPainter, 'drawText', None)")
        for _ in range(3):
            program.ask("window.repaint() or [w.repaint() for w in window.findChildren("
                        "__import__('PyQt6.QtWidgets').QtWidgets.QWidget)] and None")
        told = program.ask("[m.text for m in workspace.messages.all if 'unexpected' in m.text]")
        assert 1 <= len(told) == len(set(told)) or len(told) < 40
        assert program.ask("workspace.sessions.session.name")
        program.end()


# -- caches -----------------------------------------------------------------------------------


@pytest.mark.parametrize("damage", DAMAGE)
@pytest.mark.parametrize("part", ["data", "overview", "card"])
def test_damaged_copies_are_made_anew(part: str, damage: str, make_audio: Callable[..., Path]) -> None:
    source = make_audio(seconds=2.0, channels=2)
    first = conform(source, 48000)
    before = first.data.read_bytes()
    path = {"data": first.data, "overview": first.overview, "card": first.data.with_suffix(".json")}[part]
    DAMAGE[damage](path)
    assert find_conformed(source, 48000) is None
    if part != "card":
        assert not first.is_whole
    first.stretch(0, first.frames, 256.0)
    first.samples(0, 4096)
    again = conform(source, 48000)
    assert again.data.read_bytes() == before
    assert find_conformed(source, 48000) is not None


@pytest.mark.parametrize("damage", [name for name in DAMAGE if name != "removed"])
def test_a_reader_notices_and_gives_silence(damage: str, make_audio: Callable[..., Path]) -> None:
    ready = conform(make_audio(seconds=2.0), 48000)
    reader = RawReader(ready.data, 1, ready.frames, 512)
    block = np.zeros((1, 512))
    reader.read(1000, block)
    assert np.abs(block).max() > 0.0
    assert not reader.broken
    DAMAGE[damage](ready.data)
    reader.read(4000, block)
    assert reader.broken
    assert np.abs(block).max() == 0.0
    reader.close()


@pytest.mark.parametrize("damage", DAMAGE)
def test_damaged_prints_are_no_prints(damage: str, demo: Session) -> None:
    session = add_stage(demo, "harmonium", new_stage("drive"))
    result = print_strip(lambda _: None, session, "harmonium", 48000, 2**30)
    assert find_print(session, "harmonium", 48000) == result
    DAMAGE[damage](result.data)
    assert find_print(session, "harmonium", 48000) is None


@pytest.mark.parametrize("damage", ["removed", "garbage", "cut short"])
def test_playing_goes_on_while_every_cache_is_damaged(damage: str, open_window: Callable[..., MainWindow],
                                                     qtbot: Any) -> None:
    window = open_window()
    workspace = window.workspace
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: workspace.playback.state.playing, timeout=20000)
    copies = [workspace.imports.ready(path) for path in workspace.sessions.session.files]
    for copy in copies:
        assert copy is not None
        DAMAGE[damage](copy.data)
        DAMAGE[damage](copy.overview)
    window.timeline.waves.draw_again()
    window.grab()
    qtbot.waitUntil(lambda: all((result := workspace.imports.ready(path)) is not None and result.is_whole
                                for path in workspace.sessions.session.files),
                    timeout=20000)
    assert workspace.playback.engine.restarts == 0
    qtbot.waitUntil(lambda: workspace.playback.state.playing, timeout=5000)
    qtbot.waitUntil(lambda: _level(workspace, "upright-bass") > 0.003, timeout=10000)


def _level(workspace: Any, strip_id: str) -> float:
    reading = workspace.playback.engine.reading(strip_id)
    return 0.0 if reading is None else float(reading.peak.max())


@pytest.mark.parametrize("damage", ["garbage", "cut short"])
def test_damaged_kernels_are_compiled_again(damage: str, tmp_path: Path) -> None:
    code = ("import numpy as np\nfrom yellow_ember.dsp.kernels.mixing import mean\n"
            "block, out = np.ones((2, 8)), np.zeros((1, 8))\nmean(block, out)\nassert out.sum() == 8.0")
    copy = tmp_path / "copy" / "yellow_ember"
    shutil.copytree(Path(yellow_ember.__file__).parent, copy, ignore=shutil.ignore_patterns("__pycache__", "data"))
    environment = {**os.environ, "PYTHONPATH": str(copy.parent)}
    for _ in range(2):
        ended = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True,
                               check=False, timeout=120)
        assert (ended.returncode, ended.stderr) == (0, "")
        files = [path for path in copy.rglob("kernels-*/*") if path.is_file()]
        assert files
        for path in files:
            DAMAGE[damage](path)
    ended = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=False)
    assert (ended.returncode, ended.stderr) == (0, "")


# -- what goes away ---------------------------------------------------------------------------

TOOLS = ("Presets\u2026", "Sets\u2026", "Macros\u2026", "Links\u2026", "Balance field of the stage\u2026",
         "Variations of the stage\u2026", "Line-up of the machine\u2026", "Spread of all strips\u2026", "Meters\u2026",
         "Blind test\u2026", "Batch\u2026", "Settings\u2026", "Print to files\u2026", "Guides and stages")


def _trigger(window: MainWindow, name: str) -> None:
    for menu in window.menuBar().actions():
        for action in menu.menu().actions():
            if action.text() == name:
                action.trigger()
                return
    raise AssertionError(name)


@pytest.mark.parametrize("event", ["undo of add bus", "strip removed", "stage removed", "another session", "new files"])
def test_whatever_is_open_follows_or_closes(event: str, window: MainWindow, qtbot: Any, tmp_path: Path,
                                            make_audio: Callable[..., Path]) -> None:
    workspace = window.workspace
    workspace.sessions.document.commit("Add bus", lambda _: add_bus(workspace.sessions.session, "New"))
    strip_id = next(strip.id for strip in workspace.sessions.session.strips if strip.name == "New")
    target = strip_id if event == "undo of add bus" else "harmonium"
    stage = new_stage("tape")
    if event != "undo of add bus":
        workspace.sessions.document.commit("Stage", lambda _: add_stage(workspace.sessions.session, target, stage))
    workspace.selection.select(target)
    for name in TOOLS:
        _trigger(window, name)
    menu = window.desk.rows[target].menu()
    menu_lives = True

    def gone() -> None:
        nonlocal menu_lives
        menu_lives = False

    menu.destroyed.connect(gone)
    qtbot.wait(200)
    match event:
        case "undo of add bus":
            window.undo()
        case "strip removed":
            workspace.sessions.document.commit("Remove", lambda _: remove_strip(workspace.sessions.session, target))
        case "stage removed":
            workspace.sessions.document.commit("Remove", lambda _: remove_stage(workspace.sessions.session, target,
                                                                                stage.id))
        case "another session":
            workspace.sessions.open_path(DEMO)
        case "new files":
            workspace.sessions.open_audio([make_audio()])
    qtbot.wait(400)
    for action in menu.actions() if menu_lives else ():
        if action.text().startswith(("Bypass", "Add bus")):
            action.trigger()
    for tool in window.findChildren(Tool):
        if tool.isVisible():
            tool.grab()
            tool.close()
    qtbot.wait(200)
    assert workspace.sessions.session.strips


# -- memory -----------------------------------------------------------------------------------


def test_the_engine_does_not_grow_over_rebuilt_graphs(demo: Session) -> None:
    engine = EngineClient(DeviceSettings(SILENT_CARD, 256))
    try:
        engine.set_session(demo)
        engine.play()
        wait_until(lambda: engine.poll().playing)

        def rebuild(times: int) -> int:
            for number in range(times):
                changed = add_stage(demo, "rhythm", new_stage(("tape", "drive", "comp")[number % 3]))
                for session in (changed, demo):
                    engine.set_session(session)
                    end = time.monotonic() + 0.06
                    while time.monotonic() < end:
                        engine.poll()
                        time.sleep(0.01)
            return int(Path(f"/proc/{engine.pid}/statm").read_text().split()[1]) * 4

        rebuild(25)
        before = rebuild(15)
        after = rebuild(40)
        assert (after - before) / 80 < 12, "KB a rebuild"
    finally:
        engine.close()


def test_the_history_forgets_its_oldest_steps_by_memory(demo: Session, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(document_module, "MAXIMUM_HISTORY_BYTES", 2**20)
    stage = new_stage("tape")
    document = Document(add_stage(demo, "rhythm", stage))
    for number in range(3000):
        document.commit(f"Step {number}", lambda _: set_parameter(
            document.session, "rhythm", stage.id, "record_db", (number % 100) / 10.0))
    assert document.history_bytes <= 2**20
    assert document.undo_label == "Step 2999"
    count = 0
    while document.undo() is not None:
        count += 1
    assert 100 < count < 3000
    for _ in range(count):
        assert document.redo() is not None
    assert document.session.strip("rhythm").chain[0].params["record_db"] == 9.9
