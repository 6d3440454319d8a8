"""Recording from the window: arming, where it lies, what becomes of it, and takes."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from pytestqt.qtbot import QtBot

from conftest import OpenWindow, said
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.recording import LOOP
from yellow_ember.app.state.settings import Settings, load_settings, save_settings
from yellow_ember.engine.live.devices import OWN_OUTPUT
from yellow_ember.engine.live.messages import Record
from yellow_ember.session.edits.live_edits import insert_input_track, use_own_ports
from yellow_ember.session.edits.take_edits import add_takes, choose_take, forget_take, is_heard, take_of
from yellow_ember.session.io.session_file import read_session, write_session
from yellow_ember.session.values.live_input import LiveInput
from yellow_ember.session.values.model import Loop, Session, Strip
from yellow_ember.shipped import DEMO

RATE = 48000


@pytest.fixture
def listening(open_window: OpenWindow, qtbot: QtBot, tmp_path: Path) -> MainWindow:
    """The demo, saved, with a track that hears what is played, and does not play it again."""
    session = read_session(DEMO).with_(loop=Loop(RATE, 3 * RATE, False))
    session, strip_id = insert_input_track(session, "band", LiveInput(channels=(1, 2)))
    session = use_own_ports(session, strip_id, on=True)
    write_session(session, tmp_path / "Crossing.ember")
    window = open_window(tmp_path / "Crossing.ember", settings=Settings(feed=OWN_OUTPUT, block=256, match_lock=False,
                                                                       background_printing=False))
    qtbot.waitUntil(lambda: window.workspace.playback.state.live_latency is not None, timeout=60000)
    window.workspace.selection.select(strip_id)
    return window


def run(window: MainWindow, name: str) -> None:
    window.workspace.commands.find(name).action.trigger()


def finished(window: MainWindow, qtbot: QtBot) -> Strip:
    """The chosen strip when all is on it."""
    qtbot.waitUntil(lambda: not window.workspace.recording.running, timeout=30000)
    return window.workspace.selection.strip


def position(window: MainWindow) -> int:
    return window.workspace.playback.state.position


def test_an_armed_track_is_recorded_and_plays_what_was(listening: MainWindow, qtbot: QtBot, tmp_path: Path) -> None:
    workspace, panel = listening.workspace, listening.desk.input
    run(listening, "Arm the track")
    assert panel.arm.isChecked()
    assert "armed for recording" in listening.desk.rows[workspace.selection.strip_id].accessibleDescription()
    steps = len(workspace.sessions.document.steps)
    run(listening, "Record")
    assert listening.top_line.record.isChecked()
    qtbot.waitUntil(lambda: position(listening) > 2 * RATE, timeout=30000)
    run(listening, "Record")
    strip = finished(listening, qtbot)
    assert not listening.top_line.record.isChecked()
    take, = strip.takes
    assert take.audio == tmp_path / "Crossing recordings" / "Input 1 and 2 1.wav"
    assert (strip.files, strip.listens, take.start) == ((take.audio,), False, 0.0)
    assert soundfile.info(take.audio).frames > 1.5 * RATE
    assert panel.takes.text() == "Takes (1)"
    # It is one step, and the file stays when that is taken back.
    assert len(workspace.sessions.document.steps) == steps + 1
    run(listening, "Undo")
    assert (workspace.selection.strip.takes, take.audio.exists()) == ((), True)
    run(listening, "Redo")
    listening.save()
    assert read_session(tmp_path / "Crossing.ember").strip(strip.id).takes == (take,)


def test_takes_within_the_loop_are_kept_and_chosen(listening: MainWindow, qtbot: QtBot) -> None:
    workspace = listening.workspace
    workspace.recording.arm_chosen()
    workspace.recording.inside = LOOP
    workspace.recording.set_pre_roll(1.0)
    workspace.sessions.document.commit("Loop", lambda session: session.with_(loop=session.loop.with_(on=True)))
    workspace.recording.toggle()
    qtbot.waitUntil(lambda: position(listening) > 0, timeout=20000)
    assert position(listening) < RATE
    qtbot.wait(5600)
    workspace.recording.toggle()
    strip = finished(listening, qtbot)
    assert len(strip.takes) in (2, 3)
    assert [take.start for take in strip.takes] == [1.0] * len(strip.takes)
    assert strip.takes[0].end == pytest.approx(2.0)
    heard = [is_heard(strip.regions, take) for take in strip.takes]
    assert heard[-1]
    listening.desk.input._fill_takes()
    entries = listening.desk.input.takes.menu().actions()
    assert [action.isChecked() for action in entries[:len(heard)]] == heard
    entries[0].trigger()
    strip = workspace.selection.strip
    assert is_heard(strip.regions, strip.takes[0])
    # Armed still: the next time the track listens again.
    workspace.recording.toggle()
    qtbot.waitUntil(lambda: workspace.selection.strip.listens, timeout=5000)
    qtbot.waitUntil(lambda: workspace.playback.state.playing, timeout=20000)
    workspace.recording.toggle()
    finished(listening, qtbot)


def test_an_engine_that_ends_leaves_what_was_recorded(listening: MainWindow, qtbot: QtBot) -> None:
    workspace = listening.workspace
    workspace.recording.toggle()
    qtbot.waitUntil(lambda: position(listening) > 3 * RATE, timeout=30000)
    workspace.playback.engine.kill()
    strip = finished(listening, qtbot)
    assert "The engine ended while recording" in [message.text for message in workspace.messages.all]
    take, = strip.takes
    assert (take.start, take.end > 1.2) == (0.0, True)


def test_an_engine_that_ends_leaves_the_round_trip_unmeasured(listening: MainWindow, qtbot: QtBot) -> None:
    workspace = listening.workspace
    run(listening, "Measure the round trip")
    blocks = workspace.playback.state.blocks
    workspace.playback.engine.kill()
    qtbot.waitUntil(lambda: "measure it once more" in said(listening), timeout=20000)
    assert workspace.recording.round_trip is None
    qtbot.waitUntil(lambda: workspace.playback.state.blocks < blocks, timeout=20000)
    qtbot.waitUntil(lambda: workspace.playback.state.live_latency is not None, timeout=20000)
    run(listening, "Measure the round trip")
    qtbot.waitUntil(lambda: workspace.recording.round_trip is not None, timeout=20000)


def test_the_round_trip_is_measured_kept_and_used(listening: MainWindow, qtbot: QtBot,
                                                 monkeypatch: pytest.MonkeyPatch) -> None:
    workspace = listening.workspace
    assert workspace.recording.round_trip is None
    run(listening, "Measure the round trip")
    qtbot.waitUntil(lambda: workspace.recording.round_trip is not None, timeout=20000)
    assert workspace.recording.round_trip == workspace.playback.state.delay
    assert f"The round trip is {workspace.playback.state.delay} samples (10.7 ms)" in said(listening)
    save_settings(workspace.settings)
    assert load_settings().round_trips == workspace.settings.round_trips
    orders: list[Record] = []
    monkeypatch.setattr(workspace.playback.engine, "record", orders.append)
    workspace.recording.toggle()
    assert orders[0].round_trip == workspace.recording.round_trip


def test_what_can_not_be_recorded_is_said(listening: MainWindow, tmp_path: Path) -> None:
    workspace = listening.workspace
    (tmp_path / "Crossing recordings").write_text("in the way")
    run(listening, "Record")
    assert "Nothing can be recorded" in said(listening)
    workspace.recording.arm(workspace.selection.strip_id, on=False)
    workspace.selection.select("upright-bass")
    run(listening, "Arm the track")
    assert "has no input to record" in said(listening)
    run(listening, "Record")
    assert "Arm a track that listens to an input first" in said(listening)
    run(listening, "Measure the round trip")
    assert "Choose a track that listens" in said(listening)


def test_recording_lies_where_the_menu_says(listening: MainWindow) -> None:
    workspace, menu = listening.workspace, listening._recording_menu
    menu.aboutToShow.emit()
    words = {action.text(): action for action in menu.actions()}
    assert words["All of it"].isChecked()
    passage = workspace.sessions.session.passages[0]
    words[f"Within {passage.name}"].trigger()
    assert workspace.recording.stretch() == (round(passage.start * RATE), round(passage.end * RATE))
    words["Play 2 s before"].trigger()
    words["Write what leaves the path as well"].trigger()
    assert (workspace.recording.pre_roll, workspace.recording.path_too) == (2.0, True)


def test_a_take_goes_in_between_what_lay_there(demo: Session, tmp_path: Path) -> None:
    long = tmp_path / "long.wav"
    soundfile.write(long, np.zeros(10 * RATE), RATE)
    session = demo.with_strip(demo.strip("upright-bass").with_(regions=(take_of(long, 2.0, 10.0),)))
    takes = [take_of(tmp_path / f"{number}.wav", 4.0, 3.0) for number in range(2)]
    session = add_takes(session, "upright-bass", takes, lambda path: 10.0)
    before, middle, behind = session.strip("upright-bass").regions
    assert (before.start, before.begin, before.end) == (2.0, 0.0, 2.0)
    assert (middle.audio, middle.start, middle.end) == (takes[1].audio, 4.0, 3.0)
    assert (behind.start, behind.begin, behind.end) == (7.0, 5.0, 10.0)
    session = choose_take(session, "upright-bass", takes[0].id, lambda path: 10.0)
    strip = session.strip("upright-bass")
    assert [region.audio for region in strip.regions] == [long, takes[0].audio, long]
    assert len({region.id for region in (*strip.regions, *strip.takes)}) == 5
    session = forget_take(session, "upright-bass", takes[0].id)
    assert session.strip("upright-bass").takes == (takes[1],)
    assert session.strip("upright-bass").regions == strip.regions
    whole = replace(takes[0], start=0.0, end=20.0)
    session = add_takes(session, "upright-bass", [whole], lambda path: 10.0)
    assert [region.audio for region in session.strip("upright-bass").regions] == [whole.audio]
