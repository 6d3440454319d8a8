"""What comes in live is heard soon: by shorter filters, which change the phase and not the tone."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.signal import welch

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.session.edits.edits import add_stage
from yellow_ember.session.edits.live_edits import insert_input_track, use_own_ports
from yellow_ember.session.values.live_input import LiveInput
from yellow_ember.session.values.model import Loop, Session, new_stage

RATE, BLOCK = 48000, 128


def with_stages(session: Session, *kinds: str, own_ports: bool = True) -> tuple[Session, str]:
    """A live input through some stages, that does not reach the bus's and the master's."""
    session, strip_id = insert_input_track(session.with_(loop=Loop(0, 0, False)), "band", LiveInput())
    for kind in kinds:
        session = add_stage(session, strip_id, new_stage(kind))
    return use_own_ports(session, strip_id, on=own_ports), strip_id


def graph_of(session: Session, factor: int = 4) -> Graph:
    return Graph(session.with_(quality=session.quality.with_(live=factor)), GraphSettings(factor, BLOCK, live=True))


def run(session: Session, strip_id: str, sound: Samples) -> Samples:
    """What a strip's path makes of what comes in, (frames,) each."""
    graph = graph_of(session)
    node = graph.nodes[strip_id]
    assert node.listener is not None
    out = []
    for at in range(0, sound.size, BLOCK):
        node.listener.feed(sound[None, at:at + BLOCK])
        graph.process([(at, BLOCK)], BLOCK)
        out.append(node.out(BLOCK)[0].copy())
    return np.concatenate(out)


@pytest.mark.parametrize(("kinds", "most_ms"), [
    (("tape",), 1.5), (("amp", "cabinet"), 1.03), (("drive",), 1.4), (("eq", "comp"), 0.0)])
def test_live_stages_are_heard_soon(kinds: tuple[str, ...], most_ms: float, demo: Session) -> None:
    session, strip_id = with_stages(demo, *kinds)
    graph = graph_of(session)
    assert graph.nodes[strip_id].live_latency is not None
    assert 1000.0 * graph.nodes[strip_id].live_latency / RATE <= most_ms
    # What is printed, and what only plays files, stays exact in phase.
    exact = Graph(session, GraphSettings(4, BLOCK)).nodes[strip_id].chain.latency
    by_choice = graph_of(session.with_(quality=session.quality.with_(low_delay=False)))
    assert by_choice.nodes[strip_id].chain.latency == exact >= graph.nodes[strip_id].chain.latency


def test_a_tape_heard_soon_has_the_tone_of_the_exact_one(demo: Session) -> None:
    session, strip_id = with_stages(demo, "tape")
    exactly = session.with_(quality=session.quality.with_(low_delay=False))
    sound = 0.05 * np.random.default_rng(3).standard_normal(8 * RATE // BLOCK * BLOCK)
    tones, places = [], []
    for each in (session, exactly):
        out = run(each, strip_id, sound)
        hz, power = welch(out, RATE, nperseg=4096)
        tones.append(10.0 * np.log10(power))
        places.append(int(np.argmax(np.abs(np.correlate(out[RATE:3 * RATE], sound[RATE:2 * RATE], "valid")))))
    band = (hz > 60.0) & (hz < 16000.0)
    assert np.abs((tones[0] - tones[1])[band]).max() < 1.0
    # Each is where it is told to be.
    for each, place in zip((session, exactly), places, strict=True):
        assert abs(place - graph_of(each).nodes[strip_id].chain.latency) <= 4


def test_buses_that_live_sound_reaches_are_quick_too(demo: Session) -> None:
    session, _ = with_stages(demo, own_ports=False)
    session = add_stage(session, "band", new_stage("tape"))
    session = add_stage(session, "rhythm", new_stage("tape"))
    graph = graph_of(session)
    assert graph.nodes["band"].low_delay
    assert not graph.nodes["rhythm"].low_delay
    assert graph.nodes["band"].chain.latency < graph.nodes["rhythm"].chain.latency
