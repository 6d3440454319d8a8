"""How fast the stages run on this machine."""

from __future__ import annotations

import time
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.parameters import Option, Values
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES
from yellow_ember.engine.jobs.job import Progress

RATE = 48000
BLOCK = 1024
FACTOR = 8


@dataclass(frozen=True, slots=True)
class Speed:
    """One stage, stereo, on one core."""

    kind: str
    variant: str
    oversample: int
    times_real_time: float


def test_signal(seconds: float) -> Samples:
    """Two channels of noise at -12 dBFS rms with silence between bursts, (2, frames)."""
    frames = round(seconds * RATE)
    noise = np.random.default_rng(3).standard_normal((2, frames)) * 0.25
    return np.asarray(noise * ((np.arange(frames) // 12000) % 4 != 3))


def seconds_taken(kind: str, values: Values, signal: Samples, oversample: int = FACTOR, tries: int = 3,
                  block_frames: int = BLOCK) -> float:
    """The least time of some runs of one stage over a signal, block by block."""
    setup = Setup(RATE, signal.shape[0], block_frames, oversample)
    chain = Chain(setup, [StageSettings(id="a", kind=kind, params=values)])
    blocks = [np.ascontiguousarray(signal[:, at:at + block_frames])
              for at in range(0, signal.shape[1], block_frames)]
    best = float("inf")
    for _ in range(tries + 1):
        fresh = [block.copy() for block in blocks]
        started = time.perf_counter()
        for block in fresh:
            chain.process(block)
        best = min(best, time.perf_counter() - started)
    return best


def stage_speeds(progress: Progress, seconds: float = 4.0) -> list[Speed]:
    """Every stage at its defaults, and with each choice of what it drives with."""
    signal = test_signal(seconds)
    runs: list[tuple[str, str, Values]] = []
    for kind in STAGES:
        runs.append((kind.kind, "defaults", kind.defaults()))
        for parameter in kind.parameters:
            if isinstance(parameter, Option) and parameter.id == "shape":
                runs += [(kind.kind, choice.label, {**kind.defaults(), parameter.id: choice.id})
                         for choice in parameter.choices]
    result = []
    for index, (name, variant, values) in enumerate(runs):
        result.append(Speed(name, variant, FACTOR, seconds / seconds_taken(name, values, signal)))
        progress((index + 1) / len(runs))
    return result
