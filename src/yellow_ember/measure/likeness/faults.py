"""Faults of a carrier: crackle and dropouts, by how often they come."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples

_SURROUNDINGS_SECONDS = 0.01
_CLICK = 12.0
_STEP_SECONDS = 0.01
_DIP_DB, _BACK_DB = 7.0, 3.0
_LONGEST_DIP = 15


@dataclass(frozen=True, slots=True)
class Faults:
    """Clicks a second, dropouts a minute."""

    clicks_per_s: float
    dropouts_per_min: float


def faults(pieces: Sequence[Samples], rate: float) -> Faults:
    """Count clicks that stand out of their surroundings, and dips that the sound comes back from."""
    seconds = sum(piece.shape[1] for piece in pieces) / rate
    clicks = sum(_clicks(piece.mean(axis=0), rate) for piece in pieces)
    dips = sum(_dips(piece.mean(axis=0), rate) for piece in pieces)
    return Faults(clicks / seconds, 60.0 * dips / seconds)


def _clicks(sound: Samples, rate: float) -> int:
    """Bends of the wave that are many times as sharp as those around, before and behind."""
    bend = np.abs(np.diff(sound, 2))
    step = round(_SURROUNDINGS_SECONDS * rate)
    count = bend.size // step
    if count < 3:
        return 0
    parts = bend[:count * step].reshape(count, step)
    peak, middle = parts.max(axis=1), np.median(parts, axis=1) + 1e-7
    beside = np.maximum(middle[:-2], middle[2:])
    return int(np.count_nonzero(peak[1:-1] > _CLICK * np.maximum(beside, middle[1:-1])))


def _dips(sound: Samples, rate: float) -> int:
    """Dips of level that last at most 0.15 s and end where they began."""
    step = round(_STEP_SECONDS * rate)
    count = sound.size // step
    level = 10.0 * np.log10(np.mean(sound[:count * step].reshape(count, step) ** 2, axis=1) + 1e-12)
    heard = level.max() - 30.0
    dips, at = 0, 1
    while at < count - 1:
        if level[at - 1] > heard and level[at] < level[at - 1] - _DIP_DB:
            back = np.flatnonzero(np.abs(level[at:at + _LONGEST_DIP] - level[at - 1]) < _BACK_DB)
            if back.size and back[0] > 1:
                dips += 1
                at += int(back[0])
        at += 1
    return dips
