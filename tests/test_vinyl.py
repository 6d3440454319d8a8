"""Records, through `yellow-ember process`: equalisers, tracing, once-around periods, dust, stops and starts."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tones import RATE, Signal, decibels, inharmonic_db, process
from yellow_ember.dsp.filters import response
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stages.vinyl import ERA_BY_ID, VINYL, cutting, playing

STILL = {"warp_pct": 0.0, "off_centre_mm": 0.0, "tracing_pct": 0.0}


def record(folder: Path, signal: Signal, *options: str, **params: Any) -> Signal:
    return process(folder, signal, {"kind": "vinyl", "params": {**STILL, **params}}, options=options)


def tone(hz: float, dbfs: float = -18.0, seconds: float = 1.0) -> Signal:
    return 10.0 ** (dbfs / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)[None, :]


def pitch(signal: Signal, hz: float) -> Signal:
    """Deviation of a tone's frequency from `hz` over time, a value a frame."""
    time = np.arange(signal.shape[1]) / RATE
    moved = signal[0] * np.exp(-2j * np.pi * hz * time)
    kernel = np.hanning(2001) / np.hanning(2001).sum()
    phase = np.unwrap(np.angle(np.convolve(moved, kernel, mode="same")))
    return np.gradient(phase) * RATE / (2.0 * np.pi * hz)


# -- equalisers -----------------------------------------------------------------------------


def test_playing_follows_iec_60098(tmp_path: Path) -> None:
    """RIAA: 3180, 318 and 75 us, within 0.2 dB from 20 Hz to 20 kHz at the raised rate."""
    hz = np.geomspace(20.0, 20000.0, 100)
    s = 2j * np.pi * hz
    requested = (1 + s * 318e-6) / ((1 + s * 3180e-6) * (1 + s * 75e-6))
    at_1k = (1 + 2j * np.pi * 1e3 * 318e-6) / ((1 + 2j * np.pi * 1e3 * 3180e-6) * (1 + 2j * np.pi * 1e3 * 75e-6))
    result = response(playing(ERA_BY_ID["stereo"], 8.0 * RATE), hz, 8.0 * RATE)
    assert np.abs(decibels(result) - decibels(np.abs(requested / at_1k))).max() < 0.2


@pytest.mark.parametrize("era", ["stereo", "mono", "shellac", "horn"])
def test_cutting_is_the_inverse_of_playing(era: str) -> None:
    hz = np.geomspace(20.0, 20000.0, 60)
    fast = 8.0 * RATE
    both = response(np.concatenate((cutting(ERA_BY_ID[era], fast), playing(ERA_BY_ID[era], fast))), hz, fast)
    assert np.abs(decibels(both)).max() < 1e-6


def test_a_clean_record_is_flat_in_its_band(tmp_path: Path) -> None:
    before = np.zeros((2, RATE))
    before[:, RATE // 4] = 0.01
    after = record(tmp_path, before)
    hz = np.fft.rfftfreq(RATE, 1.0 / RATE)
    ratio = np.abs(np.fft.rfft(after[0]) / np.fft.rfft(before[0]))
    assert np.abs(decibels(ratio[(hz > 60.0) & (hz < 9000.0)])).max() < 0.5
    narrow = record(tmp_path, before, era="horn")
    ratio = np.abs(np.fft.rfft(narrow[0]) / np.fft.rfft(before[0]))
    assert decibels(ratio[(hz > 7000.0) & (hz < 9000.0)]).max() < -14.0
    assert decibels(ratio[(hz > 50.0) & (hz < 70.0)]).max() < -14.0


# -- tracing --------------------------------------------------------------------------------


def second_harmonic(folder: Path, dbfs: float = -20.0, **params: Any) -> float:
    spectrum = np.abs(np.fft.rfft(record(folder, tone(4000.0, dbfs), tracing_pct=100.0, **params)[0, RATE // 2:]))
    return float(decibels(spectrum[4000] / spectrum[2000]))


def test_tracing_grows_towards_the_middle_and_with_the_tip(tmp_path: Path) -> None:
    outer, middle, inner = (second_harmonic(tmp_path, radius_mm=mm) for mm in (146.0, 100.0, 60.0))
    assert outer < middle - 2.0 < inner - 4.0
    assert second_harmonic(tmp_path, stylus="elliptical") < second_harmonic(tmp_path, stylus="conical") - 5.0
    assert second_harmonic(tmp_path, stylus="worn") > second_harmonic(tmp_path, stylus="conical") + 2.0
    assert second_harmonic(tmp_path, rpm=45.0) < second_harmonic(tmp_path) - 2.0
    assert second_harmonic(tmp_path, cut_db=6.0) > second_harmonic(tmp_path) + 4.0


def test_second_harmonic_agrees_with_the_first_order_of_the_geometry(tmp_path: Path) -> None:
    """A delay that the slope a sin(wt) moves by R / V: second harmonic over first is a w R / (2 V)."""
    cut = float(response(cutting(ERA_BY_ID["stereo"], 8.0 * RATE), np.array([4000.0]), 8.0 * RATE)[0])
    play = [float(response(playing(ERA_BY_ID["stereo"], 8.0 * RATE), np.array([f]), 8.0 * RATE)[0])
            for f in (4000.0, 8000.0)]
    speed = 2.0 * np.pi * 0.110 * 33.33 / 60.0
    slope = 0.05 * 10.0 ** ((-30.0 + 18.0) / 20.0) * cut / speed
    requested = slope * 2.0 * np.pi * 4000.0 * 18e-6 / (2.0 * speed) * play[1] / play[0]
    assert second_harmonic(tmp_path, -30.0) == pytest.approx(float(decibels(requested)), abs=0.3)


def test_walls_lean_to_opposite_sides_so_that_a_lateral_cut_has_no_even_harmonics(tmp_path: Path) -> None:
    out = record(tmp_path, np.repeat(tone(4000.0, -12.0), 2, axis=0), tracing_pct=100.0)
    apart, summed = (np.abs(np.fft.rfft(signal[RATE // 2:])) for signal in (out[0], out.mean(axis=0)))
    assert decibels(apart[4000] / apart[2000]) > -40.0
    assert decibels(summed[4000] / summed[2000]) < -80.0


@pytest.mark.parametrize("radius_mm", [55.0, 88.0, 146.0])
@pytest.mark.parametrize("stylus", ["conical", "elliptical", "worn"])
def test_a_high_tone_has_harmonics_only_anywhere_on_the_side(radius_mm: float, stylus: str, tmp_path: Path) -> None:
    """A fine tip on the outer grooves leaves the wall, a blunt one on the inner bridges its pits: still geometry."""
    for hz, dbfs in ((9001.0, -1.0), (7001.0, -6.0), (6007.0, -20.0)):
        out = record(tmp_path, tone(hz, dbfs, 1.5), tracing_pct=100.0, radius_mm=radius_mm, stylus=stylus)
        assert inharmonic_db(out[0, RATE // 2:], hz) < -60.0, hz


def test_highs_are_not_cut_faster_than_a_cutter_accelerates(tmp_path: Path) -> None:
    """Far over what its coils give, 10 kHz comes out at their limit, and 1 kHz at the steepest slope."""
    speed = 2.0 * np.pi * 0.110 * 33.33 / 60.0
    for hz, fast_is_even in ((1000.0, False), (10000.0, True)):
        loud, louder = (np.abs(np.fft.rfft(record(tmp_path, tone(hz, dbfs), cut_db=18.0)[0, RATE // 2:]))[
            round(hz / 2.0)] for dbfs in (-6.0, 0.0))
        assert 0.0 < decibels(louder / loud) < 4.0
        play = float(response(playing(ERA_BY_ID["stereo"], 8.0 * RATE), np.array([hz]), 8.0 * RATE)[0])
        limit = min(1.5 * speed, 3e4 / (2.0 * np.pi * hz)) * play * 10.0 ** (-18.0 / 20.0) / 0.05
        height = louder / (RATE / 4.0)
        # A square's first harmonic is 2.1 dB over its height; both limits together round it.
        assert decibels(height * 10.0 ** (18.0 / 20.0) / limit) == pytest.approx(0.0, abs=3.5), fast_is_even


def test_the_pinched_groove_lifts_the_tip_twice_a_turn_of_a_lateral_tone(tmp_path: Path) -> None:
    """Between the walls of a lateral cut the room is least where it is steepest: second harmonic, out of phase."""
    out = record(tmp_path, np.repeat(tone(4000.0, -14.0), 2, axis=0), tracing_pct=100.0)
    left, right = (np.fft.rfft(row[RATE // 2:])[4000] for row in out)
    assert abs(left + right) < 1e-3 * abs(left - right)


@pytest.mark.parametrize("block", [1, 33, 500])
def test_a_groove_sounds_the_same_in_blocks_of_any_length(block: int) -> None:
    setup = Setup(48000.0, 2, 512, 8, lookahead=0)
    values = {**VINYL.defaults(), "cut_db": 9.0, "stylus": "elliptical", "noises": True}
    signal = 0.3 * np.random.default_rng(4).standard_normal((2, 4096))
    outs = []
    for length in (512, block):
        processor = VINYL.processor(setup)
        processor.set(values, at_once=True)
        out = signal.copy()
        for start in range(0, out.shape[1], length):
            part = np.ascontiguousarray(out[:, start:start + length])
            processor.process(part)
            out[:, start:start + length] = part
        outs.append(out)
    assert np.abs(outs[0] - outs[1]).max() < 1e-11


# -- what comes round -------------------------------------------------------------------------


@pytest.mark.parametrize(("rpm", "requested"), [(33.33, 0.5555), (45.0, 0.75), (78.0, 1.3)])
def test_a_hole_off_the_centre_swings_the_pitch_once_a_turn(rpm: float, requested: float, tmp_path: Path) -> None:
    out = record(tmp_path, tone(1000.0, -18.0, 24.0), rpm=rpm, off_centre_mm=1.0, radius_mm=100.0)
    swing = pitch(out, 1000.0)[RATE:-RATE]
    assert np.abs(swing).max() == pytest.approx(0.01, rel=0.05)
    spectrum = np.abs(np.fft.rfft(swing * np.hanning(swing.size), 32 * swing.size))
    hz = np.fft.rfftfreq(32 * swing.size, 1.0 / RATE)
    peak = int(np.argmax(spectrum))
    a, b, c = np.log(spectrum[peak - 1:peak + 2])
    result = hz[peak] + 0.5 * (a - c) / (a - 2.0 * b + c) * hz[1]
    assert result == pytest.approx(requested, rel=1e-3)


def events(folder: Path, seconds: float, **params: Any) -> np.ndarray:
    silent = {"surface_db": -100.0, "rumble_db": -100.0, "noises": True}
    out = record(folder, np.zeros((1, round(seconds * RATE))), **{**silent, **params})[0]
    loud = np.flatnonzero(np.abs(out) > 0.3 * np.abs(out).max())
    return loud[np.concatenate(([True], np.diff(loud) > 400))]


def test_a_scratch_comes_round_with_the_platter(tmp_path: Path) -> None:
    result = events(tmp_path, 20.0, rpm=78.0, dust_per_s=0.0, pops_per_min=40.0, crackle_db=0.0)
    assert result.size > 5
    turn = 60.0 / 78.0 * RATE
    gaps = (result[:, None] - result[None, :])[result[:, None] > result[None, :]]
    near = np.abs(gaps / turn - 1.0) < 1e-3
    assert near.sum() >= result.size // 2, "most come again one turn later, within 0.1 %"


def test_dust_is_as_dense_as_asked_and_another_copy_has_it_elsewhere(tmp_path: Path) -> None:
    silence = np.zeros((1, 20 * RATE))
    params = {"noises": True, "surface_db": -100.0, "rumble_db": -100.0, "pops_per_min": 0.0, "crackle_db": 0.0}
    few, many = (np.abs(record(tmp_path, silence, **params, dust_per_s=rate)[0]).mean() for rate in (5.0, 50.0))
    assert many / few == pytest.approx(10.0, rel=0.35)
    other = record(tmp_path, silence, **params, dust_per_s=5.0, copy=2.0)
    same = record(tmp_path, silence, **params, dust_per_s=5.0)
    assert np.corrcoef(np.abs(other[0]), np.abs(same[0]))[0, 1] < 0.3


def test_surface_and_rumble_have_their_levels(tmp_path: Path) -> None:
    silence = np.zeros((1, 10 * RATE))
    for name, other in (("surface_db", "rumble_db"), ("rumble_db", "surface_db")):
        out = record(tmp_path, silence, noises=True, crackle_db=-100.0, **{name: -40.0, other: -100.0})
        assert decibels(out[0, RATE:].std()) == pytest.approx(-18.0 - 40.0, abs=1.0), name
    assert np.abs(record(tmp_path, silence)).max() < 1e-9, "without dust and noise it is silent"


# -- stop and start ---------------------------------------------------------------------------


def test_the_platter_stops_stands_and_is_in_time_again(tmp_path: Path) -> None:
    """At 120 beats a minute bar 2 begins at 2 s: stopping 0.5 s, standing one beat, starting 0.5 s."""
    signal = tone(1000.0, -18.0, 6.0)
    out = record(tmp_path, signal, spin="once", spin_bar=2.0, spin_stop_ms=500.0, spin_rest_beats=1.0,
                 spin_start_ms=500.0)[0]
    plain = record(tmp_path, signal)[0]
    at = lambda seconds: round(seconds * RATE)  # noqa: E731
    assert np.abs(out[:at(1.99)] - plain[:at(1.99)]).max() < 1e-6
    assert np.abs(out[at(2.52):at(2.98)]).max() < 1e-6
    assert np.abs(out[at(3.52):at(5.9)] - plain[at(3.52):at(5.9)]).max() < 1e-6
    falling = pitch(out[None, :], 500.0)[at(2.24):at(2.26)].mean()
    assert falling == pytest.approx(0.0, abs=0.1), "half way it is an octave down"
    assert np.abs(out[at(2.05):at(2.4)]).max() > 0.02


def test_it_stops_again_and_again(tmp_path: Path) -> None:
    out = record(tmp_path, tone(1000.0, -18.0, 9.0), spin="every", spin_bar=1.0, spin_bars=2.0, spin_stop_ms=200.0,
                 spin_rest_beats=1.0, spin_start_ms=200.0)[0]
    for bar in (0.0, 4.0, 8.0):
        standing = out[round((bar + 0.25) * RATE):round((bar + 0.65) * RATE)]
        assert np.abs(standing).max() < 1e-6
    assert np.abs(out[round(2.0 * RATE):round(3.0 * RATE)]).max() > 0.05
