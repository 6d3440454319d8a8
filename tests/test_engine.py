"""The engine's process, the silent card, printing, workers: everything that runs beside the window."""

from __future__ import annotations

import multiprocessing
import os
import pickle
import signal
import threading
import time
from collections.abc import Callable, Iterator
from multiprocessing.context import ForkServerProcess
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from conftest import DRY_DEMO, wait_until
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.parameters import Number
from yellow_ember.dsp.slot import Slot
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.job import Job, JobError
from yellow_ember.engine.jobs.measuring import measure_strip
from yellow_ember.engine.jobs.printing import PrintOrder, print_session, stems
from yellow_ember.engine.live.board import Board
from yellow_ember.engine.live.cards import DeviceError, SilentCard, queued_frames
from yellow_ember.engine.live.changes import PackedSession, ValueChange, value_changes, with_changes
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import SILENT_CARD, device_names, open_card
from yellow_ember.engine.live.messages import ChangeDevice, ChangeValues, DeviceSettings, Play, SetSession, Stop
from yellow_ember.engine.live.ports import Ports
from yellow_ember.engine.live.preparing import NewGraph, NewValues, Preparer
from yellow_ember.engine.live.process import Engine
from yellow_ember.engine.transport import Transport
from yellow_ember.files.conformed import conform
from yellow_ember.files.reading import AudioFileError
from yellow_ember.session.edits.edits import add_stage, edit_strip, set_parameter
from yellow_ember.session.io.session_file import read_session
from yellow_ember.session.values.model import MASTER, Loop, Session, new_stage
from yellow_ember.session.values.strip_values import STRIP_VALUES

NO_LOOP = Loop(0, 0, False)
MakeEngine = Callable[..., EngineClient]


@pytest.fixture
def coloured(demo: Session) -> Session:
    """The demo with a tape on a bus and a saturation stage on a track."""
    session = add_stage(demo, "rhythm", new_stage("tape"))
    return add_stage(session, "upright-bass", new_stage("drive")).with_(loop=NO_LOOP)


@pytest.fixture(scope="module")
def coloured_once() -> Session:
    session = add_stage(read_session(DRY_DEMO), "rhythm", new_stage("tape"))
    return add_stage(session, "upright-bass", new_stage("drive")).with_(loop=NO_LOOP)


@pytest.fixture
def engine(tmp_path: Path) -> Iterator[Callable[..., EngineClient]]:
    started: list[EngineClient] = []

    def start(record: Path | None = None, say: Callable[[str], None] = lambda text: None) -> EngineClient:
        client = EngineClient(DeviceSettings(SILENT_CARD, 256, record), say)
        started.append(client)
        wait_until(lambda: client.poll().blocks > 0)
        return client

    yield start
    for client in started:
        client.close()


def quiet(_share: float) -> None:
    """No progress is shown."""


def printed(session: Session, folder: Path, **order: Any) -> Samples:
    """The mix as printed, (2, frames)."""
    result = print_session(quiet, session, PrintOrder(folder, **order))
    return soundfile.read(result.files[0], always_2d=True)[0].T


def recorded(path: Path) -> Samples:
    return np.fromfile(path, np.float32).reshape(-1, 2).T.astype(float)


def settle(client: EngineClient, session: Session) -> None:
    """Send a session and wait until the engine has built it."""
    client.set_session(session)
    wait_until(lambda: client.poll().latency > 0 or not any(strip.chain for strip in session.strips))
    time.sleep(0.2)


def test_what_is_heard_is_what_is_printed(coloured: Session, engine: MakeEngine, tmp_path: Path) -> None:
    record = tmp_path / "heard.f32"
    client = engine(record)
    settle(client, coloured)
    client.play(0)
    wait_until(lambda: client.poll().position > 3 * 48000)
    client.stop()
    wait_until(lambda: not client.poll().playing)
    heard = recorded(record)
    paper = printed(coloured, tmp_path, oversample=coloured.quality.live, end=2 * 48000)
    index = int(np.argmax(np.correlate(heard[0, :120000], paper[0, 24000:32000], "valid"))) - 24000
    heard = heard[:, index:index + paper.shape[1]]
    assert np.abs(heard - paper).max() < 10.0 ** (-120.0 / 20.0)


def test_the_loop_has_no_gap(demo: Session, engine: MakeEngine, tmp_path: Path) -> None:
    record = tmp_path / "heard.f32"
    client = engine(record)
    loop = Loop(4 * 120000, 4 * 120000 + 24123)
    settle(client, demo.with_(loop=loop))
    length = loop.end - loop.start
    client.play(loop.start)
    wait_until(lambda: client.poll().playing)
    enough = record.stat().st_size + 8 * 7 * length // 2
    wait_until(lambda: client.poll() and record.stat().st_size > enough)
    client.stop()
    wait_until(lambda: not client.poll().playing)
    heard = recorded(record)
    paper = printed(demo, tmp_path, start=loop.start, end=loop.end)
    first = int(np.argmax(np.abs(heard).max(axis=0) > 1e-7))
    # The second and third time round, wherever the fade-in began.
    window = heard[:, first:first + 3 * length]
    lag = int(np.argmax(np.correlate(window[0, length // 2:2 * length + length // 2], paper[0, :4000], "valid")))
    again = window[:, length // 2 + lag:length // 2 + lag + length]
    assert np.abs(again - paper).max() < 1e-5


def test_killed_while_playing_it_goes_on_at_the_same_place(coloured: Session, engine: MakeEngine) -> None:
    said: list[str] = []
    client = engine(say=said.append)
    settle(client, coloured)
    client.play(48000)
    wait_until(lambda: client.poll().position > 2 * 48000)
    before = client.poll().position
    client.kill()
    killed = time.monotonic()
    wait_until(lambda: client.poll().playing and client.restarts == 1 and client.poll().blocks > 2)
    assert time.monotonic() - killed < 2.0
    assert abs(client.poll().position - before) < 48000
    assert "nothing was lost" in said[0]
    wait_until(lambda: float(client.reading(MASTER).vu.max()) > 0.01)


def test_an_engine_that_is_being_started_again_can_be_ended_meanwhile(
        coloured: Session, engine: MakeEngine, monkeypatch: pytest.MonkeyPatch) -> None:
    """As where a desktop ends the program and its engine at once."""
    client = engine()
    settle(client, coloured)
    starting, go_on, start = threading.Event(), threading.Event(), ForkServerProcess.start

    def slow(process: ForkServerProcess) -> None:
        starting.set()
        assert go_on.wait(10.0)
        start(process)

    monkeypatch.setattr(ForkServerProcess, "start", slow)
    client.kill()
    looking = threading.Thread(target=lambda: wait_until(lambda: client.poll() and client.restarts == 1))
    looking.start()
    assert starting.wait(10.0)
    client.kill()
    go_on.set()
    looking.join(10.0)
    wait_until(lambda: client.poll().blocks > 2)


def test_a_hung_engine_is_replaced(coloured: Session, engine: MakeEngine) -> None:
    said: list[str] = []
    client = engine(say=said.append)
    settle(client, coloured)
    assert client.pid is not None
    os.kill(client.pid, signal.SIGSTOP)
    wait_until(lambda: client.poll() and client.restarts == 1, 5.0)
    assert "stopped answering" in said[0]
    wait_until(lambda: client.poll().blocks > 2)


def test_an_engine_counts_as_hung_by_looks_and_not_where_the_program_stood(coloured: Session, engine: MakeEngine
                                                                           ) -> None:
    client = engine()
    settle(client, coloured)
    assert client.pid is not None
    os.kill(client.pid, signal.SIGSTOP)
    time.sleep(1.5)
    client.poll()
    os.kill(client.pid, signal.SIGCONT)
    blocks = client.poll().blocks
    client.play(0)
    wait_until(lambda: client.poll().blocks > blocks)
    assert client.restarts == 0


def test_an_engine_that_cannot_run_is_not_tried_for_ever(coloured: Session, engine: MakeEngine) -> None:
    said: list[str] = []
    client = engine(say=said.append)
    settle(client, coloured)
    for _ in range(4):
        killed = client.pid
        client.kill()
        while client.pid == killed and not any("tried again in a while" in text for text in said):
            client.poll()
            time.sleep(0.005)
    assert client.restarts == 3
    assert len(said) == 4


def test_it_rests_while_nothing_sounds_and_plays_at_once(coloured: Session, engine: MakeEngine, tmp_path: Path
                                                         ) -> None:
    record = tmp_path / "out.raw"
    client = engine(record)
    client.set_session(coloured)
    wait_until(lambda: client.poll().latency > 0)

    def blocks_in(seconds: float) -> int:
        before, end = client.poll().blocks, time.monotonic() + seconds
        wait_until(lambda: client.poll() is not None and time.monotonic() > end)
        return client.poll().blocks - before

    wait_until(lambda: blocks_in(0.5) < 5)
    began = time.monotonic()
    client.play(0)
    wait_until(lambda: client.poll().playing and client.poll().position > 0)
    assert time.monotonic() - began < 1.5
    assert blocks_in(0.5) > 50
    assert client.restarts == 0


def test_meters_scope_and_before(coloured: Session, engine: MakeEngine) -> None:
    client = engine()
    settle(client, coloured)
    client.watch("rhythm", 0)
    client.play(0)
    wait_until(lambda: client.poll().position > 3.5 * 48000)
    reading = client.reading("rhythm")
    assert 0.01 < reading.point_vu[0] < 1.0
    assert 0.01 < reading.point_vu[1] < 1.0
    assert -60.0 < client.reading(MASTER).short_term < 0.0
    before, after = client.scope()
    assert np.abs(before).max() > 0.01
    assert np.abs(after).max() > 0.01
    assert client.reading("nobody") is None


def test_structure_can_change_while_playing(coloured: Session, engine: MakeEngine, tmp_path: Path) -> None:
    record = tmp_path / "heard.f32"
    client = engine(record)
    settle(client, coloured)
    client.play(0)
    wait_until(lambda: client.poll().position > 48000)
    more = add_stage(add_stage(coloured, MASTER, new_stage("tape")), "band", new_stage("drive"))
    old = client.poll().latency
    client.set_session(more)
    wait_until(lambda: client.poll().latency > old)
    client.locate(10 * 48000)
    wait_until(lambda: client.poll().position > 10 * 48000 + 12000)
    client.set_session(coloured)
    wait_until(lambda: client.poll().latency == old)
    time.sleep(0.3)
    client.stop()
    wait_until(lambda: not client.poll().playing)
    heard = recorded(record)
    assert np.all(np.isfinite(heard))
    steepest = max(np.abs(np.diff(printed(session, tmp_path, oversample=4))).max() for session in (coloured, more))
    assert np.abs(np.diff(heard)).max() <= 1.05 * steepest


Parts = tuple[Engine, Callable[[Callable[[], object]], None]]


@pytest.fixture
def parts() -> Iterator[Parts]:
    """The engine's parts in this process, so that a command can come at any moment; runs blocks until it holds."""
    ours, theirs = multiprocessing.Pipe()
    board = Board()
    engine = Engine(theirs, board, DeviceSettings(SILENT_CARD, 256))

    def blocks_until(condition: Callable[[], object]) -> None:
        end = time.monotonic() + 60.0
        engine.play_until(lambda: bool(condition()) or time.monotonic() > end)
        assert condition()

    blocks_until(ours.poll)
    yield engine, blocks_until
    engine.close()
    ours.close()
    board.close()


def test_an_edit_while_a_new_graph_waits_for_its_turn(coloured: Session, parts: Parts) -> None:
    engine, blocks_until = parts
    engine.receive(SetSession(PackedSession.of(coloured)))
    blocks_until(lambda: engine.graph is not None)
    engine.receive(Play(0))
    blocks_until(lambda: engine.transport.playing)
    stage = new_stage("trim")
    more = add_stage(coloured, "band", stage)
    engine.receive(SetSession(PackedSession.of(more)))
    wait_until(lambda: engine._take_prepared() or engine._waiting is not None)
    engine.receive(ChangeValues(changes_of(more, set_parameter(more, "band", stage.id, "gain_db", 3.0))))
    blocks_until(lambda: engine._waiting is None and engine.graph.session.strip("band").stage(
        stage.id).params["gain_db"] == 3.0)
    assert engine.graph.nodes["band"].chain.slots[0].settings.params["gain_db"] == 3.0


@pytest.mark.parametrize("block", [128, 512])
def test_another_block_length_while_graphs_are_on_their_way(block: int, coloured: Session, parts: Parts) -> None:
    engine, blocks_until = parts
    engine.receive(SetSession(PackedSession.of(coloured)))
    blocks_until(lambda: engine.graph is not None)
    engine.receive(Play(0))
    blocks_until(lambda: engine.transport.playing)
    engine.receive(SetSession(PackedSession.of(add_stage(coloured, "band", new_stage("drive")))))
    engine.receive(ChangeDevice(DeviceSettings(SILENT_CARD, block)))
    engine.receive(SetSession(PackedSession.of(coloured), reload=True))
    blocks_until(lambda: engine.graph is not None and not engine.graph.nodes["band"].chain.slots
                 and engine._waiting is None and engine._silence_left <= 0)
    before = engine.transport.position
    blocks_until(lambda: engine.transport.position > before + 4800)
    assert engine.graph.settings.max_block == block
    engine.receive(ChangeDevice(DeviceSettings(SILENT_CARD, 256)))
    engine.receive(Stop())
    blocks_until(lambda: not engine.transport.playing)


def changes_of(before: Session, after: Session) -> tuple[ValueChange, ...]:
    changes = value_changes(before, after)
    assert changes is not None
    return changes


def test_what_differs_is_said_in_small_messages(coloured: Session) -> None:
    drive = coloured.strip("upright-bass").chain[0]
    moved = set_parameter(coloured, "upright-bass", drive.id, "drive_db", 9.0)
    (change,) = changes_of(coloured, moved)
    assert (change.strip_id, change.stage_id, change.name, change.value) == ("upright-bass", drive.id, "drive_db", 9.0)
    assert len(pickle.dumps(ChangeValues((change,)))) < 400
    assert value_changes(coloured, edit_strip(coloured, "band", lambda strip: strip.with_(name="Players"))) == ()
    assert value_changes(coloured, add_stage(coloured, "band", new_stage("trim"))) is None
    assert value_changes(coloured, coloured.with_(seed=coloured.seed + 1)) is None


@given(data=st.data())
def test_small_messages_lead_to_the_same_session(coloured_once: Session, data: st.DataObject) -> None:
    """Any values of any strips and stages, of the session and of sends."""
    session = coloured_once
    for _ in range(data.draw(st.integers(1, 5))):
        strip = data.draw(st.sampled_from(session.strips))
        value = data.draw(st.sampled_from(STRIP_VALUES))
        other = value.at(0.3) if isinstance(value, Number) else not value.default_value
        session = session.with_strip(strip.with_(**{value.id: other}))
        strip = session.strip(strip.id)
        if strip.chain:
            stage = data.draw(st.sampled_from(strip.chain))
            parameter = data.draw(st.sampled_from([one for one in stage.declaration.parameters
                                                   if isinstance(one, Number)]))
            session = set_parameter(session, strip.id, stage.id, parameter.id,
                                    parameter.at(data.draw(st.floats(0.0, 1.0))))
    session = session.with_(tempo=data.draw(st.floats(60.0, 180.0)), loop=Loop(0, 48000, True))
    changes = value_changes(coloured_once, session)
    if changes is not None:
        assert value_changes(with_changes(coloured_once, changes), session) == ()


def test_new_values_are_worked_out_beside_the_audio_thread(coloured: Session, monkeypatch: pytest.MonkeyPatch) -> None:
    """In the order they come, those that pile up in one go, and a graph anew where the last one does not fit."""
    rehearsed: list[tuple[str, object]] = []
    rehearse = Slot.rehearse
    monkeypatch.setattr(Slot, "rehearse", lambda slot, settings: (
        rehearsed.append((threading.current_thread().name, settings.params["drive_db"])), rehearse(slot, settings)))
    preparer, results = Preparer(pytest.fail), list[Any]()

    def take(done: Callable[[], object]) -> None:
        wait_until(lambda: results.extend(filter(None, [preparer.result()])) or done())

    preparer.build(PackedSession.of(coloured), 256, fresh=True)
    drive = coloured.strip("upright-bass").chain[0].id
    session = coloured
    for step in range(1, 6):
        moved = set_parameter(session, "upright-bass", drive, "drive_db", 3.0 * step)
        preparer.change(changes_of(session, moved))
        session = moved
    take(lambda: results and value_changes(results[-1].session, session) == ())
    assert isinstance(results[0], NewGraph)
    assert all(isinstance(one, NewValues) and one.strip_ids == {"upright-bass"} for one in results[1:])
    assert len(results) < 6, "what piled up while the graph was made comes together"
    assert rehearsed[-1][1] == 15.0
    assert all(name != threading.current_thread().name for name, _ in rehearsed)
    wide = new_stage("room")
    mono = edit_strip(coloured, "upright-bass", lambda strip: strip.with_(chain=(wide,)))
    results.clear()
    preparer.build(PackedSession.of(mono), 256, fresh=False)
    take(lambda: results)
    assert isinstance(results[0], NewGraph)
    preparer.close()


def test_values_that_could_not_be_worked_out_come_with_the_next(
        coloured: Session, monkeypatch: pytest.MonkeyPatch) -> None:
    """A failure is said, and the strip is not forgotten."""
    rehearse, failures, said, results = Slot.rehearse, [OSError("no more memory")], list[str](), list[Any]()

    def failing(slot: Slot, settings: StageSettings) -> None:
        if failures:
            raise failures.pop()
        rehearse(slot, settings)

    monkeypatch.setattr(Slot, "rehearse", failing)
    preparer = Preparer(said.append)
    preparer.build(PackedSession.of(coloured), 256, fresh=True)
    drive = coloured.strip("upright-bass").chain[0]
    moved = set_parameter(coloured, "upright-bass", drive.id, "drive_db", 9.0)
    later = edit_strip(moved, "rhythm", lambda strip: strip.with_(volume_db=-9.0))
    wait_until(lambda: results.extend(filter(None, [preparer.result()])) or results)
    preparer.change(changes_of(coloured, moved))
    wait_until(lambda: said)
    preparer.change(changes_of(moved, later))
    wait_until(lambda: results.extend(filter(None, [preparer.result()])) or len(results) > 1)
    assert "no more memory" in said[0]
    assert results[1].strip_ids == {"upright-bass", "rhythm"}
    assert results[1].session.strip("upright-bass").stage(drive.id).params["drive_db"] == 9.0
    preparer.close()


def test_a_session_is_packed_without_what_the_engine_does_not_need(coloured: Session) -> None:
    packed = PackedSession.of(coloured)
    assert value_changes(packed.unpacked(), coloured) == ()
    assert (packed.frame.strips, packed.frame.snapshots, packed.frame.links) == ((), (), ())


def test_before_is_the_input_in_step(demo: Session) -> None:
    session = add_stage(demo, "upright-bass", new_stage("tape")).with_(loop=NO_LOOP)
    session = edit_strip(session, "upright-bass", lambda strip: strip.with_(volume_db=0.0))
    only = frozenset({"upright-bass"})
    graph = Graph(session, GraphSettings(2, 1024, only))
    graph.nodes["upright-bass"].hear(before=True, at_once=True)
    audio = session.strip("upright-bass").files[0]
    assert audio is not None
    source = np.fromfile(conform(audio, 48000).data, np.float32)
    out = np.concatenate([graph.process([(at, 1024)], 1024)[0].copy() for at in range(0, 48 * 1024, 1024)])
    delay = graph.latency
    assert np.abs(out[delay:] - source[:out.size - delay] * np.sqrt(0.5)).max() < 1e-9


def test_strips_arrive_together(demo: Session) -> None:
    """Two strips of the same file, one with a chain at rest: their difference cancels."""
    bass, guitar = demo.strip("upright-bass"), demo.strip("plucked-guitar")
    session = demo.with_strip(guitar.with_(regions=bass.regions, out="rhythm", pan=0.0, volume_db=bass.volume_db))
    trim, rest = new_stage("trim"), new_stage("drive")
    session = add_stage(add_stage(session, guitar.id, trim), guitar.id, rest)
    session = set_parameter(session, guitar.id, trim.id, "polarity", True)
    for name, value in (("shape", "hard"), ("drive_db", 0.0), ("out_db", 0.0)):
        session = set_parameter(session, guitar.id, rest.id, name, value)
    session = edit_strip(session, "brushed-drums", lambda strip: strip.with_(mute=True))
    graph = Graph(session, GraphSettings(8, 1024, frozenset(session.upstream("rhythm"))))
    out = np.concatenate([graph.process([(at, 1024)], 1024).copy() for at in range(0, 64 * 1024, 1024)], axis=1)
    # What is left lies above 20 kHz.
    assert np.abs(out).max() < 3e-4


def test_the_ceiling_holds_and_says_so(demo: Session, tmp_path: Path) -> None:
    loud = edit_strip(demo, MASTER, lambda strip: strip.with_(volume_db=12.0)).with_(loop=NO_LOOP)
    result = print_session(quiet, loud, PrintOrder(tmp_path, end=10 * 48000))
    samples = soundfile.read(result.files[0])[0]
    assert np.abs(samples).max() <= 10.0 ** (demo.ceiling_dbfs / 20.0) + 1e-6
    assert result.ceiling_db < -1.0


def test_stems_add_up_to_the_mix(coloured: Session, tmp_path: Path) -> None:
    strips = tuple(stems(coloured))
    result = print_session(quiet, coloured, PrintOrder(tmp_path, strips, end=2 * 48000))
    files = dict(zip(strips, result.files, strict=True))
    assert len(set(files.values())) == len(coloured.strips)
    buses = sum(soundfile.read(files[name])[0] for name in ("rhythm", "band", "voice"))
    assert np.abs(buses - soundfile.read(files[MASTER])[0]).max() < 1e-5


def test_printing_never_overwrites_and_leaves_no_half_file(coloured: Session, tmp_path: Path,
                                                           monkeypatch: pytest.MonkeyPatch) -> None:
    order = PrintOrder(tmp_path, end=24000)
    first, second = (print_session(quiet, coloured, order).files[0] for _ in range(2))
    assert first != second
    names = set(tmp_path.iterdir())

    def full(handle: int) -> None:
        raise OSError(28, os.strerror(28))

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(AudioFileError, match="The disk is full"):
        print_session(quiet, coloured, order)
    assert set(tmp_path.iterdir()) == names
    with pytest.raises(AudioFileError, match="there is no folder"):
        print_session(quiet, coloured, PrintOrder(tmp_path / "no"))


def test_cancelled_print_leaves_nothing(coloured: Session, tmp_path: Path) -> None:
    job = Job(print_session, coloured, PrintOrder(tmp_path, oversample=16))
    wait_until(lambda: job.poll() or job.share > 0.02)
    job.cancel()
    assert list(tmp_path.iterdir()) == []
    with pytest.raises(JobError, match="cancelled"):
        job.result()


def test_jobs_report_errors_in_words(demo: Session, tmp_path: Path) -> None:
    job: Job[Any] = Job(print_session, demo, PrintOrder(tmp_path / "no"))
    wait_until(job.poll)
    with pytest.raises(JobError, match="there is no folder"):
        job.result()
    job = Job(measure_strip, demo.with_(strips=(demo.master,), loop=NO_LOOP), MASTER)
    wait_until(job.poll)
    with pytest.raises(JobError, match="nothing to measure"):
        job.result()


@pytest.mark.parametrize("strip_id", ["upright-bass", "rhythm", MASTER])
def test_measuring_matches_within_a_tenth(strip_id: str, demo: Session, tmp_path: Path) -> None:
    stage = new_stage("tape")
    session = add_stage(demo, strip_id, stage)
    session = set_parameter(session, strip_id, stage.id, "record_db", 9.0)
    result = measure_strip(quiet, session, strip_id)
    assert -60.0 < result.comparison.added_db < -10.0
    matched = edit_strip(session, strip_id, lambda strip: strip.with_(match_db=result.offset_db))
    again = measure_strip(quiet, matched, strip_id)
    assert again.after.integrated_lufs + result.offset_db == pytest.approx(again.before.integrated_lufs, abs=0.1)


def test_a_clean_strip_adds_nothing(demo: Session) -> None:
    session = add_stage(demo, "plucked-guitar", new_stage("trim"))
    result = measure_strip(quiet, session, "plucked-guitar")
    assert result.comparison.added_db < -200.0
    assert result.offset_db == pytest.approx(0.0, abs=1e-6)


def test_transport_goes_round() -> None:
    transport, loop = Transport(), Loop(100, 130)
    transport.go(90)
    assert transport.advance(75, loop) == [(90, 40), (100, 30), (100, 5)]
    assert transport.heard(10, loop) == 125
    assert transport.advance(10, NO_LOOP) == [(105, 10)]
    transport.go(500)
    assert transport.heard(64, loop) == 500


def test_silent_card_keeps_time_and_counts_late_blocks() -> None:
    card = SilentCard(48000, 256)
    block = np.zeros((256, 2), np.float32)
    queue = queued_frames(48000, 256) / 48000
    started = last = time.monotonic()
    stalls = 0
    for _ in range(400):
        card.write(block)
        now = time.monotonic()
        # Where the machine itself held this loop up, a dry queue is no fault of the card's.
        stalls += now - last > 0.5 * queue
        last = now
    assert time.monotonic() - started >= 400 * 256 / 48000 - queue - 0.01
    assert card.missed <= stalls
    missed = card.missed
    time.sleep(0.15)
    card.write(block)
    assert card.missed == missed + 1


def test_devices() -> None:
    assert device_names()[0] == SILENT_CARD
    with pytest.raises(DeviceError):
        open_card(DeviceSettings("No such card", 256), 48000, Ports(), live=False)
