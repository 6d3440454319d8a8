"""Wow and flutter: the meter against calculated tones, the stage and the machine against the meter."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tones import RATE, Signal, decibels, process
from yellow_ember.dsp.flutter import WEIGHTING, weight
from yellow_ember.dsp.motion import SpeedFigures, speed_curve
from yellow_ember.measure.wow_flutter import TONE_HZ, SpeedReading, wow_and_flutter

STILL = {"wow_pct": 0.0, "flutter_pct": 0.0, "drift_pct": 0.0, "scrape_pct": 0.0}


def tone(hz: float = TONE_HZ, seconds: float = 18.0, level_dbfs: float = -18.0) -> Signal:
    time = np.arange(round(seconds * RATE)) / RATE
    return 10.0 ** (level_dbfs / 20.0) * np.sin(2.0 * np.pi * hz * time)[None, :]


def reading(folder: Path, kind: str = "motion", seconds: float = 18.0, **params: Any) -> SpeedReading:
    """What the meter reads of a 3150 Hz tone through one stage."""
    base = STILL if kind == "motion" else {}
    out = process(folder, tone(seconds=seconds), {"kind": kind, "params": {**base, **params}})
    return wow_and_flutter(out[0, RATE:], RATE)


@pytest.mark.parametrize(("hz", "amplitude"), [(0.5, 0.002), (1.0, 0.001), (4.0, 0.001), (10.0, 0.002), (40.0, 0.001)])
def test_the_meter_agrees_with_a_calculated_tone(hz: float, amplitude: float) -> None:
    time = np.arange(20 * RATE) / RATE
    phase = 2.0 * np.pi * TONE_HZ * time - TONE_HZ * amplitude / hz * np.cos(2.0 * np.pi * hz * time)
    result = wow_and_flutter(np.sin(phase), RATE)
    expected = dict(WEIGHTING)[hz] if hz in dict(WEIGHTING) else float(decibels(weight(hz)))
    assert result.weighted_pct == pytest.approx(100.0 * amplitude * 10.0 ** (expected / 20.0), rel=0.02)
    assert result.unweighted_pct == pytest.approx(100.0 * amplitude, rel=0.02)
    assert result.speed_error_pct == pytest.approx(0.0, abs=0.002)


def test_the_meter_reads_a_wrong_speed_and_refuses_silence() -> None:
    assert wow_and_flutter(tone(TONE_HZ * 1.01)[0], RATE).speed_error_pct == pytest.approx(1.0, abs=0.01)
    with pytest.raises(ValueError, match="no tone"):
        wow_and_flutter(np.zeros(2 * RATE), RATE)
    with pytest.raises(ValueError, match="a second of tone"):
        wow_and_flutter(np.ones(100), RATE)


@pytest.mark.parametrize("params", [
    {"wow_pct": 0.05, "unsteady_pct": 0.0}, {"wow_pct": 0.1}, {"wow_pct": 0.3, "wow_hz": 0.6},
    {"wow_pct": 0.5, "wow_hz": 2.0, "unsteady_pct": 60.0}, {"flutter_pct": 0.05},
    {"flutter_pct": 0.3, "flutter_hz": 30.0},
    {"wow_pct": 2.0, "extended": True}])
def test_a_tone_reads_the_set_figure(params: dict[str, Any], tmp_path: Path) -> None:
    requested = params.get("wow_pct", 0.0) + params.get("flutter_pct", 0.0)
    assert reading(tmp_path, seconds=40.0, **params).weighted_pct == pytest.approx(requested, rel=0.1)


def test_beyond_what_a_motor_does_only_when_allowed(tmp_path: Path) -> None:
    assert reading(tmp_path, wow_pct=3.0).weighted_pct == pytest.approx(0.5, rel=0.15)


@pytest.mark.parametrize(("speed", "good", "poor"), [
    (30.0, 0.03, 0.08), (15.0, 0.04, 0.10), (7.5, 0.06, 0.15), (3.75, 0.10, 0.25), (1.875, 0.12, 0.35)])
def test_the_machines_own_motion_lies_between_good_and_poor(speed: float, good: float, poor: float,
                                                            tmp_path: Path) -> None:
    result = [reading(tmp_path, "tape", seconds=30.0, speed_ips=speed, deck=deck, own_faults=True, hum_db=-90.0,
                      mod_noise_db=-80.0).weighted_pct for deck in ("pilot", "cabin")]
    assert result == pytest.approx([good, poor], rel=0.1)


def test_moving_interpolation_is_clean_up_to_15_khz(tmp_path: Path) -> None:
    """Slow drift moves the reading place over all fractions; what is not the tone is its error."""
    for hz in (1000.0, 7000.0, 15000.0):
        out = process(tmp_path, tone(hz, 6.0, -6.0), {"kind": "motion", "params": {
            **STILL, "wow_pct": 0.02, "wow_hz": 0.4, "unsteady_pct": 0.0}})[0, RATE:]
        power = np.abs(np.fft.rfft(out * np.blackman(out.size))) ** 2
        frequency = np.fft.rfftfreq(out.size, 1.0 / RATE)
        near = np.abs(frequency - hz) < 60.0
        assert 10.0 * np.log10(power[~near].sum() / power[near].sum()) < -90.0


def test_rates_in_notes_follow_the_tempo() -> None:
    from test_registry import RATE as rate
    from yellow_ember.dsp.chain import Chain
    from yellow_ember.dsp.stage import Clock, Setup
    from yellow_ember.dsp.stage_settings import StageSettings
    from yellow_ember.dsp.stages import stage_kind

    params = stage_kind("motion").complete({**STILL, "wow_pct": 0.3, "wow_note": "1/4", "unsteady_pct": 0.0})
    for tempo in (90.0, 150.0):
        clock = Clock(tempo=tempo)
        chain = Chain(Setup(rate, 1, 4096, clock=clock), [StageSettings(id="a", kind="motion", params=params)])
        sound = tone(seconds=20.0)[0]
        for start in range(0, sound.size, 4096):
            part = sound[None, start:start + 4096].copy()
            chain.process(part)
            sound[start:start + 4096] = part[0]
        result = wow_and_flutter(sound[rate:], rate)
        spectrum = np.abs(np.fft.rfft(result.curve * np.hanning(result.curve.size)))
        top = np.fft.rfftfreq(result.curve.size, 1.0 / result.curve_rate)[np.argmax(spectrum[1:]) + 1]
        assert top == pytest.approx(tempo / 60.0, abs=0.1)


def test_spread_takes_channels_apart_and_smear_softens_attacks(tmp_path: Path) -> None:
    both = np.repeat(tone(seconds=8.0), 2, axis=0)
    together = process(tmp_path, both, {"kind": "motion", "params": {**STILL, "wow_pct": 0.2}})
    assert np.array_equal(together[0], together[1])
    apart = process(tmp_path, both, {"kind": "motion", "params": {**STILL, "wow_pct": 0.2, "spread_pct": 100.0}})
    left, right = (wow_and_flutter(side[RATE:], RATE).curve for side in apart)
    assert abs(np.corrcoef(left, right)[0, 1]) < 0.7
    burst = np.zeros((1, RATE))
    burst[0, 9600:] = 0.5 * np.sin(2.0 * np.pi * 500.0 * np.arange(RATE - 9600) / RATE)
    soft, hard = (process(tmp_path, burst, {"kind": "motion", "params": {**STILL, "smear_ms": smear}})[0]
                  for smear in (20.0, 0.0))
    first = slice(9600, 9600 + 240)
    assert decibels(np.std(soft[first]) / np.std(hard[first])) < -6.0
    assert decibels(np.std(soft[-9600:]) / np.std(hard[-9600:])) == pytest.approx(0.0, abs=1.0)


def test_the_reel_slows_as_its_pack_grows() -> None:
    figures = SpeedFigures(wow_pct=0.1, wow_hz=0.8, pack_growth=1.0 / 600.0)
    rates = []
    for at in (0.0, 600.0):
        curve = speed_curve(figures, 30.0, 500.0, at=at)
        spectrum = np.abs(np.fft.rfft(curve * np.hanning(curve.size)))
        rates.append(np.fft.rfftfreq(curve.size, 1 / 500.0)[np.argmax(spectrum)])
    assert rates[0] == pytest.approx(0.8, abs=0.05)
    assert rates[1] == pytest.approx(0.8 / np.sqrt(2.0), abs=0.05)
