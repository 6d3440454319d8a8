"""The texture layer, through `yellow-ember process`: when it sounds, what it is, what pitch it follows."""

from __future__ import annotations

import itertools
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tones import RATE, Signal, decibels, process
from yellow_ember.dsp.textures import TEXTURES, texture

HITS = (9600, 33600, 57600, 81600)


def hits(seconds: float = 2.5, hz: float = 120.0) -> Signal:
    """A dull drum: four strokes that die away in a tenth of a second."""
    signal = np.zeros((1, round(seconds * RATE)))
    time = np.arange(7200) / RATE
    stroke = 0.5 * np.exp(-time / 0.015) * np.sin(2.0 * np.pi * hz * time) * np.hanning(14400)[7200:]
    for start in HITS:
        signal[0, start:start + stroke.size] += stroke
    return signal


def layer(folder: Path, signal: Signal, **params: Any) -> Signal:
    """The layer alone."""
    return process(folder, signal, {"kind": "texture", "params": {"body_db": -60.0, "amount_db": 0.0, **params}})


@pytest.mark.parametrize("name", [entry.id for entry in TEXTURES])
def test_it_sounds_with_the_stroke_and_is_silent_between(name: str, tmp_path: Path) -> None:
    out = layer(tmp_path, hits(), texture=name, attack_ms=0.0, decay_ms=150.0)[0]
    loudest = np.abs(out).max()
    for start in HITS:
        assert np.abs(out[start - 2400:start]).max() < 10.0 ** (-90.0 / 20.0), "nothing before the stroke"
        assert np.abs(out[start + 15000:start + 23900]).max() < 10.0 ** (-90.0 / 20.0), "silent between"
        if name in ("shingle", "gravel", "sparks", "tin", "chain"):
            # Of grains there may be none just then.
            continue
        onset = start + int(np.argmax(np.abs(out[start:start + 4800]) > 0.1 * loudest))
        assert onset - start < 0.003 * RATE
    assert loudest > 0.02


def test_there_are_ten_and_each_is_its_own() -> None:
    assert len(TEXTURES) == 10
    hz = np.fft.rfftfreq(96000, 1.0 / RATE)
    edges = np.geomspace(60.0, 18000.0, 16)
    shapes = []
    for entry in TEXTURES:
        power = np.abs(np.fft.rfft(texture(entry.id))) ** 2
        bands = np.array([power[(hz >= a) & (hz < b)].sum() for a, b in itertools.pairwise(edges)])
        crest = np.abs(texture(entry.id)).max()
        shapes.append(np.append(10.0 * np.log10(bands / bands.sum() + 1e-6), 2.0 * crest))
    for first in range(10):
        for second in range(first):
            assert np.abs(shapes[first] - shapes[second]).max() > 4.0, (TEXTURES[first].id, TEXTURES[second].id)


def test_it_follows_how_hard_a_stroke_is(tmp_path: Path) -> None:
    soft = hits()
    soft[0, 57600:] *= 0.25
    out = layer(tmp_path, soft, texture="felt")[0]
    loud, quiet = (out[start:start + 7200].std() for start in (HITS[1], HITS[2]))
    assert decibels(loud / quiet) == pytest.approx(12.0, abs=2.5)


def test_pitch_and_cuts_move_the_texture(tmp_path: Path) -> None:
    def centre(**params: Any) -> float:
        spectrum = np.abs(np.fft.rfft(layer(tmp_path, hits(), texture="felt", **params)[0])) ** 2
        hz = np.fft.rfftfreq(round(2.5 * RATE), 1.0 / RATE)
        return float(np.sum(spectrum * hz) / np.sum(spectrum))

    assert centre(pitch_st=12.0) > 1.5 * centre()
    assert centre(high_cut_hz=300.0) < 0.8 * centre()
    assert centre(low_cut_hz=600.0) > 1.3 * centre()


@pytest.mark.parametrize("note", [55.0, 98.0, 220.0, 330.0])
def test_the_oscillator_sings_the_note_that_is_played(note: float, tmp_path: Path) -> None:
    """A plucked string with falling harmonics; the oscillator follows within 2 % once it has heard it."""
    time = np.arange(2 * RATE) / RATE
    string = sum(np.sin(2.0 * np.pi * note * k * time + k) / k**1.5 for k in range(1, 7))
    signal = (0.2 * np.exp(-time / 0.8) * string * np.minimum(time * 200.0, 1.0))[None, :]
    out = layer(tmp_path, signal, texture="felt", osc="sine", osc_follow=True, osc_hz=1000.0, osc_db=12.0,
                decay_ms=2000.0, high_cut_hz=20000.0)[0, 9600:40000]
    spectrum = np.abs(np.fft.rfft(out * np.hanning(out.size), 1 << 18))
    hz = np.fft.rfftfreq(1 << 18, 1.0 / RATE)
    assert hz[np.argmax(spectrum)] == pytest.approx(note, rel=0.02)


def test_the_body_passes_and_a_last_drive_bends_both(tmp_path: Path) -> None:
    signal = hits()
    out = process(tmp_path, signal, {"kind": "texture", "params": {"amount_db": -60.0}})
    assert np.abs(out - signal).max() < 1e-6
    driven = process(tmp_path, signal, {"kind": "texture", "params": {"amount_db": -60.0, "drive_db": 18.0}})
    assert np.abs(driven).max() < 1.05
    assert driven.std() > 2.0 * signal.std()
