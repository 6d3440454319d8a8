"""Meters of a running graph: the level behind every strip, all points of the one that is watched, and loudness."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.metering import LevelMeter, LoudnessMeter, PeakProgrammeMeter
from yellow_ember.engine.graph import Graph, StripNode
from yellow_ember.engine.live.board import MAXIMUM_POINTS, Board
from yellow_ember.session.values.limits import MAXIMUM_STRIPS
from yellow_ember.session.values.model import MASTER, Session


class _Watched:
    """What is metered of a strip while it is looked at: every point of its chain, and its loudness."""

    def __init__(self, rate: float, node: StripNode) -> None:
        self.points = [LevelMeter(rate, node.chain.channels_at(point)) for point in range(len(node.chain.slots) + 1)]
        self.loudness = LoudnessMeter(rate, 2)
        self.programme = PeakProgrammeMeter(rate, 2)


class GraphMeters:
    """Made with a graph, for blocks of the graph's longest length."""

    def __init__(self, graph: Graph) -> None:
        rate = graph.session.rate
        self._graph = graph
        self._sides = graph.outs.reshape(2 * len(graph.nodes), graph.settings.max_block)
        self._out = LevelMeter(rate, len(self._sides))
        self._watched = {strip_id: _Watched(rate, node) for strip_id, node in graph.nodes.items()}
        self._rows: NDArray[np.intp] = np.zeros(0, np.intp)
        self._nodes: NDArray[np.intp] = np.zeros(0, np.intp)
        self._row_of: dict[str, int] = {}

    def stand(self, session: Session) -> None:
        """Say in which row of the board each strip is shown: its place in the session."""
        self._row_of = {strip.id: row for row, strip in enumerate(session.strips[:MAXIMUM_STRIPS])}
        shown = [(index, self._row_of[strip_id]) for index, strip_id in enumerate(self._graph.nodes)
                 if strip_id in self._row_of]
        self._nodes, self._rows = (np.array(column, np.intp) for column in zip(*shown, strict=True))

    def begin(self) -> None:
        """Playing begins: loudness and highest peak are read from here on."""
        for meters in self._watched.values():
            meters.loudness.reset()

    def see(self, strip_id: str, point: int, block: Samples) -> None:
        """Take in a block at a point of the watched strip's chain."""
        self._watched[strip_id].points[point].process(block)

    def process(self, watched: str, frames: int) -> None:
        """Take in what came out of the strips."""
        self._out.process(self._sides)
        for strip_id in {watched, MASTER} & self._watched.keys():
            meters, out = self._watched[strip_id], self._graph.nodes[strip_id].out(frames)
            meters.loudness.process(out)
            meters.programme.process(out)

    def show(self, board: Board, watched: str) -> None:
        """Publish."""
        board.strips["vu"][self._rows] = self._out.vu.reshape(-1, 2)[self._nodes]
        board.strips["peak"][self._rows] = self._out.peak.reshape(-1, 2)[self._nodes]
        for strip_id in {watched, MASTER} & self._watched.keys() & self._row_of.keys():
            meters, entry = self._watched[strip_id], board.strips[self._row_of[strip_id]]
            entry["true_peak"] = meters.loudness.highest
            entry["programme"] = meters.programme.reading
            for name in ("momentary", "short_term", "integrated"):
                entry[name] = getattr(meters.loudness, name)
        if watched in self._watched and watched in self._row_of:
            entry = board.strips[self._row_of[watched]]
            for point, meter in enumerate(self._watched[watched].points[:MAXIMUM_POINTS]):
                entry["point_vu"][point] = meter.vu.max()
                entry["point_peak"][point] = meter.peak.max()
