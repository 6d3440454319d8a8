"""Aliasing, oversampling filters, lean and clean lows, through `yellow-ember process`."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.signal import remez

from tones import RATE, Signal, decibels, highest_above_8_khz, inharmonic_db, process
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.oversampling import BAND, HALF_BANDS, PAIRS
from yellow_ember.dsp.shapes import SHAPES
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import stage_kind

SMOOTH = ("soft", "triode", "diodes", "fuzz", "ring", "magnetic")
CORNERED = ("hard", "fold", "wrap", "rectify")


def drive(folder: Path, signal: Signal, *options: str, **params: Any) -> Signal:
    return process(folder, signal, {"kind": "drive", "params": {"out_db": 0.0, **params}}, options=options)


def aliasing_limit(shape: str, factor: int, drive_db: float) -> float:
    """What may be left of all that is no harmonic, in dB."""
    if factor == 4:
        return -60.0 if shape in SMOOTH else -50.0
    if shape == "ring" and drive_db > 36.0:
        # At this level both harmonics of a 9 kHz tone that can be heard are themselves 48 dB down, near a zero of
        # Bessel's functions: what is no harmonic lies at -100 dB, and is compared with them.
        return -48.0
    if shape in SMOOTH:
        return -80.0 if drive_db <= 36.0 else -60.0
    return -60.0 if drive_db <= 24.0 else -50.0


@pytest.mark.parametrize(("factor", "drive_db"), [(8, 12.0), (8, 24.0), (8, 36.0), (8, 48.0), (4, 12.0), (4, 24.0)])
@pytest.mark.parametrize("shape", [*SMOOTH, *CORNERED])
def test_aliasing(shape: str, factor: int, drive_db: float, tmp_path: Path) -> None:
    for hz in (1009.0, 5003.0, 9001.0):
        tone = 10.0 ** (-1.0 / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(3 * RATE // 2) / RATE)[None, :]
        out = drive(tmp_path, tone, "--oversample", str(factor), shape=shape, drive_db=drive_db)
        assert inharmonic_db(out[0, RATE // 4:RATE // 4 + RATE], hz) < aliasing_limit(shape, factor, drive_db), hz


@pytest.mark.parametrize("asymmetry", [0.0, 60.0, -100.0])
@pytest.mark.parametrize(("shape", "knee"), [*((shape.id, 0.0) for shape in SHAPES),
                                             *((shape.id, 70.0) for shape in SHAPES if shape.has_corners)])
def test_silence_stays_silence_and_comes_back(shape: str, asymmetry: float, knee: float, tmp_path: Path) -> None:
    params = {"shape": shape, "drive_db": 30.0, "asymmetry_pct": asymmetry, "knee_pct": knee}
    assert decibels(np.abs(drive(tmp_path, np.zeros((1, RATE // 4)), **params)).max()) < -120.0
    burst = np.zeros((1, 2 * RATE))
    burst[0, :RATE // 2] = 0.7 * np.sin(2.0 * np.pi * 97.3 * np.arange(RATE // 2) / RATE)
    assert decibels(np.abs(drive(tmp_path, burst, **params)[0, 3 * RATE // 2:]).max()) < -100.0


@pytest.mark.parametrize("shape", [shape.id for shape in SHAPES])
def test_live_and_print_are_the_same(shape: str, tmp_path: Path) -> None:
    time = np.arange(RATE) / RATE
    sound = 0.2 * sum(np.sin(2.0 * np.pi * hz * time + hz) for hz in (110.0, 440.0, 2500.0))[None, :]
    live, printed = (drive(tmp_path, sound, "--oversample", factor, shape=shape, drive_db=12.0)[0, RATE // 4:]
                     for factor in ("4", "8"))
    assert decibels(float(np.linalg.norm(live - printed) / np.linalg.norm(printed))) < -40.0


def transfer(before: Signal, after: Signal) -> tuple[Signal, Signal]:
    """Frequencies and response of a linear system, from an impulse-like input."""
    ratio: np.ndarray = np.fft.rfft(after[0]) / np.fft.rfft(before[0])
    hz: np.ndarray = np.fft.rfftfreq(before.shape[1], 1.0 / RATE)
    return hz, ratio


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


def test_images_are_115_db_down() -> None:
    rate = 2.0 * RATE
    for level, pairs in enumerate(PAIRS):
        taps = np.zeros(4 * pairs - 1)
        even = np.array(HALF_BANDS[level])
        assert even == pytest.approx(remez(2 * pairs, [0.0, BAND / 2.0**level], [1.0], fs=1.0)[:pairs], abs=1e-9)
        taps[::2] = np.concatenate((even, even[::-1])) / 2.0
        taps[2 * pairs - 1] = 0.5
        response = np.abs(np.fft.rfft(taps, 1 << 16))
        hz = np.fft.rfftfreq(1 << 16, 1.0 / rate)
        stop = hz >= rate / 2.0 - 20000.0
        assert decibels(response[stop]).max() <= -115.0, f"level {level}"
        assert np.abs(decibels(response[hz <= 20000.0])).max() < 0.001
        rate *= 2.0


_AT_REST: dict[str, dict[str, Any]] = {
    "tape": {"link_levels": False},
    "drive": {"shape": "hard", "drive_db": 0.0, "out_db": 0.0},
    "bands": {f"band{number}_{name}": 0.0 for number in range(1, 6) for name in ("drive_db", "gain_db")},
    "bits": {"bits": 24.0, "rate_hz": 48000.0}}


@pytest.mark.parametrize("kind", list(_AT_REST))
@pytest.mark.parametrize("lean", [-12.0, 12.0])
def test_lean_cancels_at_rest(kind: str, lean: float, tmp_path: Path) -> None:
    params = _AT_REST[kind]
    before = impulse(0.003)
    plain = process(tmp_path, before, {"kind": kind, "params": params})
    leaned = process(tmp_path, before, {"kind": kind, "params": {**params, "lean_db": lean}})
    hz, ratio = transfer(plain, leaned)
    assert np.abs(decibels(np.abs(ratio[(hz > 20.0) & (hz < 20000.0)]))).max() <= 0.05


@pytest.mark.parametrize("shape", [shape.id for shape in SHAPES])
@pytest.mark.parametrize("kind", ["drive", "bands"])
def test_every_shape_keeps_its_hands_off_clean_lows(kind: str, shape: str, tmp_path: Path) -> None:
    """A 50 Hz tone below a split at 300 Hz: what a shape does is 40 dB down, and the tone is as loud as it was."""
    params: dict[str, Any] = {"shape": shape, "drive_db": 18.0, "out_db": -12.0}
    if kind == "bands":
        params = {f"band{number}_{name}": value for number in range(1, 5)
                  for name, value in (("shape", shape), ("drive_db", 18.0), ("gain_db", -12.0))}
    bass = 0.5 * np.sin(2.0 * np.pi * 50.0 * np.arange(2 * RATE) / RATE)[None, :]
    out = process(tmp_path, bass, {"kind": kind, "params": {**params, "clean_lows_hz": 300.0}})
    spectrum = np.abs(np.fft.rfft(out[0, RATE:]))
    assert decibels(spectrum[[100, 150, 200, 250]] / spectrum[50]).max() < -40.0
    assert decibels(2.0 * spectrum[50] / RATE / 0.5) == pytest.approx(0.0, abs=0.5)


@pytest.mark.parametrize("corner", [60.0, 120.0, 400.0])
def test_clean_lows_split_sums_flat(corner: float, tmp_path: Path) -> None:
    before = impulse()
    after = drive(tmp_path, before, shape="hard", drive_db=0.0, clean_lows_hz=corner)
    hz, ratio = transfer(before, after)
    assert np.abs(decibels(np.abs(ratio[(hz > 10.0) & (hz < 20000.0)]))).max() <= 0.1


_SPLITTING: dict[str, dict[str, Any]] = {
    "drive": {"shape": "hard", "drive_db": 0.0, "out_db": 0.0, "clean_lows_hz": 200.0},
    "bands": {f"band{number}_{name}": 0.0 for number in range(1, 6) for name in ("drive_db", "gain_db")},
    "bits": {"bits": 24.0, "rate_hz": 48000.0, "clean_lows_hz": 90.0},
    "comp": {"ratio": 1.0, "per_band": True, "low_edge_hz": 210.0, "high_edge_hz": 2900.0}}


@pytest.mark.parametrize("mix", [20.0, 50.0, 80.0])
@pytest.mark.parametrize("kind", [*_SPLITTING, "bands with clean lows", "five bands"])
def test_no_mix_cancels_anything(kind: str, mix: float, tmp_path: Path) -> None:
    params = _SPLITTING.get(kind, _SPLITTING["bands"])
    if kind == "bands with clean lows":
        params = {**params, "clean_lows_hz": 60.0, "edges_hz": [150.0, 900.0]}
    elif kind == "five bands":
        params = {**params, "edges_hz": [80.0, 300.0, 1200.0, 5000.0]}
    before = impulse()
    after = process(tmp_path, before, {"kind": kind if kind in _SPLITTING else "bands", "params": params,
                                       "mix_pct": mix})
    hz, ratio = transfer(before, after)
    assert np.abs(decibels(np.abs(ratio[(hz > 20.0) & (hz < 20000.0)]))).max() <= 0.5


def test_moving_the_split_of_a_mixed_stage_makes_no_click(tmp_path: Path) -> None:
    """What passes by changes its phase by the stage's own crossfade."""
    tone = 0.25 * np.sin(2.0 * np.pi * 1000.0 * np.arange(2 * RATE) / RATE)
    setup = Setup(RATE, 1, 256, 4)
    stage = StageSettings(id="a", kind="drive", params=stage_kind("drive").complete(
        {"shape": "hard", "drive_db": 0.0, "out_db": 0.0, "clean_lows_hz": 60.0}), mix_pct=50.0)
    chain, out = Chain(setup, [stage]), np.zeros(0)
    for index, start in enumerate(range(0, tone.size - 256, 256)):
        if index == 150:
            chain.update([replace(stage, params={**stage.params, "clean_lows_hz": 480.0})])
        block = tone[None, start:start + 256].copy()
        chain.process(block)
        out = np.concatenate((out, block[0]))
    assert highest_above_8_khz(out) < -85.0


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


# -- drive: what is around the shape ---------------------------------------------------------


def orders(folder: Path, level_dbfs: float = -18.0, **params: Any) -> Signal:
    """Amplitudes of the first six harmonics of a 200 Hz tone."""
    tone = 10.0 ** (level_dbfs / 20.0) * np.sin(2.0 * np.pi * 200.0 * np.arange(RATE) / RATE)[None, :]
    out = drive(folder, tone, **params)[0, RATE // 2:]
    spectrum = np.abs(np.fft.rfft(out)) * 2.0 / out.size
    return np.array([spectrum[100 * order] for order in range(1, 7)])


@pytest.mark.parametrize("shape", ["hard", "soft", "diodes", "fold", "ring", "magnetic"])
def test_asymmetry_brings_even_harmonics(shape: str, tmp_path: Path) -> None:
    even, odd = (orders(tmp_path, shape=shape, drive_db=18.0, asymmetry_pct=share) for share in (40.0, 0.0))
    assert decibels(odd[1] / odd[0]) < -90.0
    assert decibels(even[1] / even[0]) > -40.0


@pytest.mark.parametrize("shape", ["hard", "fold", "wrap", "rectify"])
def test_a_knee_rounds_corners(shape: str, tmp_path: Path) -> None:
    sharp, rounded = (orders(tmp_path, 0.0, shape=shape, drive_db=3.0, knee_pct=knee) for knee in (0.0, 80.0))
    last = slice(4, 6)
    assert decibels(float(np.linalg.norm(rounded[last]) / np.linalg.norm(sharp[last]))) < -2.0


def test_rectify_is_an_octave_up_and_magnetic_drags_behind(tmp_path: Path) -> None:
    lifted = orders(tmp_path, shape="rectify", drive_db=12.0)
    assert decibels(lifted[0] / lifted[1]) < -60.0
    tone = 0.125 * np.sin(2.0 * np.pi * 200.0 * np.arange(RATE) / RATE)[None, :]
    lag = [np.angle(np.fft.rfft(drive(tmp_path, tone, shape=shape, drive_db=24.0)[0, RATE // 2:])[100])
           for shape in ("soft", "magnetic")]
    assert lag[1] - lag[0] < -0.05


def test_sag_lets_attacks_through_and_squeezes_what_follows(tmp_path: Path) -> None:
    burst = np.zeros((1, RATE))
    burst[0, 4800:] = 0.5 * np.sin(2.0 * np.pi * 500.0 * np.arange(RATE - 4800) / RATE)
    plain, sagging = (drive(tmp_path, burst, shape="soft", drive_db=12.0, sag_pct=share)[0] for share in (0.0, 100.0))
    first, delay = slice(4800, 4800 + 96), slice(30000, 40000)
    assert decibels(np.abs(sagging[first]).max() / np.abs(plain[first]).max()) > -2.0
    assert decibels(np.abs(sagging[delay]).max() / np.abs(plain[delay]).max()) < -4.0


# -- bits ------------------------------------------------------------------------------------


def bits(folder: Path, signal: Signal, **params: Any) -> Signal:
    return process(folder, signal, {"kind": "bits", "params": {"rate_hz": 48000.0, "bits": 24.0, **params}})


@pytest.mark.parametrize("count", [4, 8, 12, 16])
def test_a_full_scale_sine_has_its_bits_worth_of_noise(count: int, tmp_path: Path) -> None:
    tone = 0.99999 * np.sin(2.0 * np.pi * 997.0 * np.arange(4 * RATE) / RATE)[None, :]
    out = bits(tmp_path, tone, bits=count)
    error = out - tone
    result = 10.0 * np.log10(np.mean(tone**2) / np.mean(error**2))
    assert result == pytest.approx(6.02 * count + 1.76, abs=0.5)


def test_dither_frees_the_noise_of_the_signal(tmp_path: Path) -> None:
    tone = 0.01 * np.sin(2.0 * np.pi * 1000.0 * np.arange(2 * RATE) / RATE)[None, :]
    third = []
    for dither in (False, True):
        out = bits(tmp_path, tone, bits=8.0, dither=dither)[0, :RATE]
        spectrum = np.abs(np.fft.rfft(out))
        third.append(spectrum[3000] / spectrum[1000])
    assert decibels(third[1] / third[0]) < -15.0


def test_companding_is_finer_for_quiet_sounds(tmp_path: Path) -> None:
    quiet = 0.02 * np.sin(2.0 * np.pi * 997.0 * np.arange(RATE) / RATE)[None, :]
    errors = [np.std(bits(tmp_path, quiet, bits=8.0, law=law) - quiet) for law in ("linear", "companded")]
    assert decibels(float(errors[1] / errors[0])) < -10.0


@pytest.mark.parametrize("smooth", ["hold", "straight", "band-limited"])
def test_a_low_rate_mirrors_and_the_filter_before_prevents_it(smooth: str, tmp_path: Path) -> None:
    """7 kHz sampled at 10 kHz comes back as 3 kHz."""
    tone = 0.3 * np.sin(2.0 * np.pi * 7000.0 * np.arange(RATE) / RATE)[None, :]
    mirrored, prevented = (np.abs(np.fft.rfft(bits(tmp_path, tone, rate_hz=10000.0, smooth=smooth,
                                                   anti_alias=before)[0]))[3000] for before in (False, True))
    assert decibels(prevented / mirrored) < -25.0
    low = 0.3 * np.sin(2.0 * np.pi * 300.0 * np.arange(RATE) / RATE)[None, :]
    kept = np.abs(np.fft.rfft(bits(tmp_path, low, rate_hz=10000.0, smooth=smooth)[0]))[300] * 2.0 / RATE
    assert decibels(kept / 0.3) == pytest.approx(0.0, abs=0.3)


def test_held_steps_mirror_only_what_they_must(tmp_path: Path) -> None:
    """Images of 1 kHz at 9 kHz lie at multiples of 9 kHz; what the grid of frames adds is under -45 dB."""
    tone = 0.5 * np.sin(2.0 * np.pi * 1000.0 * np.arange(4 * RATE) / RATE)[None, :]
    out = bits(tmp_path, tone, rate_hz=9000.0)[0, RATE:3 * RATE]
    power = np.abs(np.fft.rfft(out * np.kaiser(out.size, 16.0))) ** 2
    hz = np.fft.rfftfreq(out.size, 1.0 / RATE)
    meant = np.zeros(hz.size, bool)
    for image in range(4):
        for side in (-1000.0, 1000.0):
            meant |= np.abs(hz - abs(9000.0 * image + side)) < 12.0
    audible = hz < 16000.0
    assert 10.0 * np.log10(power[audible & ~meant].sum() / power[audible].sum()) < -45.0
