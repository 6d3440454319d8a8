"""Tape echo, through `yellow-ember process` and block by block: times, styles, feedback, freeze, tempo."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tones import RATE, Signal, decibels, highest_above_8_khz, inharmonic_db, process
from yellow_ember.dsp.chain import Chain, run_whole
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import stage_kind

PLAIN = {"wow_pct": 0.0, "flutter_pct": 0.0, "colour_pct": 0.0, "low_cut_hz": 20.0, "high_cut_hz": 20000.0,
         "level_db": 0.0, "tap1_level_db": 0.0, "feedback_pct": 0.0}


def echo(folder: Path, signal: Signal, **params: Any) -> Signal:
    return process(folder, signal, {"kind": "echo", "params": {**PLAIN, **params}})


def click(channels: int = 1, seconds: float = 2.0) -> Signal:
    signal = np.zeros((channels, round(seconds * RATE)))
    signal[:, 1000] = 0.5
    return signal


def places(row: Signal) -> list[int]:
    return [int(at) - 1000 for at in np.flatnonzero(np.abs(row) > 0.02)]


def test_times_are_exact_to_a_sample(tmp_path: Path) -> None:
    out = echo(tmp_path, click(), tap1_time_ms=250.0, tap2_on=True, tap2_time_ms=333.0, tap2_level_db=-6.0,
               tap3_on=True, tap3_note="1/8", tap4_on=True, tap4_note="1/2", tap4_level_db=-12.0)
    assert places(out[0]) == [0, 12000, 15984, 48000]
    assert out[0, 1000 + 15984] == pytest.approx(0.5 * 10 ** (-6 / 20), rel=1e-5)


def test_twice_the_tape_speed_is_half_the_time(tmp_path: Path) -> None:
    result = [places(echo(tmp_path, click(), from_speed=True, speed_ips=ips, head_mm=57.15)[0])[1]
              for ips in (7.5, 15.0)]
    assert result == [round(57.15 / 190.5 * RATE), round(57.15 / 381.0 * RATE)]


def test_styles(tmp_path: Path) -> None:
    params = {"tap1_time_ms": 100.0, "feedback_pct": 50.0}
    slap = echo(tmp_path, click(2), style="slap", **params)
    assert places(slap[0]) == places(slap[1]) == [0, 4800]
    repeat = echo(tmp_path, click(2), style="repeat", **params)
    assert places(repeat[0])[:4] == [0, 4800, 9600, 14400]
    assert repeat[0, 1000 + 9600] == pytest.approx(0.25, rel=1e-4)
    side = echo(tmp_path, click(2), style="ping-pong", **params)
    assert places(side[0])[:3] == [0, 4800, 14400]
    assert places(side[1])[:3] == [0, 9600, 19200]


def test_offset_and_place(tmp_path: Path) -> None:
    out = echo(tmp_path, click(2), tap1_time_ms=100.0, offset_ms=10.0)
    assert (places(out[0]), places(out[1])) == ([0, 4800], [0, 5280])
    out = echo(tmp_path, click(2), tap1_time_ms=100.0, tap1_pan=100.0)
    assert (places(out[0]), places(out[1])) == ([0], [0, 4800])


def test_repeats_grow_darker_and_the_tape_colours_them(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    burst = np.zeros((1, 2 * RATE))
    burst[0, :2400] = 0.3 * rng.standard_normal(2400)
    out = echo(tmp_path, burst, tap1_time_ms=200.0, feedback_pct=90.0, high_cut_hz=3000.0)[0]

    def brightness(turn: int) -> float:
        spectrum = np.abs(np.fft.rfft(out[turn * 9600:turn * 9600 + 4800])) ** 2
        hz = np.fft.rfftfreq(4800, 1.0 / RATE)
        return float(np.sum(spectrum * hz) / np.sum(spectrum))

    assert brightness(1) > 1.5 * brightness(2) > 1.5 * brightness(4)
    tone = 0.5 * np.sin(2.0 * np.pi * 500.0 * np.arange(RATE) / RATE)[None, :]
    clean, driven = (np.abs(np.fft.rfft(echo(tmp_path, tone, direct=False, tap1_time_ms=20.0, colour_pct=share)
                                        [0, RATE // 2:])) for share in (0.0, 80.0))
    assert decibels(clean[750] / clean[250]) < -80.0
    assert decibels(driven[750] / driven[250]) > -30.0


@pytest.mark.parametrize(("colour", "feedback"), [(30.0, 0.0), (100.0, 0.0), (100.0, 60.0)])
@pytest.mark.parametrize("factor", ["4", "8"])
def test_the_tapes_colour_does_not_alias(colour: float, feedback: float, factor: str, tmp_path: Path) -> None:
    """All under 20 kHz that is no harmonic of a tone at -1 dBFS, against all; feedback as well."""
    for hz in (1001.0, 5003.0, 9001.0):
        wave = 10.0 ** (-1.0 / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(5 * RATE // 2) / RATE)[None, :]
        stage = {"kind": "echo", "params": {**PLAIN, "colour_pct": colour, "feedback_pct": feedback,
                                            "tap1_time_ms": 50.0}}
        part = process(tmp_path, wave, stage, options=("--oversample", factor))[0, -RATE:]
        assert inharmonic_db(part, hz) < (-80.0 if factor == "8" else -60.0)


def test_colour_comes_and_goes_without_a_click() -> None:
    chain, settings = running(256, colour_pct=0.0, tap1_time_ms=20.0)
    wave, out = 0.25 * np.sin(2.0 * np.pi * 1000.0 * np.arange(2 * RATE) / RATE), []
    for index, start in enumerate(range(0, wave.size - 256, 256)):
        if index in (100, 200):
            share = 60.0 if index == 100 else 0.0
            chain.update([replace(settings, params={**settings.params, "colour_pct": share})])
        block = wave[None, start:start + 256].copy()
        chain.process(block)
        out.append(block[0])
    assert highest_above_8_khz(np.concatenate(out)) < -65.0


# -- block by block ---------------------------------------------------------------------------


def running(block: int = 512, channels: int = 1, **params: Any) -> tuple[Chain, StageSettings]:
    settings = StageSettings(id="a", kind="echo", params=stage_kind("echo").complete({**PLAIN, **params}))
    return Chain(Setup(RATE, channels, block, 1), [settings]), settings


def loudest_of_ten_minutes(chain: Chain) -> list[float]:
    """Noise for a second, then nothing: the highest sample of each minute."""
    rng = np.random.default_rng(2)
    minutes = []
    for minute in range(10):
        loudest = 0.0
        for number in range(60 * RATE // 4096):
            block = 0.3 * rng.standard_normal((1, 4096)) if minute == 0 and number < 12 else np.zeros((1, 4096))
            chain.process(block)
            loudest = max(loudest, float(np.abs(block).max()))
        minutes.append(loudest)
    return minutes


def test_it_is_stable_for_ten_minutes_at_the_most_feedback() -> None:
    """Everything up, noise in for a second: after that it sings, held by the tape, and no louder in the last minute."""
    chain, _ = running(4096, tap1_time_ms=150.0, feedback_pct=110.0, tap2_on=True, tap1_level_db=6.0, level_db=0.0,
                       tap2_level_db=6.0, colour_pct=30.0, high_cut_hz=9000.0)
    minutes = loudest_of_ten_minutes(chain)
    assert np.all(np.isfinite(minutes))
    assert max(minutes) < 10.0
    assert minutes[-1] <= 1.05 * max(minutes[1:5])


def test_what_is_frozen_stays_as_it_is_and_nothing_new_comes_in() -> None:
    chain, settings = running(480, tap1_time_ms=100.0, feedback_pct=60.0)
    rng = np.random.default_rng(3)
    frozen = StageSettings(id="a", kind="echo", params={**settings.params, "freeze": True})
    turns = []
    for number in range(600):
        block = 0.2 * rng.standard_normal((1, 480)) if number < 100 else np.zeros((1, 480))
        if number == 60:
            chain.update([frozen])
        loud = block.copy()
        chain.process(block)
        if number in range(200, 210) or number in range(590, 600):
            turns.append(block - loud)
    first, last = (np.concatenate(part, axis=1) for part in (turns[:10], turns[10:]))
    assert np.abs(first).max() > 0.05
    assert np.abs(first - last).max() < 1e-9, "after forty turns it is the same to the bit's edge"


def test_a_tempo_change_does_not_click() -> None:
    chain, _ = running(256, tap1_note="1/8", feedback_pct=40.0)
    time = np.arange(2 * RATE) / RATE
    tone = 0.25 * np.sin(2.0 * np.pi * 500.0 * time)
    out = np.zeros(2 * RATE)
    for start in range(0, 2 * RATE - 255, 256):
        if start >= RATE:
            chain.follow_tempo(97.0)
        block = tone[None, start:start + 256].copy()
        chain.process(block)
        out[start:start + 256] = block[0]
    steps = np.abs(np.diff(out[RATE // 2:-512]))
    assert steps.max() < 3.0 * 0.25 * 2.0 * np.pi * 500.0 / RATE


# -- feedback through the whole path ----------------------------------------------------------

DRIVE = StageSettings(id="d", kind="drive", params=stage_kind("drive").complete({"drive_db": 18.0}))
TRIM = StageSettings(id="t", kind="trim", params=stage_kind("trim").defaults())


def path(stages: list[StageSettings], signal: Signal, *, block: int = 512, oversample: int = 2) -> Signal:
    return run_whole(Chain(Setup(RATE, signal.shape[0], block, oversample), stages), signal, block)


def tape_echo(**params: Any) -> StageSettings:
    return StageSettings(id="a", kind="echo", params=stage_kind("echo").complete({
        **PLAIN, "tap1_time_ms": 150.0, "feedback_pct": 70.0, "loop": "path", **params}))


def test_through_clean_stages_a_turn_is_as_inside(tmp_path: Path) -> None:
    rng = np.random.default_rng(5)
    burst = np.zeros((2, 2 * RATE))
    burst[:, :2000] = 0.2 * rng.standard_normal((2, 2000))
    inside = path([tape_echo(loop="inside")], burst)
    for stages in ([tape_echo()], [TRIM, tape_echo()], [tape_echo(), TRIM]):
        np.testing.assert_allclose(path(stages, burst), inside, atol=1e-12)
    written = process(tmp_path, burst, {"kind": "echo", "params": dict(tape_echo().params)})
    np.testing.assert_allclose(written, inside, atol=1e-6)


def test_each_turn_comes_exactly_in_time_whatever_the_stages_take() -> None:
    delay = StageSettings(id="d", kind="drive", params=stage_kind("drive").complete(stage_kind("drive").rest or {}))
    result = path([delay, tape_echo(direct=False)], click(), oversample=8)[0]
    peaks = [int(np.argmax(np.abs(result[start:start + 7200]))) + start - 1000 for start in (4000, 11200, 18400)]
    assert peaks == [7200, 14400, 21600]


@pytest.mark.parametrize("order", ["before", "behind"])
def test_the_other_stages_colour_every_turn(order: str) -> None:
    tone = np.zeros((1, 2 * RATE))
    time = np.arange(4800) / RATE
    tone[0, :4800] = 0.1 * np.sin(2.0 * np.pi * 400.0 * time) * np.hanning(4800)

    def third(stages: list[StageSettings], turn: int) -> float:
        out = path(stages, tone)[0, turn * 7200:turn * 7200 + 4800]
        spectrum = np.abs(np.fft.rfft(out * np.hanning(4800)))
        return float(decibels(spectrum[120] / spectrum[40]))

    def placed(echo: StageSettings) -> list[StageSettings]:
        return [DRIVE, echo] if order == "before" else [echo, DRIVE]

    around, inside = placed(tape_echo(feedback_pct=100.0)), placed(tape_echo(feedback_pct=100.0, loop="inside"))
    assert third(around, 1) == pytest.approx(third(inside, 1), abs=0.5), "the first turn has passed once"
    assert third(around, 3) > third(inside, 3) + 3.0
    assert third(around, 4) > third(around, 2)


@pytest.mark.parametrize("block", [37, 128, 700])
def test_blocks_do_not_matter(block: int) -> None:
    rng = np.random.default_rng(6)
    noise = 0.1 * rng.standard_normal((2, RATE))
    stages = [DRIVE, tape_echo(wow_pct=0.3), TRIM]
    np.testing.assert_allclose(path(stages, noise, block=block), path(stages, noise, block=512), atol=1e-9)


def test_it_never_runs_away_through_hot_stages() -> None:
    """Ten minutes through 48 dB of drive, at the most feedback."""
    hot = StageSettings(id="d", kind="drive", params=stage_kind("drive").complete({"drive_db": 48.0, "out_db": 0.0}))
    chain = Chain(Setup(RATE, 1, 4096, 1), [hot, tape_echo(feedback_pct=110.0, tap1_level_db=6.0, colour_pct=30.0)])
    minutes = loudest_of_ten_minutes(chain)
    assert np.all(np.isfinite(minutes))
    assert max(minutes) < 12.0
    assert minutes[-1] <= 1.05 * max(minutes[1:5])


def test_points_of_the_path_are_seen_whole() -> None:
    chain = Chain(Setup(RATE, 1, 512, 1), [tape_echo(), TRIM])
    rng = np.random.default_rng(7)
    block = 0.1 * rng.standard_normal((1, 500))
    source = block.copy()
    chain.keep_points(on=True)
    chain.process(block)
    np.testing.assert_array_equal(chain.at_point(0, 500), source)
    np.testing.assert_array_equal(chain.at_point(2, 500), block)
    assert np.abs(chain.at_point(1, 500)).max() > 0.0
