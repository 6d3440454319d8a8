"""Phaser, chorus and tremolo, through `yellow-ember process`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tones import RATE, Signal, decibels, process

TIME = np.arange(4 * RATE) / RATE


def sway(folder: Path, signal: Signal, **params: Any) -> Signal:
    return process(folder, signal, {"kind": "sway", "params": params})


def tone(hz: float) -> Signal:
    return 0.25 * np.sin(2.0 * np.pi * hz * TIME)[None, :]


def level(row: Signal) -> Signal:
    """Peak level in dB in windows of 10 ms."""
    return decibels(np.abs(row[:row.size // 480 * 480].reshape(-1, 480)).max(axis=1) / 0.25)


def rate_of(curve: Signal) -> float:
    spectrum = np.abs(np.fft.rfft((curve - curve.mean()) * np.hanning(curve.size), 1 << 14))
    return float(np.fft.rfftfreq(1 << 14, 0.01)[np.argmax(spectrum)])


@pytest.mark.parametrize(("params", "requested"), [({"rate_hz": 3.0}, 3.0), ({"note": "1/8"}, 4.0)])
def test_tremolo_swells_at_its_rate_or_in_time(params: dict[str, Any], requested: float, tmp_path: Path) -> None:
    curve = level(sway(tmp_path, tone(1000.0), effect="tremolo", depth_pct=50.0, **params)[0])
    assert rate_of(10.0 ** (curve / 20.0)) == pytest.approx(requested, abs=0.05)
    assert curve.max() == pytest.approx(0.0, abs=0.1)
    assert curve.min() == pytest.approx(-6.0, abs=0.4)


def test_spread_lets_left_and_right_sway_against_each_other(tmp_path: Path) -> None:
    out = sway(tmp_path, np.repeat(tone(1000.0), 2, axis=0), effect="tremolo", depth_pct=80.0, rate_hz=2.0,
               spread_pct=100.0)
    left, right = (10.0 ** (level(row) / 20.0) for row in out)
    assert np.corrcoef(left, right)[0, 1] < -0.95


@pytest.mark.parametrize("passes", ["2", "4", "6", "8", "12"])
def test_a_phaser_has_a_notch_for_every_two_stages(passes: str, tmp_path: Path) -> None:
    click = np.zeros((1, RATE))
    click[0, 100] = 0.5
    out = sway(tmp_path, click, effect="phaser", passes=passes, depth_pct=0.0, centre_hz=1000.0)[0]
    heard = np.abs(np.fft.rfft(out))[1:22000]
    notches = np.flatnonzero((heard[1:-1] < heard[:-2]) & (heard[1:-1] < heard[2:]) & (heard[1:-1] < 0.05)) + 2
    assert notches.size == int(passes) // 2
    # Each stage turns by 2 atan(f / fc): the middle notch of an odd number of them lies at the centre.
    if int(passes) % 4 == 2:
        assert notches[notches.size // 2] == pytest.approx(1000.0, rel=0.02)


def test_a_chorus_bends_the_pitch_of_its_voices(tmp_path: Path) -> None:
    out = sway(tmp_path, tone(1000.0), effect="chorus", blend_pct=100.0, depth_pct=100.0, rate_hz=1.0)[0, RATE:]
    moved = out * np.exp(-2j * np.pi * 1000.0 * np.arange(out.size) / RATE)
    spectrum = np.abs(np.fft.fft(moved * np.hanning(out.size)))
    hz = np.fft.fftfreq(out.size, 1.0 / RATE)
    wide = spectrum[(np.abs(hz) > 5.0) & (np.abs(hz) < 60.0)]
    assert wide.max() > 0.05 * spectrum.max()
    still = sway(tmp_path, tone(1000.0), effect="chorus", blend_pct=100.0, depth_pct=0.0)[0, RATE:]
    assert decibels(np.abs(np.fft.rfft(still * np.hanning(still.size)))[:2500].max() /
                    np.abs(np.fft.rfft(still * np.hanning(still.size))).max()) < -80.0
