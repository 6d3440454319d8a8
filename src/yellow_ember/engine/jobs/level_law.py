"""How loud a chain makes what enters it, near enough to take a level back while a control moves.

The stages themselves run over a short excerpt, in one channel and without oversampling, which takes a few
milliseconds.  What is exact is measured afterwards, over the whole loop.
"""

from __future__ import annotations

from collections import deque
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.stage import Processor, Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.files.impulses import find_impulse

EXCERPT_FRAMES = 65536
_SETTLE_FRAMES = 2048
_REMEMBERED = 4
_BLOCK = 4096
_LONGEST_LATENCY = 4096
"""Stages that look ahead further are passed over: nothing of the excerpt would come out of them."""


def excerpt_of(sound: Samples) -> NDArray[np.float32]:
    """The stretch of a sound (channels, frames) that is most as loud as all of it, as one channel.

    (EXCERPT_FRAMES,), or all of a shorter sound.
    """
    single: Samples = sound.mean(axis=0)
    hop = EXCERPT_FRAMES // 4
    if single.size <= EXCERPT_FRAMES:
        return single.astype(np.float32)
    power = np.add.reduceat(single**2, np.arange(0, single.size - hop + 1, hop))[:single.size // hop] / hop
    stretches = np.convolve(power, np.full(4, 0.25), "valid")
    start = hop * int(np.argmin(np.abs(stretches - np.mean(single**2))))
    return single[start:start + EXCERPT_FRAMES].astype(np.float32)


def common_excerpt(reference_dbfs: float) -> NDArray[np.float32]:
    """Noise with equal power in each octave at the level reference, where nothing is known of the sound."""
    spectrum = np.fft.rfft(np.random.default_rng(2026).standard_normal(EXCERPT_FRAMES))
    spectrum[1:] /= np.sqrt(np.arange(1, spectrum.size))
    noise = np.fft.irfft(spectrum, EXCERPT_FRAMES)
    return np.asarray(noise / noise.std() * gain(reference_dbfs - 3.0), np.float32)


class LevelLaw:
    """Levels behind chains that an excerpt (frames,) goes through; a chain that was asked for lately is remembered."""

    def __init__(self, excerpt: NDArray[np.float32], rate: float, reference_dbfs: float) -> None:
        self._excerpt = excerpt
        self._setup = Setup(rate, 1, _BLOCK, 1, reference_dbfs, read_impulse=find_impulse)
        self._processors: dict[str, tuple[object, Processor]] = {}
        self._known: deque[tuple[tuple[StageSettings, ...], float]] = deque(maxlen=_REMEMBERED)
        frequency = np.fft.rfftfreq(max(excerpt.size - _SETTLE_FRAMES, 1), 1.0 / rate)
        # ITU-R BS.1770's weighting, by the analogue filters that it is made after.
        low_cut = frequency**4 / (frequency**2 + 38.0**2) ** 2
        shelf = 1.0 + (gain(4.0) ** 2 - 1.0) * frequency**2 / (frequency**2 + 1680.0**2)
        self._weight: Samples = low_cut * shelf

    def level_db(self, stages: tuple[StageSettings, ...]) -> float:
        """Weighted level behind the stages in dB, -inf for silence."""
        for chain, level in self._known:
            if chain is stages:
                return level
        sound = self._excerpt[None].astype(np.float64)
        for stage in stages:
            if stage.on:
                sound = self._through(stage, sound)
        tail = sound[0, _SETTLE_FRAMES:]
        power = float(np.sum(np.abs(np.fft.rfft(tail)) ** 2 * self._weight[:tail.size // 2 + 1]))
        level = 10.0 * float(np.log10(power)) if power > 0.0 and np.isfinite(power) else -np.inf
        self._known.append((stages, level))
        return level

    def _through(self, stage: StageSettings, sound: Samples) -> Samples:
        made_for = stage.needs(self._setup.rate)
        lookahead, path, _mono, _loops = made_for
        kept = self._processors.get(stage.id)
        if kept is None or kept[0] != made_for:
            processor = stage.declaration.processor(replace(
                self._setup, lookahead=lookahead,
                impulse=find_impulse(path, self._setup.rate) if path else None))
            kept = self._processors[stage.id] = (made_for, processor)
        processor = kept[1]
        if processor.latency > _LONGEST_LATENCY:
            return sound
        processor.set(stage.params, at_once=True)
        processor.reset()
        wet = sound.copy()
        for start in range(0, wet.shape[1], _BLOCK):
            processor.process(wet[:, start:start + _BLOCK])
        delay = np.concatenate((np.zeros((1, processor.latency)), sound), axis=1)[:, :sound.shape[1]]
        return stage.wet_gain * wet + stage.dry_gain * delay
