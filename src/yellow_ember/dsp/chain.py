"""Stages in series, and the one compiled call that runs them."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples, block_view
from yellow_ember.dsp.chain_loop import ChainLoop, LoopRecord, come_back, go_round
from yellow_ember.dsp.kernels import inlined, kernel
from yellow_ember.dsp.kernels.mixing import clean_input, put
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    block_of,
    call_stage,
    matrix,
    record_at,
    run_stage,
    scratch,
    shared,
    vector,
    whole,
    whole_setting,
    whole_vector,
)
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.slot import SLOT, Slot, SlotRecord, moving
from yellow_ember.dsp.stage import CLOCK_DELAY, CLOCK_FRAME, LOAD, LOOP_FRAMES, LoopPort, Setup
from yellow_ember.dsp.stage_settings import StageSettings


def widens_at(setup: Setup, stages: Sequence[StageSettings]) -> int | None:
    """The place of the first stage from which a chain of one channel goes on with two; None where it stays single.

    In a chain with a loop through all its stages every one of them has two.
    """
    if not setup.widen or setup.channels != 1:
        return None
    index = next((index for index, settings in enumerate(stages) if _spreads(setup, settings)), None)
    looping = any(settings.declaration.loops(settings.params) for settings in stages)
    return 0 if index is not None and looping else index


def _spreads(setup: Setup, settings: StageSettings) -> bool:
    kind = settings.declaration
    if settings.mono:
        return False
    path = kind.impulse(settings.params)
    response = setup.read_impulse(path, setup.rate) if path else None
    return kind.spreads(settings.params) if response is None else response.shape[0] == 2


class Loads:
    """What each stage of a chain drives, told to those that sound by it."""

    def __init__(self) -> None:
        self._told: dict[str, tuple[StageSettings, str, StageSettings]] = {}

    def tell(self, stages: Sequence[StageSettings]) -> list[StageSettings]:
        """The stages, those that feel the next one's load with its name; the same objects as long as both stay."""
        return [self._tell(settings, next_) for settings, next_ in itertools.zip_longest(stages, stages[1:])]

    def _tell(self, settings: StageSettings, next_: StageSettings | None) -> StageSettings:
        if not settings.declaration.feels_load or next_ is None or not next_.on:
            return settings
        load = next_.declaration.load(next_.params)
        if not load:
            return settings
        was = self._told.get(settings.id)
        if was is None or was[0] is not settings or was[1] != load:
            was = settings, load, replace(settings, params={**settings.params, LOAD: load})
            self._told[settings.id] = was
        return was[2]


class ChainRecord(Record):
    """Slots in series.

    Attributes
    ----------
    run_slot : int
        Where their compiled half lies.
    slots : NDArray[np.int64]
        Where their records lie.
    loop : int
        Where the record of the way round lies, 0 where there is none.
    wide_from : int
        Place of the first slot that has two channels where the chain is given one, else -1.
    part_start, whole_frames : int
        Where in a longer block a part of it begins that the chain is run on, and that block's frames; 0 where it is
        run on a block as a whole.
    points : Samples
        What is at each point of the chain, a row each, while somebody looks on; else empty.
    """

    run_slot: int = whole()
    wide_from: int = whole()
    loop: int = whole()
    part_start: int = whole()
    whole_frames: int = whole()
    slots: NDArray[np.int64] = whole_setting("slots")
    clock: Samples = shared(1)
    points: Samples = shared(2)
    wide: Samples = scratch("wide")
    piece: Samples = scratch("piece")


_SLOT, _LOOP = SlotRecord.dtype, LoopRecord.dtype


@inlined
def _widened(chain: ChainRecord, block: Samples) -> Samples:
    """A single channel as two that are alike."""
    wide: Samples = block_of(chain.wide, 2, block.shape[1])
    put(wide, block)
    return wide


@kernel
def keep_point(points: Samples, point: int, block: Samples, start: int, frames: int) -> None:
    """Keep a part of a block, from frame `start` of `frames`, for whoever looks on; nothing where nobody does."""
    if points.shape[0] > 0:
        for c in range(block.shape[0]):
            for i in range(block.shape[1]):
                points[point, c * frames + start + i] = block[c, i]


@kernel
def _run_slots(chain: ChainRecord, block: Samples, start: int, frames: int) -> None:
    """Run all slots on a block that begins at frame `start` of `frames`."""
    clock, points, slots = vector(chain.clock), matrix(chain.points), whole_vector(chain.slots)
    clock[CLOCK_DELAY] = 0.0
    keep_point(points, 0, block, start, frames)
    for k in range(slots.shape[0]):
        if k == chain.wide_from and block.shape[0] == 1:
            block = _widened(chain, block)
        call_stage(chain.run_slot, slots[k], block)
        clock[CLOCK_DELAY] += record_at(slots[k], _SLOT).latency
        keep_point(points, k + 1, block, start, frames)
    clock[CLOCK_FRAME] += block.shape[1]


@inlined
def _run_chain(chain: ChainRecord, block: Samples) -> None:
    """Run a chain on a block (channels, frames) in place; where it widens, the result lies in `chain.wide`."""
    clean_input(block)
    frames = block.shape[1]
    first, whole_frames = (chain.part_start, chain.whole_frames) if chain.whole_frames > 0 else (0, frames)
    if chain.loop == 0:
        _run_slots(chain, block, first, whole_frames)
        return
    if chain.wide_from == 0:
        block = _widened(chain, block)
    loop = record_at(chain.loop, _LOOP)
    for start in range(0, frames, LOOP_FRAMES):
        stop = min(start + LOOP_FRAMES, frames)
        piece = block_of(chain.piece, block.shape[0], stop - start)
        put(piece, block[:, start:stop])
        come_back(loop, stop - start)
        _run_slots(chain, piece, first + start, whole_frames)
        go_round(loop, stop - start)
        put(block[:, start:stop], piece)


CHAIN = CompiledHalf(ChainRecord, _run_chain)


class Chain:
    """Slots in series.  Non-finite input is replaced by silence before the first.

    `clock` runs on by itself; whoever knows better sets `clock.frame` before a block.
    The first stage that asks for it sends its sound round through all the others.
    """

    def __init__(self, setup: Setup, stages: Sequence[StageSettings], reuse: Chain | None = None) -> None:
        by_id = {slot.settings.id: slot for slot in reuse.slots} if reuse is not None else {}
        self._loads = Loads()
        stages = self._loads.tell(stages)
        self.clock = setup.clock
        self.wide_from = widens_at(setup, stages)
        """Place of the first stage that has two channels where the chain is given one, else None."""
        self._single = setup.channels
        if self.wide_from == 0:
            setup = replace(setup, channels=2)
        self.slots: list[Slot] = []
        self._loop: ChainLoop | None = None
        self._looping = next((index for index, settings in enumerate(stages)
                              if settings.declaration.loops(settings.params)), None)
        for index, settings in enumerate(stages):
            slot = by_id.get(settings.id)
            wide = self.wide_from is not None and index >= self.wide_from
            own = replace(setup, seed=seed_from(setup.seed, settings.id), channels=2 if wide else setup.channels)
            if index == self._looping:
                others = self._around(stages)
                old = reuse._loop if reuse is not None else None
                if slot is not None and old is not None and old.fits(setup, others):
                    self._loop = old
                else:
                    port = LoopPort(1 if settings.mono else setup.channels)
                    self._loop, slot = ChainLoop(setup, port, others), None
                    own = replace(own, loop=port)
            if slot is None or slot.made_for != settings.needs(setup.rate) or slot.channels != own.channels:
                slot = Slot(own, settings)
            self.slots.append(slot)
        self.latency = sum(slot.latency for slot in self.slots)
        self.channels = setup.channels if self.wide_from is None else 2
        """Of what comes out."""
        self._longest = setup.max_block
        self._all_slots = self.slots + (self._loop.slots if self._loop is not None else [])
        self._moving = [slot for slot in self._all_slots if slot.changing]
        self.record = self._make_record()
        self.keep_points(on=False)

    def _make_record(self) -> ChainRecord:
        record = ChainRecord.make(slots=len(self.slots),
                                  wide=0 if self.wide_from is None else 2 * self._longest,
                                  piece=0 if self._loop is None else self.channels * LOOP_FRAMES)
        record.wide_from = -1 if self.wide_from is None else self.wide_from
        record.loop = 0 if self._loop is None else self._loop.record.address
        record.run_slot = SLOT.address
        record.slots = np.array([slot.record.address for slot in self.slots], np.int64)
        record.clock = self.clock.times
        return record

    @property
    def moves(self) -> bool:
        """True while new settings of a stage come in by a crossfade."""
        return bool(self._moving)

    def channels_at(self, point: int) -> int:
        """Channels at a point of the chain: 0 is its input, k the output of stage k."""
        if self.wide_from is None or point > self.wide_from:
            return self.channels
        return 2 if self._loop is not None else self._single

    def keep_points(self, *, on: bool) -> None:
        """Keep, from the next block on, what is at every point of the chain, or no more."""
        self._points: Samples = np.zeros((len(self.slots) + 1 if on else 0, self.channels * self._longest))
        self.record.points = self._points

    def at_point(self, point: int, frames: int) -> Samples:
        """What was at a point in the last block (channels there, frames), while points are kept."""
        return block_view(self._points[point], self.channels_at(point), frames)

    def _around(self, stages: Sequence[StageSettings]) -> list[StageSettings]:
        """The other stages from behind the one with the loop, round to before it."""
        assert self._looping is not None
        return [*stages[self._looping + 1:], *stages[:self._looping]]

    def reset(self) -> None:
        """Forget all past input and finish every movement."""
        for slot in self.slots:
            slot.reset()
        if self._loop is not None:
            self._loop.reset()
        self.clock.frame = 0
        self._moving = []

    def update(self, stages: Sequence[StageSettings]) -> None:
        """Take new settings for the same stages in the same order."""
        for slot, requested in self._changed(stages):
            slot.update(requested)
        self._moving = [slot for slot in self._all_slots if slot.changing]

    def rehearse(self, stages: Sequence[StageSettings]) -> None:
        """Work out what is dear in new settings, so that `update` finds it ready; from any thread."""
        for slot, requested in self._changed(stages):
            slot.rehearse(requested)

    def follow_tempo(self, tempo: float, beats_per_bar: int = 4, first_beat: float = 0.0) -> None:
        """Go by another tempo of the session, or by other bars."""
        clock = self.clock
        if (tempo, beats_per_bar, first_beat) != (clock.tempo, clock.beats_per_bar, clock.first_beat):
            clock.tempo, clock.beats_per_bar, clock.first_beat = tempo, beats_per_bar, first_beat
            for slot in self._all_slots:
                slot.follow_tempo(tempo)

    def _changed(self, stages: Sequence[StageSettings]) -> list[tuple[Slot, StageSettings]]:
        """Slots with the settings that are new for them, those of the loop's other way among them."""
        stages = self._loads.tell(stages)
        settings = [*stages, *(self._around(stages) if self._loop is not None else ())]
        return [(slot, new) for slot, new in zip(self._all_slots, settings, strict=True) if new is not slot.settings]

    def process(self, block: Samples) -> Samples:
        """Run a block (channels, frames), C-contiguous float64.

        What comes out is the block itself, changed in place; where the chain widens, it has two channels and is
        valid until the next call.
        """
        run_stage(CHAIN.address, self.record.address, block)
        self.go_on()
        return block if self.wide_from is None else block_view(self.record.wide, 2, block.shape[1])

    def go_on(self) -> None:
        """Take up, between two blocks, what was set while other settings came in."""
        if self._moving:
            self._moving = moving(self._moving)


def run_whole(chain: Chain, sound: Samples, block: int) -> Samples:
    """What a chain makes of a whole sound (channels, frames), its latency taken off; block : frames at a time."""
    out = np.concatenate((sound, np.zeros((sound.shape[0], chain.latency))), axis=1)
    for start in range(0, out.shape[1], block):
        part = np.ascontiguousarray(out[:, start:start + block])
        chain.process(part)
        out[:, start:start + block] = part
    return out[:, chain.latency:]
