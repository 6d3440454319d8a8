"""Bass in the middle: what lies below a frequency made the same in both channels."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import split
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.mixing import add
from yellow_ember.dsp.parameters import Group, Number, Taper
from yellow_ember.dsp.stage import Setup

MONO_BELOW = Number(
    id="mono_below_hz", label="Mono below", group=Group.TONE, unit="Hz", minimum=20.0, maximum=500.0, default=20.0,
    taper=Taper.LOG, decimals=0, floor_word="off",
    help="Puts everything below this frequency in the middle, so that the bass stands firm.")


class MonoBelow:
    """A Linkwitz-Riley split whose lower part is summed."""

    def __init__(self, setup: Setup) -> None:
        self._setup = setup
        self._lows: Samples = np.zeros(setup.channels * setup.max_block)
        self._low_state: Samples = np.zeros((setup.channels, 2, 2))
        self._high_state: Samples = np.zeros((setup.channels, 2, 2))
        self.set(MONO_BELOW.minimum)

    def state(self) -> list[Samples]:
        return [self._low_state, self._high_state]

    def set(self, hz: float) -> None:
        self._splitting = hz > MONO_BELOW.minimum and self._setup.channels == 2
        if self._splitting:
            self._low, self._high = split(hz, self._setup.rate)

    def process(self, block: Samples) -> None:
        if not self._splitting:
            return
        lows = self._lows[: block.size].reshape(block.shape)
        lows[...] = block
        biquads(lows, self._low, self._low_state)
        biquads(block, self._high, self._high_state)
        lows[0] += lows[1]
        lows[0] *= 0.5
        lows[1] = lows[0]
        add(block, lows)
