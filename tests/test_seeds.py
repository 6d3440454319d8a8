"""Noises: each its own, the same again, wherever its stage stands; and heard from the first frame as printed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from conftest import wait_until
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.chain import Chain, run_whole
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.file_processing import FileOrder, process_file
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.session.edits.edits import add_stage, edit_strip, set_parameter
from yellow_ember.session.values.model import Loop, Session, Strip, StripKind, master_strip, new_stage

RATE = 48000


def noisy(kind: str, stage_id: str = "") -> StageSettings:
    """A stage that makes noise of its own."""
    stage = new_stage(kind)
    values = {"tape": {"hiss": True}, "vinyl": {"noises": True}}[kind]
    return replace(stage, id=stage_id or stage.id, params={**stage.params, **values})


def noise_of(session: Session, strip_id: str, seconds: float = 1.0) -> Samples:
    """What comes out of a strip that gets nothing."""
    graph = Graph(session, GraphSettings(1, 4096))
    node, result = graph.nodes[strip_id], []
    for start in range(0, round(seconds * RATE), 4096):
        graph.process([(start, 4096)], 4096)
        result.append(node.out(4096).copy())
    return np.concatenate(result, axis=1)


def test_ten_thousand_names_have_seeds_of_their_own() -> None:
    seeds = [seed_from(1, f"track-{strip}", f"tape-{stage}") for strip in range(128) for stage in range(16)]
    assert len(set(seeds)) == len(seeds)
    assert seed_from(1, "ab", "c") != seed_from(1, "a", "bc")
    assert seed_from(1, "bass") != seed_from(2, "bass")
    assert all(0 <= seed < 2**32 for seed in seeds)


def test_the_noises_of_many_strips_add_up_as_different_ones() -> None:
    """Sixty tapes: 10 log 60 dB more power than one, where equal ones would have up to 20 log 60."""
    tracks = tuple(Strip(id=f"track-{number}", name="T", kind=StripKind.TRACK, chain=(noisy("tape"),))
                   for number in range(60))
    session = Session(strips=(*tracks, master_strip()))
    graph = Graph(session, GraphSettings(1, 4096))
    power, single, crossed = 0.0, 0.0, []
    for start in range(0, RATE, 4096):
        graph.process([(start, 4096)], 4096)
        outs = [graph.nodes[track.id].out(4096).copy() for track in tracks]
        power += float(np.sum(sum(outs) ** 2))
        single += sum(float(np.sum(out**2)) for out in outs)
        crossed.append(np.corrcoef([out[0] for out in outs])) if start > 20000 else None
    assert 10.0 * np.log10(power / single) == pytest.approx(0.0, abs=0.5)
    worst = np.abs(np.mean(crossed, axis=0) - np.eye(60)).max()
    assert worst < 0.1


@pytest.mark.parametrize("kind", ["tape", "vinyl"])
def test_both_channels_of_a_stage_have_noises_of_their_own(kind: str) -> None:
    chain = Chain(Setup(RATE, 2, 4096, 1, seed=5), [noisy(kind)])
    left, right = run_whole(chain, np.zeros((2, RATE)), 4096)
    assert np.abs(left).max() > 0.0
    assert abs(np.corrcoef(left, right)[0, 1]) < 0.9


def test_a_stage_s_noise_stays_where_another_comes_before_it(demo: Session) -> None:
    strip_id, tape = "upright-bass", noisy("tape")
    session = edit_strip(demo, strip_id, lambda strip: strip.with_(regions=(), chain=()))
    session = add_stage(session, strip_id, tape)
    alone = noise_of(session, strip_id)
    trim = new_stage("trim")
    behind = noise_of(add_stage(session, strip_id, trim, 0), strip_id)
    assert np.abs(alone).max() > 1e-6
    assert np.abs(alone - behind).max() < 1e-9
    other = noise_of(session.with_(seed=2), strip_id)
    assert np.abs(alone - other).max() > 1e-6


def test_a_chain_from_a_file_makes_the_same_noise_each_time(make_audio: Callable[..., Path], tmp_path: Path) -> None:
    source, results = make_audio("in.wav", seconds=0.5), []
    for number in range(2):
        target = tmp_path / f"{number}.wav"
        process_file(source, target, [noisy("tape"), noisy("tape")], FileOrder(1))
        results.append(soundfile.read(target)[0])
    assert np.array_equal(*results)


@pytest.mark.parametrize("block", [256, 700])
@pytest.mark.parametrize("start", [0, 4000])
def test_heard_from_the_first_frame_as_printed_through_a_print_through(
        start: int, block: int, demo: Session, tmp_path: Path) -> None:
    """A tape that looks ahead delays by a turn of the reel: not a frame of the beginning may be lost or faded."""
    strip_id, tape = "brushed-drums", new_stage("wear")
    session = add_stage(demo.with_(loop=Loop(0, 0, False)), strip_id, tape)
    session = set_parameter(session, strip_id, tape.id, "print_through_db", -40.0)
    graph = Graph(session, GraphSettings(session.quality.live, 4096))
    assert graph.latency > RATE // 4, "it looks ahead"
    expected, done = [], start
    while done < start + graph.latency + RATE:
        expected.append(graph.process([(done, 4096)], 4096).copy())
        done += 4096
    printed = np.concatenate(expected, axis=1)[:, graph.latency:graph.latency + RATE // 2]
    record = tmp_path / "card.raw"
    client = EngineClient(DeviceSettings(SILENT_CARD, block, record))
    try:
        client.set_session(session)
        client.locate(start)
        wait_until(lambda: client.poll().latency > RATE // 4)
        client.play()
        wait_until(lambda: _poll(client).playing)
        wait_until(lambda: record.stat().st_size > 8 * RATE and _sounds(record), 30.0)
    finally:
        client.close()
    heard = np.fromfile(record, np.float32).reshape(-1, 2).T.astype(np.float64)
    # Where the first sample of the print lies in the recording.
    first = int(np.argmax(np.abs(heard).max(axis=0) > 0.0))
    lead = int(np.argmax(np.abs(printed).max(axis=0) > 0.0))
    begin = first - lead
    length = min(printed.shape[1], heard.shape[1] - begin)
    error = heard[:, begin:begin + length] - printed[:, :length]
    checked = error if start == 0 else error[:, RATE // 20:]
    assert np.abs(checked).max() < 10.0 ** (-120.0 / 20.0)


def _poll(client: EngineClient) -> Any:
    return client.poll()


def _sounds(record: Path) -> bool:
    sound = np.fromfile(record, np.float32)
    first = int(np.argmax(np.abs(sound) > 0.0))
    return bool(np.any(sound)) and sound.size - first > RATE
