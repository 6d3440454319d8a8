"""Strips played from prints in the cache: the same as live, back to live without a click, bounded."""

from __future__ import annotations

import functools
import os
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import wait_until
from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.printing import PrintOrder, print_session
from yellow_ember.engine.jobs.strip_prints import find_print, print_file, print_strip, prints_folder, trim_prints
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.engine.print_player import StripPrint
from yellow_ember.session.edits.edits import add_stage, edit_strip, set_parameter
from yellow_ember.session.values.model import Loop, Quality, Session, Strip, new_stage

RATE, BLOCK = 48000, 512
STRIP = "upright-bass"
FRAMES = 4 * RATE
PLENTY = 10**12
SAME = 10.0 ** (-120.0 / 20.0)


def quiet(_share: float) -> None:
    """No progress is shown."""


@pytest.fixture
def session(demo: Session) -> Session:
    """A tape on one track and a drive on the bus that it feeds, live as good as printed."""
    made = add_stage(add_stage(demo, STRIP, new_stage("tape")), "rhythm", new_stage("drive"))
    return made.with_(loop=Loop(0, 0, False), quality=Quality(live=2, printing=2))


def printed(session: Session, strip_id: str = STRIP) -> StripPrint:
    return print_strip(quiet, session, strip_id, FRAMES, PLENTY)


def run(graph: Graph, frames: int, start: int = 0) -> Samples:
    return np.concatenate([graph.process([(at, BLOCK)], BLOCK).copy()
                           for at in range(start, start + frames, BLOCK)], axis=1)


@pytest.mark.parametrize("strip_id", [STRIP, "rhythm"])
def test_a_print_sounds_like_the_running_chain(strip_id: str, session: Session) -> None:
    live = run(Graph(session, GraphSettings(2, BLOCK)), 2 * RATE)
    graph = Graph(session, GraphSettings(2, BLOCK))
    graph.nodes[strip_id].use_print(printed(session, strip_id), at_once=True)
    # Before its first frame arrives a running chain lets through what its filters ring ahead of it.
    assert np.abs(run(graph, 2 * RATE) - live)[:, graph.latency + 1024:].max() < SAME
    assert np.abs(live).max() > 0.05


def test_an_edit_goes_back_to_live_without_a_click_and_a_new_print_takes_over(session: Session) -> None:
    graph = Graph(session, GraphSettings(2, BLOCK))
    node = graph.nodes[STRIP]
    node.use_print(printed(session), at_once=True)
    first = run(graph, RATE)
    stage = session.strip(STRIP).chain[0]
    edited = set_parameter(session, STRIP, stage.id, "record_db", 9.0)
    graph.update(edited)
    second = run(graph, RATE, len(first[0]))
    assert node.record.ran
    node.use_print(printed(edited))
    third = run(graph, RATE, len(first[0]) + len(second[0]))
    assert not node.record.ran
    heard = np.concatenate((first, second, third), axis=1)
    live = [run(Graph(one, GraphSettings(2, BLOCK)), heard.shape[1]) for one in (session, edited)]
    steepest = max(np.abs(np.diff(one)).max() for one in live)
    assert np.abs(np.diff(heard)).max() < 1.05 * steepest
    settled = len(first[0]) + RATE // 2
    # The chain begins from silence: what its filters remember of the time before fades out.
    assert np.abs(heard - live[1])[:, settled:].max() < 1e-3
    assert np.abs(heard - live[0])[:, settled:].max() > 0.01


def test_a_print_of_other_settings_is_not_played(session: Session) -> None:
    result = printed(session)
    stage = session.strip(STRIP).chain[0]
    graph = Graph(set_parameter(session, STRIP, stage.id, "record_db", 9.0), GraphSettings(2, BLOCK))
    graph.nodes[STRIP].use_print(result, at_once=True)
    run(graph, BLOCK)
    assert graph.nodes[STRIP].record.ran


def test_changing_one_s_mind_at_any_moment_does_no_harm(session: Session) -> None:
    result, graph = printed(session), Graph(session, GraphSettings(2, BLOCK))
    live = run(Graph(session, GraphSettings(2, BLOCK)), 3 * RATE)
    rng = np.random.default_rng(4)
    heard = []
    for at in range(0, 3 * RATE, BLOCK):
        if rng.random() < 0.3:
            graph.nodes[STRIP].use_print(result if rng.random() < 0.5 else None)
        heard.append(graph.process([(at, BLOCK)], BLOCK).copy())
    difference = np.abs(np.concatenate(heard, axis=1) - live).max()
    assert difference < 0.02, "never more than what the tape forgets while it rests"


def test_what_a_print_depends_on(session: Session) -> None:
    def names(one: Session) -> tuple[str, str]:
        return print_file(one, STRIP, FRAMES).name, print_file(one, "rhythm", FRAMES).name

    track, bus = names(session)
    stage = session.strip(STRIP).chain[0]
    assert names(set_parameter(session, STRIP, stage.id, "record_db", 1.0)) != (track, bus)
    for change, same in (({"volume_db": -3.0}, True), ({"match_db": -3.0}, True), ({"name": "Low"}, True)):
        changed = names(edit_strip(session, STRIP, functools.partial(Strip.with_, **change)))
        assert (changed[0] == track) is same
        assert (changed[1] == bus) is ("name" in change)
    muted = names(edit_strip(session, STRIP, lambda strip: strip.with_(mute=True)))
    assert muted[0] == track
    assert muted[1] != bus
    assert names(session.with_(tempo=90.0)) != (track, bus)
    assert names(session.with_(quality=Quality(live=4, printing=2))) == (track, bus)
    assert names(session.with_(quality=Quality(live=2, printing=4)))[0] != track


def test_prints_are_found_again_and_bounded(session: Session) -> None:
    result = printed(session)
    assert find_print(session, STRIP, FRAMES) == result
    other = printed(session, "rhythm")
    os.utime(result.data, (1.0, 1.0))
    trim_prints(other.data.stat().st_size)
    assert find_print(session, STRIP, FRAMES) is None
    assert find_print(session, "rhythm", FRAMES) == other
    (prints_folder() / "empty.f32").touch()
    (prints_folder() / "of nothing.json").write_text("{}")
    trim_prints(0)
    assert not list(prints_folder().iterdir())
    result = printed(session)
    result.data.write_bytes(b"half")
    assert find_print(session, STRIP, FRAMES) is None


def test_what_is_heard_from_prints_is_what_is_printed(session: Session, tmp_path: Path) -> None:
    record = tmp_path / "heard.f32"
    client = EngineClient(DeviceSettings(SILENT_CARD, 256, record))
    try:
        wait_until(lambda: client.poll().blocks > 0)
        client.set_session(session)
        client.use_prints((printed(session), printed(session, "rhythm")))
        wait_until(lambda: client.poll().latency > 0)
        client.play(0)
        wait_until(lambda: client.poll().position > 2 * RATE)
        client.stop()
        wait_until(lambda: not client.poll().playing)
    finally:
        client.close()
    heard = np.fromfile(record, np.float32).reshape(-1, 2).T.astype(float)
    file = print_session(quiet, session, PrintOrder(tmp_path, end=RATE)).files[0]


    paper = soundfile.read(file, always_2d=True)[0].T
    index = int(np.argmax(np.correlate(heard[0, :120000], paper[0, 24000:32000], "valid"))) - 24000
    assert np.abs(heard[:, index:index + RATE] - paper).max() < SAME


def test_a_print_that_is_gone_is_said_and_the_strip_runs_live(session: Session) -> None:
    result = printed(session)
    result.data.unlink()
    words: list[str] = []
    client = EngineClient(DeviceSettings(SILENT_CARD, 256), words.append)
    try:
        client.set_session(session)
        wait_until(lambda: client.poll().latency > 0)
        client.use_prints((result,))
        wait_until(lambda: client.poll() and words)
        assert "can't be played" in words[0]
    finally:
        client.close()
