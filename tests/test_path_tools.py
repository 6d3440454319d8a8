"""The path's tools: solo, level into the zone, a long path, and what the balance proposes."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from yellow_ember.app.main_window import MainWindow
from yellow_ember.dsp.arrays import gain
from yellow_ember.dsp.stages import STAGES
from yellow_ember.engine.jobs.zone_levels import into_the_zone, loop_vu, zone_levels
from yellow_ember.session.edits.edits import add_stage, use_chain
from yellow_ember.session.edits.remedies import WHERE, remedy
from yellow_ember.session.edits.zone_edits import levels_into
from yellow_ember.session.values.model import Loop, Session, new_stage, session_from_audio

RATE = 48000


def silent(_share: float) -> None:
    """Progress that nobody looks at."""


@pytest.fixture
def hot(tmp_path: Path) -> Session:
    """A mastered song, as far as its level goes: noise at -15 LUFS or so, into a tape."""
    noise = np.random.default_rng(5).standard_normal((2 * RATE, 2))
    soundfile.write(tmp_path / "song.wav", 0.2 * noise, RATE, subtype="FLOAT")
    session = session_from_audio([tmp_path / "song.wav"], RATE)
    session = session.with_(loop=Loop(0, 2 * RATE))
    return use_chain(session, session.strips[0].id, (new_stage("tape"),))


def trims(session: Session) -> list[tuple[str, float]]:
    return [(stage.kind, float(stage.params.get("gain_db", 0.0))) for stage in session.strips[0].chain]  # type: ignore[arg-type]


# -- level into the zone ----------------------------------------------------------------------


def test_the_needle_reads_a_sine_as_its_level() -> None:
    time = np.arange(RATE) / RATE
    for level_db in (-30.0, -18.0, -6.0):
        sine = gain(level_db) * np.sin(2.0 * np.pi * 440.0 * time)[None, :]
        assert loop_vu(sine, RATE, -18.0) == pytest.approx(level_db + 18.0, abs=0.05)
    rests = np.concatenate([sine, np.zeros_like(sine), np.zeros_like(sine)], axis=1)
    assert loop_vu(rests, RATE, -18.0) == pytest.approx(12.0, abs=0.1), "rests don't count"
    assert loop_vu(np.zeros((2, RATE)), RATE, -18.0) == -np.inf


@pytest.mark.parametrize(("level", "by"), [(0.0, 0.0), (6.0, 0.0), (11.0, -6.5), (-20.0, 11.5), (-np.inf, 0.0)])
def test_a_level_moves_into_the_zone_and_no_further(level: float, by: float) -> None:
    assert into_the_zone(level, (-10.0, 6.0)) == by


@pytest.mark.parametrize("louder_db", [-40.0, -20.0, 0.0, 6.0])
def test_one_press_sets_the_level_and_takes_it_back(hot: Session, louder_db: float, tmp_path: Path) -> None:
    sound, _ = soundfile.read(tmp_path / "song.wav")
    soundfile.write(tmp_path / "song.wav", sound * gain(louder_db), RATE, subtype="FLOAT")
    strip = hot.strips[0]
    moves = zone_levels(silent, hot, strip.id, [strip.chain[0].id])
    before = loop_vu(sound.T * gain(louder_db), RATE, hot.reference_dbfs)
    low, high = strip.chain[0].declaration.comfort_db
    if low <= before <= high:
        assert moves == {}
        return
    session = levels_into(hot, strip.id, moves)
    (_, front), (kind, _), (_, back) = trims(session)
    assert kind == "tape"
    assert front == -back
    assert low <= before + front <= high
    again = zone_levels(silent, session, strip.id, [strip.chain[0].id])
    assert again == {}, "a second press has nothing to do"


def test_a_trim_that_is_there_is_moved(hot: Session) -> None:
    strip = hot.strips[0]
    session = use_chain(hot, strip.id, (new_stage("trim"), new_stage("tape"), new_stage("drive")))
    chain = session.strips[0].chain
    session = levels_into(session, strip.id, {chain[1].id: -6.0, chain[2].id: -4.0})
    assert trims(session) == [("trim", -6.0), ("tape", 0.0), ("trim", 2.0), ("drive", 0.0), ("trim", 4.0)]
    # Where a trim's range ends both stop.
    session = levels_into(session, strip.id, {chain[1].id: -30.0})
    assert trims(session)[0] == ("trim", -24.0)
    assert trims(session)[2] == ("trim", 20.0)
    assert levels_into(session, strip.id, {"gone": 3.0}) == session


def test_level_into_the_zone_in_the_window(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("upright-bass")
    trim = new_stage("trim")
    loud = replace(trim, params={**trim.params, "gain_db": 24.0})
    workspace.sessions.document.commit("a", lambda session: use_chain(
        session, "upright-bass", (loud, new_stage("eq"), new_stage("drive"))))
    chain = workspace.selection.strip.chain
    workspace.selection.select("upright-bass", chain[2].id)
    window.path_view.setFocus()
    qtbot.keyClick(window.path_view, Qt.Key.Key_Z)
    qtbot.waitUntil(lambda: not workspace.messages.all[-1].text.startswith("Measuring"), timeout=120000)
    assert workspace.messages.all[-1].text.startswith(("Level into the zone: \u2212", "Level into the zone: -",
                                                       "The level lies"))


# -- solo -------------------------------------------------------------------------------------


def test_a_stage_is_heard_alone_and_nothing_is_changed(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select("upright-bass")
    for kind in ("eq", "drive", "tame"):
        window.path_view.add(kind)
    committed, steps = workspace.sessions.document.committed, workspace.sessions.document.position
    chain = workspace.selection.strip.chain
    workspace.selection.select("upright-bass", chain[1].id)
    qtbot.keyClick(window.path_view, Qt.Key.Key_S)
    assert [stage.on for stage in workspace.selection.strip.chain] == [False, True, False]
    assert window.path_view.soloed == chain[1].id
    assert workspace.sessions.document.committed is committed
    qtbot.keyClick(window.path_view, Qt.Key.Key_S)
    assert [stage.on for stage in workspace.selection.strip.chain] == [True, True, True]
    qtbot.keyClick(window.path_view, Qt.Key.Key_S)
    workspace.selection.select("harmonium")
    assert window.path_view.soloed == ""
    assert [stage.on for stage in workspace.sessions.session.strip("upright-bass").chain] == [True, True, True]
    assert workspace.sessions.document.position == steps


# -- a long path ------------------------------------------------------------------------------


def test_a_long_path_keeps_its_stages_wide_and_the_chosen_one_in_sight(window: MainWindow, qtbot: QtBot) -> None:
    workspace, view = window.workspace, window.path_view
    workspace.selection.select("upright-bass")
    for _ in range(14):
        workspace.sessions.document.commit("t", lambda session: add_stage(session, "upright-bass", new_stage("trim")))
    chain = workspace.selection.strip.chain
    for index in (13, 0, 7):
        workspace.selection.select("upright-bass", chain[index].id)
        columns = view.columns()
        assert min(column.width() for column in columns) >= 100.0
        assert columns[index].left() >= 30.0
        assert columns[index].right() <= view.width()
        assert view.plus().right() <= view.width()
    assert not view.grab().isNull()


# -- what the balance proposes ----------------------------------------------------------------


@pytest.mark.parametrize("kind", STAGES, ids=lambda kind: kind.kind)
@pytest.mark.parametrize("what", list(WHERE))
def test_what_is_proposed_can_be_done(kind: object, what: str, hot: Session) -> None:
    strip_id = hot.strips[0].id
    session = use_chain(hot, strip_id, (new_stage(kind.kind),))  # type: ignore[attr-defined]
    proposal = remedy(session.strips[0].chain, what)
    done = proposal.apply(session, strip_id)
    assert done != session
    # Done again and again it comes to an end in another proposal, never in one that does nothing.
    for _ in range(12):
        proposal = remedy(done.strips[0].chain, what)
        after = proposal.apply(done, strip_id)
        assert after != done, proposal.words
        done = after
        if len(done.strips[0].chain) > 4:
            break


def test_the_warning_has_a_button(window: MainWindow) -> None:
    workspace, balance = window.workspace, window.balance
    workspace.selection.select("upright-bass")
    window.path_view.add("drive")
    balance._remedy = remedy(workspace.selection.strip.chain, "boom")
    balance.remedy_button.click()
    assert workspace.selection.strip.chain[0].params["clean_lows_hz"] == 110.0
    assert workspace.sessions.document.undo_label == "Raise Clean lows of Saturation"
