"""Few steps: a bus for the chosen, copies, empty paths, files that are dropped, prints that are remembered."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
import soundfile
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QWidget

from conftest import OpenWindow
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.dialogs import PrintDialog
from yellow_ember.cli import main
from yellow_ember.dsp.lanes import Lane, Point
from yellow_ember.session.edits.edits import add_macro, add_stage, edit_strip
from yellow_ember.session.edits.lane_edits import put_lane
from yellow_ember.session.edits.strip_edits import (
    bus_for,
    clear_paths,
    duplicate_strip,
    move_strip,
    reset_strips,
)
from yellow_ember.session.io.presets import SHIPPED
from yellow_ember.session.io.session_file import read_session, write_session
from yellow_ember.session.values.macros import Target
from yellow_ember.session.values.model import MASTER, Session, StripKind, new_stage
from yellow_ember.shipped import DEMO


@pytest.fixture
def demo() -> Session:
    return read_session(DEMO)


def rows(session: Session) -> list[tuple[str, int]]:
    return [(strip.name, depth) for strip, depth in session.depth_first()]


def with_all(session: Session, strip_id: str) -> Session:
    """A strip with a stage, a macro on it, and lanes of its fader and of the macro."""
    stage = new_stage("drive")
    session = add_macro(add_stage(session, strip_id, stage), strip_id, "Grit",
                        (Target(stage=stage.id, parameter="drive_db", low=0.0, high=24.0),))
    macro = session.strip(strip_id).macros[-1]
    for name in ("volume_db", macro.id):
        session = put_lane(session, strip_id, "", Lane(parameter=name, points=(Point(0.0, 0.0), Point(4.0, 1.0))))
    return session


# -- edits ------------------------------------------------------------------------------------


def test_a_bus_takes_what_its_strips_fed(demo: Session) -> None:
    session, bus_id = bus_for(demo, ("brushed-drums", "upright-bass"), "Low end")
    bus = session.strip(bus_id)
    assert (bus.kind, bus.out) == (StripKind.BUS, "rhythm")
    assert {strip.id for strip in session.feeding(bus_id)} == {"brushed-drums", "upright-bass"}
    session, bus_id = bus_for(demo, ("brushed-drums", "harmonium"), "Both")
    assert session.strip(bus_id).out == MASTER
    # A bus and a track of it: the track stays in its bus.
    session, bus_id = bus_for(demo, ("rhythm", "upright-bass"), "All")
    assert session.strip("rhythm").out == bus_id
    assert session.strip("upright-bass").out == "rhythm"
    with pytest.raises(ValueError, match="Choose the tracks"):
        bus_for(demo, (MASTER,), "Nothing")


def test_a_copy_shares_no_ids_and_sounds_the_same(demo: Session) -> None:
    session = with_all(demo, "harmonium")
    copied, copy_id = duplicate_strip(session, "harmonium")
    old, new = copied.strip("harmonium"), copied.strip(copy_id)
    assert new.name == "Harmonium 2"
    assert copied.strips.index(new) == copied.strips.index(old) + 1

    def ids(strip_id: str) -> set[str]:
        strip = copied.strip(strip_id)
        return {strip.id, *(stage.id for stage in strip.chain), *(macro.id for macro in strip.macros),
                *(region.id for region in strip.regions)}

    assert not ids("harmonium") & ids(copy_id)
    assert [stage.params for stage in new.chain] == [stage.params for stage in old.chain]
    assert new.macros[-1].targets[0].stage == new.chain[-1].id
    assert {lane.parameter for lane in new.lanes} == {"volume_db", new.macros[-1].id}
    again, other = duplicate_strip(copied, "harmonium")
    assert again.strip(other).name == "Harmonium 3"
    with pytest.raises(ValueError, match="one master"):
        duplicate_strip(session, MASTER)


def test_clearing_and_resetting(demo: Session, tmp_path: Path) -> None:
    session = with_all(edit_strip(demo, "harmonium", lambda strip: strip.with_(volume_db=-9.0, mute=True)), "harmonium")
    cleared = clear_paths(session, ("harmonium", "upright-bass")).strip("harmonium")
    assert (cleared.chain, cleared.macros, cleared.match_db) == ((), (), 0.0)
    assert [lane.parameter for lane in cleared.lanes] == ["volume_db"]
    assert cleared.volume_db == -9.0
    fresh = reset_strips(session, ("harmonium",))
    strip = fresh.strip("harmonium")
    assert (strip.chain, strip.lanes, strip.volume_db, strip.mute, strip.sends) == ((), (), 0.0, False, ())
    assert (strip.regions, strip.out, strip.name) == (demo.strip("harmonium").regions, "band", "Harmonium")
    write_session(fresh, tmp_path / "a.ember")
    assert read_session(tmp_path / "a.ember").strip("harmonium").chain == ()


def test_strips_are_moved_beside_others(demo: Session) -> None:
    moved = move_strip(demo, "upright-bass", "brushed-drums", after=False)
    assert [strip.id for strip in moved.feeding("rhythm")] == ["upright-bass", "brushed-drums"]
    moved = move_strip(demo, "upright-bass", "harmonium", after=True)
    assert [strip.id for strip in moved.feeding("band")] == ["harmonium", "upright-bass", "plucked-guitar"]
    assert moved.strips[-1].kind is StripKind.MASTER
    with pytest.raises(ValueError, match="master"):
        move_strip(demo, MASTER, "harmonium", after=True)
    with pytest.raises(ValueError, match="circle"):
        move_strip(demo, "rhythm", "upright-bass", after=True)
    assert move_strip(demo, "rhythm", "rhythm", after=True) == demo


# -- in the window ----------------------------------------------------------------------------


def use(window: MainWindow, words: str) -> None:
    bar = window.menuBar()
    assert bar is not None
    next(entry for menu in bar.actions() for entry in menu.menu().actions() if entry.text() == words).trigger()


def test_one_step_makes_a_bus_of_the_chosen(window: MainWindow) -> None:
    workspace = window.workspace
    workspace.selection.choose_only("harmonium")
    workspace.selection.choose_also("upright-bass")
    before = workspace.sessions.session
    use(window, "New bus for the chosen strips")
    bus = workspace.selection.strip
    assert bus.kind is StripKind.BUS
    assert {strip.id for strip in workspace.sessions.session.feeding(bus.id)} == {"harmonium", "upright-bass"}
    window.undo()
    assert workspace.sessions.session.strips == before.strips
    workspace.selection.choose_only(MASTER)
    use(window, "New bus for the chosen strips")
    assert "Choose the tracks" in workspace.messages.all[-1].text


def test_an_empty_track_is_inserted_and_takes_files(window: MainWindow, make_audio: Callable[..., Path],
                                                    tmp_path: Path) -> None:
    workspace = window.workspace
    workspace.selection.choose_only("harmonium")
    use(window, "Insert a track")
    track, session = workspace.selection.strip, workspace.sessions.session
    assert (track.kind, track.out, track.regions) == (StripKind.TRACK, session.strip("harmonium").out, ())
    assert session.strips.index(track) == session.strips.index(session.strip("harmonium")) + 1
    drop(window.desk.rows[track.id], [make_audio("gull.wav")])
    assert [path.stem for path in workspace.selection.strip.files] == ["gull"]
    workspace.selection.choose_only(MASTER)
    use(window, "Insert a track")
    assert workspace.selection.strip.out == MASTER
    write_session(workspace.sessions.session, tmp_path / "a.ember")
    assert read_session(tmp_path / "a.ember").strip(workspace.selection.strip_id).regions == ()


def test_a_strip_is_duplicated_cleared_and_reset(window: MainWindow) -> None:
    workspace = window.workspace
    workspace.selection.select("upright-bass")
    window.path_view.add("drive")
    use(window, "Duplicate the strip")
    copy = workspace.selection.strip
    assert copy.id != "upright-bass"
    assert [stage.kind for stage in copy.chain] == ["drive"]
    use(window, "Clear the path")
    assert workspace.selection.strip.chain == ()
    window.undo()
    assert len(workspace.selection.strip.chain) == 1
    use(window, "Reset the strip")
    assert workspace.selection.strip.chain == ()
    assert workspace.sessions.session.strip("upright-bass").chain


def drop(view: QWidget, paths: list[Path], at: QPointF = QPointF(50, 50)) -> None:  # noqa: B008
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    view.dropEvent(QDropEvent(at, Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton,
                              Qt.KeyboardModifier.NoModifier))


def test_files_dropped_on_the_window_become_tracks(window: MainWindow, make_audio: Callable[..., Path]) -> None:
    sessions = window.workspace.sessions
    before = [strip.id for strip in sessions.session.strips]
    drop(window, [make_audio("gulls.wav"), make_audio("bell.flac")])
    names = [strip.name for strip in sessions.session.strips]
    assert {"gulls", "bell"} <= set(names)
    assert set(before) <= {strip.id for strip in sessions.session.strips}
    window.undo()
    assert [strip.id for strip in sessions.session.strips] == before


def test_files_dropped_on_a_strip_are_its_sound(window: MainWindow, make_audio: Callable[..., Path]) -> None:
    sessions = window.workspace.sessions
    drop(window.desk.rows["harmonium"], [make_audio("more.wav")])
    assert [path.stem for path in sessions.session.strip("harmonium").files][-1] == "more"
    drop(window.desk.rows["rhythm"], [make_audio("tambourine.wav")])
    added = next(strip for strip in sessions.session.strips if strip.name == "tambourine")
    assert added.out == "rhythm"


def test_files_dropped_on_a_path(window: MainWindow, make_audio: Callable[..., Path], tmp_path: Path) -> None:
    selection = window.workspace.selection
    selection.select("upright-bass")
    preset = next(SHIPPED.glob("*.json"))
    drop(window.path_view, [preset])
    assert selection.strip.chain
    window.workspace.sessions.document.undo()
    response = make_audio("tin.wav", seconds=0.2)
    drop(window.path_view, [response])
    assert [stage.kind for stage in selection.strip.chain] == ["cabinet"]
    assert selection.strip.chain[0].params["ir"] == str(response)
    other = make_audio("pipe.wav", seconds=0.2)
    drop(window.path_view, [other], window.path_view.columns()[0].center())
    assert [stage.params["ir"] for stage in selection.strip.chain] == [str(other)]
    before = window.workspace.sessions.session
    broken = tmp_path / "no.json"
    broken.write_text("{")
    drop(window.path_view, [broken])
    assert "no.json" in window.workspace.messages.all[-1].text
    assert window.workspace.sessions.session == before


def test_the_print_dialog_remembers(window: MainWindow, tmp_path: Path) -> None:
    workspace = window.workspace
    workspace.selection.select("upright-bass")
    first = workspace.give(PrintDialog, window)
    first.what.setCurrentIndex(1)
    first.kind.setCurrentText("WAV, 24 bit")
    first.stretch.setCurrentIndex(1)
    first.folder.setText(str(tmp_path / "prints"))
    first._remember()
    workspace.selection.select("harmonium")
    second = workspace.give(PrintDialog, window)
    (order,) = second.orders()
    loop = workspace.sessions.session.loop
    assert (order.strips, order.dtype, order.folder) == (("harmonium",), "pcm24", tmp_path / "prints")
    assert (order.start, order.end) == (loop.start, loop.end)


# -- render -----------------------------------------------------------------------------------


def test_render_takes_strips_depth_and_loop(session_file: Path, tmp_path: Path,
                                            capsys: pytest.CaptureFixture[str]) -> None:
    session = read_session(session_file)
    tracks = [strip for strip in session.strips if strip.kind is StripKind.TRACK][:2]
    assert main(["render", str(session_file), "--out", str(tmp_path / "out"), "--strip", tracks[0].name.upper(),
                 "--strip", tracks[1].id, "--dtype", "pcm16", "--loop", "--oversample", "1"]) == 0
    files = sorted((tmp_path / "out").iterdir())
    assert len(files) == 2
    for file in files:
        info = soundfile.info(file)
        assert info.subtype == "PCM_16"
        assert info.frames == session.loop.end - session.loop.start
    capsys.readouterr()
    assert main(["render", str(session_file), "--out", str(tmp_path), "--strip", "Foghorn"]) != 0
    assert "no strip is called 'Foghorn'" in capsys.readouterr().err


@pytest.fixture
def session_file(demo: Session, tmp_path: Path) -> Path:
    """The demo's first tracks, dry, with a short loop."""
    loop = replace(demo.loop, start=0, end=12000)
    strips = tuple(strip.with_(chain=(), macros=(), lanes=()) for strip in demo.strips)
    write_session(demo.with_(strips=strips, loop=loop, links=(), snapshots=()), tmp_path / "dry.ember")
    return tmp_path / "dry.ember"


def test_an_empty_session_takes_files_as_its_own(open_window: OpenWindow, make_audio: Callable[..., Path]) -> None:
    window = open_window(None)
    drop(window, [make_audio("one.wav", rate=44100)])
    assert window.workspace.sessions.session.rate == 44100
