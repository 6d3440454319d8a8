"""The real window with the demo session, a real engine and the silent card."""

from __future__ import annotations

import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
import soundfile
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QMessageBox, QWidget
from pytestqt.qtbot import QtBot

from conftest import OpenWindow, measured, said, use_preset
from test_value_bar import drag
from yellow_ember.app import main_window
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.start import offer_recovery, report_unexpected
from yellow_ember.app.state.settings import load_settings
from yellow_ember.app.tools.dialogs import MessageList, PrintDialog, SettingsDialog
from yellow_ember.engine.jobs.printing import PrintOrder
from yellow_ember.session.io.autosave import leftovers
from yellow_ember.session.io.session_file import read_session
from yellow_ember.session.values.model import MASTER
from yellow_ember.shipped import DEMO


def test_the_desk_shows_the_demo_as_a_tree(window: MainWindow) -> None:
    names = [row.accessibleName() for row in window.desk.rows.values()]
    assert names == ["bus Rhythm", "track Brushed drums", "track Upright bass", "bus Band", "track Harmonium",
                     "track Plucked guitar", "bus Voice", "track Ship's announcer", "master Master"]
    assert "Night Ferry to Saltmouth" in window.windowTitle()


def test_play_loop_and_stop_by_keyboard(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    loop = workspace.sessions.session.loop
    qtbot.keyClick(window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: workspace.playback.state.playing and workspace.playback.state.position > loop.start + 4800,
                    timeout=60000)
    qtbot.waitUntil(lambda: float(workspace.playback.engine.reading(MASTER).vu.max()) > 0.01, timeout=60000)
    assert window.top_line.play.accessibleName() == "Stop"
    qtbot.keyClick(window, Qt.Key.Key_L)
    assert not workspace.sessions.session.loop.on
    qtbot.keyClick(window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: not workspace.playback.state.playing, timeout=60000)


def test_stages_are_added_driven_moved_bypassed_and_removed(window: MainWindow, qtbot: QtBot) -> None:
    workspace, path = window.workspace, window.path_view
    workspace.selection.select("rhythm")
    start = workspace.sessions.session
    path.add("tape")
    path.add("drive")
    assert [stage.kind for stage in workspace.selection.strip.chain] == ["tape", "drive"]
    workspace.selection.select("rhythm", workspace.selection.strip.chain[0].id)
    column = path.columns()[0].toRect()
    drag(qtbot, path, column.center(), column.center() - QPoint(0, 60))
    assert workspace.selection.strip.chain[0].params["record_db"] == pytest.approx(6.0, abs=0.6)
    assert workspace.sessions.document.undo_label == "Drive Tape machine"
    window.undo()
    assert workspace.selection.strip.chain[0].params["record_db"] == 0.0, "a drag is one step"
    window.redo()
    second = path.columns()[1].toRect()
    drag(qtbot, path, column.center(), QPoint(second.right() - 10, column.center().y()))
    assert [stage.kind for stage in workspace.selection.strip.chain] == ["drive", "tape"]
    path.setFocus()
    qtbot.keyClick(path, Qt.Key.Key_X)
    assert not workspace.selection.strip.chain[1].on
    qtbot.keyClick(path, Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier)
    assert workspace.selection.strip.chain[0].kind == "tape"
    qtbot.keyClick(path, Qt.Key.Key_Up)
    qtbot.keyClick(path, Qt.Key.Key_Delete)
    assert [stage.kind for stage in workspace.selection.strip.chain] == ["drive"]
    while workspace.sessions.document.undo():
        pass
    assert workspace.sessions.session.strips == start.strips


def test_the_bench_is_made_from_the_declaration(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    for kind in ("tape", "drive", "trim"):
        window.path_view.add(kind)
        stage = workspace.selection.strip.stage(workspace.selection.stage_id)
        assert stage.kind == kind
        window.bench.controls.open_all(True)
        assert set(window.bench.bars) == {*stage.params, "wet_db", "dry_db", "mix_pct", "mono"}
    workspace.selection.select(workspace.selection.strip_id, workspace.selection.strip.chain[0].id)
    bias = window.bench.bar("bias_db")
    drag(qtbot, bias, bias.rect().center(), bias.rect().center() + QPoint(30, 0))
    assert workspace.selection.strip.chain[0].params["bias_db"] == bias.setting > 0.0
    workspace.sessions.document.undo()
    assert bias.setting == 0.0
    dry = window.bench.bar("dry_db")
    dry.ask(-6.0, commit=True)
    assert workspace.selection.strip.chain[0].dry_db == -6.0
    window.bench.to_defaults()
    assert workspace.selection.strip.chain[0].dry_db is None
    assert not window.bench.picture.grab().isNull()


def test_balance_measures_matches_and_compares(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("upright-bass")
    use_preset(window, "Keel weight")
    measured(qtbot, window)
    result = workspace.measurer.latest("upright-bass")
    after = result.after.integrated_lufs + workspace.selection.strip.match_db
    assert after == pytest.approx(result.before.integrated_lufs, abs=0.1)
    assert window.balance.numbers["Added"].text().endswith("dB")
    assert window.balance.numbers["Match offset"].text() == f"{workspace.selection.strip.match_db:+.2f} dB"
    assert f"match {workspace.selection.strip.match_db:+.2f} dB" in window.top_line.offset.text()
    qtbot.keyClick(window, Qt.Key.Key_B)
    assert workspace.playback.before
    assert window.top_line.compare.accessibleDescription() == "before is heard"
    qtbot.keyClick(window, Qt.Key.Key_B)
    assert not workspace.playback.before
    window.balance.lock.setChecked(False)
    offset = workspace.selection.strip.match_db
    window.bench.bar("out_db").ask(-30.0, commit=True)
    measured(qtbot, window)
    assert workspace.selection.strip.match_db == offset
    window.balance.match_button.click()
    assert workspace.selection.strip.match_db > offset + 3.0


def test_the_loop_is_drawn_and_scrubbed(window: MainWindow, qtbot: QtBot) -> None:
    workspace, strip = window.workspace, window.timeline.waves
    bar = round(4 * 60 / 96 * 48000)
    drag(qtbot, strip, QPoint(round(strip.x_of(bar)), 8), QPoint(round(strip.x_of(3 * bar)), 8))
    assert (workspace.sessions.session.loop.start, workspace.sessions.session.loop.end) == (bar, 3 * bar)
    drag(qtbot, strip, QPoint(round(strip.x_of(3 * bar)), 8), QPoint(round(strip.x_of(2 * bar)), 8))
    assert workspace.sessions.session.loop.end == 2 * bar
    qtbot.mouseDClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(5.5 * bar)), 60))
    assert (workspace.sessions.session.loop.start, workspace.sessions.session.loop.end) == (5 * bar, 6 * bar)
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(8 * bar)), 60))
    qtbot.waitUntil(lambda: abs(workspace.playback.state.position - 8 * bar) < bar // 4, timeout=60000)
    strip.setFocus()
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    qtbot.waitUntil(lambda: workspace.playback.state.position > 8 * bar + bar // 8, timeout=60000)


def test_mute_solo_volume_and_rename(window: MainWindow, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    workspace = window.workspace
    row = window.desk.rows["upright-bass"]
    qtbot.mouseClick(row, Qt.MouseButton.LeftButton, pos=QPoint(60, 10))
    assert workspace.selection.strip_id == "upright-bass"
    row.setFocus()
    qtbot.keyClick(row, Qt.Key.Key_S)
    qtbot.mouseClick(row, Qt.MouseButton.LeftButton, pos=row.button_box(0).center().toPoint())
    assert (workspace.selection.strip.solo, workspace.selection.strip.mute) == (True, True)
    window.desk.volume.ask(-12.0, commit=True)
    assert workspace.selection.strip.volume_db == -12.0
    assert workspace.sessions.document.undo_label == "Volume of Upright bass"
    monkeypatch.setattr("yellow_ember.app.panels.strip_row.QInputDialog.getText", lambda *_a, **_k: ("Big bass", True))
    row.rename()
    assert window.desk.rows["upright-bass"].accessibleName() == "track Big bass"


def test_save_quit_and_find_everything_again(open_window: OpenWindow, qtbot: QtBot, tmp_path: Path) -> None:
    window = open_window()
    workspace = window.workspace
    workspace.selection.select("rhythm")
    use_preset(window, "One crossing")
    measured(qtbot, window)
    path = tmp_path / "mine.ember"
    assert workspace.sessions.save(path, workspace.selection.strip_id)
    assert not workspace.sessions.document.modified
    kept = workspace.sessions.session
    window.close()
    again = open_window(path)
    assert again.workspace.sessions.session == kept.with_(shown="rhythm")
    assert [stage.kind for stage in again.workspace.sessions.session.strip("rhythm").chain] == ["tape"]
    assert str(path) in again.workspace.settings.recent


def test_saving_where_it_cannot_be_keeps_the_work(window: MainWindow) -> None:
    window.path_view.add("trim")
    assert not window.workspace.sessions.save(Path("/proc/a.ember"), window.workspace.selection.strip_id)
    assert "can't be written" in said(window)
    assert window.workspace.sessions.document.modified


def drop(window: MainWindow, paths: list[Path]) -> None:
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    window.dropEvent(QDropEvent(QPointF(50, 50), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton,
                                Qt.KeyboardModifier.NoModifier))


def test_dropped_files_make_a_session(open_window: OpenWindow, qtbot: QtBot, make_audio: Callable[..., Path],
                                      tmp_path: Path) -> None:
    window = open_window(None)
    text = tmp_path / "text.wav"
    text.write_text("fog")
    good = [make_audio("one.wav", rate=44100), make_audio("two.flac", channels=2), make_audio("six.wav", channels=6)]
    drop(window, [*good, text])
    workspace = window.workspace
    assert [strip.name for strip in workspace.sessions.session.strips] == ["one", "two", "Master"]
    assert workspace.sessions.session.rate == 44100
    assert "6 channels" in said(window)
    assert "not an audio file" in said(window)
    qtbot.waitUntil(lambda: not workspace.imports.busy
                    and workspace.imports.ready(workspace.sessions.session.strips[1].files[0]) is not None,
                    timeout=20000)
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: float(workspace.playback.engine.reading(MASTER).vu.max()) > 0.001, timeout=60000)


def test_a_broken_session_is_refused_in_words(window: MainWindow, tmp_path: Path) -> None:
    path = tmp_path / "broken.ember"
    path.write_text("{")
    before = window.workspace.sessions.session
    window.workspace.sessions.open_any([path])
    assert "is not whole JSON" in said(window)
    assert window.workspace.sessions.session == before


def test_missing_audio_is_said_and_found(window: MainWindow, tmp_path: Path, qtbot: QtBot) -> None:
    path = tmp_path / "moved.ember"
    assert window.workspace.sessions.save(path, window.workspace.selection.strip_id)
    path.write_text(path.read_text().replace("upright-bass.flac", "gone/upright-bass.flac"))
    window.workspace.sessions.open_any([path])
    assert "The audio of Upright bass is missing" in said(window)
    window.workspace.sessions.find_missing(DEMO.parent)
    assert "All audio is found" in said(window)


def test_the_engine_killed_while_playing(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: workspace.playback.state.playing, timeout=60000)
    workspace.playback.engine.kill()
    qtbot.waitUntil(lambda: workspace.playback.engine.restarts == 1 and workspace.playback.state.playing, timeout=3000)
    assert "started again" in window.message_line.text.text()


def test_the_window_killed_while_editing(qtbot: QtBot, open_window: OpenWindow,
                                         monkeypatch: pytest.MonkeyPatch) -> None:
    for leftover in leftovers():
        leftover.file.unlink()
    code = """
import os, signal, sys
from pathlib import Path
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.workspace import Workspace
from yellow_ember.shipped import DEMO
application = QApplication(sys.argv)
window = MainWindow(Workspace(Settings()))
window.show()
window.workspace.sessions.open_path(DEMO)
window.workspace.selection.select("plucked-guitar")
QTimer.singleShot(100, lambda: window.path_view.add("tape"))
QTimer.singleShot(2100, lambda: os.kill(os.getpid(), signal.SIGKILL))
application.exec()
"""
    ended = subprocess.run([sys.executable, "-c", code], check=False, timeout=60)
    assert ended.returncode == -signal.SIGKILL
    (left,) = leftovers()
    assert [stage.kind for stage in left.session().strip("plucked-guitar").chain] == ["tape"]
    window = open_window()
    monkeypatch.setattr(QMessageBox, "question", lambda *_: QMessageBox.StandardButton.Yes)
    assert offer_recovery(window, left)
    assert window.workspace.sessions.session.strip("plucked-guitar").chain[0].kind == "tape"
    assert window.workspace.sessions.document.modified
    assert leftovers() == []


def test_printing_from_the_window(window: MainWindow, qtbot: QtBot, tmp_path: Path) -> None:
    workspace = window.workspace
    dialog = workspace.give(PrintDialog, window)
    dialog.stretch.setCurrentIndex(1)
    dialog.kind.setCurrentIndex(3)
    dialog.folder.setText(str(tmp_path))
    dialog.accept()
    qtbot.waitUntil(lambda: not workspace.rendering.is_running, timeout=60000)
    (file,) = tmp_path.glob("*.flac")
    loop = workspace.sessions.session.loop
    assert soundfile.info(file).frames == loop.end - loop.start
    assert file.name in said(window)
    dialog.folder.setText(str(tmp_path / "no"))
    dialog.accept()
    qtbot.waitUntil(lambda: not workspace.rendering.is_running, timeout=60000)
    assert "there is no folder" in said(window)
    dialog.folder.setText(str(tmp_path))
    dialog.accept()
    workspace.rendering.cancel()
    assert "cancelled; no file was left" in said(window)
    assert len(list(tmp_path.iterdir())) == 1


def test_a_second_print_waits_for_the_first(window: MainWindow, qtbot: QtBot, tmp_path: Path) -> None:
    workspace = window.workspace
    for name in ("first", "second", "third"):
        (tmp_path / name).mkdir()
        workspace.rendering.start(PrintOrder(tmp_path / name))
    said = [message.text for message in workspace.messages.all]
    assert any("comes after 1 other" in text for text in said)
    assert any("comes after 2 others" in text for text in said)
    qtbot.waitUntil(lambda: len(list(tmp_path.glob("*/*.wav"))) == 3 and not workspace.rendering.is_running,
                    timeout=120000)



def test_settings_belong_to_program_and_session(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    dialog = workspace.give(SettingsDialog, window)
    dialog.block.setCurrentText("512")
    dialog.threads.setCurrentText("1")
    dialog.animation.setChecked(False)
    dialog.reference.ask(-20.0, commit=True)
    dialog.accept()
    assert workspace.sessions.session.reference_dbfs == -20.0
    assert (workspace.settings.block, workspace.settings.threads, workspace.settings.animation) == (512, 1, False)
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: workspace.playback.state.playing and workspace.playback.state.blocks > 20, timeout=60000)


def test_layout_and_panels_are_remembered(open_window: OpenWindow) -> None:
    window = open_window()
    window._panel_actions["Balance"].trigger()
    assert window.balance.isHidden()
    settings = window.workspace.settings
    window.close()
    assert load_settings().layout == settings.layout
    again = open_window(settings=load_settings())
    assert again.balance.isHidden()
    assert not again.desk.isHidden()


def test_everything_that_takes_the_focus_has_a_name(window: MainWindow) -> None:
    window.path_view.add("tape")
    unnamed = [widget for widget in window.findChildren(QWidget)
               if widget.focusPolicy() & Qt.FocusPolicy.TabFocus and widget.isVisible()
               and not (widget.accessibleName() or getattr(widget, "text", str)())
               and type(widget).__name__ not in ("QScrollArea", "QMenuBar")]
    assert unnamed == []


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (2560, 1440)])
def test_sizes(size: tuple[int, int], window: MainWindow, qtbot: QtBot) -> None:
    window.path_view.add("tape")
    window.resize(*size)
    qtbot.wait(50)
    assert (window.width(), window.height()) == size
    for panel in (window.desk, window.path_view, window.bench, window.balance, window.timeline):
        assert panel.width() > 100
        assert panel.height() > 60


def test_sheets_and_messages(window: MainWindow) -> None:
    dialog = MessageList(window.workspace.messages, window)
    dialog.show()
    assert not dialog.grab().isNull()
    dialog.close()


def test_an_unexpected_error_is_a_message(window: MainWindow, monkeypatch: pytest.MonkeyPatch,
                                          capsys: pytest.CaptureFixture[str]) -> None:
    monkeypatch.setattr(sys, "excepthook", sys.__excepthook__)
    report_unexpected(window.workspace.messages)
    sys.excepthook(ValueError, ValueError("fog"), None)
    assert "Something unexpected went wrong: fog" in said(window)
    assert "fog" in capsys.readouterr().err


def test_closing_asks_when_there_is_something_to_lose(window: MainWindow, monkeypatch: pytest.MonkeyPatch) -> None:
    window.path_view.add("trim")
    monkeypatch.setattr(main_window.QMessageBox, "question", lambda *_: QMessageBox.StandardButton.Cancel)
    window.close()
    assert window.isVisible()
    assert window.workspace.playback.engine is not None


def test_a_logout_asks_nothing_and_keeps_the_work(open_window: OpenWindow, monkeypatch: pytest.MonkeyPatch) -> None:
    window = open_window()
    workspace = window.workspace
    workspace.sessions.document.commit("Tempo", lambda _: workspace.sessions.session.with_(tempo=71.0))

    def asked(*_: object) -> None:
        raise AssertionError("no question")

    monkeypatch.setattr(QMessageBox, "question", asked)
    window.closes_quietly = lambda: True
    window.close()
    file = workspace.sessions.edits.autosave.file
    assert '"tempo": 71.0' in file.read_text()
    file.unlink()


def test_the_demo_itself_is_never_written(open_window: OpenWindow) -> None:
    window = open_window(DEMO)
    assert window.workspace.sessions.is_shipped
    assert window.workspace.sessions.own_folder == Path.home()
    assert read_session(DEMO).name == "Night Ferry to Saltmouth"


def test_the_demo_opens_coloured_with_the_rhythm_s_tape_in_view(open_window: OpenWindow, qtbot: QtBot) -> None:
    window = open_window(DEMO)
    workspace = window.workspace
    assert workspace.selection.strip_id == "rhythm"
    assert workspace.selection.strip.chain[0].kind == "tape"
    dry = [strip.name for strip in workspace.sessions.session.strips if not strip.chain]
    assert dry == ["Plucked guitar"]
    window.resize(1280, 800)
    qtbot.wait(300)
    view = window.bench.controls.viewport()
    for name in ("record_db", "bias_db", "stock", "speed_ips"):
        bar = window.bench.bar(name)
        top = bar.mapTo(view, bar.rect().topLeft()).y()
        assert 0 <= top <= view.height() - bar.height(), name
    matches = {strip.id: strip.match_db for strip in workspace.sessions.session.strips}
    measured(qtbot, window)
    for strip in workspace.sessions.session.strips:
        assert strip.match_db == pytest.approx(matches[strip.id], abs=0.1)


def test_a_session_opens_at_the_strip_that_was_shown(open_window: OpenWindow, tmp_path: Path) -> None:
    window = open_window()
    window.workspace.selection.select("harmonium")
    assert window.workspace.sessions.save(tmp_path / "a.ember", window.workspace.selection.strip_id)
    assert not window.workspace.sessions.document.modified
    window.workspace.selection.select("voice")
    window.workspace.sessions.open_path(tmp_path / "a.ember")
    assert window.workspace.selection.strip_id == "harmonium"


def test_strips_that_are_chosen_together_are_routed_together(window: MainWindow) -> None:
    workspace = window.workspace
    workspace.selection.choose_only("brushed-drums")
    workspace.selection.choose_also_next("harmonium")
    menu = window.desk.rows["harmonium"].menu()
    feeds = next(action.menu() for action in menu.actions() if action.text() == "Feeds")
    next(action for action in feeds.actions() if action.text() == "Voice").trigger()
    assert [workspace.sessions.session.strip(one).out for one in ("brushed-drums", "harmonium")] == ["voice", "voice"]
    window.undo()
    assert [workspace.sessions.session.strip(one).out for one in ("brushed-drums", "harmonium")] == ["rhythm", "band"]
