"""Strips side by side: whatever threads run them, the samples are the same."""

from __future__ import annotations

import threading

import numpy as np
import pytest

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.plan import Crew
from yellow_ember.session.edits.edits import add_bus, add_stage, edit_strip, set_parameter
from yellow_ember.session.values.model import MASTER, Send, Session, new_stage


@pytest.fixture
def knotted(demo: Session) -> Session:
    """A bus fed by tracks, by another bus and by sends from before and behind faders; a stage or two everywhere."""
    session = demo
    for index, strip in enumerate(demo.strips):
        for kind in ("drive", "echo", "trim")[:1 + index % 3]:
            session = add_stage(session, strip.id, new_stage(kind))
    tracks = [strip.id for strip in session.strips if strip.files]
    session = add_bus(session, "Deck")
    bus = next(strip.id for strip in session.strips if strip.name == "Deck")
    sends = (Send(to=bus, level_db=-6.0, pre=True),), (Send(to=bus, level_db=-3.0),)
    session = edit_strip(session, tracks[0], lambda strip: strip.with_(sends=sends[0]))
    session = edit_strip(session, tracks[1], lambda strip: strip.with_(sends=sends[1], out=MASTER))
    return add_stage(session, bus, new_stage("tape"))


def run(graph: Graph, blocks: range, frames: int, crew: Crew | None) -> Samples:
    return np.concatenate([graph.process([(at * frames, frames)], frames, crew).copy() for at in blocks], axis=1)


@pytest.mark.parametrize("threads", [1, 2, 3, 7, 40])
def test_any_number_of_threads_makes_the_same_samples(knotted: Session, threads: int) -> None:
    track = knotted.strips[0]
    edited = set_parameter(knotted, track.id, track.chain[0].id, "shape", "hard")
    outcomes = []
    for crew in (None, Crew(threads)):
        graph = Graph(knotted, GraphSettings(2, 256))
        first = run(graph, range(60), 256, crew)
        graph.update(edited)
        outcomes.append(np.concatenate((first, run(graph, range(60, 120), 256, crew)), axis=1))
        if crew is not None:
            crew.close()
    assert np.abs(outcomes[0]).max() > 0.05
    np.testing.assert_array_equal(outcomes[0], outcomes[1])


def test_a_crew_works_for_several_graphs_and_ends(knotted: Session) -> None:
    """Graphs come and go while its threads sleep, wake late, or find nothing to do."""
    before = threading.active_count()
    with Crew(3) as crew:
        expected = run(Graph(knotted, GraphSettings(1, 64)), range(40), 64, None)
        for _ in range(8):
            np.testing.assert_array_equal(run(Graph(knotted, GraphSettings(1, 64)), range(40), 64, crew), expected)
        alone = Graph(knotted, GraphSettings(1, 64, frozenset({knotted.strips[0].id})))
        run(alone, range(40), 64, crew)
    assert threading.active_count() == before


def test_blocks_of_any_length_go_round_any_loop(demo: Session) -> None:
    """A loop that is shorter than a block is gone round within it, by any number of threads."""
    graphs = [Graph(demo, GraphSettings(1, 512)) for _ in range(2)]
    with Crew(2) as crew:
        for start in range(24000, 30000, 700):
            stretches = [(start, 100), (24000, 300), (24000, 112)]
            one, other = graphs[0].process(stretches, 512).copy(), graphs[1].process(stretches, 512, crew)
            np.testing.assert_array_equal(one, other)


def test_staggered_strips_make_the_same_samples(knotted: Session) -> None:
    """Each strip runs blocks behind those that feed it; shifted by them, what comes out is the same to the bit."""
    plain, staggered = (Graph(knotted, GraphSettings(2, 256, staggered=staggered)) for staggered in (False, True))
    behind = staggered.last.behind
    assert behind == 2
    with Crew(3) as crew:
        for graph in (plain, staggered):
            run(graph, range(7), 256, crew)
            graph.reset()
        expected = run(plain, range(60), 256, None)
        late = run(staggered, range(60 + behind), 256, crew)
    np.testing.assert_array_equal(late[:, behind * 256:], expected)
