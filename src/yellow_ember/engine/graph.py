"""The session as a running graph: readers, chains, alignment, faders, sums."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples, block_view, gain
from yellow_ember.dsp.chain import FADE_SECONDS, Chain, Tap, widens_at
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.mixing import add, add_rows, ceiling, crossfade, glide, to_sides
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.stage import Clock, Setup
from yellow_ember.engine.print_player import PrintPlayer, StripPrint
from yellow_ember.files.conformed import RawReader, Segment, find_conformed
from yellow_ember.files.impulses import find_impulse
from yellow_ember.session.values.model import Send, Session, Strip, StripKind
from yellow_ember.session.values.strip_values import VOLUME

CEILING_RELEASE_SECONDS = 0.2
MATCH_SECONDS = 0.4
"""How long a measured match takes to come in."""

@dataclass(frozen=True, slots=True)
class GraphSettings:
    """How a graph runs: oversampling, longest block, and which strips it holds (None for all)."""

    oversample: int
    max_block: int
    only: frozenset[str] | None = None


class _Input:
    """A strip's sound on its way into a bus: gated by solo, at a send's level, and delayed so that all arrive together.

    send : None for the way behind the fader that a strip feeds its bus by
    """

    def __init__(self, node: StripNode, send: Send | None, frames: int, rate: float, max_block: int) -> None:
        self.node = node
        self._pre = send is not None and send.pre
        self._level = Ramp(1.0, rate)
        self._delayed: Samples = np.zeros(2 * max_block)
        self._ring: Samples = np.zeros((2, frames))
        self._index = 0

    @property
    def plain(self) -> bool:
        """True while it adds what comes out of the strip as it is."""
        return not self._pre and self._ring.size == 0 and self._level.resting and self._level.target == 1.0

    def set(self, level: float, *, at_once: bool) -> None:
        self._level.go(level, at_once=at_once)

    def add_to(self, block: Samples) -> None:
        frames = block.shape[1]
        source = self.node.before_fader(frames) if self._pre else self.node.out(frames)
        whole = self._level.resting and self._level.target == 1.0
        if self._ring.size or not whole:
            delayed = block_view(self._delayed, *source.shape)
            delayed[...] = source
            source = delayed
        if not whole:
            glide(source, self._level.state)
        if self._ring.size:
            self._index = delay(source, self._ring, self._index)
        add(block, source)

    def reset(self) -> None:
        self._ring.fill(0.0)
        self._index = 0
        self._level.jump(self._level.target)


class StripNode:
    """One running strip.  Its blocks have one channel for a mono track, two for all else.

    channels : of what enters its chain, and out_channels : of what comes out, which may be two where that is one
    """

    def __init__(self, session: Session, strip: Strip, sources: Sequence[StripNode], settings: GraphSettings,
                 reuse: StripNode | None, outs: Samples, row: int) -> None:
        self.strip = strip
        self.chain: Chain
        self.latency: int
        self.reader: RawReader | None = None
        if strip.audio is not None:
            conformed = find_conformed(strip.audio, session.rate)
            if conformed is not None:
                self.reader = RawReader(conformed.data, conformed.channels, conformed.frames, settings.max_block)
        self.channels = self.reader.channels if self.reader is not None else 2
        seed = seed_from(session.seed, strip.id)
        old = reuse.chain if reuse is not None and reuse.channels == self.channels else None
        clock = old.clock if old is not None else Clock()
        setup = Setup(session.rate, self.channels, settings.max_block, settings.oversample,
                      session.reference_dbfs, seed, read_impulse=find_impulse, clock=clock, widen=True)
        self._setup = setup
        self.chain = Chain(setup, strip.chain, old)
        self.out_channels = self.chain.channels
        arrival = max((node.latency for node in sources), default=0)
        self.inputs: dict[tuple[str, bool], _Input] = {}
        for node in sources:
            ways: list[Send | None] = [send for send in node.strip.sends if send.to == strip.id]
            if node.strip.out == strip.id:
                ways.insert(0, None)
            for send in ways:
                self.inputs[node.strip.id, send is not None] = _Input(
                    node, send, arrival - node.latency, session.rate, settings.max_block)
        self.input_latency = arrival
        self.latency = arrival + self.chain.latency
        self.player = PrintPlayer(self.chain, self.out_channels, self.latency, session.rate, settings.max_block)
        self._block: Samples = np.zeros(self.channels * settings.max_block)
        self._before: Samples = np.zeros(self.channels * settings.max_block)
        self._printed: Samples = np.zeros(self.out_channels * settings.max_block)
        self._before_wide: Samples = np.zeros(self.out_channels * settings.max_block)
        self._before_ring: Samples = np.zeros((self.channels, self.chain.latency))
        self._before_index = 0
        self.row = row
        self._outs, self._out = outs, outs[row]
        self._plain: NDArray[np.int64] = np.zeros(0, np.int64)
        self._others = list(self.inputs.values())
        """Ways that are not plain; looked at again while they move, and when they are set."""
        self._before_fader: Samples | None = None
        if any(send.pre for send in strip.sends):
            self._before_fader = np.zeros(2 * settings.max_block)
        self._hears_before = False
        self._unread = False
        self._wait = 0
        self._match = Ramp(gain(strip.match_db), session.rate)
        self._quickly, self._slowly = self._match.frames, round(MATCH_SECONDS * session.rate)
        self._after = Ramp(1.0, session.rate, FADE_SECONDS)
        self._left = Ramp(1.0, session.rate)
        self._right = Ramp(1.0, session.rate)

    def set(self, strip: Strip, audible: bool, *, at_once: bool = False) -> None:
        """Take the strip's settings.

        `at_once` is for a graph that does not play yet: its new slots have their settings, and
        those it shares with the graph that plays are not to be touched from another thread.
        """
        chain = self.strip.chain
        if not at_once:
            if strip.chain != chain and not self.player.stays:
                self.player.use(None)
            self.chain.update(strip.chain)
        self.strip = strip
        self._let_through(at_once=at_once)
        left, right = _fader(strip, self.channels) if audible else (0.0, 0.0)
        # A match that is measured later moves so slowly that it is no jump; one that comes with its chain keeps step.
        self._match.frames = self._slowly if strip.chain == chain else self._quickly
        for ramp, value in ((self._left, left), (self._right, right), (self._match, gain(strip.match_db))):
            ramp.go(value, at_once=at_once)

    def fits(self, strip: Strip) -> bool:
        """True where the chain goes on with two channels from the same place on with these settings."""
        return widens_at(self._setup, strip.chain) == self.chain.wide_from

    def hear(self, *, before: bool, at_once: bool = False) -> None:
        """Let the strip's input through instead of its chain, or its chain again."""
        self._hears_before = before
        self._let_through(at_once=at_once)

    def _let_through(self, *, at_once: bool) -> None:
        through = self._hears_before or self.strip.bypass
        if through and self._unread and not at_once:
            # While a print was played the input was left unread: it runs unheard until it is in step.
            self._wait = self.chain.latency
            self._before_ring.fill(0.0)
            self._unread = False
        elif self._wait == 0 or at_once or not through:
            self._wait = 0
            self._after.go(0.0 if through else 1.0, at_once=at_once)

    def use_print(self, strip_print: StripPrint | None, *, at_once: bool = False) -> None:
        """Play from a print in place of the chain, where it was made with the chain's present settings, or stays."""
        fits = strip_print is not None and strip_print.channels == self.out_channels and (
            strip_print.stays or strip_print.chain == self.strip.chain)
        self.player.use(strip_print if fits else None, at_once=at_once)

    def reset(self) -> None:
        self.chain.reset()
        self.player.reset()
        self._before_ring.fill(0.0)
        self._before_index = self._wait = 0
        self._let_through(at_once=True)
        for entry in self.inputs.values():
            entry.reset()
        for ramp in (self._match, self._after, self._left, self._right):
            ramp.jump(ramp.target)

    def out(self, frames: int) -> Samples:
        """The last block (2, frames) behind the fader."""
        return block_view(self._out, 2, frames)

    def before_fader(self, frames: int) -> Samples:
        """The last block (2, frames) before fader and pan; only where a send of the strip asks for it."""
        assert self._before_fader is not None
        return block_view(self._before_fader, 2, frames)

    def process(self, segments: Sequence[Segment], frames: int, tap: Tap | None = None) -> None:
        """Run the next `frames`, reading `segments` where the strip is a track."""
        self.player.leave_broken()
        if self._unread and tap is None and len(segments) == 1 and self.player.alone:
            self.player.play_to_sides(segments[0][0], self._match, self._left, self._right, self.out(frames))
            return
        block = block_view(self._block, self.channels, frames)
        before = block_view(self._before, self.channels, frames)
        if not self._unread or self.player.chain_runs or tap is not None:
            self._take_in(segments, block)
            before[...] = block
            self._before_index = delay(before, self._before_ring, self._before_index)
            if tap is not None and not self.player.chain_runs:
                tap(0, before)
        # In a block that goes round the loop the clock is right from the next block on.
        self.chain.clock.frame = segments[0][0] - self.input_latency
        if self.player.chain_runs:
            block = self.chain.process(block, tap)
            self._unread = False
        elif self.out_channels != self.channels:
            block = block_view(self._printed, self.out_channels, frames)
        elif (self.reader is not None and self._before_fader is None and self._wait == 0
              and self._after.resting and self._after.target == 1.0):
            self._unread = True
        self.player.play(segments, block)
        if tap is not None and not self.player.chain_runs:
            tap(len(self.chain.slots), block)
        glide(block, self._match.state)
        self._compare(before, block)
        out = self.out(frames)
        to_sides(block, self._left.state, self._right.state, out)
        if self._before_fader is not None:
            before_fader = self.before_fader(frames)
            before_fader[0], before_fader[1] = block[0], block[-1]
            if self.channels == 1:
                before_fader *= _CENTRE

    def _take_in(self, segments: Sequence[Segment], block: Samples) -> None:
        if self.reader is not None:
            self.reader.read_segments(segments, block)
        else:
            block.fill(0.0)
            add_rows(block, self._outs, self._plain)
            for entry in self._others:
                entry.add_to(block)
            if self._others and all(entry.plain for entry in self._others):
                self.sort_inputs()

    def sort_inputs(self) -> None:
        """Tell the plain ways in, which are added in one go, from the others."""
        self._others = [entry for entry in self.inputs.values() if not entry.plain]
        self._plain = np.array([entry.node.row for entry in self.inputs.values() if entry.plain], np.int64)

    def _compare(self, before: Samples, block: Samples) -> None:
        """Let the input through in place of what the chain made, as far as that is wanted."""
        if before.shape[0] != block.shape[0] and not (self._after.resting and self._after.target == 1.0):
            wide = block_view(self._before_wide, *block.shape)
            wide[...] = before
            before = wide
        if self._wait > 0:
            self._wait = max(0, self._wait - block.shape[1])
            if self._wait == 0:
                self._after.move(0.0)
        elif self._after.resting:
            if self._after.target == 0.0:
                block[...] = before
        else:
            crossfade(before, block, self._after.state)
            block[...] = before


def _level(decibels: float) -> float:
    return 0.0 if decibels <= VOLUME.minimum else gain(decibels)


_CENTRE = math.sqrt(0.5)
"""What a single channel has on each side in the middle."""


def _fader(strip: Strip, channels: int) -> tuple[float, float]:
    """Gains to left and right: constant power for one channel, balance for two."""
    level = _level(strip.volume_db)
    position = strip.pan / 100.0
    if channels == 1:
        angle = (position + 1.0) * math.pi / 4.0
        return level * math.cos(angle), level * math.sin(angle)
    return level * min(1.0, 1.0 - position), level * min(1.0, 1.0 + position)


class Graph:
    """All strips of a session, run block by block.

    `latency` frames pass between a frame's reading and its arrival at the output.
    """

    def __init__(self, session: Session, settings: GraphSettings, reuse: Graph | None = None) -> None:
        self.session = session
        self.settings = settings
        self.nodes: dict[str, StripNode] = {}
        self.levels: list[list[StripNode]] = []
        depth: dict[str, int] = {}
        order = [strip for strip in session.processing_order() if settings.only is None or strip.id in settings.only]
        self.outs: Samples = np.zeros((len(order), 2 * settings.max_block))
        """What comes out of every node, a row each in the order of `nodes`: left, then right."""
        for row, strip in enumerate(order):
            sources = [self.nodes[source.id] for source in session.sources(strip.id) if source.id in self.nodes]
            old = None
            if reuse is not None and reuse.settings == settings and reuse.session.rate == session.rate:
                old = reuse.nodes.get(strip.id)
            node = StripNode(session, strip, sources, settings, old, self.outs, row)
            self.nodes[strip.id] = node
            depth[strip.id] = max((depth[source.strip.id] + 1 for source in sources), default=0)
            while len(self.levels) <= depth[strip.id]:
                self.levels.append([])
            self.levels[depth[strip.id]].append(node)
        self.last = next(reversed(self.nodes.values()))
        self.latency = self.last.latency
        self.frames = max((node.reader.frames for node in self.nodes.values() if node.reader), default=0)
        self._ceiling_state: Samples = np.ones(1)
        self._release = one_pole(CEILING_RELEASE_SECONDS, session.rate)
        self.ceiling_gain = 1.0
        self._passing: set[tuple[str, str]] = set()
        self.update(session, at_once=True)

    def update(self, session: Session, *, at_once: bool = False, touched: Collection[str] | None = None) -> None:
        """Take new values of the session that the graph was made for.

        touched : ids of the strips that have other values, None for all
        """
        self.session = session
        self._limit = gain(session.ceiling_dbfs)
        passing = session.passing()
        if passing != self._passing:
            self._passing, touched = passing, None
        heard = {strip_id for strip_id, _ in passing}
        for strip in session.strips:
            node = self.nodes.get(strip.id)
            if node is not None:
                node.chain.clock.tempo = session.tempo
                node.chain.clock.beats_per_bar = session.beats_per_bar
            if touched is not None and strip.id not in touched:
                continue
            if node is not None:
                node.set(strip, strip.id in heard, at_once=at_once)
            for to, level_db, sent in ((strip.out, 0.0, False), *((send.to, send.level_db, True)
                                                                  for send in strip.sends)):
                entry = self.nodes[to].inputs.get((strip.id, sent)) if to in self.nodes else None
                if entry is not None:
                    entry.set(_level(level_db) if (strip.id, to) in passing else 0.0, at_once=at_once)
        for node in self.nodes.values():
            node.sort_inputs()

    def reset(self) -> None:
        """Forget all past input: the next frame is the first."""
        for node in self.nodes.values():
            node.reset()
        self._ceiling_state.fill(1.0)

    def process(self, segments: Sequence[Segment], frames: int,
                tap: Callable[[StripNode, int, Samples], None] | None = None,
                pool: ThreadPoolExecutor | None = None, tapped: Collection[str] | None = None) -> Samples:
        """Run the next `frames`; the output (2, frames) is valid until the next call.

        tap : called with each strip, point of its chain and the block there; of strips in `tapped` only, if given
        pool : runs the strips of one depth side by side
        """
        for level in self.levels:
            if pool is not None and len(level) > 1:
                list(pool.map(lambda node: node.process(segments, frames), level))
                continue
            for node in level:
                unseen = tap is None or (tapped is not None and node.strip.id not in tapped)
                node.process(segments, frames, None if unseen or tap is None else _bound(tap, node))
        out = self.last.out(frames)
        if self.last.strip.kind is StripKind.MASTER:
            self.ceiling_gain = ceiling(out, self._limit, self._release, self._ceiling_state)
        return out


def _bound(tap: Callable[[StripNode, int, Samples], None], node: StripNode) -> Tap:
    return lambda point, block: tap(node, point, block)
