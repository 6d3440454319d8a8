"""Where it is added: kinds of what is added, each stage's share, crowded regions and what helps; on all panels."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from conftest import measured
from yellow_ember.app.main_window import MainWindow
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.stages import STAGES
from yellow_ember.engine.jobs.dissecting import dissect_strip
from yellow_ember.measure.anatomy import PROBE_HZ, Anatomy, anatomy
from yellow_ember.measure.comparison import compare
from yellow_ember.measure.crowding import crowding
from yellow_ember.session.edits.edits import add_stage, edit_stage, replace_stage, set_parameter
from yellow_ember.session.edits.remedies import remedy
from yellow_ember.session.values.model import Loop, Session, new_stage

RATE, STRIP = 48000, "upright-bass"
TIME = np.arange(RATE) / RATE


def quiet(_share: float) -> None:
    """No progress is shown."""


def probed(system: Any, noise: Samples | None = None) -> Anatomy:
    silence = np.zeros((1, RATE)) if noise is None else noise
    return anatomy([(hz, system(0.1 * np.sin(2.0 * np.pi * hz * TIME))[None] + silence) for hz in PROBE_HZ],
                   silence, RATE)


def partial(number: int, level_db: float) -> Any:
    """Adds one harmonic at a level against the tone."""
    def system(x: Samples) -> Samples:
        phase = np.unwrap(np.angle(np.fft.ifft(np.fft.fft(x) * (np.fft.fftfreq(x.size) > 0) * 2)))
        return x + 10.0 ** (level_db / 20.0) * 0.1 * np.cos(number * phase)
    return system


def test_harmonics_are_told_apart() -> None:
    for level in (-20.0, -45.0, -70.0):
        odd, even = probed(partial(3, level)), probed(partial(2, level))
        assert odd.odd_db == pytest.approx(level, abs=0.5)
        assert odd.even_db < level - 40.0
        assert even.even_db == pytest.approx(level, abs=0.5)
        assert even.odd_db < level - 40.0
        assert max(odd.motion_db, even.motion_db) < -100.0
        assert odd.noise_db == -np.inf


def test_noise_is_no_distortion_and_moving_pitch_is_neither(rng: np.random.Generator) -> None:
    noise = rng.standard_normal((1, RATE))
    noise *= 10.0 ** (-43.0 / 20.0) * 0.1 / np.sqrt(2.0) / noise.std()
    hissing = probed(lambda x: x, noise)
    assert hissing.noise_db == pytest.approx(-43.0, abs=0.3)
    assert max(hissing.odd_db, hissing.even_db, hissing.motion_db) < -55.0

    def wavering(x: Samples) -> Samples:
        return np.interp(TIME + 2e-5 * np.sin(2.0 * np.pi * 6.0 * TIME), TIME, x)

    moved = probed(wavering)
    assert moved.motion_db > -30.0
    assert max(moved.odd_db, moved.even_db) < moved.motion_db - 15.0


@pytest.mark.parametrize(("kind", "params", "name"), [
    ("drive", {"drive_db": 12.0}, "odd_db"), ("drive", {"drive_db": 12.0, "asymmetry_pct": 60.0}, "even_db"),
    ("motion", {"flutter_pct": 0.3}, "motion_db"), ("tape", {"hiss": True}, "noise_db"),
    ("drive", {"shape": "rectify", "drive_db": 12.0}, "even_db")])
def test_stages_show_what_they_are(kind: str, params: dict[str, Any], name: str, demo: Session) -> None:
    stage = new_stage(kind)
    stage = replace_stage(stage, params=stage.declaration.complete(params))
    session = add_stage(demo, STRIP, stage).with_(loop=Loop(10 * RATE, 11 * RATE))
    result = dissect_strip(quiet, session, STRIP)
    kinds = {key: getattr(result.kinds, key) for key in ("odd_db", "even_db", "noise_db", "motion_db")}
    assert max(kinds, key=lambda key: kinds[key]) == name
    assert set(result.stages) == {stage.id}


def test_each_stage_adds_its_own(demo: Session) -> None:
    session = demo.with_(loop=Loop(10 * RATE, 12 * RATE))
    for kind in ("eq", "drive", "trim", "bits"):
        session = add_stage(session, STRIP, new_stage(kind))
    eq, drive, trim, bits = session.strip(STRIP).chain
    session = set_parameter(session, STRIP, eq.id, "high_cut_hz", 2000.0)
    session = set_parameter(session, STRIP, drive.id, "drive_db", 24.0)
    session = edit_stage(session, STRIP, bits.id, lambda stage: replace_stage(stage, on=False))
    result = dissect_strip(quiet, session, STRIP).stages
    assert set(result) == {eq.id, drive.id, trim.id}, "bypassed ones add nothing"
    assert result[eq.id] < -90.0
    assert result[trim.id] < -90.0
    assert -30.0 < result[drive.id] < -3.0


def band(rng: np.random.Generator, low: float, high: float) -> Samples:
    """Two seconds of pink noise in a band, at -20 dB."""
    spectrum = np.fft.rfft(rng.standard_normal(2 * RATE))
    hz = np.fft.rfftfreq(2 * RATE, 1.0 / RATE)
    sound = np.fft.irfft(spectrum * ((hz >= low) & (hz < high)) / np.sqrt(np.maximum(hz, 20.0)))[None]
    return 0.1 * sound / sound.std()


@pytest.mark.parametrize(("what", "low", "high"), [("boom", 30.0, 110.0), ("crowd", 2200.0, 4500.0),
                                                   ("hiss", 9000.0, 15000.0)])
def test_crowded_regions_are_named(what: str, low: float, high: float, rng: np.random.Generator) -> None:
    source = band(rng, 20.0, 18000.0)
    assert crowding(compare(source, source + 0.2 * band(rng, 20.0, 18000.0), RATE, loop=True)) == []
    result = crowding(compare(source, source + 0.5 * band(rng, low, high), RATE, loop=True))
    assert [one.what for one in result] == [what]
    assert result[0].more_db > 6.0
    assert crowding(compare(source, source + 0.001 * band(rng, low, high), RATE, loop=True)) == [], "too little to hear"


@pytest.mark.parametrize("kind", STAGES, ids=lambda kind: kind.kind)
def test_there_is_always_something_that_helps(kind: Any) -> None:
    for what in ("boom", "crowd", "hiss"):
        words = remedy((new_stage(kind.kind),), what).words
        assert words.startswith("add ") or kind.label in words


def test_the_nonlinear_stage_is_named_first() -> None:
    chain = (new_stage("eq"), new_stage("drive"))
    assert remedy(chain, "boom").words == "raise Clean lows of Saturation"
    assert remedy((new_stage("eq"),), "boom").words == "raise Low cut of Equaliser"
    hissing = new_stage("tape")
    hissing = replace_stage(hissing, params={**hissing.params, "hiss": True})
    assert remedy((hissing,), "hiss").words == "switch Hiss of Tape machine off"


# -- in the window ----------------------------------------------------------------------------


def test_panel_path_and_desk_show_it(window: MainWindow, qtbot: Any) -> None:
    workspace = window.workspace
    workspace.sessions.document.commit("Loop", lambda _: workspace.sessions.session.with_(loop=Loop(10 * RATE,
                                                                                                    12 * RATE)))
    workspace.sessions.document.commit("Drive", lambda _: add_stage(workspace.sessions.session, "brushed-drums",
                                                                    new_stage("drive")))
    workspace.selection.select(STRIP)
    window.path_view.add("drive")
    measured(qtbot, window)
    qtbot.waitUntil(lambda: workspace.dissector.of(STRIP) is not None, timeout=60000)
    assert "odd \u2212" in window.balance.kinds.accessibleDescription()
    assert "short-term at most \u2212" in window.balance.numbers["Loudness after"].toolTip()
    assert workspace.selection.strip.chain[0].id in workspace.dissector.of(STRIP).stages
    # What is not chosen is measured while nothing else is to be done.
    qtbot.waitUntil(lambda: workspace.measurer.fresh("brushed-drums"), timeout=60000)
    result = workspace.measurer.latest("brushed-drums")
    assert workspace.sessions.session.strip("brushed-drums").match_db == pytest.approx(result.offset_db, abs=0.02)
    known = workspace.dissector.of(STRIP)
    window.bench.bar("drive_db").ask(30.0, commit=True)
    assert workspace.dissector.of(STRIP) is None
    window.undo()
    assert workspace.dissector.of(STRIP) is known, "what comes back need not be taken apart again"


def test_a_warning_names_the_control_that_helps(window: MainWindow, qtbot: Any) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    window.path_view.add("tape")
    stage = workspace.selection.strip.chain[0]
    for name, value in (("hiss", True), ("hiss_db", 20.0)):
        workspace.sessions.document.commit(name, lambda _: set_parameter(workspace.sessions.session, "harmonium",
                                                                         stage.id, name, value))
    measured(qtbot, window)
    assert window.balance.warning.isVisible()
    assert window.balance.warning.text() == (
        "What was added would hiss above 8 kHz: switch Hiss of Tape machine off")
    workspace.sessions.document.commit("hiss", lambda _: set_parameter(workspace.sessions.session, "harmonium",
                                                                       stage.id, "hiss", False))
    measured(qtbot, window)
    assert not window.balance.warning.isVisible()
