"""Dynamics: peaks against the mean by octave, the range of loudness, and how fast notes begin."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.likeness.frames import OCTAVES

_STEP_SECONDS = 0.005
_LEVEL_STEPS = 10
_ONSET_STEPS = 2
_ONSET_DB = 4.0
_GATE_DB = 40.0


@dataclass(frozen=True, slots=True, eq=False)
class Dynamics:
    """How a recording's level moves.

    Attributes
    ----------
    crest_db : Samples
        (8,) by octave.
    range_db : float
        From the level that a tenth of the time is below to the one that a twentieth is above.
    attack_db_per_ms : float
        Slope of the middle onset; 0 where nothing begins.
    sure : float
        Grows with how many notes begin.
    """

    crest_db: Samples
    range_db: float
    attack_db_per_ms: float
    sure: float


def dynamics(pieces: Sequence[Samples], rate: float) -> Dynamics:
    """Read dynamics of pieces (channels, frames)."""
    crest = np.mean([_crest_db(piece.mean(axis=0), rate) for piece in pieces], axis=0)
    step = round(_STEP_SECONDS * rate)
    levels, rises = [], []
    for piece in pieces:
        count = piece.shape[1] // step
        power = np.mean(piece[:, :count * step].reshape(piece.shape[0], count, step) ** 2, axis=(0, 2))
        fast = 10.0 * np.log10(power + 1e-12)
        mean = np.convolve(power, np.ones(_LEVEL_STEPS) / _LEVEL_STEPS, "valid")
        levels.append(10.0 * np.log10(mean + 1e-12))
        rise = fast[_ONSET_STEPS:] - fast[:-_ONSET_STEPS]
        top = np.flatnonzero((rise[1:-1] > rise[:-2]) & (rise[1:-1] >= rise[2:]) & (rise[1:-1] > _ONSET_DB)) + 1
        rises.append(rise[top][fast[top + _ONSET_STEPS] > fast.max() - _GATE_DB / 2.0])
    level, onsets = np.concatenate(levels), np.concatenate(rises)
    level = level[level > level.max() - _GATE_DB]
    slope = float(np.median(onsets)) / (1000.0 * _ONSET_STEPS * _STEP_SECONDS) if onsets.size else 0.0
    return Dynamics(crest, float(np.percentile(level, 95.0) - np.percentile(level, 10.0)), slope,
                    min(1.0, onsets.size / 8.0))


def _crest_db(sound: Samples, rate: float) -> Samples:
    size = 1 << (sound.size - 1).bit_length()
    lines = np.fft.rfft(sound, size)
    hz = np.fft.rfftfreq(size, 1.0 / rate)
    result = np.zeros(len(OCTAVES))
    for index, centre in enumerate(OCTAVES):
        low, high = np.searchsorted(hz, (centre / 2.0**0.5, centre * 2.0**0.5))
        # The band's envelope, at twice the rate that it needs, or more: its peaks are met closely enough.
        part = np.zeros(1 << (2 * int(high - low)).bit_length(), complex)
        part[:high - low] = lines[low:high]
        envelope = np.fft.ifft(part)
        power = envelope.real**2 + envelope.imag**2
        result[index] = 10.0 * np.log10(
            2.0 * float(power.max()) / max(float(power.mean()) * size / sound.size, 1e-20) + 1e-3)
    return result
