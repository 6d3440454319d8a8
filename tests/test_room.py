"""Rooms and plates, through `yellow-ember process`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from tones import RATE, Signal, decibels, process


def room(folder: Path, signal: Signal, **params: Any) -> Signal:
    return process(folder, signal, {"kind": "room", "params": {"direct": False, "level_db": 0.0, **params}})


def clap(channels: int = 1, seconds: float = 4.0) -> Signal:
    signal = np.zeros((channels, round(seconds * RATE)))
    signal[:, 1000] = 0.5
    return signal


def falls(row: Signal, low: float, high: float) -> float:
    """Seconds for 60 dB, from the slope between -5 and -35 dB of the backward sum, in a band (ISO 3382)."""
    band = sosfilt(butter(4, (low, high), "bandpass", fs=RATE, output="sos"), row)
    left = decibels(np.sqrt(np.cumsum(band[::-1] ** 2)[::-1] / np.sum(band**2)))
    start, end = (int(np.argmax(left < level)) for level in (-5.0, -35.0))
    return 2.0 * (end - start) / RATE


@pytest.mark.parametrize("space", ["room", "plate"])
@pytest.mark.parametrize("decay", [0.3, 0.8, 2.0])
def test_it_dies_away_in_the_time_asked_for(space: str, decay: float, tmp_path: Path) -> None:
    out = room(tmp_path, clap(), space=space, decay_s=decay, bright_pct=100.0, early_db=-60.0)[0]
    assert falls(out, 300.0, 8000.0) == pytest.approx(decay, rel=0.12)


def test_brightness_is_how_long_the_highs_last(tmp_path: Path) -> None:
    dull, bright = (room(tmp_path, clap(), decay_s=1.0, bright_pct=share, early_db=-60.0)[0] for share in (10.0, 90.0))
    assert falls(bright, 6000.0, 12000.0) > 2.0 * falls(dull, 6000.0, 12000.0)
    assert falls(dull, 100.0, 300.0) == pytest.approx(1.0, rel=0.2)


def test_nothing_comes_before_its_time(tmp_path: Path) -> None:
    out = room(tmp_path, clap(), before_ms=40.0)[0]
    assert np.abs(out[:1000 + 1920]).max() < 1e-6
    assert np.abs(out[1000 + 1920:1000 + 3400]).max() > 1e-3


def test_walls_stand_farther_in_a_larger_room(tmp_path: Path) -> None:
    first = []
    for size in (2.0, 8.0):
        out = np.abs(room(tmp_path, clap(), size_m=size, before_ms=0.0, early_db=0.0)[0])
        first.append(int(np.argmax(out > 0.2 * out.max())) - 1000)
    assert first[1] == pytest.approx(4.0 * first[0], rel=0.15)


def test_left_and_right_are_two_rooms_as_far_as_they_are_spread(tmp_path: Path) -> None:
    wide, narrow = (room(tmp_path, clap(2), spread_pct=share) for share in (100.0, 0.0))
    assert np.abs(narrow[0] - narrow[1]).max() < 1e-9
    assert abs(np.corrcoef(wide)[0, 1]) < 0.3
    assert wide[0].std() == pytest.approx(wide[1].std(), rel=0.2)


def test_its_level_hardly_depends_on_its_decay(tmp_path: Path, rng: np.random.Generator) -> None:
    noise = 0.1 * rng.standard_normal((1, 4 * RATE))
    levels = [float(decibels(room(tmp_path, noise, space="plate", decay_s=decay, low_cut_hz=20.0, bright_pct=100.0)
                             [0, RATE:].std() / 0.1)) for decay in (0.3, 1.0, 4.0)]
    assert max(levels) - min(levels) < 2.5
    assert max(levels) == pytest.approx(0.0, abs=4.0)


@pytest.mark.parametrize("space", ["room", "plate"])
@pytest.mark.parametrize(("decay", "size"), [(0.1, 1.5), (0.1, 12.0), (0.15, 4.5), (0.22, 12.0)])
def test_short_decays_are_as_long_as_asked(space: str, decay: float, size: float, tmp_path: Path) -> None:
    out = room(tmp_path, clap(), space=space, decay_s=decay, size_m=size, bright_pct=100.0, early_db=-60.0)[0]
    assert falls(out, 300.0, 8000.0) == pytest.approx(decay, rel=0.12)


def roughness(row: Signal, decay: float, low: float, high: float) -> float:
    """Standard deviation in dB of a tail's spectrum about its trend in a band; 5.6 for a dense one."""
    begin = 1000 + round(0.1 * max(decay, 1.0) * RATE)
    part = row[begin:begin + round(min(0.5, 0.5 * decay) * RATE)]
    spectrum = decibels(np.abs(np.fft.rfft(part * np.hanning(part.size) * np.exp(
        6.91 / decay * np.arange(part.size) / RATE))))
    hz = np.fft.rfftfreq(part.size, 1.0 / RATE)
    inside = (hz > low) & (hz < high)
    return float(np.std(spectrum[inside] - np.polyval(np.polyfit(hz[inside], spectrum[inside], 2), hz[inside])))


@pytest.mark.parametrize("space", ["room", "plate"])
@pytest.mark.parametrize(("decay", "size"), [(0.4, 2.0), (0.7, 4.5), (1.5, 1.5), (2.0, 12.0), (5.0, 3.0)])
def test_the_tail_does_not_ring(space: str, decay: float, size: float, tmp_path: Path) -> None:
    out = room(tmp_path, clap(), space=space, decay_s=decay, size_m=size, bright_pct=100.0, early_db=-60.0)[0]
    for low, high in ((100.0, 400.0), (400.0, 1600.0), (1600.0, 6000.0)):
        assert 4.6 < roughness(out, decay, low, high) < 6.9, (low, high)
    assert 5.0 < roughness(out, decay, 100.0, 6000.0) < 6.5


def first_half(row: Signal, low: float, high: float) -> float:
    """Seconds until half of a band's energy within a fifth of a second is there."""
    band = sosfilt(butter(4, (low, high), "bandpass", fs=RATE, output="sos"), row[1000:1000 + RATE // 5])
    energy = np.cumsum(band**2)
    return float(np.argmax(energy > 0.5 * energy[-1]) / RATE)


def test_highs_run_ahead_in_a_plate(tmp_path: Path) -> None:
    """Bending waves travel by the root of their frequency."""
    params = {"decay_s": 0.3, "bright_pct": 100.0, "early_db": -60.0, "before_ms": 0.0, "size_m": 8.0}
    plate, plain = (room(tmp_path, clap(), space=space, **params)[0] for space in ("plate", "room"))
    apart = [first_half(row, 150.0, 300.0) - first_half(row, 4000.0, 8000.0) for row in (plate, plain)]
    assert apart[0] > apart[1] + 0.006


def test_a_tail_ends_in_silence(tmp_path: Path) -> None:
    out = room(tmp_path, clap(seconds=6.0), decay_s=0.3, size_m=12.0)
    assert np.abs(out[:, -RATE:]).max() < 1e-9
