"""Meters against their standards: EBU Tech 3341's signals as far as two channels go, IEC 60268-10; and their window.

Of Tech 3341 those are left out that need five channels (6) or recordings (7, 8, 11 and 14 as live versions of 10, 13).
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.meters import MetersTool
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.metering import LoudnessMeter, PeakProgrammeMeter
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.session_file import read_session, session_to_object, write_session
from yellow_ember.session.values.model import Session

RATE, BLOCK = 48000, 256


def tones(*parts: tuple[float | None, float]) -> Samples:
    """1 kHz in both channels, by level in dBFS (None for silence) and seconds, without a break in phase."""
    levels = np.concatenate([np.full(round(seconds * RATE), 0.0 if level is None else 10.0 ** (level / 20.0))
                             for level, seconds in parts])
    tone = levels * np.sin(2.0 * np.pi * 1000.0 * np.arange(levels.size) / RATE)
    return np.stack([tone, tone])


def live(sound: Samples) -> tuple[list[float], list[float], LoudnessMeter]:
    """Momentary and short-term readings along the way, every block, and the meter at the end."""
    meter, momentary, short = LoudnessMeter(RATE, 2), [], []
    for start in range(0, sound.shape[1], BLOCK):
        meter.process(np.ascontiguousarray(sound[:, start:start + BLOCK]))
        momentary.append(meter.momentary)
        short.append(meter.short_term)
    return momentary, short, meter


@pytest.mark.parametrize("level", [-23.0, -33.0])
def test_cases_1_and_2(level: float) -> None:
    momentary, short, meter = live(tones((level, 20.0)))
    assert momentary[-1] == pytest.approx(level, abs=0.1)
    assert short[-1] == pytest.approx(level, abs=0.1)
    assert meter.integrated == pytest.approx(level, abs=0.1)


@pytest.mark.parametrize("parts", [
    [(-36.0, 10.0), (-23.0, 60.0), (-36.0, 10.0)],
    [(-72.0, 10.0), (-36.0, 10.0), (-23.0, 60.0), (-36.0, 10.0), (-72.0, 10.0)],
    [(-26.0, 20.0), (-20.0, 20.1), (-26.0, 20.0)]], ids=["3", "4", "5"])
def test_cases_3_to_5(parts: list[tuple[float, float]]) -> None:
    sound = tones(*parts)
    assert live(sound)[2].integrated == pytest.approx(-23.0, abs=0.1)
    assert loudness(sound, RATE).integrated_lufs == pytest.approx(-23.0, abs=0.1)


def test_case_9() -> None:
    short = live(tones(*[(-20.0, 1.34), (-30.0, 1.66)] * 5))[1]
    settled = np.array(short[round(3.05 * RATE / BLOCK):])
    assert np.abs(settled + 23.0).max() <= 0.1


@pytest.mark.parametrize("number", [0, 1, 7, 13, 19])
def test_case_10(number: int) -> None:
    short = live(tones((None, number * 0.15), (-23.0, 3.0), (None, 1.0)))[1]
    assert max(short) == pytest.approx(-23.0, abs=0.1)


def test_case_12() -> None:
    momentary = live(tones(*[(-20.0, 0.18), (-30.0, 0.22)] * 25))[0]
    settled = np.array(momentary[round(1.0 * RATE / BLOCK):])
    assert np.abs(settled + 23.0).max() <= 0.1


@pytest.mark.parametrize("number", [0, 1, 6, 12, 19])
def test_case_13(number: int) -> None:
    momentary = live(tones((None, number * 0.02), (-23.0, 0.4), (None, 1.0)))[0]
    assert max(momentary) == pytest.approx(-23.0, abs=0.1)


@pytest.mark.parametrize(("divided", "degrees", "amplitude", "requested"), [
    (4, 0.0, 0.5, -6.0), (4, 45.0, 0.5, -6.0), (6, 60.0, 0.5, -6.0), (8, 67.5, 0.5, -6.0), (4, 45.0, 1.41, 3.0)],
    ids=["15", "16", "17", "18", "19"])
def test_cases_15_to_19(divided: int, degrees: float, amplitude: float, requested: float) -> None:
    phase = 2.0 * np.pi * np.arange(RATE) / divided + np.radians(degrees)
    # It begins and ends softly: a step would have peaks of its own.
    tone = amplitude * np.sin(phase) * np.minimum(1.0, np.minimum(np.arange(RATE), RATE - np.arange(RATE)) / 2000.0)
    meter = live(np.stack([tone, tone]))[2]
    result = 20.0 * np.log10(float(meter.highest.max()))
    assert requested - 0.4 <= result <= requested + 0.2


@pytest.mark.parametrize("offset", [0, 1, 2, 3], ids=["20", "21", "22", "23"])
def test_cases_20_to_23(offset: int) -> None:
    """At four times the rate, one half-wave at full level in a tone at half of it; then every fourth sample."""
    hz, rate = RATE / 6.0, 4 * RATE
    time = np.arange(rate) / rate
    tone = 0.5 * np.sin(2.0 * np.pi * hz * time)
    half = round(rate / hz / 2.0)
    start = (rate // 2 // (2 * half)) * 2 * half
    tone[start:start + half] *= 2.0
    spectrum = np.fft.rfft(tone)
    spectrum[np.fft.rfftfreq(rate, 1.0 / rate) > 0.46 * RATE] = 0.0
    band_limited = np.fft.irfft(spectrum, rate)
    requested = 20.0 * np.log10(np.abs(band_limited).max())
    sampled = band_limited[offset::4]
    result = 20.0 * np.log10(float(live(np.stack([sampled, sampled]))[2].highest.max()))
    assert requested - 0.4 <= result <= requested + 0.2


@pytest.mark.parametrize(("milliseconds", "requested", "within"), [
    (1000.0, 0.0, 0.1), (10.0, -1.0, 0.5), (5.0, -2.0, 1.0), (3.0, -4.0, 1.0), (0.4, -15.0, 4.0)])
def test_peak_programme_bursts(milliseconds: float, requested: float, within: float) -> None:
    """IEC 60268-10, table for type I: 5 kHz bursts against a steady tone."""
    meter, frames = PeakProgrammeMeter(RATE, 1), round(milliseconds * RATE / 1000.0)
    tone = np.zeros((1, 2 * RATE))
    tone[0, :frames] = np.sin(2.0 * np.pi * 5000.0 * np.arange(frames) / RATE)
    most = 0.0
    for start in range(0, 2 * RATE, 16):
        meter.process(np.ascontiguousarray(tone[:, start:start + 16]))
        most = max(most, float(meter.reading[0]))
    assert 20.0 * np.log10(most) == pytest.approx(requested, abs=within)


def test_peak_programme_falls_20_db_in_a_second_and_a_half() -> None:
    meter = PeakProgrammeMeter(RATE, 1)
    meter.process(np.ones((1, RATE)))
    before = float(meter.reading[0])
    meter.process(np.zeros((1, round(1.5 * RATE))))
    assert 20.0 * np.log10(float(meter.reading[0]) / before) == pytest.approx(-20.0, abs=0.1)


def test_readings_begin_anew(rng: np.random.Generator) -> None:
    meter = live(tones((-10.0, 5.0)))[2]
    meter.reset()
    assert meter.integrated == meter.momentary == -np.inf
    assert float(meter.highest.max()) == 0.0
    for _ in range(200):
        meter.process(np.zeros((2, BLOCK)))
    assert meter.integrated == -np.inf


def test_sessions_hold_zones(demo: Session, tmp_path: Path) -> None:
    session = demo.with_strip(demo.master.with_(zone_lufs=(-24.5, -22.0)))
    write_session(session, tmp_path / "a.ember")
    assert read_session(tmp_path / "a.ember") == session
    for zone, words in (([-20.0, -24.0], "zone_lufs: must go up"), ([-20.0], "must be two numbers"),
                        ([-99.0, -20.0], r"zone_lufs\[0\]: must lie between")):
        result = session_to_object(session, tmp_path)
        result["strips"][-1]["zone_lufs"] = zone
        (tmp_path / "b.ember").write_text(json.dumps(result))
        with pytest.raises(SessionFileError, match=words):
            read_session(tmp_path / "b.ember")


def test_the_window_shows_both_and_the_zone(window: MainWindow, qtbot: Any) -> None:
    workspace = window.workspace
    workspace.selection.select("upright-bass")
    meters = workspace.tools.open(MetersTool)
    assert meters.master.words("Integrated") == "\u2013"
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: meters.strip.words("Integrated").endswith("LUFS"), timeout=30000)
    qtbot.waitUntil(lambda: meters.strip.words("Short-term").endswith("LUFS"), timeout=30000)
    assert meters.strip.words("True peak").endswith("dBTP")
    assert "Upright bass" in meters.strip.accessibleName()
    assert meters.strip.in_zone() is None
    meters.wants_zone.click()
    assert workspace.selection.strip.zone_lufs == (-26.0, -20.0)
    meters.ends["high"].ask(-50.0, commit=True)
    assert workspace.selection.strip.zone_lufs == (-50.5, -50.0)
    assert workspace.sessions.document.undo_label == "Loudness zone"
    qtbot.waitUntil(lambda: meters.strip.in_zone() is False, timeout=30000)
    meters.ends["high"].ask(0.0, commit=True)
    qtbot.waitUntil(lambda: meters.strip.in_zone() is True, timeout=30000)
    meters.wants_zone.click()
    assert workspace.selection.strip.zone_lufs is None
    meters.close()
