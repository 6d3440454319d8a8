"""The spread of all strips, and how it is leaned from there; matching one stage; a match without a jump."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt

from conftest import measured
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.spread import Spread, leaning, middle_hz
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.measuring import capture_strip, mix_offset, stage_offset
from yellow_ember.engine.strip import MATCH_SECONDS
from yellow_ember.files.reading import AudioFileError
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.edits.edits import add_stage, edit_strip, set_parameter
from yellow_ember.session.values.model import MASTER, Loop, Session, new_stage

BASS, DRUMS, RATE = "upright-bass", "brushed-drums", 48000


def test_what_leans_a_strip(demo: Session) -> None:
    assert leaning(demo.strip(BASS)) is None
    assert leaning(add_stage(demo, BASS, new_stage("comp")).strip(BASS)) is None
    taped = add_stage(add_stage(demo, BASS, new_stage("eq")), BASS, new_stage("tape")).strip(BASS)
    assert leaning(taped) == (taped.chain[1], "lean_db")


@pytest.fixture
def spread(window: MainWindow, qtbot: Any) -> Spread:
    """A drive on drums and bass, both measured."""
    workspace = window.workspace
    session = workspace.sessions.session.with_(loop=Loop(10 * RATE, 12 * RATE))
    for strip_id in (DRUMS, BASS):
        session = add_stage(session, strip_id, new_stage("drive"))
    workspace.sessions.document.commit("Drives", lambda _: session)
    workspace.selection.select(BASS)
    measured(qtbot, window)
    result = workspace.tools.open(Spread)
    qtbot.waitUntil(lambda: len(result.picture.lines) == 2, timeout=60000)
    return result


def test_strips_stand_side_by_side_and_are_leaned(window: MainWindow, spread: Spread, qtbot: Any) -> None:
    workspace, picture = window.workspace, spread.picture
    places = {strip_id: middle_hz(result) for strip_id, _, _, result in picture.lines}
    assert places[DRUMS] > 3.0 * places[BASS]
    assert picture.mark_at(DRUMS).x() > picture.mark_at(BASS).x()
    assert "added" in picture.accessibleDescription()
    at = picture.mark_at(BASS).toPoint()
    qtbot.mousePress(picture, Qt.MouseButton.LeftButton, pos=at)
    qtbot.mouseMove(picture, at - QPoint(0, 40))
    qtbot.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=at - QPoint(0, 40))
    drive = workspace.sessions.session.strip(BASS).chain[0]
    assert drive.params["lean_db"] == pytest.approx(2.0, abs=0.3)
    assert workspace.sessions.document.undo_label == "Lean of Upright bass"
    measured(qtbot, window)
    leaned = {strip_id: middle_hz(result) for strip_id, _, _, result in picture.lines}
    assert abs(leaned[BASS] - places[BASS]) > 1.0, "the mark has moved with what is added"
    spread.bars[DRUMS].ask(-6.0, commit=True)
    assert workspace.sessions.session.strip(DRUMS).chain[0].params["lean_db"] == -6.0
    spread.view.setCurrentIndex(1)
    assert picture.view == 1
    assert not picture.grab().isNull()
    window.undo()
    assert workspace.sessions.session.strip(DRUMS).chain[0].params["lean_db"] == 0.0
    workspace.sessions.document.commit("Empty", lambda session: edit_strip(session, DRUMS,
                                                                           lambda strip: strip.with_(chain=())))
    assert [strip_id for strip_id, *_ in picture.lines] == [BASS]
    spread.close()


def test_a_measured_match_is_no_jump(demo: Session) -> None:
    session = add_stage(demo, BASS, new_stage("trim")).with_(loop=Loop(0, 0, False))

    def heard(change: Session) -> np.ndarray:
        graph = Graph(session, GraphSettings(1, 480, frozenset({BASS})))
        flat = Graph(session, GraphSettings(1, 480, frozenset({BASS})))
        gains = []
        for number in range(120):
            if number == 40:
                graph.update(change)
            at = 20 * RATE + 480 * number
            one, other = graph.process([(at, 480)], 480)[0], flat.process([(at, 480)], 480)[0]
            gains.append(float(np.sqrt(np.mean(one**2) / max(np.mean(other**2), 1e-30))))
        return 20.0 * np.log10(np.array(gains[10:]))

    slow = heard(edit_strip(session, BASS, lambda strip: strip.with_(match_db=-12.0)))
    assert slow[-1] == pytest.approx(-12.0, abs=0.01)
    assert np.abs(np.diff(slow)).max() < 12.0 / (MATCH_SECONDS * 100.0) * 3.0, "never more than a decibel in 10 ms"
    stage = session.strip(BASS).chain[0]
    both = set_parameter(session, BASS, stage.id, "gain_db", 12.0)
    together = heard(edit_strip(both, BASS, lambda strip: strip.with_(match_db=-12.0)))
    # Both glide for some hundredths of a second, not quite in step.
    assert np.abs(together).max() < 5.0
    assert np.count_nonzero(np.abs(together) > 0.5) <= 4, "a match that comes with its change keeps the level"


def test_one_stage_is_matched_alone(window: MainWindow, qtbot: Any) -> None:
    workspace = window.workspace
    workspace.sessions.document.commit("Loop", lambda _: workspace.sessions.session.with_(loop=Loop(10 * RATE,
                                                                                                    12 * RATE)))
    workspace.selection.select(BASS)
    for kind in ("trim", "drive"):
        window.path_view.add(kind)
    trim, drive = workspace.selection.strip.chain
    workspace.sessions.document.commit("Trim", lambda _: set_parameter(workspace.sessions.session, BASS, trim.id,
                                                                       "gain_db", -9.0))
    workspace.selection.select(BASS, drive.id)
    window.path_view.match_chosen()
    qtbot.waitUntil(lambda: workspace.sessions.document.undo_label == "Match Saturation", timeout=60000)
    assert workspace.selection.strip.chain[0].wet_db == 0.0
    assert stage_offset(lambda _share: None, workspace.sessions.session, BASS, drive.id) == pytest.approx(0.0, abs=0.1)
    window.undo()
    assert workspace.selection.strip.chain[1].wet_db == 0.0


@pytest.mark.parametrize("mutes", [(), ("harmonium", "plucked-guitar", "ships-announcer")])
def test_the_mix_is_as_loud_with_a_chain_as_without(mutes: tuple[str, ...], demo: Session) -> None:
    session = add_stage(demo, BASS, new_stage("drive")).with_(loop=Loop(10 * RATE, 12 * RATE))
    session = set_parameter(session, BASS, session.strip(BASS).chain[0].id, "drive_db", 24.0)
    for strip_id in mutes:
        session = edit_strip(session, strip_id, lambda strip: strip.with_(mute=True))

    def loud(**changes: Any) -> float:
        heard = edit_strip(session, BASS, lambda strip: strip.with_(**changes))
        return loudness(capture_strip(quiet, heard, MASTER, as_heard=True).after, RATE).integrated_lufs

    offset = mix_offset(quiet, session, BASS)
    assert loud(match_db=offset) == pytest.approx(loud(bypass=True), abs=0.1)
    silent = edit_strip(session, BASS, lambda strip: strip.with_(mute=True))
    with pytest.raises(AudioFileError, match="not heard in the mix"):
        mix_offset(quiet, silent, BASS)


def quiet(_share: float) -> None:
    """No progress is shown."""


def test_the_strip_is_matched_in_the_mix_from_the_panel(window: MainWindow, qtbot: Any) -> None:
    workspace = window.workspace
    workspace.sessions.document.commit("Loop", lambda _: workspace.sessions.session.with_(loop=Loop(10 * RATE,
                                                                                                    12 * RATE)))
    workspace.selection.select(BASS)
    window.path_view.add("drive")
    measured(qtbot, window)
    window.balance.mix_button.click()
    qtbot.waitUntil(lambda: workspace.sessions.document.undo_label == "Match Upright bass in the mix", timeout=60000)
    assert not window.balance.lock.isChecked()
    assert not workspace.settings.match_lock
