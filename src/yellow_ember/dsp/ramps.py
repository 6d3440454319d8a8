"""Gains that glide to a new value in a few milliseconds."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels.mixing import LEFT, STEP, TARGET, VALUE

GLIDE_SECONDS = 0.015


class Ramp:
    """One gliding gain.  `state` (4,) is what the kernels of `kernels.mixing` take; it may be part of an array."""

    def __init__(self, value: float, rate: float, seconds: float = GLIDE_SECONDS,
                 state: Samples | None = None) -> None:
        self.frames = max(1, round(rate * seconds))
        self.state: Samples = np.zeros(4) if state is None else state
        self.jump(value)

    def jump(self, value: float) -> None:
        """Be at the value at once."""
        self.state[:] = (value, value, 0.0, 0.0)

    def move(self, value: float) -> None:
        """Start towards the value; nothing happens where it is the target already."""
        if value != self.state[TARGET]:
            self.state[TARGET] = value
            self.state[LEFT] = self.frames
            self.state[STEP] = (value - self.state[VALUE]) / self.frames

    def go(self, value: float, *, at_once: bool) -> None:
        """`jump` or `move`."""
        if at_once:
            self.jump(value)
        else:
            self.move(value)

    @property
    def target(self) -> float:
        return float(self.state[TARGET])

    @property
    def resting(self) -> bool:
        return bool(self.state[LEFT] == 0.0)
