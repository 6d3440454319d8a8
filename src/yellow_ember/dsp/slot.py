"""One hosted stage: bypass, dry and wet, mono, and clickless changes of settings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.mixing import LEFT, TARGET, add, aim, crossfade, glide, jump, mean, put, rests_at
from yellow_ember.dsp.parameters import Values
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    block_of,
    call_stage,
    matrix,
    scratch,
    setting,
    state,
    vector,
    whole,
    whole_setting,
    whole_state,
    whole_vector,
)
from yellow_ember.dsp.stage import Processor, Setup
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
    """

    function: int = whole()
    heard: int = whole()
    settling: int = whole()
    unheard: int = whole()
    fade_frames: int = whole()
    latency: int = whole()
    mono: int = whole()
    stages: NDArray[np.int64] = whole_setting(2)
    wet: Samples = setting(4)
    beside: Samples = setting(4)
    on: Samples = setting(4)
    change: Samples = setting(4)
    ring: Samples = state("channels", "latency")
    index: NDArray[np.int64] = whole_state(1)
    dry: Samples = scratch("samples")
    other: Samples = scratch("samples")
    single: Samples = scratch("frames")


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
def _add_dry(slot: SlotRecord, block: Samples, dry: Samples) -> None:
    beside = vector(slot.beside)
    if not rests_at(beside, 0.0):
        other = block_of(slot.other, block.shape[0], block.shape[1])
        put(other, dry)
        glide(other, beside)
        add(block, other)


@inlined
def _run_slot(slot: SlotRecord, block: Samples) -> None:
    """Run a slot on a block (channels, frames) in place."""
    channels, frames = block.shape
    dry, index, on = block_of(slot.dry, channels, frames), whole_vector(slot.index), vector(slot.on)
    put(dry, block)
    index[0] = delay(dry, matrix(slot.ring), index[0])
    if slot.unheard == 0 and rests_at(on, 0.0):
        put(block, dry)
        return
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
    _add_dry(slot, block, dry)
    if on[LEFT] != 0.0:
        crossfade(dry, block, on)
        put(block, dry)


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
        self._processors: tuple[Processor, Processor] = (self._processor(), self._processor())
        self._rehearsing: Processor | None = None
        self._heard: Values = settings.params
        self.latency = self._processors[0].latency
        record = self.record = SlotRecord.make(
            channels=setup.channels, frames=setup.max_block, samples=setup.channels * setup.max_block,
            latency=self.latency)
        record.function = self._processors[0].compiled.address
        record.stages = np.array([processor.record.address for processor in self._processors])
        record.latency, record.mono = self.latency, int(mono)
        self._wet = Ramp(settings.wet_gain, setup.rate, state=record.wet)
        self._beside = Ramp(settings.dry_gain, setup.rate, state=record.beside)
        self._on = Ramp(1.0 if settings.on else 0.0, setup.rate, FADE_SECONDS, state=record.on)
        self._change = Ramp(0.0, setup.rate, FADE_SECONDS, state=record.change)
        record.fade_frames = self._change.frames
        self.changing = False
        """True while new settings come in by a crossfade."""

    def _processor(self) -> Processor:
        processor = self.settings.declaration.processor(self._setup)
        processor.set(self.settings.params, at_once=True)
        return processor

    def reset(self) -> None:
        """Forget all past input and finish every movement."""
        now = self._processors[self.record.heard]
        if self.changing or self._heard != self.settings.params:
            now.set(self.settings.params, at_once=True)
            self._heard = self.settings.params
        now.reset()
        self.record.carried.fill(0.0)
        self._wet.jump(self.settings.wet_gain)
        self._beside.jump(self.settings.dry_gain)
        self._on.jump(1.0 if self.settings.on else 0.0)
        self._change.jump(0.0)
        self.record.unheard = self.record.settling = 0
        self.changing = False

    def update(self, settings: StageSettings) -> None:
        """Move to new settings of the same stage without a click."""
        if settings.on and not self.settings.on and self._on.resting and self._on.target == 0.0:
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
        self._wet.move(settings.wet_gain)
        self._beside.move(settings.dry_gain)
        if not self.changing:
            self._follow()

    def rehearse(self, settings: StageSettings) -> None:
        """Work out new settings on a processor that nobody hears, from any thread.

        What is dear in them (tables, responses) is kept by those who make it, so that `update` finds it ready.
        """
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
        now, following = self._processors[self.record.heard], self._processors[1 - self.record.heard]
        if self.settings.declaration.needs_crossfade(self._heard, requested):
            # A filter whose coefficients jump rings for a moment, and what rings at the stage's
            # entrance comes out later: the fade waits until it has passed.
            following.adopt(now)
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
