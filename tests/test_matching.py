"""As loud after as before, on every strip: wherever one looks meanwhile, however the sound was changed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtWidgets import QMessageBox

from conftest import DRY_DEMO
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.matcher import MatchState
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.workspace import Workspace
from yellow_ember.engine.jobs.measuring import measure_strip
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.edits.edits import add_macro, add_stage, edit_strip, set_parameter, use_chain
from yellow_ember.session.edits.link_edits import link_strips
from yellow_ember.session.io.presets import find_preset
from yellow_ember.session.values.macros import Target
from yellow_ember.session.values.model import Loop, Session, new_stage

TRACKS = ("brushed-drums", "upright-bass", "harmonium", "plucked-guitar", "ships-announcer")


def quiet(_share: float) -> None:
    return


def off_by(session: Session, strip_id: str) -> float:
    """How much louder after is than before, in LU."""
    result = measure_strip(quiet, session, strip_id)
    return session.strip(strip_id).match_db - result.offset_db


def settle(window: MainWindow, qtbot: Any, seconds: float = 60.0) -> None:
    """Wait until no strip is out of match any more."""
    measurer = window.workspace.measurer
    qtbot.waitUntil(lambda: not measurer.busy and not window.workspace.matcher.busy and all(
        window.workspace.matcher.state(strip) is not MatchState.WAITING
        for strip in window.workspace.sessions.session.strips),
        timeout=round(1000 * seconds))


def hear(record: Path, qtbot: Any, seconds: float) -> None:
    """Wait until the card got so much more sound."""
    enough = record.stat().st_size + 8 * 48000 * seconds
    qtbot.waitUntil(lambda: record.stat().st_size >= enough, timeout=60000)


def plain(window: MainWindow) -> None:
    """The demo without any chain."""
    session = window.workspace.sessions.session
    for strip in session.strips:
        session = use_chain(session, strip.id, ())
    window.workspace.sessions.document.commit("Plain", lambda _: session)


def add_drive(window: MainWindow, *strip_ids: str) -> None:
    session = window.workspace.sessions.session
    for strip_id in strip_ids:
        stage = new_stage("drive")
        session = add_stage(session, strip_id, stage)
        session = set_parameter(session, strip_id, stage.id, "drive_db", 0.0)
    window.workspace.sessions.document.commit("Drive", lambda _: session)


def test_a_strip_left_at_once_is_matched_all_the_same(window: MainWindow, qtbot: Any) -> None:
    plain(window)
    workspace = window.workspace
    add_drive(window, "upright-bass")
    settle(window, qtbot)
    workspace.selection.select("upright-bass")
    window.bench.bar("drive_db").ask(36.0, commit=True)
    workspace.selection.select("harmonium")
    qtbot.waitUntil(lambda: workspace.matcher.state(
        workspace.sessions.session.strip("upright-bass")) is MatchState.MATCHED, timeout=10000)
    assert abs(off_by(workspace.sessions.session, "upright-bass")) < 0.1


def test_all_that_are_chosen_or_linked_are_matched(window: MainWindow, qtbot: Any) -> None:
    plain(window)
    workspace = window.workspace
    add_drive(window, *TRACKS)
    workspace.sessions.document.commit("Link", lambda _: link_strips(workspace.sessions.session, TRACKS[:3]))
    settle(window, qtbot)
    workspace.selection.select(TRACKS[0])
    window.bench.bar("drive_db").ask(30.0, commit=True)
    workspace.selection.choose_only(TRACKS[3])
    workspace.selection.choose_also_next(TRACKS[4])
    window.bench.bar("drive_db").ask(24.0, commit=True)
    workspace.selection.choose_only("band")
    settle(window, qtbot)
    for strip_id in TRACKS:
        assert abs(off_by(workspace.sessions.session, strip_id)) < 0.1, strip_id


@pytest.mark.parametrize("way", ["preset", "undo", "snapshot", "macro", "bus before"])
def test_every_way_of_changing_a_sound_is_matched(way: str, window: MainWindow, qtbot: Any) -> None:
    plain(window)
    workspace, strip_id = window.workspace, "harmonium"
    document = workspace.sessions.document
    add_drive(window, strip_id)
    stage_id = workspace.sessions.session.strip(strip_id).chain[0].id
    settle(window, qtbot)
    workspace.selection.select(strip_id)
    changed = strip_id
    if way == "preset":
        preset = find_preset("Keel weight")
        document.commit("Preset", lambda _: use_chain(workspace.sessions.session, strip_id, preset.stages,
                                                      preset.macros, 0.0))
    elif way == "undo":
        document.commit("Drive", lambda _: set_parameter(workspace.sessions.session, strip_id, stage_id, "drive_db",
                                                         30.0))
        settle(window, qtbot)
        document.undo()
    elif way == "snapshot":
        window.balance.snapshots.take(0)
        document.commit("Drive", lambda _: set_parameter(workspace.sessions.session, strip_id, stage_id, "drive_db",
                                                         30.0))
        settle(window, qtbot)
        window.balance.snapshots.use(0)
    elif way == "macro":
        session = add_macro(workspace.sessions.session, strip_id, "Push", (Target(stage_id, "drive_db", 0.0, 40.0),))
        document.commit("Macro", lambda _: session)
        from yellow_ember.session.edits.edits import set_macro

        document.commit("Push", lambda _: set_macro(workspace.sessions.session, strip_id,
                                          workspace.sessions.session.strip(strip_id).macros[0].id, 80.0))
    else:
        changed = "band"
        document.commit("Drive", lambda _: add_stage(workspace.sessions.session, changed, new_stage("drive")))
        settle(window, qtbot)
        document.commit("Volume", lambda session: edit_strip(
            session, strip_id, lambda strip: strip.with_(volume_db=9.0)))
    workspace.selection.select("voice")
    settle(window, qtbot)
    assert abs(off_by(workspace.sessions.session, changed)) < 0.1


def test_opening_changes_no_match_and_no_lock_means_none(open_window: Callable[..., MainWindow], qtbot: Any,
                                                        tmp_path: Path) -> None:
    window = open_window()
    workspace = window.workspace
    add_drive(window, "harmonium")
    settle(window, qtbot)
    workspace.settings.match_lock = False
    workspace.sessions.document.commit("Match", lambda _: edit_strip(
        workspace.sessions.session, "harmonium", lambda strip: strip.with_(match_db=-7.0)))
    assert workspace.sessions.save(tmp_path / "a.ember", workspace.selection.strip_id)
    workspace.settings.match_lock = True
    workspace.sessions.open_path(tmp_path / "a.ember")
    workspace.selection.select("harmonium")
    qtbot.wait(2500)
    workspace.settings.match_lock = False
    stage_id = workspace.sessions.session.strip("harmonium").chain[0].id
    kept = workspace.sessions.session.strip("harmonium").match_db
    workspace.sessions.document.commit("Drive", lambda session: set_parameter(session, "harmonium", stage_id,
                                                                              "drive_db", 30.0))
    qtbot.wait(1500)
    assert workspace.sessions.session.strip("harmonium").match_db == kept


def test_what_cannot_be_matched_says_why_on_the_desk(window: MainWindow, qtbot: Any) -> None:
    plain(window)
    workspace = window.workspace
    workspace.sessions.document.commit("Bus", lambda _: add_stage(edit_strip(
        workspace.sessions.session, "ships-announcer", lambda strip: strip.with_(out="master")), "voice",
        new_stage("drive")))
    qtbot.waitUntil(lambda: workspace.matcher.state(
        workspace.sessions.session.strip("voice")) is MatchState.FAILED, timeout=10000)
    assert "be matched: it is silent in the loop" in window.desk.rows["voice"].toolTip()


def test_a_strip_out_of_match_says_so_until_it_is_matched(window: MainWindow, qtbot: Any) -> None:
    plain(window)
    workspace = window.workspace
    settle(window, qtbot)
    add_drive(window, "harmonium")
    row = window.desk.rows["harmonium"]
    assert "waits to be matched" in row.toolTip()
    settle(window, qtbot)
    assert "matched" not in row.toolTip()
    assert workspace.selection.strip_id != "harmonium"


@pytest.mark.parametrize("strip_id", ["brushed-drums", "band"])
@pytest.mark.parametrize(("kind", "name", "low", "high"), [
    ("drive", "drive_db", 0.0, 36.0), ("tape", "record_db", 0.0, 12.0), ("amp", "gain", 2.0, 9.0),
    ("bands", "drive_db", 0.0, 24.0)])
def test_a_moving_drive_is_taken_back_at_once(kind: str, name: str, low: float, high: float, strip_id: str,
                                             window: MainWindow, qtbot: Any) -> None:
    plain(window)
    workspace = window.workspace
    stage = new_stage(kind)
    session = add_stage(workspace.sessions.session, strip_id, stage)
    workspace.sessions.document.commit("Add", lambda _: set_parameter(session, strip_id, stage.id, name, low))
    workspace.selection.select(strip_id)
    settle(window, qtbot)
    bar = window.bench.bar(name)
    shown: list[Session] = []
    for value in np.linspace(low, high, 7)[1:]:
        bar.ask(float(value), commit=False)
        shown.append(workspace.sessions.session)
    bar.commit()
    assert max(abs(off_by(session, strip_id)) for session in shown[1::2]) < 3.0


def test_a_moving_macro_and_the_path_take_back_as_well(window: MainWindow, qtbot: Any) -> None:
    plain(window)
    workspace, strip_id = window.workspace, "plucked-guitar"
    add_drive(window, strip_id)
    stage_id = workspace.sessions.session.strip(strip_id).chain[0].id
    workspace.sessions.document.commit("Macro", lambda _: add_macro(
        workspace.sessions.session, strip_id, "Push", (Target(stage_id, "drive_db", 0.0, 36.0),)))
    workspace.selection.select(strip_id)
    settle(window, qtbot)
    push = window.bench.macros.bars[workspace.selection.strip.macros[0].id]
    push.ask(100.0, commit=False)
    assert abs(off_by(workspace.sessions.session, strip_id)) < 3.0
    push.commit()
    settle(window, qtbot)
    window.path_view.drive(-20.0)
    assert abs(off_by(workspace.sessions.session, strip_id)) < 3.0


def test_in_the_mix_right_after_the_stage(window: MainWindow, qtbot: Any) -> None:
    plain(window)
    workspace = window.workspace
    add_drive(window, "upright-bass")
    stage_id = workspace.sessions.session.strip("upright-bass").chain[0].id
    workspace.settings.match_lock = False
    workspace.sessions.document.commit("Drive", lambda session: set_parameter(
        session, "upright-bass", stage_id, "drive_db", 40.0))
    workspace.selection.select("upright-bass")
    matches = window.path_view._matches
    matches.match_stage("upright-bass", stage_id)
    qtbot.waitUntil(lambda: workspace.sessions.document.undo_label == "Match Saturation", timeout=20000)
    matches.match_in_mix("upright-bass")
    qtbot.waitUntil(lambda: "in the mix" in (workspace.sessions.document.undo_label or ""), timeout=30000)


def test_what_is_heard_stays_as_loud(qapp: Any, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """On the card: a bass driven from 0 to 36 dB while it plays, another strip clicked at once, links and all."""
    record = tmp_path / "card.raw"
    window = MainWindow(Workspace(Settings(background_printing=False), record))
    workspace = window.workspace
    try:
        window.show()
        workspace.start()
        workspace.sessions.open_path(DRY_DEMO)
        qtbot.waitUntil(lambda: workspace.playback.engine is not None and not workspace.imports.busy, timeout=60000)
        add_drive(window, "upright-bass")
        workspace.sessions.document.commit("Solo", lambda _: edit_strip(
            workspace.sessions.session, "upright-bass", lambda strip: strip.with_(solo=True)).with_(loop=Loop(480000,
                                                                                                              600000)))
        workspace.selection.select("upright-bass")
        settle(window, qtbot)
        workspace.playback.toggle_play()
        qtbot.waitUntil(lambda: workspace.playback.state.playing, timeout=10000)
        hear(record, qtbot, 5.5)
        bar = window.bench.bar("drive_db")
        for value in np.linspace(0.0, 36.0, 12):
            bar.ask(float(value), commit=False)
            qtbot.wait(20)
        bar.commit()
        moved = record.stat().st_size
        workspace.selection.select("harmonium")
        settle(window, qtbot)
        hear(record, qtbot, 6.5)
    finally:
        monkeypatch.setattr(QMessageBox, "question", lambda *_: QMessageBox.StandardButton.Discard)
        window.close()
        window.deleteLater()
    sound = np.fromfile(record, np.float32).reshape(-1, 2).T.astype(np.float64)
    at, turn = moved // 8, 120000
    before = loudness(sound[:, at - 20000 - 2 * turn:at - 20000], 48000.0)
    during = loudness(sound[:, at:at + turn], 48000.0)
    after = loudness(sound[:, -2 * turn:], 48000.0)
    assert abs(during.integrated_lufs - before.integrated_lufs) < 3.0
    assert abs(after.integrated_lufs - before.integrated_lufs) < 0.3
