"""Measures what makes strips as loud behind their chains as before, many at once, each chain run only once."""

from __future__ import annotations

import functools
import os
from collections.abc import Collection, Generator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.cores import cores
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.job import Progress, side_by_side
from yellow_ember.engine.jobs.measuring import BLOCK, NOTHING, SHORTEST, measured_stretch, run_turn, unmuted
from yellow_ember.engine.jobs.strip_prints import find_print
from yellow_ember.engine.placing import end_of, files_reaching, placed
from yellow_ember.engine.print_player import StripPrint
from yellow_ember.files.conformed import conform_all
from yellow_ember.files.reading import AudioFileError
from yellow_ember.measure.loudness import LoudnessScan
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import Loop, Session
from yellow_ember.session.values.strip_values import MATCH

WORTH_DB = 0.02
"""A match that would change by less stays as it is."""
TAKES_BYTES = 512 * 2**20


@dataclass(frozen=True, slots=True)
class Match:
    """What makes a strip as loud behind its chain as before it, or why nothing does (`trouble`, else "")."""

    strip_id: str
    offset_db: float = 0.0
    trouble: str = ""


SILENT = "it is silent in the loop, before the path or behind it"
"""The trouble of a strip that has no loudness to match."""


def matched(session: Session, match: Match) -> Session:
    """The session with a strip's match in place, where there is one that makes a difference."""
    strip = session.strip(match.strip_id)
    offset = MATCH.clamp(match.offset_db)
    if match.trouble or abs(offset - strip.match_db) < WORTH_DB:
        return session
    return edit_strip(session, strip.id, lambda old: old.with_(match_db=offset))


def match_strips(progress: Progress, session: Session, strip_ids: Collection[str]) -> Generator[Match]:
    """Measure strips over their loops, those that feed others first.

    Each match is given once it is known, and what the strip feeds is measured with it in place.
    """
    session = unmuted(session)
    able = []
    for strip_id in strip_ids:
        try:
            conform_all(files_reaching(session, [strip_id]), session.rate)
            able.append(strip_id)
        except AudioFileError as error:
            yield Match(strip_id, trouble=str(error))
    lengths = _lengths(session)
    frames = {strip_id: max(lengths[other] for other in session.upstream(strip_id)) for strip_id in able}
    stretch = measured_stretch(session, max(frames.values(), default=0))
    if stretch.end - stretch.start < SHORTEST:
        for strip_id in able:
            yield Match(strip_id, trouble=NOTHING)
        return
    takes = _Takes(stretch)
    passes = _by_depth(session, able)
    for done, strips in enumerate(passes):
        later = frozenset().union(*(session.upstream(strip_id) for deeper in passes[done + 1:] for strip_id in deeper))

        def share_of_all(share: float, done: int = done) -> None:
            progress((done + share) / len(passes))

        stretches = {strip_id: measured_stretch(session, frames[strip_id]) for strip_id in strips}
        for match in _measure_side_by_side(
                share_of_all, session, stretches, takes, later, max(lengths.values())):
            yield match
            session = matched(session, match)


def _lengths(session: Session) -> dict[str, int]:
    """How long each strip's own sound lasts, in frames by id; 0 for buses."""
    return {strip.id: end_of(placed(strip, session.rate)) for strip in session.strips}


def _by_depth(session: Session, strip_ids: Collection[str]) -> list[list[str]]:
    """Strips that can be measured side by side, those that feed others in an earlier list."""
    depth: dict[str, int] = {}
    for strip in session.processing_order():
        depth[strip.id] = max((depth[source.id] + 1 for source in session.sources(strip.id)), default=0)
    lists: dict[int, list[str]] = {}
    for strip_id in strip_ids:
        lists.setdefault(depth[strip_id], []).append(strip_id)
    return [lists[at] for at in sorted(lists)]


class _Takes:
    """What came out of chains that have run, in memory without a name, played in place of running them again."""

    def __init__(self, stretch: Loop) -> None:
        self.stretch = stretch
        self.frames = stretch.end - stretch.start
        self._files: dict[str, tuple[int, int]] = {}
        self.whole: set[str] = set()
        """Strips whose takes are finished."""
        self._left = TAKES_BYTES

    def begin(self, strip_id: str, channels: int) -> bool:
        """Make room for a take; False where there is one already, or no room for more."""
        size = self.frames * channels * np.dtype(np.float32).itemsize
        if strip_id in self._files or size > self._left:
            return False
        self._left -= size
        self._files[strip_id] = os.memfd_create("take"), channels
        return True

    def add(self, strip_id: str, block: Samples) -> None:
        """Append a block (channels, frames)."""
        file, _ = self._files[strip_id]
        os.write(file, np.ascontiguousarray(block.T, np.float32).tobytes())

    def play_in(self, graph: Graph) -> None:
        """Let strips of a graph that have whole takes be played from them."""
        for strip_id in self.whole & graph.nodes.keys():
            node, (file, channels) = graph.nodes[strip_id], self._files[strip_id]
            node.use_print(StripPrint(strip_id, node.strip.chain, Path(f"/proc/self/fd/{file}"), channels,
                                      self.frames, self.stretch.start), at_once=True)


def _measure_side_by_side(progress: Progress, session: Session, stretches: dict[str, Loop], takes: _Takes,
                          later: frozenset[str], frames: int) -> list[Match]:
    """Measure strips that don't feed each other, on all cores, and take what will be needed `later`.

    stretches : by strip, what of the turn counts; frames : how long the session's sound lasts
    """
    strip_ids = list(stretches)
    count = min(len(strip_ids), cores())
    parts, taken = [], set[str]()
    for first in range(count):
        own = {strip_id: stretches[strip_id] for strip_id in strip_ids[first::count]}
        reaching = frozenset().union(*(session.upstream(strip_id) for strip_id in own))
        graph = Graph(session, GraphSettings(session.quality.live, BLOCK, reaching))
        takes.play_in(graph)
        # A strip without stages is run as fast as its take would be read.
        printed = _play_from_prints(graph, reaching - own.keys() - takes.whole, frames)
        begun = {strip_id for strip_id, node in graph.nodes.items()
                 if strip_id in later - taken - printed and node.strip.chain
                 and takes.begin(strip_id, node.out_channels)}
        taken |= begun
        parts.append(functools.partial(_measure, progress if first == 0 else _silently, graph, own, takes, begun))
    result = [match for matches in side_by_side(parts) for match in matches]
    takes.whole |= taken
    return result


def _play_from_prints(graph: Graph, strip_ids: Collection[str], frames: int) -> set[str]:
    """Let strips of a graph be played from their background prints, where there are such; which those are.

    frames : how long the session's sound lasts
    """
    prints = [result for strip_id in strip_ids if (result := find_print(graph.session, strip_id, frames)) is not None]
    for result in prints:
        graph.nodes[result.strip_id].use_print(result, at_once=True)
    return {result.strip_id for result in prints}


def _silently(_share: float) -> None:
    return


def _measure(progress: Progress, graph: Graph, stretches: dict[str, Loop], takes: _Takes,
             begun: set[str]) -> list[Match]:
    """Measure strips of a graph in one turn, and fill the takes that are begun."""
    rate = graph.session.rate
    scans = {strip_id: (LoudnessScan(rate, graph.nodes[strip_id].out_channels),
                        LoudnessScan(rate, graph.nodes[strip_id].out_channels)) for strip_id in stretches}

    def take(strip_id: str, behind: bool, first: int, block: Samples) -> None:
        if behind and strip_id in begun:
            takes.add(strip_id, block)
        if strip_id in stretches:
            own = stretches[strip_id]
            counted = block[:, :max(0, own.end - own.start - first)]
            # Where the path makes two channels of one, before counts as two that are alike.
            scans[strip_id][behind].push(np.broadcast_to(
                counted, (graph.nodes[strip_id].out_channels, counted.shape[1])))

    run_turn(progress, graph, takes.stretch, {*stretches, *begun}, take)
    return [_match_of(strip_id, *(scan.result().integrated_lufs for scan in pair)) for strip_id, pair in scans.items()]


def _match_of(strip_id: str, before_lufs: float, after_lufs: float) -> Match:
    offset = before_lufs - after_lufs
    return Match(strip_id, offset) if np.isfinite(offset) else Match(strip_id, trouble=SILENT)
