"""Every shipped chain, of presets and sets, on a sound that suits it: not silent, not wild, as loud as before."""

from __future__ import annotations

import functools

import numpy as np
import pytest
import soundfile

from yellow_ember.dsp.chain import Chain, run_whole
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.io.presets import SUITABLE, shipped_presets
from yellow_ember.session.io.session_file import read_session
from yellow_ember.session.io.sets import shipped_sets
from yellow_ember.shipped import DEMO


@functools.cache
def suitable(tracks: tuple[str, ...]) -> np.ndarray:
    """Five seconds of those tracks of the demo, or of all, at -18 dBFS."""
    session = read_session(DEMO)
    chosen = [strip.files[0] for strip in session.strips if strip.files and (not tracks or strip.id in tracks)]
    start = session.loop.start
    total = sum(soundfile.read(path, start=start, frames=5 * 48000, always_2d=True)[0].mean(axis=1)
                for path in chosen)
    return np.stack([total, total]) * (10.0 ** (-18.0 / 20.0) / total.std())


def heard_through(stages: tuple[StageSettings, ...], source: str, match_db: float) -> tuple[np.ndarray, np.ndarray]:
    """What suits the source, and the same through a chain at twice the rate, matched as the chain says."""
    before = suitable(SUITABLE.get(source, ()))
    return before, run_whole(Chain(Setup(48000, 2, 4800, 2), stages), before, 4800) * 10.0 ** (match_db / 20.0)


CHAINS = [(preset.name, preset.stages, preset.source, preset.match_db) for preset in shipped_presets()]
CHAINS += [(f"{found.name}, {part.where.value} {part.source}", part.stages, part.source, part.match_db)
           for found in shipped_sets() for part in found.parts]


@pytest.mark.parametrize(("name", "stages", "source", "match_db"), CHAINS, ids=[name for name, *_ in CHAINS])
def test_shipped_chains_are_as_loud_as_what_goes_in(name: str, stages: tuple[StageSettings, ...], source: str,
                                                    match_db: float) -> None:
    """On what suits it: not silent, nowhere beyond +6 dBFS, and within 1 LU of the input."""
    before, after = heard_through(stages, source, match_db)
    assert np.abs(after).max() < 2.0
    settle = 48000
    assert loudness(after[:, settle:], 48000).integrated_lufs == pytest.approx(
        loudness(before[:, settle:], 48000).integrated_lufs, abs=1.0)
