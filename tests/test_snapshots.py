"""Snapshots: taken, recalled, told apart in words, kept in sessions; in the window at equal loudness."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtGui import QHelpEvent
from PyQt6.QtWidgets import QMenu

from conftest import measured
from yellow_ember.app.main_window import MainWindow
from yellow_ember.session.edits.differences import snapshot_words, stage_words
from yellow_ember.session.edits.edits import (
    add_stage,
    edit_stage,
    edit_strip,
    move_stage,
    remove_stage,
    remove_strip,
    replace_stage,
    set_parameter,
)
from yellow_ember.session.edits.snapshot_edits import (
    edit_snapshot,
    find_snapshot,
    is_now,
    owner_of,
    recall,
    take_snapshot,
)
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.session_file import read_session, session_to_object, write_session
from yellow_ember.session.values.model import Session, new_stage
from yellow_ember.session.values.snapshots import Snapshot, copy_stage

BASS = "upright-bass"


@pytest.fixture
def session(demo: Session) -> Session:
    """A drive and an equaliser on the bass, and a snapshot of that."""
    demo = add_stage(add_stage(demo, BASS, new_stage("drive")), BASS, new_stage("eq"))
    return take_snapshot(demo, "strip", BASS, 0)


def snapshot(session: Session, scope: str, owner: str, index: int) -> Snapshot:
    """The snapshot that is there."""
    result = find_snapshot(session, scope, owner, index)
    assert result is not None
    return result


def edited(session: Session, name: str, value: Any) -> Session:
    return set_parameter(session, BASS, session.strip(BASS).chain[0].id, name, value)


def words(session: Session, first: int, second: int, scope: str = "strip", owner: str = BASS) -> list[str]:
    old, new = (snapshot(session, scope, owner, index) for index in (first, second))
    return snapshot_words(old, new, {strip.id: strip.name for strip in session.strips})


def test_a_snapshot_brings_back_what_was(session: Session) -> None:
    first = snapshot(session, "strip", BASS, 0)
    changed = edit_strip(edited(session, "drive_db", 30.0), BASS, lambda strip: strip.with_(volume_db=-20.0))
    assert is_now(session, first)
    assert not is_now(changed, first)
    back = recall(changed, first)
    assert back.strip(BASS).chain == session.strip(BASS).chain
    assert back.strip(BASS).volume_db == -20.0, "a strip's snapshot leaves its fader"
    assert back.snapshots == changed.snapshots


def test_a_bus_with_its_tracks_and_the_session(session: Session) -> None:
    assert owner_of(session, "bus", BASS) == "rhythm"
    assert owner_of(session, "bus", "rhythm") == "rhythm"
    assert owner_of(session, "session", BASS) == ""
    session = take_snapshot(take_snapshot(session, "bus", "rhythm", 2), "session", "", 7)
    bus = snapshot(session, "bus", "rhythm", 2)
    assert {state.strip_id for state in bus.states} == {"rhythm", "brushed-drums", BASS}
    changed = edited(edit_strip(session, "brushed-drums", lambda strip: strip.with_(volume_db=-30.0)), "drive_db", 1.0)
    assert recall(changed, bus).with_(snapshots=()) == session.with_(snapshots=())
    everything = snapshot(session, "session", "", 7)
    assert recall(changed, everything).with_(snapshots=()) == session.with_(snapshots=())
    gone = remove_strip(session, "brushed-drums")
    assert find_snapshot(gone, "bus", "rhythm", 2) is not None
    recall(gone, bus)
    assert find_snapshot(remove_strip(session, "rhythm"), "bus", "rhythm", 2) is None


def test_differences_are_told_in_words(session: Session) -> None:
    changed = edited(edited(session, "drive_db", 16.5), "tone_hz", 3000.0)
    changed = edited(changed, "shape", "triode")
    eq = changed.strip(BASS).chain[1]
    changed = edit_stage(changed, BASS, eq.id, lambda stage: replace_stage(stage, on=False, mix_pct=60.0))
    changed = take_snapshot(changed, "strip", BASS, 1)
    assert words(changed, 0, 1) == ["Saturation: shape Soft clip to Triode, drive +4.5 dB, tone open to 3.00 kHz; "
                                    "Equaliser: bypassed, mix \u221240 %"]
    assert words(changed, 1, 0) == ["Saturation: shape Triode to Soft clip, drive \u22124.5 dB, tone 3.00 kHz to open; "
                                    "Equaliser: switched on, mix +40 %"]
    other = add_stage(remove_stage(changed, BASS, eq.id), BASS, new_stage("tape"))
    assert words(take_snapshot(other, "strip", BASS, 2), 1, 2) == ["without Equaliser; with Tape machine"]
    swapped = take_snapshot(move_stage(session, BASS, eq.id, 0), "strip", BASS, 3)
    assert words(swapped, 0, 3) == ["stages in another order"]
    assert words(session, 0, 0) == []
    bus = take_snapshot(session, "bus", "rhythm", 0)
    louder = edit_strip(edited(bus, "drive_db", 13.0), "rhythm", lambda strip: strip.with_(volume_db=1.5, bypass=True))
    assert words(take_snapshot(louder, "bus", "rhythm", 1), 0, 1, "bus", "rhythm") == [
        "Rhythm: path bypassed; volume +1.5 dB", "Upright bass: Saturation: drive +1.0 dB"]


def test_values_of_every_kind_have_words() -> None:
    stage = new_stage("tape")
    changed = replace_stage(stage, params={**stage.params, "hiss": True, "record_db": (2.0, 3.0), "gap_um": 4.0})
    assert stage_words(stage, changed)[0].startswith("record level")
    assert any(word == "hiss on" for word in stage_words(stage, changed))


def test_one_stage_is_copied_from_one_to_another(session: Session) -> None:
    changed = take_snapshot(edited(session, "drive_db", 30.0), "strip", BASS, 1)
    eq = changed.strip(BASS).chain[1].id
    changed = take_snapshot(remove_stage(changed, BASS, eq), "strip", BASS, 2)
    first, second, third = (snapshot(changed, "strip", BASS, index) for index in range(3))
    drive = second.states[0].chain[0].id
    into = copy_stage(second, first, BASS, drive)
    assert into.states[0].chain[0].params["drive_db"] == 30.0
    assert into.states[0].chain[1] == first.states[0].chain[1]
    assert [stage.kind for stage in copy_stage(first, third, BASS, eq).states[0].chain] == ["drive", "eq"]
    with pytest.raises(KeyError):
        copy_stage(third, first, BASS, eq)


def test_sessions_hold_snapshots(session: Session, tmp_path: Path) -> None:
    first = snapshot(session, "strip", BASS, 0)
    session = edit_snapshot(session, first, lambda old: replace(old, name="Verse", note="Calmer."))
    session = take_snapshot(take_snapshot(session, "bus", "rhythm", 4), "session", "", 1)
    assert snapshot(take_snapshot(session, "strip", BASS, 0), "strip", BASS, 0).name == "Verse"
    write_session(session, tmp_path / "a.ember")
    assert read_session(tmp_path / "a.ember") == session
    for change, told in (({"owner": "nobody"}, r"snapshots\[0\]\.owner: 'nobody' is no strip"),
                         ({"place": 8}, r"snapshots\[0\]\.place: must lie between 0 and 7"),
                         ({"scope": "room"}, r"snapshots\[0\]\.scope: must be one of strip, bus, session"),
                         ({"states": [{"strip": BASS, "chain": [{"kind": "lamp"}]}]},
                          r"snapshots\[0\]\.states\[0\]\.chain\[0\]\.kind")):
        result = session_to_object(session, tmp_path)
        result["snapshots"][0] |= change
        (tmp_path / "b.ember").write_text(json.dumps(result))
        with pytest.raises(SessionFileError, match=told):
            read_session(tmp_path / "b.ember")
    result = session_to_object(session, tmp_path) | {"version": 3}
    del result["snapshots"]
    (tmp_path / "old.ember").write_text(json.dumps(result))
    assert read_session(tmp_path / "old.ember").snapshots == ()


# -- in the window ----------------------------------------------------------------------------


def pick(menu: QMenu, *texts: str) -> None:
    for text in texts[:-1]:
        below = next(action for action in menu.actions() if action.text() == text).menu()
        assert below is not None
        menu = below
    next(action for action in menu.actions() if action.text() == texts[-1]).trigger()


def test_snapshots_are_taken_and_heard_at_equal_loudness(window: MainWindow, qtbot: Any) -> None:
    workspace, row = window.workspace, window.balance.snapshots
    workspace.selection.select(BASS)
    window.path_view.add("drive")
    measured(qtbot, window)
    row.buttons[0].click()
    window.bench.bar("drive_db").ask(36.0, commit=True)
    measured(qtbot, window)
    hot_match = workspace.selection.strip.match_db
    row.buttons[1].click()
    assert row.buttons[1].isChecked()
    assert not row.buttons[0].isChecked()
    row.buttons[0].click()
    assert workspace.selection.strip.chain[0].params["drive_db"] == 12.0
    assert workspace.measurer.fresh(BASS), "what was measured before need not be measured again"
    first = workspace.measurer.latest(BASS)
    assert first.after.integrated_lufs + workspace.selection.strip.match_db == pytest.approx(
        first.before.integrated_lufs, abs=0.1)
    assert "drive \u221224.0 dB" in workspace.messages.all[-1].text
    assert workspace.sessions.document.undo_label == "Snapshot 1"
    row.use(1)
    assert workspace.selection.strip.match_db == pytest.approx(hot_match, abs=0.05)
    window.undo()
    assert workspace.selection.strip.chain[0].params["drive_db"] == 12.0
    workspace.selection.select("harmonium")
    assert not any(button.isChecked() for button in row.buttons)


def test_a_snapshot_of_one_strip_moves_no_linked_one(window: MainWindow) -> None:
    from yellow_ember.session.edits.link_edits import link_strips

    workspace, row = window.workspace, window.balance.snapshots
    workspace.selection.choose_only(BASS)
    workspace.selection.choose_also("brushed-drums")
    window.path_view.add("drive")
    workspace.sessions.document.commit("Link", lambda _: link_strips(workspace.sessions.session,
                                                                     workspace.selection.chosen))
    workspace.selection.choose_only(BASS)
    row.take(0)
    window.bench.bar("drive_db").ask(30.0, commit=True)
    drums = workspace.sessions.session.strip("brushed-drums")
    assert drums.chain[0].params["drive_db"] == 30.0
    row.use(0)
    assert workspace.selection.strip.chain[0].params["drive_db"] == 12.0
    assert workspace.sessions.session.strip("brushed-drums") == drums


def test_names_notes_and_single_stages(window: MainWindow, monkeypatch: pytest.MonkeyPatch) -> None:
    workspace, row = window.workspace, window.balance.snapshots
    workspace.selection.select(BASS)
    for kind in ("drive", "bits"):
        window.path_view.add(kind)
    row.take(0)
    workspace.selection.select(BASS, workspace.selection.strip.chain[0].id)
    window.bench.bar("drive_db").ask(30.0, commit=True)
    workspace.selection.select(BASS, workspace.selection.strip.chain[1].id)
    window.bench.bar("bits").ask(5.0, commit=True)
    row.take(1)
    answers = iter((("Chorus", True), ("Louder than the verse.", True)))
    monkeypatch.setattr("yellow_ember.app.panels.snapshot_row.QInputDialog.getText", lambda *_a, **_k: next(answers))
    pick(row.menu(1), "Name\u2026")
    pick(row.menu(1), "Note\u2026")
    assert row.snapshot(1).title == "Chorus"
    row.use(0)
    point = row.buttons[1].rect().center()
    row.buttons[1].event(QHelpEvent(QHelpEvent.Type.ToolTip, point, row.buttons[1].mapToGlobal(point)))
    tip = row.buttons[1].toolTip()
    assert "Louder than the verse." in tip
    assert "drive +18.0 dB" in tip
    pick(row.menu(1), "Apply a stage", "Saturation")
    assert workspace.selection.strip.chain[0].params["drive_db"] == 30.0
    assert workspace.selection.strip.chain[1].params["bits"] != 5.0
    pick(row.menu(1), "Copy a stage to", "Snapshot 1", "Bit reduction")
    assert row.snapshot(0).states[0].chain[1].params["bits"] == 5.0
    pick(row.menu(1), "Clear")
    assert row.snapshot(1) is None


def test_the_whole_session_goes_back_and_forth(window: MainWindow) -> None:
    workspace, row = window.workspace, window.balance.snapshots
    row.scope.setCurrentIndex(2)
    row.take(0)
    for strip_id in (BASS, "harmonium"):
        workspace.selection.choose_only(strip_id)
        window.path_view.add("tape")
    row.take(1)
    row.use(0)
    assert not any(strip.chain for strip in workspace.sessions.session.strips)
    row.use(1)
    assert [strip.id for strip in workspace.sessions.session.strips if strip.chain] == [BASS, "harmonium"]
