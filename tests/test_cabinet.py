"""Cabinets, microphones and impulse responses, through `yellow-ember process` and the real window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot
from scipy.signal import fftconvolve

from conftest import measured, said
from tones import RATE, Signal, decibels, process, write_chain
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.impulse_browser import ImpulseBrowser
from yellow_ember.cli import main
from yellow_ember.dsp.convolution import ConvolutionRecord, convolution_sizes, convolve_block, set_response
from yellow_ember.dsp.record import CompiledHalf, run_stage
from yellow_ember.dsp.speakers import SPEAKERS, levelled
from yellow_ember.session.edits.edits import add_stage, use_impulse
from yellow_ember.session.io.session_file import impulse_files, read_session, relocate, write_session
from yellow_ember.session.values.model import new_stage, session_from_audio

SMALL = ("megaphone", "telephone", "pocket-radio", "toy", "intercom", "paging-horn", "laptop", "television",
         "walkie-talkie", "gramophone-horn")


def cabinet(folder: Path, signal: Signal, *options: str, **params: Any) -> Signal:
    return process(folder, signal, {"kind": "cabinet", "params": params}, options=options)


def impulse(channels: int = 1, frames: int = RATE // 2) -> Signal:
    signal = np.zeros((channels, frames))
    signal[:, 0] = 1.0
    return signal


def response_db(out: Signal, hz: Signal) -> Signal:
    """Third-octave-like smoothed level at some frequencies."""
    power = np.abs(np.fft.rfft(out[0])) ** 2
    axis = np.fft.rfftfreq(out.shape[1], 1.0 / RATE)
    return np.array([10.0 * np.log10(power[(axis > f / 1.12) & (axis < f * 1.12)].mean() + 1e-20) for f in hz])


# -- convolution ----------------------------------------------------------------------------


@pytest.mark.parametrize(("seconds", "block"), [(0.003, 4096), (0.2, 256), (0.2, 977), (2.0, 512)])
def test_convolution_agrees_with_the_direct_one(seconds: float, block: int, tmp_path: Path,
                                                rng: np.random.Generator) -> None:
    taps = round(seconds * RATE)
    own = rng.standard_normal((2, taps)) * np.exp(-np.arange(taps) / (0.3 * taps))
    soundfile.write(tmp_path / "own.wav", own.T / 8.0, RATE, subtype="DOUBLE")
    signal = 0.1 * rng.standard_normal((2, RATE))
    out = cabinet(tmp_path, signal, "--block", str(block), ir="own.wav")
    requested = fftconvolve(signal, levelled(own / 8.0, RATE), axes=1)[:, :RATE]
    # Files of 32-bit floats carry no more than -145 dB.
    assert decibels(np.abs(out - requested).max() / np.abs(requested).max()) < -120.0


def test_convolution_in_its_own_precision(rng: np.random.Generator) -> None:
    response, signal = rng.standard_normal((1, 3000)), rng.standard_normal((1, 9000))
    record = ConvolutionRecord.make(channels=1, **convolution_sizes(3000))
    set_response(record, response)
    half = CompiledHalf(ConvolutionRecord, convolve_block)
    parts = [signal[:, start:start + 130].copy() for start in range(0, 9000, 130)]
    for part in parts:
        run_stage(half.address, record.address, part)
    requested = np.convolve(signal[0], response[0])[:9000]
    assert decibels(np.abs(np.concatenate(parts, axis=1)[0] - requested).max() / np.abs(requested).max()) < -200.0


def test_a_response_at_another_rate_sounds_the_same(tmp_path: Path) -> None:
    """A decaying 1 kHz ring, written at 48 and at 96 kHz: the same levels from 300 Hz to 3 kHz."""
    outs = []
    for rate in (48000, 96000):
        time = np.arange(round(0.1 * rate)) / rate
        ring = (time / 0.004) ** 2 * np.exp(-time / 0.004) * np.cos(2.0 * np.pi * 1000.0 * time) * 0.4
        soundfile.write(tmp_path / "ring.flac", ring, rate, subtype="PCM_24")
        outs.append(cabinet(tmp_path, impulse(), ir=str(tmp_path / "ring.flac")))
    hz = np.geomspace(300.0, 3000.0, 20)
    assert np.abs(response_db(outs[0], hz) - response_db(outs[1], hz)).max() < 0.1


# -- impulse responses that can't be used -----------------------------------------------------


@pytest.mark.parametrize(("name", "samples", "words"), [
    ("silent", np.zeros((1, 4800)), "is silent"),
    ("nan", np.where(np.arange(4800) == 7, np.nan, 0.1)[None, :], "1 samples that are no numbers"),
    ("wide", np.full((8, 4800), 0.1), "8 channels"),
    ("long", np.full((1, 11 * RATE), 0.1), "may last up to 10 s"),
    ("missing", None, "is not there"),
])
def test_bad_responses_are_refused(name: str, samples: Signal | None, words: str, tmp_path: Path,
                                   capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / f"{name}.wav"
    if samples is not None:
        soundfile.write(path, samples.T, RATE, subtype="FLOAT")
    soundfile.write(tmp_path / "in.wav", np.zeros(4800), RATE)
    chain = write_chain(tmp_path, {"kind": "cabinet", "params": {"ir": path.name}})
    assert main(["process", str(tmp_path / "in.wav"), str(tmp_path / "out.wav"), "--chain", str(chain)]) == 1
    told = capsys.readouterr().err.strip().splitlines()
    assert len(told) == 1
    assert words in told[0]
    assert path.name in told[0]
    assert not (tmp_path / "out.wav").exists()


def test_an_hour_is_refused_without_being_read(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with soundfile.SoundFile(tmp_path / "hour.flac", "w", 8000, 1) as file:
        for _ in range(60):
            file.write(np.zeros(8000 * 60))
    soundfile.write(tmp_path / "in.wav", np.zeros(4800), RATE)
    chain = write_chain(tmp_path, {"kind": "cabinet", "params": {"ir": "hour.flac"}})
    assert main(["process", str(tmp_path / "in.wav"), str(tmp_path / "out.wav"), "--chain", str(chain)]) == 1
    assert "60 minutes" in capsys.readouterr().err


# -- speakers and microphones ---------------------------------------------------------------


def test_there_are_enough_speakers_and_each_is_its_own(tmp_path: Path) -> None:
    assert len(SPEAKERS) >= 18
    assert set(SMALL) <= {speaker.id for speaker in SPEAKERS}
    hz = np.geomspace(60.0, 12000.0, 30)
    shapes = {speaker.id: response_db(cabinet(tmp_path, impulse(), speaker=speaker.id, near_far=0.0), hz)
              for speaker in SPEAKERS}
    for first, one in shapes.items():
        for second, other in shapes.items():
            if first < second:
                assert np.abs(one - other).max() > 2.0, f"{first} and {second}"
    for small in SMALL:
        # Small ones have no bass: 80 Hz lies at least 12 dB under the strongest third octave.
        assert shapes[small].max() - shapes[small][3] > 12.0, small
    for telephone in ("telephone", "walkie-talkie", "intercom"):
        assert shapes[telephone][-1] < shapes[telephone].max() - 20.0


def test_near_to_far_moves_level_delay_and_place_together(tmp_path: Path) -> None:
    params = {"near_pan": -80.0, "far_pan": 80.0, "near_distance_cm": 5.0, "far_distance_cm": 240.0}
    outs = [cabinet(tmp_path, impulse(2), near_far=share, **params) for share in (0.0, 50.0, 100.0)]

    def onset(row: Signal) -> int:
        return int(np.argmax(np.abs(row) > 0.2 * np.abs(row).max()))

    near, _between, far = outs
    assert near[0].std() > 3.0 * near[1].std()
    assert far[1].std() > 3.0 * far[0].std()
    requested = (2.40 - 0.05) / 343.0 * RATE
    assert onset(far[1]) - onset(near[0]) == pytest.approx(requested, abs=24)
    levels = [np.sqrt((out**2).sum()) for out in outs]
    assert levels[0] > levels[1] > levels[2], "a far microphone hears less"


def test_a_microphone_off_the_axis_and_far_away_is_darker(tmp_path: Path) -> None:
    hz = np.array([300.0, 5000.0])
    straight, turned = (np.diff(response_db(cabinet(tmp_path, impulse(), near_far=0.0, near_angle_deg=angle), hz))
                        for angle in (0.0, 60.0))
    assert straight - turned > 4.0
    close, away = (response_db(cabinet(tmp_path, impulse(), near_far=0.0, near_distance_cm=cm,
                                       near_type="ribbon"), np.array([80.0, 1000.0])) for cm in (2.0, 50.0))
    assert np.diff(away) - np.diff(close) > 4.0, "close to a ribbon the bass swells"


def test_break_up_grows_with_level_and_lives_in_the_lows(tmp_path: Path) -> None:
    def thirds(level_db: float, hz: float) -> float:
        tone = 10.0 ** (level_db / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(RATE) / RATE)[None, :]
        spectrum = np.abs(np.fft.rfft(cabinet(tmp_path, tone, breakup_pct=60.0, near_far=0.0)[0, RATE // 2:]))
        at = round(hz / 2.0)
        return float(decibels(spectrum[3 * at] / spectrum[at]))

    assert thirds(-6.0, 80.0) > thirds(-24.0, 80.0) + 12.0
    assert thirds(-6.0, 80.0) > thirds(-6.0, 2000.0) + 20.0


def test_amp_equaliser_and_cabinet_stand_in_any_order(tmp_path: Path, rng: np.random.Generator) -> None:
    signal = 0.1 * rng.standard_normal((1, RATE // 2))
    amp = {"kind": "amp", "params": {"gain": 7.0}}
    eq = {"kind": "eq", "params": {"band3_db": 9.0}}
    box = {"kind": "cabinet", "params": {"speaker": "2x12-open"}}
    outs = [process(tmp_path, signal, *order) for order in ((amp, eq, box), (box, amp, eq), (eq, box, amp))]
    for out in outs:
        assert np.all(np.isfinite(out))
        assert out.std() > 1e-3
    assert np.abs(outs[0] - outs[1]).max() > 1e-2, "the order is heard"


# -- sessions and the window ------------------------------------------------------------------


@pytest.fixture
def responses(make_audio: Callable[..., Path], tmp_path: Path) -> Path:
    """A folder with two usable responses, a bad one and a folder."""
    folder = tmp_path / "responses"
    (folder / "older").mkdir(parents=True)
    for name, corner in (("a-dull.wav", 0.02), ("b-bright.flac", 0.6)):
        soundfile.write(folder / name, 0.5 * (1.0 - corner) ** np.arange(2400), RATE)
    soundfile.write(folder / "c-silent.wav", np.zeros(4800), RATE)
    return folder


def test_sessions_hold_responses_by_relative_path_and_find_them_again(responses: Path, tmp_path: Path) -> None:
    soundfile.write(tmp_path / "voice.wav", np.zeros(4800), RATE)
    session = session_from_audio([tmp_path / "voice.wav"], RATE)
    strip, stage = session.strips[0].id, new_stage("cabinet")
    session = use_impulse(add_stage(session, strip, stage), strip, stage.id, responses / "a-dull.wav")
    write_session(session, tmp_path / "a.ember")
    assert '"responses/a-dull.wav"' in (tmp_path / "a.ember").read_text()
    assert read_session(tmp_path / "a.ember") == session
    (responses / "a-dull.wav").rename(responses / "older" / "a-dull.wav")
    assert not impulse_files(session)[0][2].is_file()
    assert impulse_files(relocate(session, responses))[0][2] == responses / "older" / "a-dull.wav"


def with_cabinet(window: MainWindow, qtbot: QtBot) -> None:
    window.workspace.selection.select("harmonium")
    window.path_view.add("cabinet")
    measured(qtbot, window)


def browser(window: MainWindow, folder: Path) -> ImpulseBrowser:
    window.bench.bar("ir").browsing.emit()
    result = window.findChildren(ImpulseBrowser)[-1]
    result.enter(folder)
    return result


def test_responses_are_heard_matched_kept_and_left(window: MainWindow, qtbot: QtBot, responses: Path) -> None:
    with_cabinet(window, qtbot)
    workspace = window.workspace
    start = workspace.sessions.session
    result = browser(window, responses)
    assert [result.list.item(row).text() for row in range(result.list.count())] == [
        "older/", "a-dull.wav", "b-bright.flac", "c-silent.wav"]
    result.list.setCurrentRow(0)
    qtbot.keyClick(result.list, Qt.Key.Key_Down)
    qtbot.waitUntil(lambda: result.heard is not None, timeout=40000)
    assert workspace.selection.strip.stage(workspace.selection.stage_id).params["ir"] == str(responses / "a-dull.wav")
    measured(qtbot, window)
    measurement = workspace.measurer.latest("harmonium")
    assert measurement.after.integrated_lufs + workspace.selection.strip.match_db == pytest.approx(
        measurement.before.integrated_lufs, abs=0.1)
    result.list.setCurrentRow(3)
    assert "is silent" in result.state.text()
    assert result.heard == str(responses / "a-dull.wav"), "what can't be used is not heard"
    qtbot.keyClick(result, Qt.Key.Key_Escape)
    assert workspace.selection.strip.chain == start.strip("harmonium").chain
    result = browser(window, responses)
    result.list.setCurrentRow(2)
    qtbot.waitUntil(lambda: result.heard is not None, timeout=40000)
    result.list.itemActivated.emit(result.list.item(2))
    assert workspace.sessions.document.undo_label == "Impulse response b-bright.flac"
    assert not window.bench.bar("near_type").isEnabled(), "both microphones rest"
    again = browser(window, responses)
    again.list.setCurrentRow(0)
    again.activate()
    assert again.where.text() == str(responses / "older")
    qtbot.keyClick(again, Qt.Key.Key_Left)
    assert again.where.text() == str(responses)
    again.use_none()
    assert workspace.selection.strip.stage(workspace.selection.stage_id).params["ir"] == ""


def test_a_bad_response_that_is_dropped_is_refused(window: MainWindow, qtbot: QtBot, responses: Path) -> None:
    with_cabinet(window, qtbot)
    bar = window.bench.bar("ir")
    bar.ask(str(responses / "c-silent.wav"), commit=True)
    assert "is silent" in said(window)
    assert bar.setting == ""


# -- boxes that are not alike, cones that only lose ---------------------------------------------


def test_no_two_boxes_for_guitar_or_bass_are_nearly_alike(tmp_path: Path) -> None:
    """In third octaves from 63 Hz to 12.5 kHz, each as loud as the other, at least 2.5 dB rms apart."""
    hz = 1000.0 * 2.0 ** (np.arange(-12, 12) / 3.0)
    axis = np.fft.rfftfreq(RATE // 2, 1.0 / RATE)
    shapes = {}
    for speaker in SPEAKERS:
        if speaker.id in SMALL:
            continue
        power = np.abs(np.fft.rfft(cabinet(tmp_path, impulse(), speaker=speaker.id, near_far=0.0)[0])) ** 2
        bands = [power[(axis > f * 2.0 ** (-1 / 6)) & (axis < f * 2.0 ** (1 / 6))].mean() for f in hz]
        shapes[speaker.id] = 10.0 * np.log10(bands)
    assert len(shapes) >= 14
    for first, one in shapes.items():
        for second, other in shapes.items():
            if first < second:
                assert np.std(one - other) > 2.5, f"{first} and {second}"


@pytest.mark.parametrize("speaker", ["1x8", "2x12-open", "4x12-closed", "bass-1x15"])
def test_a_cone_falls_steeply_above_its_top(speaker: str, tmp_path: Path) -> None:
    figures = next(each for each in SPEAKERS if each.id == speaker)
    assert 18.0 <= figures.slope <= 30.0
    out = cabinet(tmp_path, impulse(), speaker=speaker, near_far=0.0, near_type="condenser")
    levels = response_db(out, np.array([1.6, 3.2]) * figures.top)
    assert -36.0 < np.diff(levels)[0] < -14.0


@pytest.mark.parametrize("speaker", ["4x12-closed", "1x8", "toy", "walkie-talkie", "bass-8x10"])
def test_break_up_makes_nothing_at_parts_of_a_tone(speaker: str, tmp_path: Path) -> None:
    for hz in (60.0, 150.0, 400.0, 900.0):
        for breakup in (40.0, 100.0):
            tone = 10.0 ** (-1.0 / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(2 * RATE) / RATE)[None, :]
            out = cabinet(tmp_path, tone, speaker=speaker, breakup_pct=breakup, near_far=0.0)
            spectrum = np.abs(np.fft.rfft(out[0, RATE:] * np.kaiser(RATE, 20.0)))
            places = [round(hz * share) for share in (1 / 3, 1 / 2, 2 / 3, 3 / 2)]
            parts = [spectrum[at - 2:at + 3].max() for at in places]
            assert decibels(max(parts) / spectrum.max()) < -40.0, (hz, breakup)


def test_a_coil_that_is_driven_long_warms_and_gives_less(tmp_path: Path) -> None:
    tone = 0.5 * np.sin(2.0 * np.pi * 90.0 * np.arange(5 * RATE) / RATE)[None, :]
    out = cabinet(tmp_path, tone, breakup_pct=60.0, near_far=0.0)
    early, late = (np.sqrt(np.mean(out[0, at:at + RATE // 5] ** 2)) for at in (RATE // 5, 5 * RATE - RATE // 5))
    assert -3.0 < decibels(late / early) < -0.5
