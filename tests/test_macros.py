"""Macros: one control that moves several parameters; in sessions, presets and the window."""

from __future__ import annotations

import dataclasses
import json
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtWidgets import QMenu
from pytestqt.qtbot import QtBot

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.macro_editor import MacroEditor
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.session.edits.edits import (
    add_macro,
    add_stage,
    edit_macro,
    edit_macros,
    move_stage,
    remove_stage,
    set_macro,
    set_parameter,
    use_chain,
)
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.presets import Preset, read_preset, write_preset
from yellow_ember.session.io.session_file import read_session, session_to_object, write_session
from yellow_ember.session.values.macros import MAX_MACROS, Bend, Target
from yellow_ember.session.values.model import Session, new_stage

STRIP = "harmonium"


@pytest.fixture
def session(demo: Session) -> Session:
    """A drive and an equaliser, with one macro that drives harder and darker."""
    drive, eq = new_stage("drive"), new_stage("eq")
    session = add_stage(add_stage(demo, STRIP, drive), STRIP, eq)
    return add_macro(session, STRIP, "Furnace", (
        Target(drive.id, "drive_db", 6.0, 30.0), Target(drive.id, "out_db", -2.0, -14.0, Bend.LATE),
        Target(eq.id, "high_cut_hz", 20000.0, 2000.0, Bend.EARLY)))


def values(session: Session) -> tuple[Any, Any, Any]:
    drive, eq = session.strip(STRIP).chain
    return drive.params["drive_db"], drive.params["out_db"], eq.params["high_cut_hz"]


def move(session: Session, percent: float) -> Session:
    return set_macro(session, STRIP, session.strip(STRIP).macros[0].id, percent)


def test_a_macro_moves_all_over_their_ranges_and_curves(session: Session) -> None:
    assert values(move(session, 0.0)) == pytest.approx((6.0, -2.0, 20000.0))
    assert values(move(session, 100.0)) == pytest.approx((30.0, -14.0, 2000.0))
    half = values(move(session, 50.0))
    assert half[0] == pytest.approx(18.0)
    assert half[1] == pytest.approx(-2.0 - 12.0 * 0.25)
    assert half[2] == pytest.approx(20000.0 * 0.1**0.75, rel=0.01), "frequencies move by ear, early most of the way"
    assert values(move(session, 250.0)) == values(move(session, 100.0))


def test_a_macro_lets_go_of_what_is_removed_and_follows_what_moves(session: Session) -> None:
    drive, eq = session.strip(STRIP).chain
    moved = move_stage(session, STRIP, eq.id, 0)
    assert move(moved, 100.0).strip(STRIP).stage(drive.id).params["drive_db"] == 30.0
    left = remove_stage(session, STRIP, drive.id)
    assert [target.stage for target in left.strip(STRIP).macros[0].targets] == [eq.id]
    assert move(left, 100.0).strip(STRIP).chain[0].params["high_cut_hz"] == pytest.approx(2000.0)


def test_what_was_moved_by_hand_since_stays_when_other_macros_come_and_go(session: Session) -> None:
    drive, eq = session.strip(STRIP).chain
    session = set_parameter(move(session, 50.0), STRIP, drive.id, "drive_db", 9.0)
    more = add_macro(session, STRIP, "Lamp", (Target(eq.id, "low_cut_hz", 40.0, 200.0),))
    assert values(more) == values(session)
    assert more.strip(STRIP).chain[1].params["low_cut_hz"] == 40.0
    renamed = edit_macro(more, STRIP, more.strip(STRIP).macros[0].id,
                         lambda macro: dataclasses.replace(macro, name="Kiln"))
    assert values(renamed) == values(session)
    put = edit_macro(renamed, STRIP, renamed.strip(STRIP).macros[0].id,
                     lambda macro: macro.with_target(Target(drive.id, "asymmetry_pct", 0.0, 80.0)))
    assert values(put) == values(session)
    assert put.strip(STRIP).chain[0].params["asymmetry_pct"] == pytest.approx(40.0), "a new target goes to its place"
    gone = edit_macros(put, STRIP, put.strip(STRIP).macros[:1])
    assert values(gone) == values(session)


def test_a_strip_holds_eight(session: Session) -> None:
    for number in range(2, MAX_MACROS + 1):
        session = add_macro(session, STRIP, f"{number}")
    with pytest.raises(ValueError, match="has 8 macros"):
        add_macro(session, STRIP, "one too many")


def test_sessions_and_presets_hold_macros(session: Session, tmp_path: Path) -> None:
    session = move(session, 40.0)
    write_session(session, tmp_path / "a.ember")
    assert read_session(tmp_path / "a.ember") == session
    strip = session.strip(STRIP)
    write_preset(Preset("Furnace", "keys", "destroy", "Hot.", strip.chain, strip.macros), tmp_path / "p.json")
    preset = read_preset(tmp_path / "p.json")
    other = use_chain(session, "upright-bass", preset.stages, preset.macros)
    bass = other.strip("upright-bass")
    assert {target.stage for target in bass.macros[0].targets} == {stage.id for stage in bass.chain}
    assert bass.macros[0].value == 40.0
    turned = set_macro(other, "upright-bass", bass.macros[0].id, 100.0)
    assert turned.strip("upright-bass").chain[0].params["drive_db"] == 30.0
    assert turned.strip(STRIP) == session.strip(STRIP)


@pytest.mark.parametrize(("change", "words"), [
    ({"stage": 7}, r"macros\[0\]\.targets\[0\]\.stage: must lie between 0 and 1"),
    ({"parameter": "shape"}, r"macros\[0\]\.targets\[0\]\.parameter: drive has no number 'shape'"),
    ({"low": 99.0}, r"macros\[0\]\.targets\[0\]\.low: must lie between 0 and 48"),
    ({"curve": "wild"}, r"macros\[0\]\.targets\[0\]\.curve: must be one of straight, late, early"),
])
def test_odd_macros_are_named(change: dict[str, Any], words: str, session: Session, tmp_path: Path) -> None:
    result = session_to_object(session, tmp_path)
    strip = next(strip for strip in result["strips"] if strip["id"] == STRIP)
    strip["macros"][0]["targets"][0] |= change
    (tmp_path / "a.ember").write_text(json.dumps(result))
    with pytest.raises(SessionFileError, match=words):
        read_session(tmp_path / "a.ember")


def test_sessions_of_the_version_before_open(session: Session, tmp_path: Path) -> None:
    result = session_to_object(session, tmp_path)
    result["version"] = 1
    for strip in result["strips"]:
        del strip["macros"]
    (tmp_path / "old.ember").write_text(json.dumps(result))
    assert read_session(tmp_path / "old.ember").strip(STRIP).macros == ()


# -- in the window ----------------------------------------------------------------------------


def test_a_macro_is_made_from_a_control_and_turned(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select(STRIP)
    assert window.bench.macros.isHidden()
    window.path_view.add("drive")
    menu = QMenu()
    window.bench.bar("drive_db").menu_opening.emit(menu)
    next(action for action in menu.actions() if action.text() == "Add to a new macro").trigger()
    macro = workspace.selection.strip.macros[0]
    assert macro.name == "Drive, macro 1"
    bar = window.bench.macros.bars[macro.id]
    assert not window.bench.macros.isHidden()
    bar.ask(100.0, commit=True)
    assert workspace.selection.strip.chain[0].params["drive_db"] == 48.0
    assert window.bench.bar("drive_db").setting == 48.0
    assert workspace.sessions.document.undo_label == macro.name
    window.undo()
    assert workspace.selection.strip.chain[0].params["drive_db"] == 12.0
    assert window.bench.macros.bars[macro.id].setting == 0.0
    menu = QMenu()
    window.bench.bar("drive_db").menu_opening.emit(menu)
    words = {action.text(): action for action in menu.actions() if action.text()}
    assert list(words) == ["Draw over time", f"Remove from {macro.name}", "Add to a new macro", "Learn a controller"]
    words[f"Remove from {macro.name}"].trigger()
    assert workspace.selection.strip.macros[0].targets == ()


def test_the_editor_sets_names_ranges_and_curves(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.selection.select(STRIP)
    window.path_view.add("drive")
    stage = workspace.selection.stage_id
    window.bench.open_macros()
    editor = window.findChild(MacroEditor)
    editor.new_macro()
    editor.name.setText("Kiln")
    editor.name.editingFinished.emit()
    assert window.bench.macros.bars[workspace.selection.strip.macros[0].id].parameter.label == "Kiln"
    below = editor.parameter_menu().actions()[0].menu()
    next(action for action in below.actions() if action.text() == "Drive: Drive").trigger()
    editor.bars[0, "low"].ask(0.0, commit=True)
    editor.bars[0, "high"].ask(20.0, commit=True)
    editor.bars[0, "curve"].ask("late", commit=True)
    assert workspace.selection.strip.macros[0].targets == (Target(stage, "drive_db", 0.0, 20.0, Bend.LATE),)
    editor.bars[-1, "value"].ask(50.0, commit=True)
    assert workspace.selection.strip.stage(stage).params["drive_db"] == 5.0
    editor.take_out(0)
    assert workspace.selection.strip.macros[0].targets == ()
    window.undo()
    assert len(workspace.selection.strip.macros[0].targets) == 1
    editor.remove_macro()
    assert workspace.selection.strip.macros == ()
    assert window.bench.macros.isHidden()


def test_a_preset_brings_its_macros(window: MainWindow, qtbot: QtBot, session: Session) -> None:
    workspace = window.workspace
    workspace.selection.select(STRIP)
    strip = session.strip(STRIP)
    preset = Preset("Furnace", "keys", "destroy", "Hot.", strip.chain, strip.macros)
    result = workspace.tools.open(PresetBrowser)
    result.table.rows.show([preset])
    trial = workspace.sessions.document.trial("Preset Furnace")
    trial.show(lambda session: result.tried(session, "Furnace"))
    assert workspace.selection.strip.macros[0].name == "Furnace"
    trial.keep()
    changed = edit_macro(workspace.sessions.session, STRIP, workspace.selection.strip.macros[0].id,
                         lambda macro: dataclasses.replace(macro, name="Kiln"))
    assert changed.strip(STRIP).macros[0].name == "Kiln"
    result.close()
