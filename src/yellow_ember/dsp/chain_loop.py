"""The way from a stage of a chain through all the others, from behind it round to before it, and back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.mixing import level_turn, put
from yellow_ember.dsp.record import (
    Record,
    block_of,
    call_stage,
    matrix,
    real,
    scratch,
    shared,
    state,
    vector,
    whole,
    whole_setting,
    whole_state,
    whole_vector,
)
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.slot import SLOT, Slot
from yellow_ember.dsp.stage import LOOP_FRAMES, LoopPort, Setup
from yellow_ember.dsp.stage_settings import StageSettings

_LEVEL_SECONDS = 0.2
"""How slowly the loop's gain is measured."""


class LoopRecord(Record):
    """What goes round.

    Attributes
    ----------
    run_slot : int
        Where the slots' compiled half lies.
    slots : NDArray[np.int64]
        Where their records lie.
    sent, returned : Samples
        The port's.
    ring : Samples
        What came round, until the stage takes it back.
    sent_ring : Samples
        What was sent, until its turn comes back.
    levels : Samples
        Slow mean squares of both.
    """

    run_slot: int = whole()
    speed: float = real()
    slots: NDArray[np.int64] = whole_setting("slots")
    sent: Samples = shared(2)
    returned: Samples = shared(2)
    ring: Samples = state("channels", "loop_frames")
    index: NDArray[np.int64] = whole_state(1)
    sent_ring: Samples = state("channels", "late")
    sent_index: NDArray[np.int64] = whole_state(1)
    levels: Samples = state(2)
    turned: Samples = scratch("samples")
    before: Samples = scratch("samples")


@kernel
def come_back(loop: LoopRecord, frames: int) -> None:
    """Hand the stage what was sent LOOP_FRAMES ago, for the next `frames`."""
    ring, returned, at = matrix(loop.ring), matrix(loop.returned), whole_vector(loop.index)[0]
    for c in range(ring.shape[0]):
        for i in range(frames):
            returned[c, i] = ring[c, (at + i) % LOOP_FRAMES]


@kernel
def go_round(loop: LoopRecord, frames: int) -> None:
    """Take what the stage has sent through the others."""
    ring, sent, index, sent_index = matrix(loop.ring), matrix(loop.sent), whole_vector(loop.index), whole_vector(
        loop.sent_index)
    turned, before = block_of(loop.turned, ring.shape[0], frames), block_of(loop.before, ring.shape[0], frames)
    put(turned, sent[:, :frames])
    put(before, sent[:, :frames])
    for slot in whole_vector(loop.slots):
        call_stage(loop.run_slot, slot, turned)
    sent_index[0] = delay(before, matrix(loop.sent_ring), sent_index[0])
    level_turn(before, turned, loop.speed, vector(loop.levels))
    at = index[0]
    for c in range(ring.shape[0]):
        for i in range(frames):
            ring[c, (at + i) % LOOP_FRAMES] = turned[c, i]
    index[0] = (at + frames) % LOOP_FRAMES


class ChainLoop:
    """The Python half.

    The other stages run in it a second time, so that what is heard directly and what comes round do not mix
    before the stage.  What they gain is taken back: a turn is as loud as the stage sends it.
    """

    def __init__(self, setup: Setup, port: LoopPort, others: Sequence[StageSettings]) -> None:
        self.port = port
        channels = port.sent.shape[0]
        own = replace(setup, channels=channels, max_block=LOOP_FRAMES)
        self.slots = [Slot(replace(own, seed=seed_from(setup.seed, settings.id, "loop")), settings)
                      for settings in others]
        late = sum(slot.latency for slot in self.slots)
        port.delay = LOOP_FRAMES + late
        self.record = LoopRecord.make(channels=channels, slots=len(self.slots), loop_frames=LOOP_FRAMES, late=late,
                                      samples=channels * LOOP_FRAMES)
        self.record.run_slot = SLOT.address
        self.record.slots = np.array([slot.record.address for slot in self.slots], np.int64)
        self.record.sent, self.record.returned = port.sent, port.returned
        self.record.speed = one_pole(_LEVEL_SECONDS, setup.rate)

    def reset(self) -> None:
        """Forget what goes round."""
        for slot in self.slots:
            slot.reset()
        self.record.carried.fill(0.0)
        for array in (self.port.sent, self.port.returned):
            array.fill(0.0)

    def fits(self, setup: Setup, others: Sequence[StageSettings]) -> bool:
        """True where this way runs through those stages as they are wanted now."""
        return [(slot.settings.id, slot.made_for) for slot in self.slots] == [
            (settings.id, settings.needs(setup.rate)) for settings in others]
