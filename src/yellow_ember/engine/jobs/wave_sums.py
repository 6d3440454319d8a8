"""The waves of all strips from the first frame to the last: what enters every chain, and what leaves it."""

from __future__ import annotations

import os
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.jobs.measuring import unmuted
from yellow_ember.files.conformed import conform_all
from yellow_ember.session.values.model import Session

BLOCK = 4096
COLUMN_FRAMES = 256
"""Frames that a column stands for."""
_NICENESS = 15


@dataclass(frozen=True, slots=True)
class WaveSum:
    """One strip's waves.

    Attributes
    ----------
    before, after : NDArray[np.float32]
        (columns, 2), least and greatest over all channels; after its match.
    """

    before: NDArray[np.float32]
    after: NDArray[np.float32]


class _Wave:
    """Columns that fill as blocks come."""

    def __init__(self, frames: int) -> None:
        self._frames = frames
        self.columns = np.zeros((-(-frames // COLUMN_FRAMES), 2), np.float32)

    def take(self, block: Samples, first: int) -> None:
        """Take in a block (channels, frames) whose first frame is at that place, which may be before the start."""
        begin, stop = max(first, 0), min(first + block.shape[1], self._frames)
        if stop <= begin:
            return
        part = block[:, begin - first:stop - first]
        places = np.arange(begin // COLUMN_FRAMES, -(-stop // COLUMN_FRAMES))
        starts = np.maximum(places * COLUMN_FRAMES - begin, 0)
        reach = self.columns[places[0]:places[-1] + 1]
        reach[:, 0] = np.minimum(reach[:, 0], np.minimum.reduceat(part.min(axis=0), starts))
        reach[:, 1] = np.maximum(reach[:, 1], np.maximum.reduceat(part.max(axis=0), starts))


def wave_sums(progress: Progress, session: Session, frames: int) -> dict[str, WaveSum]:
    """Run a whole session once, quickly and without oversampling, and return the waves of its strips by their ids.

    Parameters
    ----------
    frames : int
        How long the session is.

    Raises
    ------
    AudioFileError
        Where a file can't be read.
    """
    os.nice(_NICENESS)
    session = unmuted(session)
    conform_all(session.files, session.rate)
    graph = Graph(session, GraphSettings(1, BLOCK))
    waves = {strip_id: (_Wave(frames), _Wave(frames)) for strip_id in graph.nodes}
    for node in graph.nodes.values():
        node.chain.keep_points(on=True)
    total = frames + graph.latency
    for done in range(0, total, BLOCK):
        graph.process([(done, BLOCK)], BLOCK)
        for strip_id, node in graph.nodes.items():
            before, after = waves[strip_id]
            before.take(node.chain.at_point(0, BLOCK), done - node.input_latency)
            after.take(node.chain.at_point(len(node.chain.slots), BLOCK), done - node.latency)
        progress(min(1.0, (done + BLOCK) / total))
    return {strip_id: WaveSum(before.columns, after.columns * np.float32(gain(session.strip(strip_id).match_db)))
            for strip_id, (before, after) in waves.items()}
