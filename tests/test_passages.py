"""Passages and markers: drawn, moved, typed, jumped to, looped, saved."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QPointF, Qt
from pytestqt.qtbot import QtBot

from test_value_bar import drag
from yellow_ember.app.panels.passage_row import HEIGHT
from yellow_ember.app.tools.dialogs import PrintDialog
from yellow_ember.app.tools.time_dialogs import MarkerDialog, PassageDialog
from yellow_ember.cli import main
from yellow_ember.files.file_marks import read_marks
from yellow_ember.session.edits.time_edits import add_marker, add_passage, edit_passage, passages_between_markers
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.session_file import read_session, write_session
from yellow_ember.session.values.model import Loop, Session, master_strip
from yellow_ember.session.values.places import LONGEST_FADE, Passage

if TYPE_CHECKING:
    from yellow_ember.app.main_window import MainWindow

EMPTY = Session(strips=(master_strip(),))
BEAT = 60.0 / 96.0
MIDDLE = HEIGHT / 2


def passages(window: MainWindow) -> tuple[Passage, ...]:
    return window.workspace.sessions.session.passages


def drawn(qtbot: QtBot, window: MainWindow, start: float, end: float,
          modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    row = window.timeline.passages
    drag(qtbot, row, QPointF(row.x_of(start), MIDDLE).toPoint(), QPointF(row.x_of(end), MIDDLE).toPoint(), modifier)


@given(st.floats(-10.0, 1e6), st.floats(-10.0, 1e6), st.floats(-5.0, 500.0), st.floats(-5.0, 500.0))
def test_a_passage_is_always_a_stretch(start: float, end: float, fade_in: float, fade_out: float) -> None:
    session = add_passage(EMPTY, Passage(name="x", start=start, end=end, fade_in=fade_in, fade_out=fade_out))
    passage = session.passages[0]
    assert 0.0 <= passage.start < passage.end
    assert 0.0 <= passage.fade_in <= min(passage.end - passage.start + 1e-9, LONGEST_FADE)
    assert 0.0 <= passage.fade_out <= LONGEST_FADE


def test_passages_are_drawn_moved_and_resized(window: MainWindow, qtbot: QtBot) -> None:
    drawn(qtbot, window, 8.1 * BEAT, 15.9 * BEAT)
    passage, = passages(window)
    assert (passage.start, passage.end) == (pytest.approx(8 * BEAT, abs=1e-4), pytest.approx(16 * BEAT, abs=1e-4))
    drawn(qtbot, window, 12 * BEAT, 20 * BEAT)
    assert passages(window)[0].start == pytest.approx(16 * BEAT, abs=1e-4)
    drawn(qtbot, window, 24 * BEAT, 28 * BEAT)
    assert passages(window)[0].end == pytest.approx(28 * BEAT, abs=1e-4)
    drawn(qtbot, window, 16 * BEAT, 18 * BEAT, Qt.KeyboardModifier.AltModifier)
    assert passages(window)[0].fade_in == pytest.approx(2 * BEAT, abs=0.1)
    for _ in range(4):
        window.undo()
    assert passages(window) == ()


def test_a_passage_is_looped_and_typed(window: MainWindow, qtbot: QtBot) -> None:
    workspace, row = window.workspace, window.timeline.passages
    workspace.sessions.document.commit("p", lambda session: add_passage(
        session, Passage(name="Bridge", start=5.0, end=10.0)))
    qtbot.mouseDClick(row, Qt.MouseButton.LeftButton, pos=QPointF(row.x_of(7.0), MIDDLE).toPoint())
    assert workspace.sessions.session.loop == Loop(5 * 48000, 10 * 48000)
    dialog = PassageDialog(workspace.sessions, passages(window)[0], window)
    dialog.name.setText("Middle eight")
    dialog.fade_out.setValue(1.5)
    dialog.end.setValue(12.0)
    dialog.accept()
    passage = passages(window)[0]
    assert (passage.name, passage.end, passage.fade_out) == ("Middle eight", 12.0, 1.5)


def test_markers_are_dropped_and_jumped_to(window: MainWindow, qtbot: QtBot) -> None:
    workspace, timeline = window.workspace, window.timeline

    def at(seconds: float) -> None:
        qtbot.waitUntil(lambda: abs(timeline.waves.position - seconds * 48000) <= 1, timeout=5000)

    workspace.playback.locate(3 * 48000)
    at(3.0)
    window.activateWindow()
    timeline.waves.setFocus()
    qtbot.keyClick(timeline.waves, Qt.Key.Key_M)
    assert [marker.at for marker in workspace.sessions.session.markers] == [pytest.approx(3.0, abs=1e-3)]
    workspace.sessions.document.commit("p", lambda session: add_passage(
        session, Passage(name="Bridge", start=6.0, end=9.0)))
    qtbot.keyClick(timeline.waves, Qt.Key.Key_Period)
    at(6.0)
    qtbot.keyClick(timeline.waves, Qt.Key.Key_Comma)
    at(3.0)
    qtbot.keyClick(timeline.waves, Qt.Key.Key_Comma)
    at(0.0)
    dialog = MarkerDialog(workspace.sessions, workspace.sessions.session.markers[0], window)
    dialog.name.setText("Foghorn")
    dialog.at.setValue(4.0)
    dialog.accept()
    assert [(marker.at, marker.name) for marker in workspace.sessions.session.markers] == [(4.0, "Foghorn")]


def test_m_on_a_row_of_the_desk_still_mutes(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    row = window.desk.rows[workspace.selection.strip_id]
    window.activateWindow()
    row.setFocus()
    qtbot.keyClick(row, Qt.Key.Key_M)
    assert workspace.selection.strip.mute
    assert workspace.sessions.session.markers == ()


def test_passages_from_markers_and_from_the_loop(window: MainWindow) -> None:
    workspace = window.workspace
    workspace.sessions.document.commit("m", lambda session: add_marker(
        add_marker(session, 8.0, "Chorus"), 2.0, "Verse"))
    window.timeline.passages_from_markers()
    assert [(passage.name, passage.start) for passage in passages(window)] == [("Verse", 2.0), ("Chorus", 8.0)]
    assert passages(window)[0].end == 8.0
    window.timeline.passage_from_loop()
    loop = workspace.sessions.session.loop
    assert any(passage.start == loop.start / 48000 for passage in passages(window))


def test_bars_begin_where_they_are_told_to(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    window.timeline.begin_bars(24000)
    assert workspace.sessions.session.first_beat == 0.5
    waves = window.timeline.waves
    start, end = (QPointF(waves.x_of(24000 + beats * BEAT * 48000), 6).toPoint() for beats in (8.1, 15.9))
    drag(qtbot, waves, start, end)
    loop = workspace.sessions.session.loop
    assert (loop.start, loop.end) == (round(24000 + 8 * BEAT * 48000), round(24000 + 16 * BEAT * 48000))


def test_places_are_saved_and_refused(tmp_path: Path) -> None:
    session = passages_between_markers(add_marker(add_marker(EMPTY, 1.0, "a"), 4.0, "b"), 9.0)
    session = edit_passage(session, session.passages[0]).with_(first_beat=0.25, starts_at=3600.0)
    write_session(session, tmp_path / "s.ember")
    assert read_session(tmp_path / "s.ember") == session
    words = (tmp_path / "s.ember").read_text()
    (tmp_path / "bad.ember").write_text(words.replace('"end": 9.0', '"end": 2.0'))
    with pytest.raises(SessionFileError, match=r"passages\[1\]\.end: must come after its start"):
        read_session(tmp_path / "bad.ember")


def test_passages_are_printed_each_to_its_file(window: MainWindow, tmp_path: Path, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.sessions.document.commit("p", lambda session: add_passage(
        add_passage(session, Passage(name="Verse", start=2.0, end=3.0, fade_out=0.25)),
        Passage(name="Bridge", start=5.0, end=6.0, fade_out=0.25)))
    dialog = workspace.give(PrintDialog, window)
    dialog.folder.setText(str(tmp_path))
    dialog.stretch.setCurrentText("Every passage, one by one")
    dialog.accept()
    names = [f"Night Ferry to Saltmouth - mix - {name}.wav" for name in ("Verse", "Bridge")]
    qtbot.waitUntil(lambda: all((tmp_path / name).exists() for name in names), timeout=60000)
    assert [soundfile.info(tmp_path / name).frames for name in names] == [60000, 60000]
    assert [read_marks(tmp_path / name).time for name in names] == [2.0, 5.0]


def test_one_passage_is_rendered_by_its_name(demo: Session, tmp_path: Path) -> None:
    session = add_passage(demo, Passage(name="Bridge", start=3.0, end=3.5, fade_out=0.0))
    write_session(session, tmp_path / "s.ember")
    assert main(["render", str(tmp_path / "s.ember"), "--out", str(tmp_path), "--passage", "Bridge"]) == 0
    assert [soundfile.info(path).frames for path in tmp_path.glob("*.wav")] == [24000]
    assert main(["render", str(tmp_path / "s.ember"), "--out", str(tmp_path), "--passage", "Coda"]) == 1
