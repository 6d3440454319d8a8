"""Equaliser, compressor, taming and limiter, through `yellow-ember process`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.signal import resample_poly

from tones import RATE, Signal, decibels, process
from yellow_ember.measure.comparison import compare
from yellow_ember.measure.harshness import harsh_bands

TIME = np.arange(RATE) / RATE


def through(folder: Path, kind: str, signal: Signal, **params: Any) -> Signal:
    return process(folder, signal, {"kind": kind, "params": params})


def tone(hz: float, level_dbfs: float) -> Signal:
    return 10.0 ** (level_dbfs / 20.0) * np.sin(2.0 * np.pi * hz * TIME)[None, :]


def late_level(signal: Signal) -> float:
    """dB of the peak in the last quarter."""
    return float(decibels(np.abs(signal[0, -RATE // 4:]).max()))


@pytest.mark.parametrize(("params", "hz", "expected"), [
    ({"band1_db": 6.0}, 30.0, 6.0), ({"band3_db": -9.0}, 700.0, -9.0),
    ({"band4_db": 5.0, "band4_hz": 2500.0}, 2500.0, 5.0), ({"band6_db": 4.0}, 18000.0, 4.0),
    ({"low_cut_hz": 200.0}, 100.0, -12.3), ({"high_cut_hz": 2000.0}, 4000.0, -12.8),
    ({"tilt_db": 12.0}, 15000.0, 6.0), ({"band3_db": 6.0, "band3_q": 8.0}, 1400.0, 0.1)])
def test_equaliser_bands(params: dict[str, float], hz: float, expected: float, tmp_path: Path) -> None:
    assert late_level(through(tmp_path, "eq", tone(hz, -20.0), **params)) + 20.0 == pytest.approx(expected, abs=0.4)


@pytest.mark.parametrize(("level", "ratio", "expected"), [(-30.0, 4.0, 0.0), (-6.0, 4.0, -9.0), (-6.0, 2.0, -6.0)])
def test_compression_follows_its_curve(level: float, ratio: float, expected: float, tmp_path: Path) -> None:
    """Threshold at 0 VU, -18 dBFS; a tone 12 dB above comes down by 12 (1 - 1 / ratio)."""
    out = through(tmp_path, "comp", tone(1000.0, level), ratio=ratio, knee_db=0.0, attack_ms=1.0, release_ms=500.0)
    assert late_level(out) - level == pytest.approx(expected, abs=0.6)


def test_compression_takes_its_time_and_may_overlook_the_bass(tmp_path: Path) -> None:
    burst = tone(1000.0, -6.0) * (TIME > 0.2)
    slow = through(tmp_path, "comp", burst, ratio=10.0, attack_ms=80.0)
    first, settled = slice(9700, 9900), slice(40000, 44000)
    assert np.abs(slow[0, first]).max() > 1.8 * np.abs(slow[0, settled]).max()
    bass = tone(50.0, -6.0)
    heard, overlooked = (late_level(through(tmp_path, "comp", bass, ratio=10.0, detector_cut_hz=cut))
                         for cut in (20.0, 300.0))
    assert overlooked - heard > 8.0


def test_bands_sum_flat_at_rest_and_work_apart(tmp_path: Path) -> None:
    rng = np.random.default_rng(8)
    noise = 0.1 * rng.standard_normal((1, RATE))
    whole = through(tmp_path, "comp", noise, ratio=1.0, per_band=True)
    ratio = np.abs(np.fft.rfft(whole[0])) / np.abs(np.fft.rfft(noise[0]))
    assert np.abs(decibels(np.median(ratio[100:20000].reshape(-1, 100), axis=1))).max() < 0.15
    both = tone(60.0, -6.0) + tone(2000.0, -40.0)
    apart, together = (np.abs(np.fft.rfft(through(tmp_path, "comp", both, ratio=10.0, per_band=banded)[0]))[2000]
                       for banded in (True, False))
    assert decibels(apart / together) > 6.0


@pytest.mark.parametrize("drive", [6.0, 18.0])
def test_no_true_peak_passes_the_ceiling(drive: float, tmp_path: Path) -> None:
    """On noise and on a square wave that sets in at once, both without what lies above 16 kHz."""
    rng = np.random.default_rng(2)
    hard = np.sign(np.sin(2.0 * np.pi * 3675.3 * TIME + 0.7)) * (TIME > 0.3) * 0.7
    for sharp in (0.4 * rng.standard_normal((2, RATE)), np.stack((hard, -hard))):
        spectrum = np.fft.rfft(sharp)
        spectrum[:, 16000:] = 0.0
        signal = np.fft.irfft(spectrum)
        out = through(tmp_path, "limit", signal, drive_db=drive, ceiling_dbtp=-1.0)
        between = np.abs(resample_poly(out, 8, 1, axis=1)).max()
        assert decibels(between) < -0.7
        assert decibels(np.abs(out).max()) < -1.0
        assert decibels(between) > -3.0, "it does not hold down more than it must"


def test_the_limiter_leaves_quiet_sounds_alone(tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    quiet = 0.05 * rng.standard_normal((2, RATE))
    assert np.abs(through(tmp_path, "limit", quiet) - quiet).max() < 1e-6


def tamed_level(folder: Path, ring_db: float, **params: Any) -> float:
    """Level of a 4 kHz tone beside a strong 300 Hz one, through a band that may hold it down by 12 dB."""
    out = through(folder, "tame", tone(300.0, -12.0) + tone(4000.0, ring_db),
                  **{"band2_hz": 4000.0, "band2_depth_db": 12.0, **params})
    part = out[0, RATE // 2:]
    wave = np.exp(-2j * np.pi * 4000.0 * np.arange(part.size) / RATE) * np.hanning(part.size)
    return float(decibels(4.0 * np.abs(np.sum(part * wave)) / part.size))


def test_tame_holds_down_only_what_sticks_out(tmp_path: Path) -> None:
    assert tamed_level(tmp_path, -50.0, above_db=-15.0) == pytest.approx(-50.0, abs=0.3)
    assert tamed_level(tmp_path, -14.0, above_db=-15.0) < -22.0
    assert tamed_level(tmp_path, -14.0, above_db=-15.0, band2_depth_db=4.0) == pytest.approx(-18.0, abs=0.6)


def test_tame_goes_by_proportion_not_by_level(tmp_path: Path) -> None:
    loud = through(tmp_path, "tame", tone(300.0, -12.0) + tone(4000.0, -18.0), band2_depth_db=12.0)
    quiet = through(tmp_path, "tame", (tone(300.0, -12.0) + tone(4000.0, -18.0)) / 10.0, band2_depth_db=12.0)
    assert np.abs(loud - 10.0 * quiet).max() < 1e-3


def test_harsh_bands_are_found_where_a_drive_put_them() -> None:
    rng = np.random.default_rng(4)
    spectrum = np.fft.rfft(rng.standard_normal(4 * RATE))
    hz = np.fft.rfftfreq(4 * RATE, 1.0 / RATE)
    before = np.fft.irfft(spectrum / np.maximum(hz, 50.0))[None, :]
    before *= 0.1 / before.std()
    near = np.abs(np.log2(np.maximum(hz, 1.0) / 5000.0)) < 0.2
    hiss = np.fft.irfft(np.fft.rfft(rng.standard_normal(4 * RATE)) * near)
    after = before + hiss[None, :] * (0.02 / hiss.std())
    result = harsh_bands(compare(before, after, RATE), 4)
    assert len(result) == 1
    assert result[0].hz == pytest.approx(5012.0, rel=0.01)
    assert result[0].depth_db >= 6.0
    assert harsh_bands(compare(before, 2.0 * before, RATE), 4) == [], "louder is not harsher"
