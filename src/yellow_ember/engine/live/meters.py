"""Meters of a running graph: the level behind every strip, all points of the one that is watched, and loudness."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.metering import vu_amplitude
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.live.board import MAXIMUM_POINTS, Board
from yellow_ember.engine.strip_meters import StripMeter
from yellow_ember.session.values.limits import MAXIMUM_STRIPS
from yellow_ember.session.values.model import MASTER, Session

_FALLS = 0.85
"""What is left of an input's peak from one look to the next."""


class GraphMeters:
    """Made with a graph, for blocks of the graph's longest length."""

    def __init__(self, graph: Graph) -> None:
        rate, strips = graph.session.rate, len(graph.nodes)
        self._needles, self._peaks = np.zeros((strips, 2, 2)), np.zeros((strips, 2))
        for node in graph.nodes.values():
            node.meter_into(self._needles, self._peaks)
        self._meters = {strip_id: StripMeter(rate, node) for strip_id, node in graph.nodes.items()}
        self._listeners = {strip_id: node.listener for strip_id, node in graph.nodes.items()
                           if node.listener is not None}
        self._live_latencies = {strip_id: -1 if node.live_latency is None else node.live_latency
                                for strip_id, node in graph.nodes.items()}
        self._watched = ""
        self._looked_at: tuple[StripMeter, ...] = ()
        self._rows: NDArray[np.intp] = np.zeros(0, np.intp)
        self._nodes: NDArray[np.intp] = np.zeros(0, np.intp)
        self._row_of: dict[str, int] = {}
        self._told = False

    def stand(self, session: Session) -> None:
        """Say in which row of the board each strip is shown: its place in the session."""
        self._row_of = {strip.id: row for row, strip in enumerate(session.strips[:MAXIMUM_STRIPS])}
        shown = [(index, self._row_of[strip_id]) for index, strip_id in enumerate(self._meters)
                 if strip_id in self._row_of]
        self._told = False
        self._nodes, self._rows = (np.array(column, np.intp) for column in zip(*shown, strict=True))

    def watch(self, strip_id: str, stage: int, board: Board) -> None:
        """Meter all points of a strip's chain, and show a stage's input and output on the board."""
        if self._watched in self._meters and self._watched != strip_id:
            self._meters[self._watched].leave()
        self._watched = strip_id
        if strip_id in self._meters:
            scope = board.scope[0]
            self._meters[strip_id].watch(stage, scope["before"], scope["after"])
        self._looked_at = tuple(self._meters[name] for name in self._shown())

    def _shown(self) -> set[str]:
        return {self._watched, MASTER} & self._meters.keys()

    def begin(self) -> None:
        """Playing begins: loudness and highest peak are read from here on."""
        for meter in self._meters.values():
            meter.begin()

    def process(self, frames: int) -> None:
        """Take in what came out of the strips that are looked at; the levels of all were metered as they ran."""
        for meter in self._looked_at:
            meter.process(frames)

    def forget_clips(self) -> None:
        """Watch inputs for clipping from now on."""
        for listener in self._listeners.values():
            listener.forget_clips()

    def _show_inputs(self, board: Board) -> None:
        if not self._told:
            # They stay as they are as long as the graph does.
            self._told = True
            board.strips["input_peak"], board.strips["clipped"] = 0.0, 0
            for strip_id, row in self._row_of.items():
                board.strips[row]["live_latency"] = self._live_latencies.get(strip_id, -1)
        for strip_id, listener in self._listeners.items():
            if strip_id in self._row_of:
                entry = board.strips[self._row_of[strip_id]]
                entry["input_peak"] = max(listener.take_peak(), _FALLS * float(entry["input_peak"]))
                entry["clipped"] = listener.clipped

    def show(self, board: Board) -> None:
        """Publish."""
        self._show_inputs(board)
        board.strips["vu"][self._rows] = vu_amplitude(self._needles)[self._nodes]
        board.strips["peak"][self._rows] = self._peaks[self._nodes]
        for strip_id in self._shown() & self._row_of.keys():
            meter, entry = self._meters[strip_id], board.strips[self._row_of[strip_id]]
            entry["true_peak"], entry["programme"] = meter.true_peak, meter.programme
            entry["momentary"], entry["short_term"], entry["integrated"] = meter.loudness
            if strip_id == self._watched:
                levels, peaks = (points[:MAXIMUM_POINTS] for points in meter.point_levels)
                entry["point_vu"][:levels.size], entry["point_peak"][:peaks.size] = levels, peaks
