"""Measure what chains do to one common sound, so that presets can be told apart by figures."""

from __future__ import annotations

import functools
from collections.abc import Iterator, Sequence

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.chain import Chain, run_whole
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.files.reading import read_blocks
from yellow_ember.measure.character import character_of
from yellow_ember.measure.comparison import compare
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.io.presets import Figures
from yellow_ember.session.io.session_file import read_session
from yellow_ember.shipped import DEMO

_SECONDS, _STROKES_SECONDS = 5.0, 3.0
SETTLE_SECONDS = 1.0
BLOCK, FACTOR = 4096, 4
_BANDS_AN_OCTAVE = 3


def demo_mix(names: tuple[str, ...], seconds: float) -> tuple[Samples, int]:
    """Tracks of the demo as they are, summed, from where its loop begins.

    Parameters
    ----------
    names : tuple[str, ...]
        Ids of tracks, all of them where none is given.

    Returns
    -------
    tuple[Samples, int]
        Two channels, -18 dBFS RMS; and the rate in Hz.
    """
    session = read_session(DEMO)
    frames = round(seconds * session.rate)
    total = np.zeros((2, frames))
    for strip in session.strips:
        if strip.files and (not names or strip.id in names):
            start, taken = session.loop.start, 0
            for block in read_blocks(strip.files[0]):
                skipped = min(start, block.shape[1])
                start -= skipped
                part = block[:, skipped:skipped + frames - taken]
                total[:, taken:taken + part.shape[1]] += part
                taken += part.shape[1]
    return total * (10.0 ** (-18.0 / 20.0) / total.std()), session.rate


@functools.cache
def common_sound() -> tuple[Samples, int]:
    """What all presets are measured on: the demo's dry mix, then its drums alone, for what answers strokes."""
    mix, rate = demo_mix((), SETTLE_SECONDS + _SECONDS)
    return np.concatenate((mix, demo_mix(("brushed-drums",), _STROKES_SECONDS)[0]), axis=1), rate


def figures_of(stages: Sequence[StageSettings]) -> Figures:
    """Measure what a chain does to the common sound."""
    before, rate = common_sound()
    settle = round(SETTLE_SECONDS * rate)
    after = run_whole(Chain(Setup(rate, 2, BLOCK, FACTOR), stages), before, BLOCK)[:, settle:]
    before = before[:, settle:]
    comparison = compare(before, after, rate)
    result = character_of(comparison)
    louder = loudness(after, rate).integrated_lufs - loudness(before, rate).integrated_lufs
    change = np.clip(comparison.after_db - comparison.before_db - louder, -60.0, 60.0)
    # Third octaves from 25 Hz to 20 kHz are octaves from 31.5 Hz to 16 kHz.
    octaves = change[1:].reshape(-1, _BANDS_AN_OCTAVE).mean(axis=1)
    return Figures(round(result.added_db, 1), round(result.brightness, 2),
                   tuple(round(float(value), 1) for value in octaves))


def measure_chains(progress: Progress, chains: Sequence[tuple[str, tuple[StageSettings, ...]]]
                   ) -> Iterator[tuple[str, Figures]]:
    """Measure chains one after the other, each with a key that comes back with its figures."""
    for number, (key, stages) in enumerate(chains):
        yield key, figures_of(stages)
        progress((number + 1) / len(chains))
