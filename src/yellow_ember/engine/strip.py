"""One running strip: what it reads or is fed with, its chain or a print of it, match, pan and fader."""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples, block_view, gain
from yellow_ember.dsp.chain import CHAIN, Chain, ChainRecord, keep_point, widens_at
from yellow_ember.dsp.kernels import address_of_kernel, inlined, kernel
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.meters import needle
from yellow_ember.dsp.kernels.mixing import LEFT, add, aim, crossfade, glide, put, rests_at, silence, to_sides
from yellow_ember.dsp.metering import needle_speed
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.record import (
    COMPILED_HALF,
    Record,
    block_in,
    block_of,
    call_stage,
    cube,
    matrix,
    part,
    real,
    record_at,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
    whole_matrix,
    whole_setting,
    whole_state,
    whole_vector,
)
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.slot import FADE_SECONDS
from yellow_ember.dsp.stage import CLOCK_FRAME, CLOCK_FROM, CLOCK_SHIFT, Clock, Setup
from yellow_ember.engine.alignment import Alignment
from yellow_ember.engine.faders import fader_level, pan_gains
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.listening import Listener, take_in_listened
from yellow_ember.engine.placing import end_of, placed
from yellow_ember.engine.print_player import (
    PRINT,
    PlayerRecord,
    PrintPlayer,
    StripPrint,
    chain_runs,
    is_broken,
    play,
    play_to_sides,
)
from yellow_ember.engine.region_reader import RegionReader, add_region
from yellow_ember.engine.strip_lanes import StripLanes, StripLanesRecord, blend, fill_gains, turn_down
from yellow_ember.files.impulses import find_impulse
from yellow_ember.session.values.drawn import STRIP_LANES
from yellow_ember.session.values.model import Send, Session, Strip
from yellow_ember.session.values.strip_values import PAN, VOLUME

_OWN_LANES = frozenset(parameter.id for parameter in STRIP_LANES)
MATCH_SECONDS = 0.4
"""How long a measured match takes to come in."""
_CENTRE = math.sqrt(0.5)
"""What a single channel has on each side in the middle."""


class InputRecord(Record):
    """A strip's sound on its way into a bus: gated by solo, at a send's level, delayed so that all arrive together.

    Attributes
    ----------
    source : Samples
        What comes out of the strip, behind its fader or before it, of the last blocks: left, then right.
    """

    level: Samples = setting(4)
    source: Samples = shared(2)
    ring: Samples = state(2, "late")
    index: NDArray[np.int64] = whole_state(1)
    delayed: Samples = scratch("sides")


class StripRecord(Record):
    """A strip.

    Attributes
    ----------
    run_chain : int
        Where the chain's compiled half lies.
    chain, regions, inputs : int, NDArray[np.int64], NDArray[np.int64]
        Where the records lie of its chain, its regions, and its ways in.
    sources : NDArray[np.int64]
        Rows of the strips that it waits for.
    row : int
        The strip's own row.
    channels : int
        Of what enters its chain.
    out_channels : int
        Of what comes out.
    unread : int
        1 while a print is played and the input is not read.
    ran : int
        1 where the chain ran in the last block.
    wait : int
        Frames until an input that was unread is in step again.
    before_is_sent : int
        1 where a send takes what is before the fader.
    broken : int
        1 where its print was found damaged.
    latency : int
        Frames from what is read to what comes out.
    listener : int
        Where the record of its live input lies, 0 for none.
    lanes : int
        Where the record of its lanes lies, 0 for none.
    next_first : int
        The session's frame that is read next where nothing jumps, -1 where playing begins.
    behind : int
        How many blocks it is behind what is read.
    out : Samples
        Of its last blocks.
    place : int
        Of the last among them.
    after : Samples
        The chain's share in what is heard, against its input's.
    needles, peaks : Samples
        Of all strips' meters; empty where nothing is metered.
    """

    run_chain: int = whole()
    chain: int = whole()
    row: int = whole()
    channels: int = whole()
    out_channels: int = whole()
    input_latency: int = whole()
    unread: int = whole()
    ran: int = whole()
    wait: int = whole()
    fade_frames: int = whole()
    before_is_sent: int = whole()
    broken: int = whole()
    latency: int = whole()
    listener: int = whole()
    lanes: int = whole()
    next_first: int = whole()
    behind: int = whole()
    place: int = whole()
    needle_speed: float = real()
    regions: NDArray[np.int64] = whole_setting("regions")
    inputs: NDArray[np.int64] = whole_setting("inputs")
    sources: NDArray[np.int64] = whole_setting("sources")
    match: Samples = setting(4)
    after: Samples = setting(4)
    left: Samples = setting(4)
    right: Samples = setting(4)
    player: PlayerRecord = part(PlayerRecord)
    out: Samples = shared(2)
    needles: Samples = shared(3)
    peaks: Samples = shared(2)
    before_ring: Samples = state("channels", "latency")
    before_index: NDArray[np.int64] = whole_state(1)
    block: Samples = scratch("samples")
    before: Samples = scratch("samples")
    printed: Samples = scratch("out_samples")
    wide_before: Samples = scratch("out_samples")
    before_fader: Samples = scratch("places", "sides")
    part: Samples = scratch("samples")
    wide: Samples = scratch("out_samples")
    lane_gains: Samples = scratch(3, "frames")


class TurnRecord(Record):
    """A block: `frames`, of which `count` stretches (first frame, frames) of the time line consist.

    Attributes
    ----------
    place : int
        Where what comes out of strips is put, among their last blocks.
    """

    place: int = whole()
    frames: int = whole()
    count: int = whole()
    stretches: NDArray[np.int64] = whole_setting("frames", 2)


_CHAIN, _INPUT = ChainRecord.dtype, InputRecord.dtype
_STRIP, _TURN, _LANES = StripRecord.dtype, TurnRecord.dtype, StripLanesRecord.dtype
_LONG_AGO = -1e18


@inlined
def _add_input(entry: InputRecord, place: int, block: Samples) -> None:
    frames, level, ring = block.shape[1], vector(entry.level), matrix(entry.ring)
    source = block_in(entry.source, place, 2, frames)
    whole_level = rests_at(level, 1.0)
    if ring.shape[1] > 0 or not whole_level:
        delayed = block_of(entry.delayed, 2, frames)
        put(delayed, source)
        source = delayed
    if not whole_level:
        glide(source, level)
    if ring.shape[1] > 0:
        index = whole_vector(entry.index)
        index[0] = delay(source, ring, index[0])
    add(block, source)


@kernel
def _take_in(strip: StripRecord, turn: TurnRecord, block: Samples) -> None:
    """Read the strip's regions or its live input, or add up what it is fed with."""
    if strip.listener != 0:
        take_in_listened(strip.listener, block)
        return
    silence(block)
    for region in whole_vector(strip.regions):
        add_region(region, whole_matrix(turn.stretches), turn.count, block)
    for address in whole_vector(strip.inputs):
        _add_input(record_at(address, _INPUT), turn.place, block)


@kernel
def _compare(strip: StripRecord, before: Samples, block: Samples) -> None:
    """Let the input through in place of what the chain made, as far as that is wanted."""
    after = vector(strip.after)
    if strip.wait > 0:
        strip.wait = max(0, strip.wait - block.shape[1])
        if strip.wait == 0:
            aim(after, 0.0, strip.fade_frames)
        return
    if rests_at(after, 1.0):
        return
    if before.shape[0] != block.shape[0]:
        wide = block_of(strip.wide_before, block.shape[0], block.shape[1])
        put(wide, before)
        before = wide
    if after[LEFT] != 0.0:
        crossfade(before, block, after)
    put(block, before)


@inlined
def _keep_ends(strip: StripRecord, points: Samples, before: Samples, block: Samples) -> None:
    """Keep both ends of a chain that does not run, for whoever looks on."""
    if strip.ran == 0:
        keep_point(points, 0, before, 0, before.shape[1])
        keep_point(points, points.shape[0] - 1, block, 0, block.shape[1])


@kernel
def _tell_time(strip: StripRecord, clock: Samples, first: int) -> None:
    """Let the strip's clock be at what is read from a frame of the session on, and know of a jump to it."""
    frame = float(first - strip.input_latency)
    if strip.next_first < 0:
        clock[CLOCK_FROM], clock[CLOCK_SHIFT] = _LONG_AGO, 0.0
    elif first != strip.next_first:
        clock[CLOCK_FROM], clock[CLOCK_SHIFT] = frame, float(strip.next_first - first)
    clock[CLOCK_FRAME] = frame


@kernel
def _run_chain(strip: StripRecord, turn: TurnRecord, block: Samples) -> None:
    """Run the chain in place, if it runs, stretch by stretch; what it widens lies in `wide`."""
    runs = strip.ran == 1
    chain, stretches, frames = record_at(strip.chain, _CHAIN), whole_matrix(turn.stretches), turn.frames
    clock, gains = vector(chain.clock), matrix(strip.lane_gains)
    start = 0
    for k in range(turn.count):
        first, length = stretches[k, 0], stretches[k, 1]
        _tell_time(strip, clock, first)
        strip.next_first = first + length
        if strip.lanes != 0:
            raw = float(first - strip.latency)
            fill_gains(record_at(strip.lanes, _LANES), clock, raw, gains, start, length)
        if runs and turn.count == 1:
            call_stage(strip.run_chain, strip.chain, block)
            if chain.wide_from >= 0:
                put(block_of(strip.wide, 2, frames), block_of(chain.wide, 2, frames))
        elif runs:
            part = block_of(strip.part, strip.channels, length)
            put(part, block[:, start:start + length])
            chain.part_start, chain.whole_frames = start, frames
            call_stage(strip.run_chain, strip.chain, part)
            chain.whole_frames = 0
            if chain.wide_from >= 0:
                put(block_of(strip.wide, 2, frames)[:, start:start + length], block_of(chain.wide, 2, length))
            else:
                put(block[:, start:start + length], part)
        start += length


@inlined
def _run_strip(strip: StripRecord, turn: TurnRecord) -> None:
    """Run a strip for the next frames."""
    frames, count, segments = turn.frames, turn.count, whole_matrix(turn.stretches)
    player, chain, out = strip.player, record_at(strip.chain, _CHAIN), block_in(strip.out, turn.place, 2, frames)
    strip.place = turn.place
    match, left, right, after = vector(strip.match), vector(strip.left), vector(strip.right), vector(strip.after)
    points = matrix(chain.points)
    if is_broken(player):
        strip.broken = 1
    if (strip.unread == 1 and points.shape[0] == 0 and count == 1 and player.phase == PRINT
            and strip.lanes == 0):
        play_to_sides(player, segments[0, 0], match, left, right, out)
    else:
        block, before = block_of(strip.block, strip.channels, frames), block_of(strip.before, strip.channels, frames)
        runs = chain_runs(player)
        strip.ran = 1 if runs else 0
        if strip.unread == 0 or runs or points.shape[0] > 0:
            _take_in(strip, turn, block)
            put(before, block)
            index = whole_vector(strip.before_index)
            index[0] = delay(before, matrix(strip.before_ring), index[0])
        _run_chain(strip, turn, block)
        if runs:
            if chain.wide_from >= 0:
                block = block_of(strip.wide, 2, frames)
            strip.unread = 0
        else:
            if strip.out_channels != strip.channels:
                block = block_of(strip.printed, strip.out_channels, frames)
            elif (whole_vector(strip.inputs).shape[0] == 0 and strip.before_is_sent == 0 and strip.wait == 0
                  and strip.lanes == 0 and rests_at(after, 1.0)):
                strip.unread = 1
        play(player, segments, count, block)
        _keep_ends(strip, points, before, block)
        glide(block, match)
        gains = matrix(strip.lane_gains)
        if strip.lanes != 0:
            blend(block, before, gains[2])
        _compare(strip, before, block)
        to_sides(block, left, right, out)
        if strip.lanes != 0:
            turn_down(out, gains)
        if strip.before_is_sent == 1:
            before_fader = block_in(strip.before_fader, turn.place, 2, frames)
            centre = _CENTRE if strip.channels == 1 else 1.0
            for i in range(frames):
                before_fader[0, i] = block[0, i] * centre
                before_fader[1, i] = block[block.shape[0] - 1, i] * centre
    needles = cube(strip.needles)
    if needles.shape[0] > 0:
        needle(out, strip.needle_speed, needles[strip.row], matrix(strip.peaks)[strip.row])


def _run_strip_at(strip: int, turn: int, _channels: int, _frames: int) -> None:
    _run_strip(record_at(strip, _STRIP), record_at(turn, _TURN))


@functools.cache
def strip_address() -> int:
    """Where the compiled half of a strip lies, which is called with where the strip and the turn lie."""
    return address_of_kernel(_run_strip_at, COMPILED_HALF, "StripRecord")


class _Input:
    """The Python half of a way into a bus.

    source : what comes out of the strip, (blocks, 2 times the longest); late : frames that it waits for others
    """

    def __init__(self, source: Samples, late: int, rate: float) -> None:
        self.record = InputRecord.make(late=late, sides=source.shape[1])
        self.record.source = source
        self._level = Ramp(1.0, rate, state=self.record.level)

    def set(self, level: float, *, at_once: bool) -> None:
        """Take another level."""
        self._level.go(level, at_once=at_once)

    def reset(self) -> None:
        """Forget what is on its way."""
        self.record.carried.fill(0.0)
        self._level.jump(self._level.target)


class StripNode:
    """The Python half of a running strip.  Its blocks have one channel for a mono track, two for all else.

    Parameters
    ----------
    outs : Samples
        (strips, blocks that are kept, 2 times the longest), what comes out of all.
    restless : set[StripNode]
        Strips that their graph looks at between blocks; whatever starts a change adds its own.

    Attributes
    ----------
    channels : int
        Of what enters its chain.
    out_channels : int
        Of what comes out, which may be two where that is one.
    live_latency : int | None
        Frames from the live input that reaches it last to where that is heard; None where none does.
    low_delay : bool
        Its stages are quick rather than exact in phase, since live sound goes through.
    live_delay : int
        The same to what comes out of it.
    """

    def __init__(self, session: Session, strip: Strip, settings: GraphSettings, reuse: StripNode | None,
                 outs: Samples, row: int, restless: set[StripNode], *, low_delay: bool = False) -> None:
        self.strip = strip
        self.chain: Chain
        self.latency: int
        self.row = row
        self.low_delay = low_delay
        self._restless = restless
        self.listener: Listener | None = None
        self.regions: list[RegionReader] = []
        if settings.live and strip.live is not None and strip.live.on:
            self.listener = Listener(strip.live, session.rate, settings.max_block)
            self.channels = self.listener.channels
        else:
            self.regions = _regions_of(strip, session.rate, settings.max_block, reuse)
            self.channels = max((region.channels for region in self.regions), default=2)
        old = reuse.chain if reuse is not None and (reuse.channels, reuse.low_delay) == (
            self.channels, low_delay) else None
        clock = old.clock if old is not None else Clock(
            session.tempo, session.beats_per_bar, session.first_beat)
        self._setup = Setup(session.rate, self.channels, settings.max_block, settings.oversample,
                            session.reference_dbfs, seed_from(session.seed, strip.id), read_impulse=find_impulse,
                            clock=clock, widen=True, low_delay=low_delay)
        self.chain = Chain(self._setup, strip.chain, old)
        self.out_channels = self.chain.channels
        self._out = outs[row]

    def connect(self, sources: Sequence[StripNode], alignment: Alignment) -> None:
        """Be fed by these, as late as they are; before anything else is done with it."""
        rate, strip = self._setup.rate, self.strip
        self.input_latency, self.latency = alignment.arrives[strip.id], alignment.leaves[strip.id]
        self.live_latency = alignment.heard.get(strip.id)
        self.live_delay = alignment.live.get(strip.id, 0)
        self.inputs = self._make_inputs(sources, alignment)
        record = self.record = self._make_record(sources)
        self.player = PrintPlayer(record.player, self.chain, self.latency, rate, self._setup.max_block)
        self._hears_before = False
        self._match = Ramp(gain(strip.match_db), rate, state=record.match)
        self._quickly, self._slowly = self._match.frames, round(MATCH_SECONDS * rate)
        self._after = Ramp(1.0, rate, FADE_SECONDS, state=record.after)
        self._left = Ramp(1.0, rate, state=record.left)
        self._right = Ramp(1.0, rate, state=record.right)
        record.fade_frames = self._after.frames
        self._lanes: StripLanes | None = None
        self._prepared: tuple[Strip, StripLanes | None] = strip, self._lanes_of(strip)
        self._use_lanes(strip)

    def _make_inputs(self, sources: Sequence[StripNode], alignment: Alignment) -> dict[tuple[str, bool], _Input]:
        """The ways in: by the strip that they come from, and whether by a send."""
        inputs: dict[tuple[str, bool], _Input] = {}
        for node in sources:
            ways: list[Send | None] = [send for send in node.strip.sends if send.to == self.strip.id]
            if node.strip.out == self.strip.id:
                ways.insert(0, None)
            for send in ways:
                before_fader = send is not None and send.pre
                inputs[node.strip.id, send is not None] = _Input(
                    node.record.before_fader if before_fader else node.record.out,
                    alignment.waits[node.strip.id, self.strip.id], self._setup.rate)
        return inputs

    def _make_record(self, sources: Sequence[StripNode]) -> StripRecord:
        longest = self._setup.max_block
        record = StripRecord.make(
            channels=self.channels, latency=self.chain.latency, samples=self.channels * longest,
            out_samples=self.out_channels * longest, frames=longest, sides=2 * longest, places=len(self._out),
            regions=len(self.regions), inputs=len(self.inputs), sources=len(sources))
        record.regions = np.array([region.record.address for region in self.regions], np.int64)
        record.run_chain = CHAIN.address
        record.chain, record.row = self.chain.record.address, self.row
        record.channels, record.out_channels = self.channels, self.out_channels
        record.input_latency, record.latency, record.next_first = self.input_latency, self.latency, -1
        record.before_is_sent = int(any(send.pre for send in self.strip.sends))
        record.needle_speed = needle_speed(self._setup.rate)
        record.inputs = np.array([entry.record.address for entry in self.inputs.values()], np.int64)
        record.sources = np.array([node.row for node in sources], np.int64)
        record.out = self._out
        record.listener = 0 if self.listener is None else self.listener.record.address
        return record

    def _lanes_of(self, strip: Strip) -> StripLanes | None:
        """The lanes of the strip's own values; None where none is on."""
        own = any(lane.on and lane.parameter in _OWN_LANES for lane in strip.lanes)
        return StripLanes(strip, self.channels, self._setup.rate) if own else None

    def _use_lanes(self, strip: Strip) -> None:
        if strip is not self._prepared[0]:
            self._prepared = strip, self._lanes_of(strip)
        self._lanes = self._prepared[1]
        self.record.lanes = 0 if self._lanes is None else self._lanes.record.address

    def rehearse(self, strip: Strip) -> None:
        """Work out what is dear in new settings, so that `set` finds it ready; from any thread."""
        self._prepared = strip, self._lanes_of(strip)
        self.chain.rehearse(strip.chain)

    @property
    def end(self) -> int:
        """The frame behind its last region."""
        return end_of(region.place for region in self.regions)

    @property
    def behind(self) -> int:
        """How many blocks it runs behind what is read."""
        return int(self.record.behind)

    @behind.setter
    def behind(self, blocks: int) -> None:
        self.record.behind = blocks

    @property
    def moves(self) -> bool:
        """True while settings or a print come in, so that the strip is to be looked at between blocks."""
        return self.chain.moves or self.player.moves

    def go_on(self) -> None:
        """Take up, between two blocks, what has come to its end."""
        self.chain.go_on()
        self.player.go_on()

    def meter_into(self, needles: Samples, peaks: Samples) -> None:
        """Meter what comes out: (strips, 2, 2) and (strips, 2), as `kernels.meters.needle` takes them."""
        self.record.needles, self.record.peaks = needles, peaks

    def set(self, strip: Strip, audible: bool, *, at_once: bool = False) -> None:
        """Take the strip's settings.

        Parameters
        ----------
        at_once : bool
            The graph does not play yet: its new slots have their settings, and those it shares with the graph that
            plays are not to be touched from another thread.
        """
        chain = self.strip.chain
        if not at_once:
            if strip.chain != chain and not self.player.stays:
                self.player.use(None)
            self.chain.update(strip.chain)
        self._use_lanes(strip)
        if self.listener is not None and strip.live is not None:
            self.listener.set(strip.live, at_once=at_once)
        self.strip = strip
        self._restless.add(self)
        self._let_through(at_once=at_once)
        left, right = self._fader(strip) if audible else (0.0, 0.0)
        # A match that is measured later moves so slowly that it is no jump; one that comes with its chain keeps step.
        self._match.frames = self._slowly if strip.chain == chain else self._quickly
        for ramp, value in ((self._left, left), (self._right, right), (self._match, gain(strip.match_db))):
            ramp.go(value, at_once=at_once)

    def _fader(self, strip: Strip) -> tuple[float, float]:
        """Gains to left and right; what has a lane is left to that."""
        drawn = self._lanes.drawn if self._lanes is not None else frozenset()
        level = 1.0 if VOLUME.id in drawn else fader_level(strip.volume_db)
        left, right = (1.0, 1.0) if PAN.id in drawn else pan_gains(strip.pan, self.channels)
        return level * left, level * right

    def fits(self, strip: Strip) -> bool:
        """True where the chain goes on with two channels from the same place on with these settings."""
        return widens_at(self._setup, strip.chain) == self.chain.wide_from

    def hear(self, *, before: bool, at_once: bool = False) -> None:
        """Let the strip's input through instead of its chain, or its chain again."""
        self._hears_before = before
        self._let_through(at_once=at_once)

    def _let_through(self, *, at_once: bool) -> None:
        record = self.record
        through = self._hears_before or self.strip.bypass
        if through and record.unread and not at_once:
            # While a print was played the input was left unread: it runs unheard until it is in step.
            record.wait = self.chain.latency
            record.before_ring.fill(0.0)
            record.unread = 0
        elif record.wait == 0 or at_once or not through:
            record.wait = 0
            self._after.go(0.0 if through else 1.0, at_once=at_once)

    def use_print(self, strip_print: StripPrint | None, *, at_once: bool = False) -> None:
        """Play from a print in place of the chain, where it was made with the chain's present settings, or stays."""
        fits = strip_print is not None and self.live_latency is None and strip_print.channels == self.out_channels and (
            strip_print.stays or strip_print.chain == self.strip.chain)
        self.player.use(strip_print if fits else None, at_once=at_once)
        self._restless.add(self)

    def leave_broken(self) -> None:
        """Go back to the chain where the print that is played was found damaged on disk."""
        if self.record.broken:
            self.record.broken = 0
            self.player.use(None)
            self._restless.add(self)

    def reset(self) -> None:
        """Forget all past input: the next frame is the first."""
        self.chain.reset()
        self.player.reset()
        self._restless.add(self)
        self.record.carried.fill(0.0)
        self.record.wait = 0
        self.record.next_first = -1
        self._let_through(at_once=True)
        if self.listener is not None:
            self.listener.reset()
        for entry in self.inputs.values():
            entry.reset()
        for ramp in (self._match, self._after, self._left, self._right):
            ramp.jump(ramp.target)

    def out(self, frames: int) -> Samples:
        """The last block (2, frames) behind the fader."""
        return block_view(self._out[self.record.place], 2, frames)


def _regions_of(strip: Strip, rate: int, longest: int, reuse: StripNode | None) -> list[RegionReader]:
    """What reads the strip's regions, as far as their files were made ready."""
    old = {} if reuse is None else {reader.place: reader for reader in reuse.regions if not reader.broken}
    return [old.get(place) or RegionReader(place, longest) for place in placed(strip, rate)]
