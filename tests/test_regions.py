"""Files on a track: start, in, out and fades; several one after another; dragged, typed, and placed by time stamp."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QApplication, QMessageBox
from pytestqt.qtbot import QtBot

from test_value_bar import drag
from yellow_ember.app.panels.region_hands import NAME_BAR
from yellow_ember.app.panels.wave_view import TOP
from yellow_ember.app.tools.time_dialogs import RegionDialog
from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.printing import PrintOrder, print_session
from yellow_ember.files.conformed import conform_all
from yellow_ember.files.file_marks import read_marks, write_time_stamp
from yellow_ember.session.edits.time_edits import add_region, edit_region, place_by_time_stamp
from yellow_ember.session.io.session_file import read_session, write_session
from yellow_ember.session.values.model import Session, new_track, session_from_audio
from yellow_ember.session.values.regions import Region

if TYPE_CHECKING:
    from collections.abc import Callable

    from conftest import OpenWindow
    from yellow_ember.app.main_window import MainWindow

RATE = 48000
CENTRE = np.sqrt(0.5)


def heard(session: Session, frames: int, block: int = 512) -> Samples:
    """What comes out of the master (2, frames)."""
    conform_all(session.files, session.rate)
    graph = Graph(session, GraphSettings(1, block))
    return np.concatenate([graph.process([(at, block)], block).copy() for at in range(0, frames, block)],
                          axis=1)[:, :frames]


@pytest.fixture
def ones(tmp_path: Path) -> Path:
    """A second of ones, one channel."""
    soundfile.write(tmp_path / "ones.wav", np.ones(RATE), RATE, subtype="FLOAT")
    return tmp_path / "ones.wav"


def with_regions(session: Session, *regions: Region) -> Session:
    strip = session.strips[0]
    return session.with_strip(strip.with_(regions=regions)).with_(ceiling_dbfs=0.0)


def test_a_region_begins_and_ends_to_the_frame(ones: Path) -> None:
    session = with_regions(session_from_audio([ones], RATE),
                           Region(audio=ones, start=0.25, begin=0.1, end=0.4))
    out = heard(session, RATE)
    expected = np.zeros(RATE)
    expected[12000:12000 + 14400] = CENTRE
    assert np.abs(out - expected).max() < 1e-7


@pytest.mark.parametrize("block", [64, 333, 4096])
def test_fades_that_overlap_add_up_to_one(ones: Path, block: int) -> None:
    session = with_regions(session_from_audio([ones], RATE), Region(audio=ones, end=0.5, fade_out=0.2),
                           Region(audio=ones, start=0.3, end=0.6, fade_in=0.2))
    out = heard(session, round(0.9 * RATE), block)
    assert np.abs(out - CENTRE).max() < 1e-6
    alone = heard(with_regions(session, Region(audio=ones, fade_in=0.5, fade_out=0.25)), RATE, block)[0] / CENTRE
    assert np.all(np.diff(alone[:24000]) > 0.0)
    assert np.all(np.diff(alone[36000:]) < 0.0)
    assert alone[0] < 1e-6
    assert alone[12000] == pytest.approx(0.5, abs=1e-3)
    assert alone[42000] == pytest.approx(0.5, abs=1e-3)


def test_mono_and_stereo_share_a_track(ones: Path, tmp_path: Path) -> None:
    wide = tmp_path / "wide.wav"
    soundfile.write(wide, np.stack([0.5 * np.ones(1000), -0.5 * np.ones(1000)], axis=1), RATE, subtype="FLOAT")
    session = with_regions(session_from_audio([ones], RATE), Region(audio=ones, end=0.25),
                           Region(audio=wide, start=0.5))
    out = heard(session, RATE)
    # One channel is on both sides of a track that has two, at its own level.
    assert np.abs(out[:, :12000] - 1.0).max() < 1e-6
    assert np.abs(out[0, 24000:25000] - 0.5).max() < 1e-6
    assert np.abs(out[1, 24000:25000] + 0.5).max() < 1e-6


def test_the_same_however_it_is_cut_and_wherever_it_begins(make_audio: Callable[..., Path]) -> None:
    noise = make_audio(channels=2, seconds=1.0)
    session = with_regions(session_from_audio([noise], RATE), Region(audio=noise, start=0.1, begin=0.2, fade_in=0.1),
                           Region(audio=noise, start=0.6, end=0.7, fade_out=0.3))
    whole = heard(session, 2 * RATE, 4096)
    assert np.array_equal(heard(session, 2 * RATE, 96), whole)
    graph = Graph(session, GraphSettings(1, 1024))
    late = np.concatenate([graph.process([(at, 1024)], 1024).copy() for at in range(30000, 60000, 1024)], axis=1)
    assert np.array_equal(late, whole[:, 30000:30000 + late.shape[1]])


@given(st.floats(-5.0, 1e6), st.floats(-5.0, 20.0), st.floats(-5.0, 20.0), st.floats(-1.0, 50.0), st.floats(-1.0, 50.0))
def test_a_region_is_kept_within_its_file(start: float, begin: float, end: float, fade_in: float,
                                          fade_out: float) -> None:
    track = new_track(Path("/a.wav"))
    session = Session(strips=(track,))
    region = replace(track.regions[0], start=start, begin=begin, end=end, fade_in=fade_in, fade_out=fade_out)
    result = edit_region(session, track.id, region, 10.0).strip(track.id).regions[0]
    span = result.span(RATE, 10 * RATE)
    assert 0 <= span.offset < span.offset + span.frames <= 10 * RATE
    assert 0 <= span.fade_in <= span.frames
    assert 0 <= span.fade_out <= span.frames
    assert span.first >= 0


# -- time stamps ----------------------------------------------------------------------------


def test_files_lie_where_their_time_stamps_say(make_audio: Callable[..., Path]) -> None:
    paths = [make_audio(f"{name}.wav") for name in ("a", "b", "c")]
    times = {paths[0]: 3600.0 * 10 + 2.5, paths[1]: 3600.0 * 10 + 0.75}
    session = place_by_time_stamp(session_from_audio(paths, RATE), times)
    assert [strip.regions[0].start for strip in session.strips[:3]] == [2.5, 0.75, 0.0]
    assert session.starts_at == 36000.0
    # A second import goes by the time of day that the session has by now.
    later = place_by_time_stamp(session, {paths[2]: 36004.0})
    assert later.strips[2].regions[0].start == 4.0


def test_prints_line_up_by_their_time_stamps(make_audio: Callable[..., Path], tmp_path: Path) -> None:
    session = session_from_audio([make_audio(seconds=2.0)], RATE).with_(starts_at=7200.0)
    conform_all(session.files, RATE)
    printed = print_session(lambda _share: None, session, PrintOrder(tmp_path, start=24000, end=48000))
    assert read_marks(printed.files[0]).time == 7200.5


def test_placing_is_offered_at_import(open_window: OpenWindow, make_audio: Callable[..., Path], qtbot: QtBot) -> None:
    window = open_window(None)
    paths = [make_audio("a.wav"), make_audio("b.wav")]
    write_time_stamp(paths[0], 3600.0, RATE)
    write_time_stamp(paths[1], 3601.25, RATE)
    sessions = window.workspace.sessions
    sessions.open_audio(paths)
    box = next(child for child in window.findChildren(QMessageBox) if child.isVisible())
    qtbot.mouseClick(box.buttons()[0], Qt.MouseButton.LeftButton)
    assert [strip.regions[0].start for strip in sessions.session.strips[:2]] == [0.0, 1.25]
    window.undo()
    assert sessions.session.strips[1].regions[0].start == 0.0


# -- in the window --------------------------------------------------------------------------


def test_a_region_is_moved_cut_and_faded_by_hand(window: MainWindow, qtbot: QtBot) -> None:
    workspace, waves = window.workspace, window.timeline.waves
    session = workspace.sessions.session
    strip_id = workspace.selection.strip_id
    window._splitters["down"].setSizes([500, 220])
    QApplication.processEvents()
    beat = 60.0 / session.tempo

    def x(seconds: float) -> float:
        return waves.x_of(seconds * RATE)

    def region() -> Region:
        return workspace.sessions.session.strip(strip_id).regions[0]

    def dragged(start: QPointF, end: QPointF, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        drag(qtbot, waves, start.toPoint(), end.toPoint(), modifier)

    bar, middle = TOP + NAME_BAR / 2, TOP + 60
    dragged(QPointF(x(10.0), bar), QPointF(x(10.0 + 4.2 * beat), bar))
    assert region().start == pytest.approx(4 * beat, abs=1e-4)
    assert workspace.sessions.document.undo_label == "Move a region"
    # Its beginning: what is heard stays where it is.
    dragged(QPointF(x(4 * beat), middle), QPointF(x(8 * beat), middle))
    assert (region().start, region().begin) == (pytest.approx(8 * beat, abs=1e-4), pytest.approx(4 * beat, abs=1e-4))
    # A fade, from its corner.
    dragged(QPointF(x(8 * beat) + 5, bar), QPointF(x(12 * beat), bar))
    assert region().fade_in == pytest.approx(4 * beat, abs=1e-4)
    # Anywhere with Alt.
    dragged(QPointF(x(20.0), middle), QPointF(x(20.0 + 8 * beat), middle), Qt.KeyboardModifier.AltModifier)
    assert region().start == pytest.approx(16 * beat, abs=1e-4)
    for _ in range(4):
        window.undo()
    assert region() == session.strip(strip_id).regions[0]


def test_a_region_is_typed(window: MainWindow) -> None:
    workspace = window.workspace
    strip = workspace.selection.strip
    place = workspace.imports.placed(strip)[0]
    window.timeline.place_region(strip.id, place)
    dialog = next(child for child in window.findChildren(RegionDialog))
    dialog.start.setValue(3.25)
    dialog.begin.setValue(1.0)
    dialog.out.setValue(2.5)
    dialog.fade_out.setValue(0.5)
    dialog.accept()
    region = workspace.selection.strip.regions[0]
    assert (region.start, region.begin, region.end, region.fade_out) == (3.25, 1.0, 2.5, 0.5)


@pytest.mark.parametrize(("snap", "beats"), [("beat", 8.0), ("bar", 8.0), ("off", 8.1), ("crossing", 8.1)])
def test_a_file_is_dropped_on_a_track_where_snapping_says(snap: str, beats: float, window: MainWindow,
                                                          make_audio: Callable[..., Path], qtbot: QtBot) -> None:
    workspace, waves = window.workspace, window.timeline.waves
    workspace.settings.snap = snap
    take, mime = make_audio("take.wav"), QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(take))])
    beat = 60.0 / workspace.sessions.session.tempo
    at = QPointF(waves.x_of(8.1 * beat * RATE), TOP + 20)
    for event in (QDragEnterEvent(at.toPoint(), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton,
                                  Qt.KeyboardModifier.NoModifier),
                  QDropEvent(at, Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton,
                             Qt.KeyboardModifier.NoModifier)):
        QApplication.sendEvent(waves, event)
    strip = workspace.selection.strip
    assert [region.audio for region in strip.regions][1:] == [take]
    assert strip.regions[1].start == pytest.approx(beats * beat, abs=0.02)
    qtbot.waitUntil(lambda: len(workspace.imports.placed(workspace.selection.strip)) == 2, timeout=20000)


def test_regions_are_saved_and_refused(make_audio: Callable[..., Path], tmp_path: Path) -> None:
    path = make_audio()
    session = session_from_audio([path], RATE)
    session = add_region(session, session.strips[0].id, path, 4.0)
    write_session(session, tmp_path / "s.ember")
    assert read_session(tmp_path / "s.ember") == session
    words = (tmp_path / "s.ember").read_text()
    for old, new, place in (('"start": 4.0', '"start": -4.0', r"strips\[0\].regions\[1\].start"),
                            ('"fade_in": 0.0', '"fade_in": NaN', r"fade_in|NaN"),
                            ('"end": null', '"end": 0.0', r"regions\[0\].end")):
        (tmp_path / "bad.ember").write_text(words.replace(old, new))
        with pytest.raises(Exception, match=place):
            read_session(tmp_path / "bad.ember")
