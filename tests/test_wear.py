"""Worn tape: damage lies at places, dropouts keep what was drawn, neighbouring layers are heard."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tones import RATE, Signal, decibels, process
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.stage import Clock, Damage, Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.dsp.stages.wear import drop_pattern, turn_seconds

WEAR = stage_kind("wear")
NEW: dict[str, Any] = {"ageing_pct": 0.0}


def tone(seconds: float, hz: float = 1000.0) -> Signal:
    return 0.25 * np.sin(2.0 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)[None, :]


def levels(signal: Signal, seconds: float) -> Signal:
    """Level of each stretch of so many seconds in dB of the tone's own."""
    size = round(seconds * RATE)
    parts = signal[0, :signal.shape[1] // size * size].reshape(-1, size)
    return decibels(np.sqrt(np.mean(parts**2, axis=1)) / (0.25 / np.sqrt(2.0)))


def play(params: dict[str, Any], start: int, frames: int, *, tempo: float = 120.0, block: int = 700) -> Signal:
    """A tone through the stage, played from a place of the session on, latency taken off."""
    chain = Chain(Setup(RATE, 1, block, clock=Clock(tempo=tempo)),
                  [StageSettings(id="a", kind="wear", params=WEAR.complete(params))])
    delay = chain.latency
    time = np.arange(start, start + frames + delay) / RATE
    sound = 0.25 * np.sin(2.0 * np.pi * 1000.0 * time)[None, :]
    for at in range(0, sound.shape[1], block):
        part = np.ascontiguousarray(sound[:, at:at + block])
        chain.clock.frame = start + at
        chain.process(part)
        sound[:, at:at + block] = part
    return sound[:, delay:]


def test_damage_lies_at_places_of_the_time_line() -> None:
    params = {"ageing_pct": 80.0, "crease_pct": 70.0, "crease_hz": 2.0, "drop_mode": "random", "drop_density_pct": 40.0}
    whole = play(params, 0, 4 * RATE)
    later = play(params, 2 * RATE, 2 * RATE)
    assert np.abs(later[:, RATE // 2:] - whole[:, 2 * RATE + RATE // 2:]).max() < 1e-3


def test_drawn_steps_have_their_depth_and_place(tmp_path: Path) -> None:
    params = {**NEW, "drop_mode": "drawn", "drop_count": 8, "drop_hz": 4.0, "drop_depth_db": 20.0,
              "drop_attack_ms": 1.0, "drop_release_ms": 1.0, "drop_steps": [0.0, 1.0, None, 0.5]}
    out = levels(process(tmp_path, tone(4.0), {"kind": "wear", "params": params}), 0.25)
    inner = [round(float(level), 0) for level in out[:8]]
    assert inner[0] == inner[2] == inner[4] == 0.0
    assert out[1] == pytest.approx(-20.0, abs=2.5)
    assert out[3] == pytest.approx(-10.0, abs=2.0)
    assert np.allclose(out[8:12], out[:4], atol=1.0), "the pattern comes round again"


def test_corrections_by_hand_stay_whatever_is_generated() -> None:
    drawn = (None, 0.0, 0.7) + (None,) * 29 + (0.9,)
    for seed in (1.0, 2.0, 3.0):
        for density in (10.0, 60.0):
            values = WEAR.complete({"drop_mode": "random", "drop_seed": seed, "drop_density_pct": density,
                                    "drop_count": 64.0, "drop_steps": drawn})
            pattern = drop_pattern(values)
            assert (pattern[1], pattern[2], pattern[32]) == (0.0, 0.7, 0.9)
            bare = drop_pattern({**values, "drop_steps": ()})
            free = [index for index in range(64) if index not in (1, 2, 32)]
            assert np.array_equal(pattern[free], bare[free])
    shares = [np.mean(drop_pattern(WEAR.complete({
        "drop_mode": "random", "drop_density_pct": 30.0, "drop_count": 128.0, "drop_seed": float(seed)})) > 0.0)
        for seed in range(20)]
    assert np.mean(shares) == pytest.approx(0.3, abs=0.05)


def test_steps_in_notes_lie_on_the_bars() -> None:
    params = {**NEW, "drop_mode": "drawn", "drop_note": "1/4", "drop_count": 8, "drop_depth_db": 30.0,
              "drop_attack_ms": 0.5, "drop_release_ms": 0.5, "drop_steps": (1.0,)}
    for tempo in (96.0, 140.0):
        beat = 60.0 / tempo
        # The pattern of eight begins with the third bar; three beats before it all is well.
        start = round((8 * beat - 0.5) * RATE)
        out = levels(play(params, start, RATE, tempo=tempo), 0.005)
        falls = np.argmax(out < -15.0) * 0.005
        assert start / RATE + falls == pytest.approx(8 * beat, abs=0.01)


def test_edges_take_their_time() -> None:
    params = {**NEW, "drop_mode": "drawn", "drop_count": 8, "drop_hz": 2.0, "drop_depth_db": 30.0,
              "drop_steps": (0.0, 1.0)}
    fast, slow = (levels(play({**params, "drop_attack_ms": attack, "drop_release_ms": attack}, 0, 2 * RATE), 0.01)
                  for attack in (1.0, 150.0))
    assert np.argmax(fast < -25.0) < 54
    assert np.argmax(slow < -25.0) > 60


def test_ageing_dulls_and_creases_stumble(tmp_path: Path) -> None:
    rng = np.random.default_rng(4)
    noise = 0.1 * rng.standard_normal((1, 8 * RATE))
    aged = process(tmp_path, noise, {"kind": "wear", "params": {"ageing_pct": 100.0}})
    power = [np.abs(np.fft.rfft(x[0])) ** 2 for x in (noise, aged)]
    hz = np.fft.rfftfreq(noise.shape[1], 1.0 / RATE)
    high, low = (hz > 8000.0) & (hz < 16000.0), (hz > 100.0) & (hz < 500.0)
    assert 10.0 * np.log10(power[1][high].sum() / power[0][high].sum()) < -12.0
    assert -8.0 < 10.0 * np.log10(power[1][low].sum() / power[0][low].sum()) < -1.0
    creased = process(tmp_path, tone(20.0), {"kind": "wear", "params": {**NEW, "crease_pct": 80.0}})
    result = levels(creased, 0.02)
    assert result.min() < -8.0
    assert np.median(result) > -1.5


@pytest.mark.parametrize(("speed", "layer"), [(15.0, 52.0), (7.5, 35.0), (3.75, 18.0)])
def test_print_through_comes_a_turn_before_and_after(speed: float, layer: float, tmp_path: Path) -> None:
    """Strongest where the wavelength is 2 pi times the layer pitch, there at the set level."""
    top = speed * 0.0254 / (2.0 * np.pi * layer * 1e-6)
    turn = turn_seconds(speed)
    quiet, length = round((turn + 0.5) * RATE), round(0.2 * RATE)
    signal = np.zeros((1, 2 * quiet + length))
    signal[0, quiet:quiet + length] = tone(0.2, top)[0] * np.hanning(length)
    out = process(tmp_path, signal, {"kind": "wear", "params": {
        **NEW, "print_through_db": -40.0, "speed_ips": speed, "layer_um": layer}})
    for side in (-1.0, 1.0):
        at = quiet + round(side * turn * RATE)
        echo = out[0, at:at + length]
        assert decibels(np.sqrt(np.sum(echo**2) / np.sum(signal**2))) == pytest.approx(-40.0, abs=1.0)
    off = process(tmp_path, signal, {"kind": "wear", "params": NEW})
    assert np.abs(off[0, :quiet - 100]).max() < 1e-9


def test_the_picture_shows_the_damage_that_is_heard() -> None:
    params = WEAR.complete({**NEW, "drop_mode": "random", "drop_density_pct": 50.0, "drop_hz": 2.0,
                            "drop_depth_db": 24.0, "drop_attack_ms": 0.5, "drop_release_ms": 0.5})
    damage = next(part for part in WEAR.picture(params, RATE, -18.0) if isinstance(part, Damage))
    middles = np.arange(0.25, 8.0, 0.5)
    loss, _ = damage.at(middles, 120.0, 0.0)
    heard = levels(play(params, 0, 8 * RATE), 0.5)
    assert np.corrcoef(loss, -heard)[0, 1] > 0.98


def test_dropouts_begin_with_bar_1() -> None:
    params = {**NEW, "drop_mode": "random", "drop_density_pct": 50.0, "drop_hz": 2.0, "drop_depth_db": 24.0,
              "drop_attack_ms": 0.5, "drop_release_ms": 0.5}

    def heard(first_beat: float) -> Signal:
        chain = Chain(Setup(RATE, 1, 700, clock=Clock(first_beat=first_beat)),
                      [StageSettings(id="a", kind="wear", params=WEAR.complete(params))])
        sound = 0.25 * np.sin(2.0 * np.pi * 1000.0 * np.arange(6 * RATE) / RATE)[None, :]
        for at in range(0, sound.shape[1], 700):
            part = np.ascontiguousarray(sound[:, at:at + 700])
            chain.process(part)
            sound[:, at:at + 700] = part
        return levels(sound, 0.125)

    early, late = heard(0.0), heard(1.25)
    assert early.min() < -12.0
    assert np.corrcoef(early[:-10], late[10:])[0, 1] > 0.98
    assert np.corrcoef(early[:-10], late[:-10])[0, 1] < 0.8
