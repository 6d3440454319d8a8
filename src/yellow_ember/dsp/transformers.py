"""What `kernels.electronics.transformer` takes, of a deck's transformers and an amp's."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import electronics

_UNIT_HZ, _FULL, _LEAK_HZ = 40.0, 12.0, 2.0


def transformer_core(lost: float, rate: float) -> Samples:
    """Figures (CORE,); lost : share of the flux that hysteresis takes of a unit of signal at 40 Hz"""
    core = np.zeros(electronics.CORE)
    core[electronics.STEP], core[electronics.LOST] = 2.0 * math.pi * _UNIT_HZ / rate, lost
    core[electronics.FULL], core[electronics.LEAK] = _FULL, 2.0 * math.pi * _LEAK_HZ / rate
    return core
