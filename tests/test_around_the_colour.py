"""Equaliser, compressor, taming and limiter, through `yellow-ember process`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.signal import resample

from tones import RATE, Signal, decibels, process
from yellow_ember.measure.comparison import compare
from yellow_ember.measure.harshness import harsh_bands
from yellow_ember.measure.loudness import LoudnessScan

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
    ({"low_cut_hz": 200.0}, 100.0, -12.3), ({"high_cut_hz": 2000.0}, 4000.0, -12.3),
    ({"tilt_db": 12.0}, 15000.0, 6.0), ({"band3_db": 6.0, "band3_q": 8.0}, 1400.0, 0.1)])
def test_equaliser_bands(params: dict[str, float], hz: float, expected: float, tmp_path: Path) -> None:
    assert late_level(through(tmp_path, "eq", tone(hz, -20.0), **params)) + 20.0 == pytest.approx(expected, abs=0.4)


def analogue_db(hz: Signal, values: dict[str, float]) -> Signal:
    """The prototypes' response: bells, shelves of slope one (Bristow-Johnson), cuts of second order (Butterworth)."""
    total = np.ones(hz.size, complex)
    for number, at in enumerate((100.0, 250.0, 700.0, 1800.0, 4500.0, 9000.0), 1):
        a = 10.0 ** (values.get(f"band{number}_db", 0.0) / 40.0)
        s = 1j * hz / values.get(f"band{number}_hz", at)
        q, slope = values.get(f"band{number}_q", 0.9), np.sqrt(2.0 * a)
        total *= {1: a * (s * s + slope * s + a) / (a * s * s + slope * s + 1.0),
                  6: a * (a * s * s + slope * s + 1.0) / (s * s + slope * s + a)}.get(
                      number, (s * s + s * a / q + 1.0) / (s * s + s / (a * q) + 1.0))
    if "low_cut_hz" in values:
        s = 1j * hz / values["low_cut_hz"]
        total *= s * s / (s * s + np.sqrt(2.0) * s + 1.0)
    if "high_cut_hz" in values:
        s = 1j * hz / values["high_cut_hz"]
        total *= 1.0 / (s * s + np.sqrt(2.0) * s + 1.0)
    return decibels(np.abs(total))


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("values", [
    {"band5_db": 12.0, "band5_hz": 12000.0, "band5_q": 2.0}, {"band5_db": -9.0, "band5_hz": 15000.0, "band5_q": 0.7},
    {"band6_db": 9.0, "band6_hz": 14000.0}, {"band6_db": -15.0, "band6_hz": 7000.0}, {"band1_db": 12.0},
    {"high_cut_hz": 15000.0}, {"high_cut_hz": 8000.0, "low_cut_hz": 300.0}, {"low_cut_hz": 1000.0}])
def test_the_equaliser_is_its_prototype_at_every_rate(values: dict[str, float], rate: int, tmp_path: Path) -> None:
    """Within 0.5 dB to 18 kHz: nothing is squeezed under half the rate."""
    before = np.zeros((1, rate))
    before[0, rate // 4] = 0.5
    after = process(tmp_path, before, {"kind": "eq", "params": values}, rate=rate)
    hz: Signal = np.asarray(np.fft.rfftfreq(rate, 1.0 / rate), np.float64)
    heard = (hz > 30.0) & (hz <= 18000.0)
    found = decibels(np.abs(np.fft.rfft(after[0]) / np.fft.rfft(before[0])))
    assert np.abs(found - analogue_db(hz, values))[heard].max() <= 0.5


@pytest.mark.parametrize("hz", [100.0, 1000.0, 5000.0])
@pytest.mark.parametrize(("ratio", "threshold", "knee"), [(2.0, 0.0, 0.0), (4.0, -10.0, 6.0), (20.0, -12.0, 0.0),
                                                          (3.0, 5.0, 12.0)])
def test_compression_follows_its_curve(ratio: float, threshold: float, knee: float, hz: float, tmp_path: Path) -> None:
    """Within 0.1 dB of Giannoulis, Massberg and Reiss (2012); 0 VU is -18 dBFS."""
    for level in (-30.0, -18.0, -9.0, -1.0):
        over = level + 18.0 - threshold
        slope = 1.0 - 1.0 / ratio
        bend = max(over + 0.5 * knee, 0.0) ** 2 / (2.0 * max(knee, 1e-9))
        held = slope * (over if 2.0 * over >= knee else bend)
        out = through(tmp_path, "comp", tone(hz, level), ratio=ratio, threshold_db=threshold, knee_db=knee,
                      attack_ms=5.0, release_ms=80.0)
        assert late_level(out) - level == pytest.approx(-held, abs=0.1)


@pytest.mark.parametrize(("attack", "release"), [(1.0, 50.0), (10.0, 120.0), (30.0, 20.0), (50.0, 400.0)])
def test_compression_takes_its_times(attack: float, release: float, tmp_path: Path) -> None:
    """The gain in dB has gone 63 % of its way after the attack and the release that are set, within 10 %."""
    period = RATE // 1000
    seconds = 10.0 * np.array([attack, attack, release]) / 1000.0 + 0.2
    parts = [np.sin(2.0 * np.pi * 1000.0 * np.arange(round(length * 1000.0) * period) / RATE) for length in seconds]
    steps = np.concatenate([height * part for height, part in zip((0.01, 0.6, 0.01), parts, strict=True)])[None, :]
    out = through(tmp_path, "comp", steps, ratio=4.0, knee_db=0.0, attack_ms=attack, release_ms=release)
    now, before = (np.linalg.norm(signal.reshape(-1, period), axis=1) for signal in (out, steps))
    gain_db = decibels(now / before)
    first = parts[0].size // period
    second = first + parts[1].size // period
    held = gain_db[second - 1]
    rising = float(np.argmax(gain_db[first:] <= 0.632 * held))
    falling = float(np.argmax(gain_db[second:] >= 0.368 * held))
    assert rising == pytest.approx(attack, rel=0.1, abs=1.0)
    assert falling == pytest.approx(release, rel=0.1, abs=1.0)


def test_each_band_is_held_down_by_itself(tmp_path: Path) -> None:
    """Lows untouched, the middle 6 dB up, highs held down with their own threshold and ratio; and one heard alone."""
    tones = tone(40.0, -12.0) + tone(800.0, -12.0) + tone(14000.0, -12.0)

    def levels(**params: Any) -> Signal:
        out = through(tmp_path, "comp", tones, per_band=True, ratio=1.0, knee_db=0.0, release_ms=300.0, **params)
        spectrum = np.abs(np.fft.rfft(out[0, RATE // 2:] * np.hanning(RATE // 2))) * 8.0 / RATE
        return decibels(spectrum[[20, 400, 7000]]) + 12.0

    held = levels(middle_gain_db=6.0, high_threshold_db=0.0, high_ratio=3.0)
    assert held == pytest.approx([0.0, 6.0, -4.0], abs=0.15)
    assert levels(low_threshold_db=-6.0, low_ratio=4.0) == pytest.approx([-9.0, 0.0, 0.0], abs=0.15)
    alone = levels(middle_solo=True)
    assert alone[1] == pytest.approx(0.0, abs=0.15)
    assert max(alone[0], alone[2]) < -25.0


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


def risen(name: str) -> Signal:
    """Signals (frames,) that rise high between samples."""
    rng, at = np.random.default_rng(2), np.arange(RATE // 2)
    turning = np.where(at % 2, -1.0, 1.0)
    return {
        "noise": rng.standard_normal(at.size), "even noise": rng.uniform(-1.0, 1.0, at.size),
        "random signs": rng.choice([-1.0, 1.0], at.size),
        "square": np.sign(np.sin(2.0 * np.pi * 997.0 * at / RATE)),
        "high square": np.sign(np.sin(2.0 * np.pi * 7919.0 * at / RATE + 0.3)),
        "bursts at half the rate": turning * (at // 2000 % 3 == 0), "short bursts there": turning * (at % 4000 < 37),
        "a quarter of the rate": np.sin(0.5 * np.pi * at + 0.25 * np.pi) * (at // 3000 % 2),
        "bursts at 21.5 kHz": np.sin(2.0 * np.pi * 21500.0 * at / RATE) * (at // 1500 % 2),
        "clicks": (rng.random(at.size) < 0.001) * rng.choice([-1.0, 1.0], at.size)}[name]


@pytest.mark.parametrize("name", ["noise", "even noise", "random signs", "square", "high square",
                                  "bursts at half the rate", "short bursts there", "a quarter of the rate",
                                  "bursts at 21.5 kHz", "clicks"])
@pytest.mark.parametrize(("drive", "ceiling", "release"), [(6.0, -1.0, 200.0), (18.0, -6.0, 20.0)])
def test_true_peaks_lie_at_the_ceiling(name: str, drive: float, ceiling: float, release: float, tmp_path: Path) -> None:
    """Within 0.2 dB, seen with 32 times sinc interpolation over the whole; the meter says the same."""
    out = through(tmp_path, "limit", risen(name)[None, :], drive_db=drive, ceiling_dbtp=ceiling, release_ms=release)[0]
    padded = np.pad(out, 2048)
    between = float(decibels(np.abs(resample(padded, 32 * padded.size)).max()))
    assert between == pytest.approx(ceiling, abs=0.2)
    scan = LoudnessScan(RATE, 1)
    scan.push(out[None, :])
    assert scan.result().true_peak_dbtp == pytest.approx(between, abs=0.2)


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
