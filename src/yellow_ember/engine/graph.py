"""The session as a running graph: strips, each behind those that feed it, and the ceiling at the end."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

import numpy as np

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.filters import one_pole
from yellow_ember.engine.alignment import align, carriers
from yellow_ember.engine.faders import fader_level
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.plan import Crew, Plan
from yellow_ember.engine.strip import StripNode
from yellow_ember.files.conformed import Segment
from yellow_ember.session.values.drawn import with_macro_lanes
from yellow_ember.session.values.model import Session, Strip, StripKind

CEILING_RELEASE_SECONDS = 0.2


class Graph:
    """All strips of a session, run block by block.

    `latency` frames pass between a frame's reading and its arrival at the output.
    """

    def __init__(self, session: Session, settings: GraphSettings, reuse: Graph | None = None) -> None:
        session = with_macro_lanes(session)
        self.session = session
        self.settings = settings
        self.nodes: dict[str, StripNode] = {}
        order = [strip for strip in session.processing_order() if settings.only is None or strip.id in settings.only]
        depth = _depths(session, order)
        places = 1 + max(depth.values()) if settings.staggered else 1
        outs: Samples = np.zeros((len(order), places, 2 * settings.max_block))
        self._restless: set[StripNode] = set()
        """Strips that are to be looked at between blocks."""
        here = {strip.id for strip in order}
        sources = {strip.id: [source.id for source in session.sources(strip.id) if source.id in here]
                   for strip in order}
        listening = {strip.id for strip in order if settings.live and strip.listens}
        entering = {strip_id: [source for source in feeding if strip_id in session.strip(source).enters]
                    for strip_id, feeding in sources.items()}
        quick = carriers(list(sources), entering, listening) if session.quality.low_delay else ()
        for row, strip in enumerate(order):
            old = None
            if reuse is not None and reuse.settings == settings and reuse.session.rate == session.rate:
                old = reuse.nodes.get(strip.id)
            self.nodes[strip.id] = StripNode(session, strip, settings, old, outs, row, self._restless,
                                             low_delay=strip.id in quick)
        alignment = align(tuple(self.nodes), sources,
                          {strip_id: node.chain.latency for strip_id, node in self.nodes.items()}, listening,
                          {strip.id for strip in order if strip.own_ports})
        for strip_id, node in self.nodes.items():
            node.connect([self.nodes[source] for source in sources[strip_id]], alignment)
            if settings.staggered:
                node.behind = depth[strip_id]
        self.live_latency = max(alignment.heard.values()) if listening else None
        """Frames from the live input that is heard last to where it is heard; None where nothing comes in live."""
        self.last = next(reversed(self.nodes.values()))
        self.latency = self.last.latency
        self.frames = max(node.end for node in self.nodes.values())
        self._plan = Plan(_in_order(self.nodes, depth, staggered=settings.staggered), settings.max_block, places)
        self._plan.record.release = one_pole(CEILING_RELEASE_SECONDS, session.rate)
        if self.last.strip.kind is StripKind.MASTER:
            self._plan.record.ceiled = self.last.record.address
        self._passing: set[tuple[str, str]] = set()
        self.update(session, at_once=True)

    @property
    def ceiling_gain(self) -> float:
        """The least gain that the ceiling had in the last block."""
        return float(self._plan.record.ceiling_gain)

    def update(self, session: Session, *, at_once: bool = False, touched: Collection[str] | None = None) -> None:
        """Take new values of the session that the graph was made for.

        Parameters
        ----------
        touched : Collection[str] | None
            Ids of the strips that have other values, None for all.
        """
        self.session = session
        self._plan.record.limit = gain(session.ceiling_dbfs)
        passing = session.passing()
        if passing != self._passing:
            self._passing, touched = passing, None
        heard = {strip_id for strip_id, _ in passing}
        for strip in session.strips:
            node = self.nodes.get(strip.id)
            if node is not None and not at_once:
                node.chain.follow_tempo(session.tempo, session.beats_per_bar, session.first_beat)
            if touched is not None and strip.id not in touched:
                continue
            if node is not None:
                node.set(strip, strip.id in heard, at_once=at_once)
            for to, level_db, sent in ((strip.out, 0.0, False), *((send.to, send.level_db, True)
                                                                  for send in strip.sends)):
                entry = self.nodes[to].inputs.get((strip.id, sent)) if to in self.nodes else None
                if entry is not None:
                    entry.set(fader_level(level_db) if (strip.id, to) in passing else 0.0, at_once=at_once)

    def reset(self) -> None:
        """Forget all past input: the next frame is the first."""
        for node in self.nodes.values():
            node.reset()
        self._plan.reset()

    def process(self, segments: Sequence[Segment], frames: int, crew: Crew | None = None) -> Samples:
        """Run the next `frames`; the output (2, frames) is valid until the next call.

        Parameters
        ----------
        crew : Crew | None
            Threads that help; what comes out is the same to the bit with any number of them.
        """
        self._plan.run(segments, frames, crew)
        if self._plan.met_damage():
            for node in self.nodes.values():
                node.leave_broken()
        for node in tuple(self._restless):
            node.go_on()
            if not node.moves:
                self._restless.discard(node)
        return self.last.out(frames)


def _depths(session: Session, strips: Sequence[Strip]) -> dict[str, int]:
    """By strip, how many others its sound has gone through at most; strips : each behind those that feed it."""
    depths: dict[str, int] = {}
    for strip in strips:
        before = [depths[source.id] for source in session.sources(strip.id) if source.id in depths]
        depths[strip.id] = 1 + max(before, default=-1)
    return depths


def _in_order(nodes: Mapping[str, StripNode], depths: Mapping[str, int], *, staggered: bool) -> list[StripNode]:
    """Strips that are ready together, those with most to do first; where none waits for another, that is all."""
    def key(strip_id: str) -> tuple[int, int]:
        node = nodes[strip_id]
        return 0 if staggered else depths[strip_id], -node.out_channels * len(node.chain.slots)

    return [nodes[strip_id] for strip_id in sorted(nodes, key=key)]
