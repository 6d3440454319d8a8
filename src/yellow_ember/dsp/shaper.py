"""A saturation shape at the raised rate over whole blocks, with what it loses of the highs given back."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels.filters import fir
from yellow_ember.dsp.kernels.shapes import BEND_DELAY, CHUNK, MAX_STEPS, drive
from yellow_ember.dsp.oversampling import Oversampling
from yellow_ember.dsp.shapes import CORRECTION_TAPS, SHAPE_BY_ID, Shape
from yellow_ember.dsp.stage import Setup


class Shaper:
    """`latency` is in frames.

    knee : half the width over which corners are rounded; offset : added to the input
    """

    def __init__(self, setup: Setup) -> None:
        channels = setup.channels
        self._factor = setup.oversample
        self._fast = Oversampling(setup.oversample, channels, BEND_DELAY)
        held = CORRECTION_TAPS - 1
        self._history: Samples = np.zeros((channels, held))
        self._line: Samples = np.zeros(held + setup.max_block)
        self._bend_state: Samples = np.zeros((channels, 8))
        most = CHUNK * setup.oversample * MAX_STEPS
        self._places, self._values, self._bent = np.zeros(most), np.zeros(most), np.zeros(most)
        self.latency = held // 2 + self._fast.latency
        self.set(SHAPE_BY_ID["soft"])

    def state(self) -> list[Samples]:
        return [*self._fast.state(), self._history, self._bend_state]

    def set(self, shape: Shape, knee: float = 0.0, offset: float = 0.0) -> None:
        self._shape, self._knee, self._offset = shape, knee, offset
        self._table, self._correction = shape.table, shape.correction(self._factor)

    def process(self, block: Samples) -> None:
        """A block (channels, frames) in place."""
        drive(block, self._shape.kernel_kind, self._table, self._shape.steps, self._knee, self._offset,
              self._bend_state, self._places, self._values, self._bent, *self._fast.buffers())
        fir(block, self._correction, self._history, self._line)
