"""Stages in series: each hosted with bypass, dry and wet, and clickless changes of settings."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view, gain
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.mixing import add, clean_input, crossfade, glide, mean
from yellow_ember.dsp.parameters import Value, Values
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.stage import Processor, Setup, StageKind
from yellow_ember.dsp.stages import stage_kind

FADE_SECONDS = 0.02
SETTLE_SECONDS = 0.005
"""How long beyond its latency a stage runs unheard after it was switched on."""


@dataclass(frozen=True, slots=True, kw_only=True)
class StageSettings:
    """All that a user sets of one stage.

    id : unique within a session
    dry_db : level of the dry signal beside the stage, None for none
    mix_pct : share of the stage in what goes on, the rest is dry; both levels stand behind it
    mono : the stage works on the sum of both channels, at half the cost
    params : full and checked, by the kind's declaration
    """

    id: str
    kind: str
    on: bool = True
    dry_db: float | None = None
    wet_db: float = 0.0
    mix_pct: float = 100.0
    mono: bool = False
    params: Values

    @property
    def declaration(self) -> StageKind:
        return stage_kind(self.kind)

    def value(self, name: str) -> Value:
        return self.params[name]

    def needs(self, rate: float) -> tuple[int, str, bool]:
        """What a running stage is made for and can't change.

        Frames of the future that it must see, the path of its impulse response, and whether it is mono.
        """
        kind = self.declaration
        return kind.lookahead(self.params, rate), kind.impulse(self.params), self.mono


def _wet_gain(settings: StageSettings) -> float:
    return gain(settings.wet_db) * settings.mix_pct / 100.0


def _dry_gain(settings: StageSettings) -> float:
    return (0.0 if settings.dry_db is None else gain(settings.dry_db)) + 1.0 - settings.mix_pct / 100.0


class Slot:
    """One hosted stage.  Bypassed or not, it delays by the same `latency` frames."""

    def __init__(self, setup: Setup, settings: StageSettings) -> None:
        self.settings = settings
        self.made_for = settings.needs(setup.rate)
        lookahead, path, mono = self.made_for
        self._mono = mono and setup.channels == 2
        outer = setup.channels
        setup = replace(setup, channels=1 if self._mono else outer, lookahead=lookahead,
                        impulse=setup.read_impulse(path, setup.rate) if path else None)
        self._setup = setup
        kind = settings.declaration
        self._now: Processor = kind.processor()
        self._next: Processor = kind.processor()
        self._now.prepare(setup)
        self._next.prepare(setup)
        self._now.set(settings.params, at_once=True)
        self._next.set(settings.params, at_once=True)
        self._heard: Values = settings.params
        self.latency = self._now.latency
        size = outer * setup.max_block
        self._dry: Samples = np.zeros(size)
        self._other: Samples = np.zeros(size)
        self._single: Samples = np.zeros(setup.max_block)
        self._ring: Samples = np.zeros((outer, self.latency))
        self._place = 0
        self._wet = Ramp(_wet_gain(settings), setup.rate)
        self._beside = Ramp(_dry_gain(settings), setup.rate)
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
        self._place = 0
        self._wet.jump(_wet_gain(self.settings))
        self._beside.jump(_dry_gain(self.settings))
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
        self._wet.move(_wet_gain(settings))
        self._beside.move(_dry_gain(settings))
        if self._change.target == 0.0 and self._wait == 0:
            self._follow()

    def _follow(self) -> None:
        """Bring the running processor to the present settings, by its ramps or by a crossfade."""
        wanted = self.settings.params
        if wanted == self._heard:
            return
        if self.settings.declaration.needs_crossfade(self._heard, wanted):
            # A filter whose coefficients jump rings for a moment, and what rings at the stage's
            # entrance comes out later: the fade waits until it has passed.
            self._next.adopt(self._now)
            self._next.set(wanted, at_once=True)
            self._wait = self._next.settling
            if self._wait == 0:
                self._change.move(1.0)
        else:
            self._now.set(wanted)
        self._heard = wanted

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
        self._place = delay(dry, self._ring, self._place)
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


class Chain:
    """Slots in series.  Non-finite input is replaced by silence before the first.

    `clock` runs on by itself; whoever knows better sets `clock.frame` before a block.
    """

    def __init__(self, setup: Setup, stages: Sequence[StageSettings], reuse: Sequence[Slot] = ()) -> None:
        by_id = {slot.settings.id: slot for slot in reuse}
        self.clock = setup.clock
        self.slots: list[Slot] = []
        for place, settings in enumerate(stages):
            slot = by_id.get(settings.id)
            if slot is None or slot.made_for != settings.needs(setup.rate):
                slot = Slot(replace(setup, seed=setup.seed + 101 * place), settings)
            self.slots.append(slot)
        self.latency = sum(slot.latency for slot in self.slots)

    def reset(self) -> None:
        for slot in self.slots:
            slot.reset()
        self.clock.frame = 0

    def update(self, stages: Sequence[StageSettings]) -> None:
        """New settings for the same stages in the same order."""
        for slot, settings in zip(self.slots, stages, strict=True):
            if settings is not slot.settings:
                slot.update(settings)

    def process(self, block: Samples, tap: Tap | None = None) -> None:
        """A block (channels, frames), C-contiguous float64, in place."""
        clean_input(block)
        clock = self.clock
        clock.late = 0
        if tap is not None:
            tap(0, block)
        for place, slot in enumerate(self.slots):
            slot.process(block)
            clock.late += slot.latency
            if tap is not None:
                tap(place + 1, block)
        clock.frame += block.shape[1]
