"""Files wait for each other, live inputs for nobody, as far as that can be."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from yellow_ember.engine.alignment import align

SOURCES = {"a": [], "b": [], "live": [], "bus": ["a", "live"], "master": ["bus", "b"]}


def test_files_arrive_together() -> None:
    result = align(list(SOURCES), SOURCES, {"a": 10, "b": 500, "live": 0, "bus": 20, "master": 5}, set())
    assert result.leaves["bus"] + result.waits["bus", "master"] == result.leaves["b"] == result.arrives["master"] == 500
    assert result.live == {}


def test_a_live_input_waits_for_no_file() -> None:
    own = {"a": 10, "b": 500, "live": 7, "bus": 20, "master": 5}
    result = align(list(SOURCES), SOURCES, own, {"live"})
    assert result.live["master"] == result.heard["live"] == result.heard["bus"] == 7 + 20 + 5
    assert align(list(SOURCES), SOURCES, own, {"live"}, {"live"}).heard["live"] == 7
    assert result.waits["live", "bus"] == result.waits["bus", "master"] == 0
    # The file that shares its bus waits before that instead.
    assert result.waits["a", "bus"] == 500 - 20 - 10
    assert result.leaves["bus"] == result.leaves["b"]


def test_a_bus_of_inputs_alone_waits_for_nothing() -> None:
    sources = {"live": [], "bus": ["live"], "file": [], "master": ["bus", "file"]}
    result = align(list(sources), sources, {"live": 3, "bus": 4, "file": 900, "master": 0}, {"live"})
    assert result.live["master"] == 7
    assert result.arrives["master"] == 900


@st.composite
def graphs(draw: st.DrawFn) -> tuple[list[str], dict[str, list[str]], dict[str, int], set[str]]:
    count = draw(st.integers(2, 9))
    order = [f"s{number}" for number in range(count)]
    sources = {name: draw(st.lists(st.sampled_from(order[:index]), unique=True, max_size=4)) if index else []
               for index, name in enumerate(order)}
    own = {name: draw(st.integers(0, 300)) for name in order}
    tracks = [name for name in order if not sources[name]]
    return order, sources, own, set(draw(st.lists(st.sampled_from(tracks), unique=True)))


@settings(max_examples=200, deadline=None)
@given(graphs())
def test_of_any_graph(graph: tuple[list[str], dict[str, list[str]], dict[str, int], set[str]]) -> None:
    order, sources, own, listening = graph
    result, without = align(order, sources, own, listening), align(order, sources, own, set())
    pure = {name for name in order if name in listening}
    for name in order:
        if sources[name] and all(source in pure for source in sources[name]):
            pure.add(name)
    for name in order:
        for source in sources[name]:
            assert result.waits[source, name] >= 0
            if source not in pure:
                assert result.leaves[source] + result.waits[source, name] == result.arrives[name]
        assert result.leaves[name] == result.arrives[name] + own[name]
    if not listening:
        assert result == without
    assert set(listening) <= set(result.live)
