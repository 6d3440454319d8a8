"""Stages in series: each hosted with bypass, dry and wet, and clickless changes of settings."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.mixing import add, clean_input, crossfade, glide, level_turn, mean
from yellow_ember.dsp.parameters import Values
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.stage import LOOP_FRAMES, LoopPort, Processor, Setup
from yellow_ember.dsp.stage_settings import StageSettings

FADE_SECONDS = 0.02
_LOOP_LEVEL_SECONDS = 0.2
"""How slowly a loop's gain is measured."""
SETTLE_SECONDS = 0.005
"""How long beyond its latency a stage runs unheard after it was switched on."""


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


class Slot:
    """One hosted stage.  Bypassed or not, it delays by the same `latency` frames."""

    def __init__(self, setup: Setup, settings: StageSettings) -> None:
        self.settings = settings
        self.channels = setup.channels
        self.made_for = settings.needs(setup.rate)
        lookahead, path, mono, loops = self.made_for
        self._mono = mono and setup.channels == 2
        outer = setup.channels
        setup = replace(setup, channels=1 if self._mono else outer, lookahead=lookahead,
                        impulse=setup.read_impulse(path, setup.rate) if path else None,
                        loop=setup.loop if loops else None)
        self._setup = setup
        kind = settings.declaration
        self._now: Processor = kind.processor(setup)
        self._next: Processor = kind.processor(setup)
        self._now.set(settings.params, at_once=True)
        self._next.set(settings.params, at_once=True)
        self._rehearsing: Processor | None = None
        self._heard: Values = settings.params
        self.latency = self._now.latency
        size = outer * setup.max_block
        self._dry: Samples = np.zeros(size)
        self._other: Samples = np.zeros(size)
        self._single: Samples = np.zeros(setup.max_block)
        self._ring: Samples = np.zeros((outer, self.latency))
        self._index = 0
        self._wet = Ramp(settings.wet_gain, setup.rate)
        self._beside = Ramp(settings.dry_gain, setup.rate)
        self._on = Ramp(1.0 if settings.on else 0.0, setup.rate, FADE_SECONDS)
        self._change = Ramp(0.0, setup.rate, FADE_SECONDS)
        self._unheard = 0
        self._wait = 0

    def reset(self) -> None:
        """Forget all past input and finish every movement."""
        if self._heard != self.settings.params or self._change.target != 0.0 or self._wait > 0:
            self._now.set(self.settings.params, at_once=True)
            self._heard = self.settings.params
        self._now.reset()
        self._ring.fill(0.0)
        self._index = 0
        self._wet.jump(self.settings.wet_gain)
        self._beside.jump(self.settings.dry_gain)
        self._on.jump(1.0 if self.settings.on else 0.0)
        self._change.jump(0.0)
        self._unheard = 0
        self._wait = 0

    def update(self, settings: StageSettings) -> None:
        """Move to new settings of the same stage without a click."""
        if settings.on and not self.settings.on and self._on.resting and self._on.target == 0.0:
            self._now.set(settings.params, at_once=True)
            self._heard = settings.params
            self._now.reset()
            self._unheard = self.latency + round(SETTLE_SECONDS * self._setup.rate)
        elif not settings.on:
            self._unheard = 0
            self._on.move(0.0)
        elif self._unheard == 0:
            self._on.move(1.0)
        self.settings = settings
        self._wet.move(settings.wet_gain)
        self._beside.move(settings.dry_gain)
        if self._change.target == 0.0 and self._wait == 0:
            self._follow()

    def rehearse(self, settings: StageSettings) -> None:
        """Work out new settings on a processor that nobody hears, from any thread.

        What is dear in them (tables, responses) is kept by those who make it, so that `update` finds it ready.
        """
        if settings.params != self.settings.params:
            if self._rehearsing is None:
                self._rehearsing = settings.declaration.processor(self._setup)
            self._rehearsing.set(settings.params, at_once=True)

    def _follow(self) -> None:
        """Bring the running processor to the present settings, by its ramps or by a crossfade."""
        requested = self.settings.params
        if requested == self._heard:
            return
        if self.settings.declaration.needs_crossfade(self._heard, requested):
            # A filter whose coefficients jump rings for a moment, and what rings at the stage's
            # entrance comes out later: the fade waits until it has passed.
            self._next.adopt(self._now)
            self._next.set(requested, at_once=True)
            self._wait = self._next.settling
            if self._wait == 0:
                self._change.move(1.0)
        else:
            self._now.set(requested)
        self._heard = requested

    def _change_over(self, block: Samples, other: Samples) -> None:
        """Go from the running processor's `block` to the next one's `other`, once that has settled."""
        if self._wait > 0:
            self._wait = max(0, self._wait - block.shape[1])
            if self._wait == 0:
                self._change.move(1.0)
            return
        crossfade(block, other, self._change.state)
        if self._change.resting:
            self._now, self._next = self._next, self._now
            self._change.jump(0.0)
            self._follow()

    def _work(self, wet: Samples) -> None:
        """The stage itself on a block in place, and the next settings' beside it while they come in."""
        if self._wait > 0 or self._change.target == 1.0:
            other = block_view(self._other, *wet.shape)
            other[...] = wet
            self._next.process(other)
            self._now.process(wet)
            self._change_over(wet, other)
        else:
            self._now.process(wet)

    def process(self, block: Samples) -> None:
        """A block (channels, frames) in place."""
        channels, frames = block.shape
        dry = block_view(self._dry, channels, frames)
        dry[...] = block
        self._index = delay(dry, self._ring, self._index)
        if self._on.resting and self._on.target == 0.0 and self._unheard == 0:
            block[...] = dry
            return
        wet = block
        if self._mono:
            wet = block_view(self._single, 1, frames)
            mean(block, wet)
        self._work(wet)
        glide(wet, self._wet.state)
        if self._mono:
            block[...] = wet
        if self._unheard > 0:
            self._unheard = max(0, self._unheard - frames)
            block[...] = dry
            if self._unheard == 0:
                self._on.move(1.0)
            return
        if self._beside.target != 0.0 or not self._beside.resting:
            other = block_view(self._other, channels, frames)
            other[...] = dry
            glide(other, self._beside.state)
            add(block, other)
        if not self._on.resting:
            crossfade(dry, block, self._on.state)
            block[...] = dry


Tap = Callable[[int, Samples], None]
"""Called with a point's number and the block there: 0 is the chain's input, k the output of stage k."""


class _Loop:
    """The way from a stage of a chain through all the others, from behind it round to before it, and back.

    The others run in it a second time, so that what is heard directly and what comes round do not mix
    before the stage.  What they gain is taken back: a turn is as loud as the stage sends it.
    """

    def __init__(self, setup: Setup, port: LoopPort, others: Sequence[StageSettings]) -> None:
        self.port = port
        channels = port.sent.shape[0]
        own = replace(setup, channels=channels, max_block=LOOP_FRAMES)
        self.slots = [Slot(replace(own, seed=seed_from(setup.seed, settings.id, "loop")), settings)
                      for settings in others]
        port.delay = LOOP_FRAMES + sum(slot.latency for slot in self.slots)
        self._ring: Samples = np.zeros((channels, LOOP_FRAMES))
        self._block: Samples = np.zeros(channels * LOOP_FRAMES)
        self._sent: Samples = np.zeros(channels * LOOP_FRAMES)
        self._sent_ring: Samples = np.zeros((channels, port.delay - LOOP_FRAMES))
        self._sent_index = 0
        self._levels: Samples = np.zeros(2)
        self._speed = one_pole(_LOOP_LEVEL_SECONDS, setup.rate)
        self._index = 0

    def reset(self) -> None:
        for slot in self.slots:
            slot.reset()
        for array in (self._ring, self._sent_ring, self._levels, self.port.sent, self.port.returned):
            array.fill(0.0)
        self._index = self._sent_index = 0

    def fits(self, setup: Setup, others: Sequence[StageSettings]) -> bool:
        """True where this way runs through those stages as they are wanted now."""
        return [(slot.settings.id, slot.made_for) for slot in self.slots] == [
            (settings.id, settings.needs(setup.rate)) for settings in others]

    def come_back(self, frames: int) -> None:
        """What was sent LOOP_FRAMES ago, for the next `frames`."""
        self._round(self.port.returned, frames, put=False)

    def go_round(self, frames: int) -> None:
        """Take what the stage has sent through the others."""
        block = block_view(self._block, self._ring.shape[0], frames)
        sent = block_view(self._sent, self._ring.shape[0], frames)
        block[...] = sent[...] = self.port.sent[:, :frames]
        for slot in self.slots:
            slot.process(block)
        self._sent_index = delay(sent, self._sent_ring, self._sent_index)
        level_turn(sent, block, self._speed, self._levels)
        self._round(block, frames, put=True)
        self._index = (self._index + frames) % LOOP_FRAMES

    def _round(self, block: Samples, frames: int, *, put: bool) -> None:
        """Between a block and the ring from its present place on, in one direction or the other."""
        ring = self._ring
        first = min(frames, LOOP_FRAMES - self._index)
        for start, count, index in ((0, first, self._index), (first, frames - first, 0)):
            if put:
                ring[:, index:index + count] = block[:, start:start + count]
            else:
                block[:, start:start + count] = ring[:, index:index + count]


class Chain:
    """Slots in series.  Non-finite input is replaced by silence before the first.

    `clock` runs on by itself; whoever knows better sets `clock.frame` before a block.
    The first stage that asks for it sends its sound round through all the others.
    wide_from : place of the first stage that has two channels where the chain is given one, else None
    """

    def __init__(self, setup: Setup, stages: Sequence[StageSettings], reuse: Chain | None = None) -> None:
        by_id = {slot.settings.id: slot for slot in reuse.slots} if reuse is not None else {}
        self.clock = setup.clock
        self.wide_from = widens_at(setup, stages)
        self._single = setup.channels
        if self.wide_from == 0:
            setup = replace(setup, channels=2)
        self.slots: list[Slot] = []
        self._loop: _Loop | None = None
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
                    self._loop, slot = _Loop(setup, port, others), None
                    own = replace(own, loop=port)
            if slot is None or slot.made_for != settings.needs(setup.rate) or slot.channels != own.channels:
                slot = Slot(own, settings)
            self.slots.append(slot)
        self.latency = sum(slot.latency for slot in self.slots)
        # In a chain with a loop, the blocks at each point are put together again for whoever looks on.
        points = len(self.slots) + 1 if self._loop is not None else 0
        self._points: Samples = np.zeros((points, setup.channels * setup.max_block))
        self._piece: Samples = np.zeros(setup.channels * LOOP_FRAMES)
        self._wide: Samples = np.zeros(0 if self.wide_from is None else 2 * setup.max_block)
        self.channels = setup.channels if self.wide_from is None else 2
        """Of what comes out."""

    def channels_at(self, point: int) -> int:
        """Channels at a point of the chain: 0 is its input, k the output of stage k."""
        if self.wide_from is None or point > self.wide_from:
            return self.channels
        return 2 if self._loop is not None else self._single

    def _widened(self, block: Samples) -> Samples:
        """A single channel as two that are alike."""
        wide = block_view(self._wide, 2, block.shape[1])
        wide[...] = block
        return wide

    def _around(self, stages: Sequence[StageSettings]) -> list[StageSettings]:
        """The other stages from behind the one with the loop, round to before it."""
        assert self._looping is not None
        return [*stages[self._looping + 1:], *stages[:self._looping]]

    def reset(self) -> None:
        for slot in self.slots:
            slot.reset()
        if self._loop is not None:
            self._loop.reset()
        self.clock.frame = 0

    def update(self, stages: Sequence[StageSettings]) -> None:
        """New settings for the same stages in the same order."""
        for slot, requested in self._changed(stages):
            slot.update(requested)

    def rehearse(self, stages: Sequence[StageSettings]) -> None:
        """Work out what is dear in new settings, so that `update` finds it ready; from any thread."""
        for slot, requested in self._changed(stages):
            slot.rehearse(requested)

    def _changed(self, stages: Sequence[StageSettings]) -> list[tuple[Slot, StageSettings]]:
        """Slots with the settings that are new for them, those of the loop's other way among them."""
        slots, settings = list(self.slots), list(stages)
        if self._loop is not None:
            slots += self._loop.slots
            settings += self._around(stages)
        return [(slot, new) for slot, new in zip(slots, settings, strict=True) if new is not slot.settings]

    def process(self, block: Samples, tap: Tap | None = None) -> Samples:
        """A block (channels, frames), C-contiguous float64.

        What comes out is the block itself, changed in place; where the chain widens, it has two channels and is
        valid until the next call.
        """
        clean_input(block)
        if self._loop is None:
            return self._run(block, tap)
        if self.wide_from is not None:
            block = self._widened(block)
        channels, frames = block.shape
        for start in range(0, frames, LOOP_FRAMES):
            stop = min(start + LOOP_FRAMES, frames)
            piece = block_view(self._piece, channels, stop - start)
            piece[...] = block[:, start:stop]

            def keep(point: int, at: Samples, start: int = start, stop: int = stop) -> None:
                self._points[point, :channels * frames].reshape(channels, frames)[:, start:stop] = at

            self._loop.come_back(stop - start)
            self._run(piece, None if tap is None else keep)
            self._loop.go_round(stop - start)
            block[:, start:stop] = piece
        if tap is not None:
            for point, row in enumerate(self._points):
                tap(point, row[:channels * frames].reshape(channels, frames))
        return block

    def _run(self, block: Samples, tap: Tap | None) -> Samples:
        frames = block.shape[1]
        clock = self.clock
        clock.delay = 0
        if tap is not None:
            tap(0, block)
        for index, slot in enumerate(self.slots):
            if index == self.wide_from and block.shape[0] == 1:
                block = self._widened(block)
            slot.process(block)
            clock.delay += slot.latency
            if tap is not None:
                tap(index + 1, block)
        clock.frame += frames
        return block


def run_whole(chain: Chain, sound: Samples, block: int) -> Samples:
    """What a chain makes of a whole sound (channels, frames), its latency taken off; block : frames at a time."""
    out = np.concatenate((sound, np.zeros((sound.shape[0], chain.latency))), axis=1)
    for start in range(0, out.shape[1], block):
        part = np.ascontiguousarray(out[:, start:start + block])
        chain.process(part)
        out[:, start:start + block] = part
    return out[:, chain.latency:]
