"""Aliasing, oversampling filters, lean and clean lows, through `yellow-ember process`."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tones import RATE, Signal, decibels, process
from yellow_ember.dsp.oversampling import PAIRS, half_band

SMOOTH = ("soft", "triode", "diodes", "fuzz", "ring")
CORNERED = ("hard", "fold", "wrap", "rectify", "magnetic")
"""The magnetic shape has corners where its field turns back."""


def drive(folder: Path, signal: Signal, *options: str, **params: object) -> Signal:
    return process(folder, signal, {"kind": "drive", "params": {"out_db": 0.0, **params}}, options=options)


def inharmonic_db(signal: Signal, hz: float) -> float:
    """All that is not a harmonic below 20 kHz, against all below 20 kHz."""
    part = signal[0, RATE // 4:RATE // 4 + RATE]
    power = np.abs(np.fft.rfft(part * np.kaiser(part.size, 20.0))) ** 2
    axis = np.fft.rfftfreq(part.size, 1.0 / RATE)
    audible = axis < 20000.0
    harmonic = np.abs(axis - np.round(axis / hz) * hz) < 30.0
    return float(10.0 * np.log10(power[audible & ~harmonic].sum() / power[audible].sum()))


@pytest.mark.parametrize(("shape", "limit"), [*((s, -80.0) for s in SMOOTH), *((s, -60.0) for s in CORNERED)])
def test_aliasing_at_24_db_of_drive(shape: str, limit: float, tmp_path: Path) -> None:
    tone = np.sin(2.0 * np.pi * 5000.0 * np.arange(2 * RATE) / RATE)[None, :]
    out = drive(tmp_path, tone, shape=shape, drive_db=24.0)
    assert inharmonic_db(out, 5000.0) < limit


def transfer(before: Signal, after: Signal) -> tuple[Signal, Signal]:
    """Frequencies and response of a linear system, from an impulse-like input."""
    ratio = np.fft.rfft(after[0]) / np.fft.rfft(before[0])
    return np.fft.rfftfreq(before.shape[1], 1.0 / RATE), np.asarray(ratio)


def impulse(height: float = 0.25) -> Signal:
    signal = np.zeros((1, RATE))
    signal[0, RATE // 4] = height
    return signal


@pytest.mark.parametrize("factor", [2, 4, 8, 16])
def test_oversampling_is_flat_to_20_khz(factor: int, tmp_path: Path) -> None:
    before = impulse()
    after = drive(tmp_path, before, "--oversample", str(factor), shape="hard", drive_db=0.0)
    hz, ratio = transfer(before, after)
    band = (hz > 20.0) & (hz <= 20000.0)
    assert np.abs(decibels(np.abs(ratio[band]))).max() <= 0.1
    assert np.abs(np.angle(ratio[band])).max() < 1e-4


def test_images_are_100_db_down() -> None:
    rate = 2.0 * RATE
    for level, pairs in enumerate(PAIRS):
        taps = np.zeros(4 * pairs - 1)
        even = half_band(level)
        taps[::2] = np.concatenate((even, even[::-1])) / 2.0
        taps[2 * pairs - 1] = 0.5
        response = np.abs(np.fft.rfft(taps, 1 << 16))
        hz = np.fft.rfftfreq(1 << 16, 1.0 / rate)
        stop = hz >= rate / 2.0 - 20000.0
        assert decibels(response[stop]).max() <= -100.0, f"level {level}"
        assert np.abs(decibels(response[hz <= 20000.0])).max() < 0.001
        rate *= 2.0


@pytest.mark.parametrize("kind", ["tape", "drive"])
@pytest.mark.parametrize("lean", [-12.0, 12.0])
def test_lean_cancels_at_rest(kind: str, lean: float, tmp_path: Path) -> None:
    params = {"shape": "hard", "drive_db": 0.0, "out_db": 0.0} if kind == "drive" else {"link_levels": False}
    before = impulse(0.003)
    plain = process(tmp_path, before, {"kind": kind, "params": params})
    leaned = process(tmp_path, before, {"kind": kind, "params": {**params, "lean_db": lean}})
    hz, ratio = transfer(plain, leaned)
    assert np.abs(decibels(np.abs(ratio[(hz > 20.0) & (hz < 20000.0)]))).max() <= 0.05


@pytest.mark.parametrize("corner", [60.0, 120.0, 400.0])
def test_clean_lows_split_sums_flat(corner: float, tmp_path: Path) -> None:
    before = impulse()
    after = drive(tmp_path, before, shape="hard", drive_db=0.0, clean_lows_hz=corner)
    hz, ratio = transfer(before, after)
    assert np.abs(decibels(np.abs(ratio[(hz > 10.0) & (hz < 20000.0)]))).max() <= 0.1


def test_clean_lows_stay_clean(tmp_path: Path) -> None:
    bass = 0.7 * np.sin(2.0 * np.pi * 50.0 * np.arange(2 * RATE) / RATE)[None, :]
    out = drive(tmp_path, bass, shape="soft", drive_db=24.0, clean_lows_hz=300.0)
    spectrum = np.abs(np.fft.rfft(out[0, RATE:]))
    assert decibels(spectrum[150] / spectrum[50]) < -40.0
    assert decibels(2.0 * spectrum[50] / RATE / 0.7) == pytest.approx(0.0, abs=0.5)


def test_lean_moves_the_distortion(tmp_path: Path) -> None:
    time = np.arange(2 * RATE) / RATE
    mixed = 0.2 * (np.sin(2.0 * np.pi * 150.0 * time) + np.sin(2.0 * np.pi * 4000.0 * time))[None, :]

    def thirds(lean: float) -> tuple[float, float]:
        spectrum = np.abs(np.fft.rfft(drive(tmp_path, mixed, shape="soft", drive_db=6.0, lean_db=lean)[0, RATE:]))
        return float(spectrum[450] / spectrum[150]), float(spectrum[12000] / spectrum[4000])

    low_up, high_up = thirds(9.0)
    low_down, high_down = thirds(-9.0)
    assert low_down > 3.0 * low_up
    assert high_up > 3.0 * high_down


def test_triode_leans_to_one_side(tmp_path: Path) -> None:
    tone = 0.2 * np.sin(2.0 * np.pi * 1000.0 * np.arange(2 * RATE) / RATE)[None, :]
    spectrum = np.abs(np.fft.rfft(drive(tmp_path, tone, shape="triode", drive_db=6.0)[0, RATE:]))
    assert decibels(spectrum[2000] / spectrum[1000]) > -40.0
    assert spectrum[0] / spectrum[1000] < 1e-3
