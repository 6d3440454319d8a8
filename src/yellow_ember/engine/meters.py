"""Meters of a running graph: the level behind every strip, and all points of the one that is watched."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.metering import LevelMeter, LoudnessMeter
from yellow_ember.engine.board import MOST_POINTS, MOST_STRIPS, Board
from yellow_ember.engine.graph import Graph, StripNode
from yellow_ember.session.model import Session


class _Watched:
    """Level meters at every point of a strip's chain, and its loudness."""

    def __init__(self, rate: float, node: StripNode) -> None:
        self.points = [LevelMeter(rate, node.channels) for _ in range(len(node.chain.slots) + 1)]
        self.loudness = LoudnessMeter(rate, 2)


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
        self._row_of = {strip.id: row for row, strip in enumerate(session.strips[:MOST_STRIPS])}
        shown = [(place, self._row_of[strip_id]) for place, strip_id in enumerate(self._graph.nodes)
                 if strip_id in self._row_of]
        self._nodes, self._rows = (np.array(column, np.intp) for column in zip(*shown, strict=True))

    def see(self, strip_id: str, point: int, block: Samples) -> None:
        """Take in a block at a point of the watched strip's chain."""
        self._watched[strip_id].points[point].process(block)

    def process(self, watched: str, frames: int) -> None:
        """Take in what came out of the strips."""
        self._out.process(self._sides)
        if watched in self._watched:
            self._watched[watched].loudness.process(self._graph.nodes[watched].out(frames))

    def show(self, board: Board, watched: str) -> None:
        """Publish."""
        board.strips["vu"][self._rows] = self._out.vu.reshape(-1, 2)[self._nodes]
        board.strips["peak"][self._rows] = self._out.peak.reshape(-1, 2)[self._nodes]
        if watched not in self._watched or watched not in self._row_of:
            return
        meters, entry = self._watched[watched], board.strips[self._row_of[watched]]
        entry["true_peak"] = meters.loudness.true_peak
        entry["short_term"] = meters.loudness.short_term
        for point, meter in enumerate(meters.points[:MOST_POINTS]):
            entry["point_vu"][point] = meter.vu.max()
            entry["point_peak"][point] = meter.peak.max()
