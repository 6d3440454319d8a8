"""One hosted stage: bypass, dry and wet, mono, and clickless changes of settings."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import inlined, kernel
from yellow_ember.dsp.kernels.filters import biquads, delay
from yellow_ember.dsp.kernels.mixing import LEFT, TARGET, add, aim, crossfade, glide, jump, mean, put, rests_at
from yellow_ember.dsp.lanes import GRID, LANE, lane_at
from yellow_ember.dsp.parameters import Values
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    array_4d,
    block_at,
    block_of,
    call_stage,
    matrix,
    real,
    record_at,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
    whole_setting,
    whole_state,
    whole_vector,
)
from yellow_ember.dsp.stage import CLOCK_DELAY, CLOCK_FRAME, CLOCK_FROM, MOST_TURNS, Processor, Setup, in_session
from yellow_ember.dsp.stage_lanes import (
    CYCLES,
    StageLanes,
    StageLanesRecord,
    copy_state,
    follow_lane,
    gains_at,
    settings_at,
    steer,
    take_settings,
)
from yellow_ember.dsp.stage_settings import StageSettings

FADE_SECONDS = 0.02
SETTLE_SECONDS = 0.005
"""How long beyond its latency a stage runs unheard after it was switched on."""


class SlotRecord(Record):
    """A stage as it is hosted: two of it, of which one is heard, and what comes between them and around them.

    Attributes
    ----------
    function : int
        Where the stage's compiled half lies.
    stages : NDArray[np.int64]
        Where the records of both lie.
    heard : int
        Which is, 0 or 1.
    settling : int
        Frames until the other one, with new settings, has settled.
    unheard : int
        Frames that the stage still runs unheard since it was switched on.
    lanes, lanes_taken : int
        Where the record of its lanes lies, 0 for none; and of those that it was aimed by last.
    next_frame : float
        The session's frame at which it goes on, below NOWHERE where it begins.
    settings_of, settings_now : int
        Where the settings come from that it has, or comes to, and which of them these are.
    memories : NDArray[np.int64]
        Where the words of both stages lie; their structures lie at `stages`.
    turns : NDArray[np.int64]
        Where both stages' all-passes lie, MOST_TURNS sections each, which what passes by goes through; 0 for none.
    """

    function: int = whole()
    lanes: int = whole()
    lanes_taken: int = whole()
    next_frame: float = real()
    settings_of: int = whole()
    settings_now: int = whole()
    heard: int = whole()
    settling: int = whole()
    unheard: int = whole()
    fade_frames: int = whole()
    latency: int = whole()
    mono: int = whole()
    stages: NDArray[np.int64] = whole_setting(2)
    memories: NDArray[np.int64] = whole_setting(2)
    turns: NDArray[np.int64] = whole_setting(2)
    clock: Samples = shared(1)
    wet: Samples = setting(4)
    beside: Samples = setting(4)
    on: Samples = setting(4)
    change: Samples = setting(4)
    ring: Samples = state("channels", "latency")
    index: NDArray[np.int64] = whole_state(1)
    turned: Samples = state(2, "channels", MOST_TURNS, 2)
    dry: Samples = scratch("samples")
    passing: Samples = scratch("samples")
    fade: Samples = scratch(4)
    other: Samples = scratch("samples")
    single: Samples = scratch("frames")
    piece: Samples = scratch("grid")


_LANES = StageLanesRecord.dtype
NOWHERE = -1e18


@inlined
def _work(slot: SlotRecord, wet: Samples) -> None:
    """The stage itself on a block in place, and beside it the one with new settings while those come in."""
    change, stages = vector(slot.change), whole_vector(slot.stages)
    if slot.settling == 0 and change[TARGET] == 0.0:
        call_stage(slot.function, stages[slot.heard], wet)
        return
    other = block_of(slot.other, wet.shape[0], wet.shape[1])
    put(other, wet)
    call_stage(slot.function, stages[1 - slot.heard], other)
    call_stage(slot.function, stages[slot.heard], wet)
    if slot.settling > 0:
        slot.settling = max(0, slot.settling - wet.shape[1])
        if slot.settling == 0:
            aim(change, 1.0, slot.fade_frames)
        return
    crossfade(wet, other, change)
    if change[LEFT] == 0.0:
        slot.heard = 1 - slot.heard
        jump(change, 0.0)


@inlined
def _turn_passing(slot: SlotRecord, passing: Samples) -> None:
    """Take what passes by through the all-passes of the stage that is heard, or comes to be."""
    change, turns = vector(slot.change), whole_vector(slot.turns)
    heard = slot.heard
    turned = array_4d(slot.turned)
    if slot.settling == 0 and change[TARGET] == 0.0:
        biquads(passing, block_at(turns[heard], MOST_TURNS, 5), turned[heard])
        return
    other = block_of(slot.other, passing.shape[0], passing.shape[1])
    put(other, passing)
    biquads(other, block_at(turns[1 - heard], MOST_TURNS, 5), turned[1 - heard])
    biquads(passing, block_at(turns[heard], MOST_TURNS, 5), turned[heard])
    if slot.settling == 0:
        # The stage itself moves on the fade that both share.
        fade = vector(slot.fade)
        for k in range(4):
            fade[k] = change[k]
        crossfade(passing, other, fade)


@inlined
def _take_passing(slot: SlotRecord, dry: Samples) -> bool:
    """What passes the stage by, at its level, into `passing`; False where nothing does."""
    beside = vector(slot.beside)
    if rests_at(beside, 0.0):
        return False
    passing = block_of(slot.passing, dry.shape[0], dry.shape[1])
    put(passing, dry)
    if whole_vector(slot.turns)[0] != 0:
        _turn_passing(slot, passing)
    glide(passing, beside)
    return True


@kernel
def _run_piece(slot: SlotRecord, block: Samples) -> None:
    """Run a slot on a block, or a piece of one, in which no lane turns."""
    channels, frames = block.shape
    dry, index, on = block_of(slot.dry, channels, frames), whole_vector(slot.index), vector(slot.on)
    put(dry, block)
    index[0] = delay(dry, matrix(slot.ring), index[0])
    if slot.unheard == 0 and slot.lanes == 0 and rests_at(on, 0.0):
        put(block, dry)
        return
    passes = _take_passing(slot, dry)
    if slot.mono == 1:
        single = block_of(slot.single, 1, frames)
        mean(block, single)
        _work(slot, single)
        glide(single, vector(slot.wet))
        put(block, single)
    else:
        _work(slot, block)
        glide(block, vector(slot.wet))
    if slot.unheard > 0:
        slot.unheard = max(0, slot.unheard - frames)
        put(block, dry)
        if slot.unheard == 0:
            aim(on, 1.0, slot.fade_frames)
        return
    if passes:
        add(block, block_of(slot.passing, channels, frames))
    if not rests_at(on, 1.0):
        crossfade(dry, block, on)
        put(block, dry)


@kernel
def _begin_cycle(slot: SlotRecord, lanes: StageLanesRecord, frame: float) -> None:
    """Go on to the settings that hold at the end of a cycle; where playing begins, from those that hold before."""
    cycles = record_at(lanes.cycles, CYCLES)
    stages, memories, change = whole_vector(slot.stages), whole_vector(slot.memories), vector(slot.change)
    number = math.floor(frame / cycles.length)
    done = int(frame - number * cycles.length)
    begins = slot.next_frame <= NOWHERE
    is_new = slot.settings_of != lanes.cycles
    if not begins and not is_new and done != 0 and frame == slot.next_frame:
        return
    if begins:
        slot.settings_now, slot.settings_of = settings_at(cycles, number), lanes.cycles
        take_settings(cycles, slot.settings_now, memories[slot.heard], stages[slot.heard])
        slot.settling = 0
        jump(change, 0.0)
    if slot.settling != 0 or change[TARGET] != 0.0:
        return
    following = settings_at(cycles, number + 1)
    if following == slot.settings_now and (begins or not is_new):
        return
    slot.settings_now, slot.settings_of = following, lanes.cycles
    copy_state(cycles, memories[slot.heard], memories[1 - slot.heard])
    turned = array_4d(slot.turned)
    for c in range(turned.shape[1]):
        put(turned[1 - slot.heard, c], turned[slot.heard, c])
    take_settings(cycles, following, memories[1 - slot.heard], stages[1 - slot.heard])
    if not begins:
        done = 0
    slot.settling = max(0, cycles.settling - done)
    if slot.settling == 0:
        past = min(done - cycles.settling, slot.fade_frames - 1)
        jump(change, past / slot.fade_frames)
        aim(change, 1.0, slot.fade_frames - past)


@kernel
def _turn(slot: SlotRecord, lanes: StageLanesRecord, frame: float, cell_end: float, leaving: float) -> None:
    """Aim everything that has a lane at where it is at the end of a cell of the grid.

    Parameters
    ----------
    frame, leaving : float
        The session's frames of what enters the stage now, and of what leaves it.
    """
    begins = slot.next_frame <= NOWHERE
    if lanes.cycles != 0:
        _begin_cycle(slot, lanes, frame)
    stages, memories = whole_vector(slot.stages), whole_vector(slot.memories)
    frames = int(cell_end - frame)
    left_last = leaving + frames
    # Behind a jump within a cell there is no hurry: the next cell goes on from where this one has come to.
    frames = frames if begins else max(frames, GRID)
    for follower in whole_vector(lanes.followers):
        for k in range(2):
            if begins:
                follow_lane(follower, frame, memories[k], stages[k], 0)
            follow_lane(follower, cell_end, memories[k], stages[k], frames)
    if lanes.gains == 1:
        if begins:
            wet, dry = gains_at(lanes, leaving)
            steer(vector(slot.wet), wet, 0)
            steer(vector(slot.beside), dry, 0)
        wet, dry = gains_at(lanes, left_last)
        steer(vector(slot.wet), wet, frames)
        steer(vector(slot.beside), dry, frames)
    if lanes.on != 0:
        lane = record_at(lanes.on, LANE)
        if begins:
            steer(vector(slot.on), lane_at(lane, leaving), 0)
        steer(vector(slot.on), lane_at(lane, left_last), frames)


@kernel
def _run_along(slot: SlotRecord, block: Samples) -> None:
    """Run a slot on a block in pieces between which its lanes turn, on a grid that begins with the session."""
    lanes, clock = record_at(slot.lanes, _LANES), vector(slot.clock)
    channels, frames = block.shape
    raw = clock[CLOCK_FRAME] - clock[CLOCK_DELAY]
    start = 0
    while start < frames:
        frame = in_session(clock, raw + start)
        cell_end = (math.floor(frame / GRID) + 1.0) * GRID
        stop = min(frames, start + int(cell_end - frame))
        until = clock[CLOCK_FROM] - raw
        if start < until < stop:
            stop = int(until)
        if frame != slot.next_frame or cell_end - frame == GRID or slot.lanes != slot.lanes_taken:
            _turn(slot, lanes, frame, cell_end, in_session(clock, raw + start - slot.latency))
            slot.lanes_taken = slot.lanes
        piece = block_of(slot.piece, channels, stop - start)
        put(piece, block[:, start:stop])
        _run_piece(slot, piece)
        put(block[:, start:stop], piece)
        slot.next_frame = frame + stop - start
        start = stop


@inlined
def _run_slot(slot: SlotRecord, block: Samples) -> None:
    """Run a slot on a block (channels, frames) in place."""
    if slot.lanes == 0:
        _run_piece(slot, block)
    else:
        _run_along(slot, block)


SLOT = CompiledHalf(SlotRecord, _run_slot)


class Slot:
    """The Python half of one hosted stage.  Bypassed or not, it delays by the same `latency` frames."""

    def __init__(self, setup: Setup, settings: StageSettings) -> None:
        self.settings = settings
        self.channels = setup.channels
        self.made_for = settings.needs(setup.rate)
        lookahead, path, mono, loops = self.made_for
        mono = mono and setup.channels == 2
        self._setup = replace(setup, channels=1 if mono else setup.channels, lookahead=lookahead,
                              impulse=setup.read_impulse(path, setup.rate) if path else None,
                              loop=setup.loop if loops else None)
        first = self._processor()
        # New settings would come in by a crossfade from the one to the other.
        self._processors: tuple[Processor, Processor] = (first, first if setup.still else self._processor())
        self._rehearsing: Processor | None = None
        self._heard: Values = settings.params
        self.latency = self._processors[0].latency
        record = self.record = SlotRecord.make(
            channels=setup.channels, frames=setup.max_block, samples=setup.channels * setup.max_block,
            latency=self.latency, grid=setup.channels * GRID)
        record.function = self._processors[0].compiled.address
        record.stages = np.array([processor.record.address for processor in self._processors])
        record.memories = np.array([processor.record.words.ctypes.data for processor in self._processors])
        record.turns = np.array([processor.turning.ctypes.data if processor.turning.size else 0
                                 for processor in self._processors])
        record.clock = setup.clock.times
        record.next_frame = 2.0 * NOWHERE
        record.latency, record.mono = self.latency, int(mono)
        self._wet = Ramp(settings.wet_gain, setup.rate, state=record.wet)
        self._beside = Ramp(settings.dry_gain, setup.rate, state=record.beside)
        self._on = Ramp(1.0 if settings.on else 0.0, setup.rate, FADE_SECONDS, state=record.on)
        self._change = Ramp(0.0, setup.rate, FADE_SECONDS, state=record.change)
        record.fade_frames = self._change.frames
        self.changing = False
        """True while new settings come in by a crossfade."""
        self._lanes = self._lanes_of(settings)
        self._prepared: tuple[StageSettings, StageLanes | None] = settings, self._lanes
        """Settings that were rehearsed, with their lanes."""
        self._use_lanes()

    def _processor(self) -> Processor:
        processor = self.settings.declaration.processor(self._setup)
        processor.set(self.settings.params, at_once=True)
        return processor

    def _lanes_of(self, settings: StageSettings) -> StageLanes | None:
        """The lanes of some settings; None where none is on."""
        if not any(lane.on for lane in settings.lanes):
            return None
        return StageLanes(settings, lambda: settings.declaration.processor(self._setup), self._setup.rate,
                          self.record.fade_frames)

    def _use_lanes(self) -> None:
        self.record.lanes = 0 if self._lanes is None else self._lanes.record.address
        if self._lanes is None:
            self.record.lanes_taken = 0

    @property
    def _steps(self) -> bool:
        """True while lanes say which settings the stage has, in steps."""
        return self._lanes is not None and self._lanes.cycles is not None

    def reset(self) -> None:
        """Forget all past input and finish every movement."""
        self.record.next_frame = 2.0 * NOWHERE
        now = self._processors[self.record.heard]
        if self.changing or self._heard != self.settings.params:
            now.set(self.settings.params, at_once=True)
            self._heard = self.settings.params
        now.reset()
        if self._lanes is not None:
            self._processors[1 - self.record.heard].reset()
        self.record.carried.fill(0.0)
        self._wet.jump(self.settings.wet_gain)
        self._beside.jump(self.settings.dry_gain)
        self._on.jump(1.0 if self.settings.on else 0.0)
        self._change.jump(0.0)
        self.record.unheard = self.record.settling = 0
        self.changing = False

    def update(self, settings: StageSettings) -> None:
        """Move to new settings of the same stage without a click.  ValueError where the set-up is to stay still."""
        if self._setup.still:
            raise ValueError("a stage that was set up to stay as it is can't take other settings")
        self._update_lanes(settings)
        lanes = self._lanes
        if lanes is not None and lanes.decides_on:
            self.record.unheard = 0
        elif settings.on and not self.settings.on and self._on.resting and self._on.target == 0.0:
            now = self._processors[self.record.heard]
            now.set(settings.params, at_once=True)
            self._heard = settings.params
            now.reset()
            self.record.unheard = self.latency + round(SETTLE_SECONDS * self._setup.rate)
        elif not settings.on:
            self.record.unheard = 0
            self._on.move(0.0)
        elif self.record.unheard == 0:
            self._on.move(1.0)
        self.settings = settings
        if lanes is None or not lanes.moves_gains:
            self._wet.move(settings.wet_gain)
            self._beside.move(settings.dry_gain)
        if not self.changing:
            self._follow()

    def _update_lanes(self, settings: StageSettings) -> None:
        """Take the lanes of new settings, which were worked out beforehand where that was possible."""
        if not settings.lanes and self._lanes is None:
            return
        if settings is not self._prepared[0]:
            self._prepared = settings, self._lanes_of(settings)
        stepped = self._steps
        self._lanes = self._prepared[1]
        self._use_lanes()
        if stepped and not self._steps:
            # Which settings are heard is not known here; those without lanes come in anew.
            self._heard = {}

    def rehearse(self, settings: StageSettings) -> None:
        """Work out new settings on a processor that nobody hears, from any thread.

        What is dear in them (tables, responses) is kept by those who make it, so that `update` finds it ready.
        """
        if settings.lanes:
            self._prepared = settings, self._lanes_of(settings)
        if settings.params != self.settings.params:
            if self._rehearsing is None:
                self._rehearsing = settings.declaration.processor(self._setup)
            self._rehearsing.set(settings.params, at_once=True)

    def follow_tempo(self, tempo: float) -> None:
        """Go by another tempo of the session."""
        for processor in self._processors:
            if processor.in_tempo:
                processor.follow_tempo(tempo)

    def _follow(self) -> None:
        """Bring the running processor to the present settings, by its ramps or by a crossfade."""
        requested = self.settings.params
        if requested == self._heard:
            return
        if self._steps:
            # The lanes' own settings hold what is new.
            self._heard = requested
            return
        now, following = self._processors[self.record.heard], self._processors[1 - self.record.heard]
        if not self._heard and (self.record.settling > 0 or self._change.target != 0.0):
            self.changing = True
            return
        if not self._heard or self.settings.declaration.needs_crossfade(self._heard, requested):
            # A filter whose coefficients jump rings for a moment, and what rings at the stage's
            # entrance comes out later: the fade waits until it has passed.
            following.adopt(now)
            # So do the all-passes of what passes by.
            self.record.turned[1 - self.record.heard] = self.record.turned[self.record.heard]
            following.set(requested, at_once=True)
            self.record.settling = following.settling
            if following.settling == 0:
                self._change.move(1.0)
            self.changing = True
        else:
            now.set(requested)
        self._heard = requested

    def go_on(self) -> None:
        """Look, between two blocks, whether a change of settings has come to its end, and take up what came since."""
        if self.record.settling == 0 and self._change.target == 0.0:
            self.changing = False
            self._follow()


def moving(slots: Sequence[Slot]) -> list[Slot]:
    """Those of some slots whose settings are changing, after each has been looked at."""
    for slot in slots:
        slot.go_on()
    return [slot for slot in slots if slot.changing]
