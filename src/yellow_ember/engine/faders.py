"""Gains of faders and of pan."""

from __future__ import annotations

import math

from yellow_ember.dsp.arrays import gain
from yellow_ember.session.values.strip_values import VOLUME


def fader_level(decibels: float) -> float:
    """The amplitude of a fader's place, silent at its bottom."""
    return 0.0 if decibels <= VOLUME.minimum else gain(decibels)


def pan_gains(pan: float, channels: int) -> tuple[float, float]:
    """Gains to left and right at a pan from -100 to 100: constant power for one channel, balance for two."""
    position = pan / 100.0
    if channels == 1:
        angle = (position + 1.0) * math.pi / 4.0
        return math.cos(angle), math.sin(angle)
    return min(1.0, 1.0 - position), min(1.0, 1.0 + position)
