"""A track of one channel has two from the first stage on that makes left and right of it, and costs one before."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from conftest import wait_until
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.parameters import Value
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stages import STAGES
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.measuring import measure_strip
from yellow_ember.engine.jobs.strip_prints import print_strip
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.session.edits.edits import add_stage, edit_strip, set_parameter
from yellow_ember.session.values.model import Session, new_stage

SPREADING: dict[str, dict[str, Value]] = {
    "echo pan": {"tap1_pan": 80.0}, "echo ping": {"style": "ping-pong"}, "echo later": {"offset_ms": 20.0},
    "room": {"spread_pct": 100.0}, "motion": {"spread_pct": 100.0, "wow_pct": 0.5}, "trim": {"pan": 60.0},
    "cabinet": {"near_pan": -70.0, "far_pan": 70.0}, "sway": {"spread_pct": 100.0},
    "wear": {"ageing_spread_pct": 100.0, "ageing_pct": 80.0}}
MONO = "plucked-guitar"


def with_stages(session: Session, *names: str) -> Session:
    for name in names:
        stage = new_stage(name.split()[0])
        session = add_stage(session, MONO, stage)
        for key, value in SPREADING.get(name, {}).items():
            session = set_parameter(session, MONO, stage.id, key, value)
    return session


def played(session: Session, seconds: float = 2.0, block: int = 512) -> np.ndarray:
    """What the track alone gives behind its fader, (2, frames)."""
    graph = Graph(session, GraphSettings(2, block, frozenset({MONO})))
    out = [graph.process([(start, block)], block).copy()
           for start in range(0, round(seconds * session.rate), block)]
    return np.concatenate(out, axis=1)


@pytest.mark.parametrize("name", SPREADING)
def test_left_and_right_differ_behind_a_stage_that_spreads(name: str, demo: Session) -> None:
    out = played(with_stages(demo, name))
    apart = np.sqrt(np.mean((out[0] - out[1]) ** 2) / np.mean(out**2))
    assert apart > 0.02


def test_stages_that_do_not_spread_cost_one_channel(demo: Session) -> None:
    for kind in STAGES:
        if not kind.spreads(kind.defaults()):
            graph = Graph(add_stage(demo, MONO, new_stage(kind.kind)), GraphSettings(2, 256, frozenset({MONO})))
            assert [slot.channels for slot in graph.nodes[MONO].chain.slots] == [1], kind.kind


def test_only_what_follows_has_two_channels(demo: Session) -> None:
    session = with_stages(demo, "drive", "trim", "comp")
    node = Graph(session, GraphSettings(2, 256, frozenset({MONO}))).nodes[MONO]
    assert [slot.channels for slot in node.chain.slots] == [1, 2, 2]
    assert (node.channels, node.out_channels) == (1, 2)
    assert [node.chain.channels_at(point) for point in range(4)] == [1, 1, 2, 2]


def test_the_level_stays_where_it_was(demo: Session) -> None:
    """A pan that hardly moves must not be heard as a change of level."""
    single = with_stages(demo, "drive")
    wide = with_stages(single, "trim")
    stage_id = wide.strip(MONO).chain[-1].id
    wide = set_parameter(wide, MONO, stage_id, "pan", 0.001)
    np.testing.assert_allclose(played(wide), played(single), atol=1e-4)


def test_echo_round_the_whole_path_spreads_too(demo: Session) -> None:
    session = with_stages(demo, "echo ping", "drive")
    session = set_parameter(session, MONO, session.strip(MONO).chain[0].id, "loop", "path")
    out = played(session, 3.0)
    assert np.isfinite(out).all()
    assert np.abs(out[0] - out[1]).max() > 1e-3


@pytest.mark.parametrize("block", [64, 441, 2048])
def test_blocks_do_not_matter(block: int, demo: Session) -> None:
    session = with_stages(demo, "drive", "echo ping", "comp")
    whole, cut = played(session, 1.0, 512), played(session, 1.0, block)
    frames = min(whole.shape[1], cut.shape[1])
    np.testing.assert_allclose(whole[:, :frames], cut[:, :frames], atol=1e-9)


def test_without_widening_a_chain_keeps_its_channels() -> None:
    stage = new_stage("room")
    chain = Chain(Setup(48000.0, 1, 256, 1), [stage])
    block = np.random.default_rng(1).standard_normal((1, 256))
    assert chain.process(block) is block
    assert chain.channels == 1


def test_prints_and_measurements_have_two_channels(demo: Session) -> None:
    session = with_stages(demo, "trim")
    result = print_strip(lambda _: None, session, MONO, 48000, 2**30)
    assert result.channels == 2
    measured = measure_strip(lambda _: None, session, MONO)
    # Constant-power law: a balance of 60 % takes as much from one side as it leaves on the other.
    assert measured.after.integrated_lufs < measured.before.integrated_lufs
    single = measure_strip(lambda _: None, with_stages(demo, "limit"), MONO)
    assert abs(single.offset_db) < 0.2


def test_turning_a_spread_up_while_playing_is_heard_on_the_card(demo: Session, tmp_path: Path,
                                                               make_audio: Callable[..., Path]) -> None:
    record = tmp_path / "card.raw"
    session = demo.with_(strips=tuple(
        strip.with_(solo=strip.id == MONO, pan=0.0) for strip in with_stages(demo, "trim").strips))
    stage_id = session.strip(MONO).chain[0].id
    single = set_parameter(session, MONO, stage_id, "pan", 0.0)
    engine = EngineClient(DeviceSettings(SILENT_CARD, 256, record))
    try:
        engine.set_session(single)
        engine.play()
        wait_until(lambda: engine.poll().playing)
        _run(engine, 1.5)
        engine.set_session(edit_strip(session, MONO, lambda strip: strip))
        _run(engine, 1.5)
    finally:
        engine.close()
    sound = np.fromfile(record, np.float32).reshape(-1, 2)
    parts = [sound[round(part * len(sound)):][:24000] for part in (0.25, 0.8)]
    apart = [float(np.sqrt(np.mean((part[:, 0] - part[:, 1]) ** 2) / max(np.mean(part**2), 1e-12))) for part in parts]
    assert apart[0] < 1e-6
    assert apart[1] > 0.3
    clicks = np.abs(np.diff(sound, axis=0)).max()
    assert clicks < 0.5


def _run(engine: Any, seconds: float) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        engine.poll()
        time.sleep(0.02)
