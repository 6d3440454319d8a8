"""Copying stages and paths between strips and sessions."""

from __future__ import annotations

import json
from pathlib import Path

from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QApplication

from conftest import said
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.panels import copying
from yellow_ember.cli import main


def act(window: MainWindow, text: str) -> None:
    next(action for action in window.findChildren(QAction) if action.text() == text).trigger()


def test_a_stage_goes_to_another_strip_as_a_new_one(window: MainWindow) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    window.path_view.add("drive")
    window.bench.bar("drive_db").ask(21.0, commit=True)
    window.bench.bar("mix_pct").ask(40.0, commit=True)
    first = workspace.selection.strip.chain[0]
    act(window, "Copy the stage")
    workspace.selection.select("upright-bass")
    act(window, "Paste")
    pasted = workspace.selection.strip.chain[0]
    assert pasted.id != first.id
    assert (pasted.params, pasted.mix_pct) == (first.params, 40.0)
    assert workspace.selection.stage_id == pasted.id
    assert workspace.sessions.document.undo_label == "Paste Saturation"
    window.undo()
    assert workspace.selection.strip.chain == ()


def test_a_path_is_pasted_behind_the_chosen_stage_as_one_step(window: MainWindow) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    for kind in ("tape", "eq"):
        window.path_view.add(kind)
    act(window, "Copy the path")
    workspace.selection.select("upright-bass")
    window.path_view.add("trim")
    window.path_view.add("comp")
    workspace.selection.select("upright-bass", workspace.selection.strip.chain[0].id)
    act(window, "Paste")
    assert [stage.kind for stage in workspace.selection.strip.chain] == ["trim", "tape", "eq", "comp"]
    window.undo()
    assert [stage.kind for stage in workspace.selection.strip.chain] == ["trim", "comp"]


def test_settings_are_pasted_onto_the_same_kind_only(window: MainWindow) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    window.path_view.add("drive")
    window.bench.bar("drive_db").ask(30.0, commit=True)
    act(window, "Copy the stage")
    workspace.selection.select("upright-bass")
    window.path_view.add("eq")
    act(window, "Paste settings")
    assert "There is no Equaliser on the clipboard" in said(window)
    window.path_view.add("drive")
    kept = workspace.selection.stage_id
    act(window, "Paste settings")
    stage = workspace.selection.strip.stage(kept)
    assert stage.params["drive_db"] == 30.0


def test_the_clipboard_holds_a_chain_file(window: MainWindow, tmp_path: Path) -> None:
    workspace = window.workspace
    workspace.selection.select("harmonium")
    window.path_view.add("bits")
    workspace.give(copying.copy_chain)
    text = QApplication.clipboard().text()
    assert json.loads(text)["format"] == "yellow-ember/chain"
    (tmp_path / "chain.json").write_text(text)
    assert main(["process", str(workspace.selection.strip.files[0]), str(tmp_path / "out.wav"), "--chain",
                 str(tmp_path / "chain.json")]) == 0
    QApplication.clipboard().setText("good morning")
    before = workspace.sessions.session
    workspace.give(copying.paste)
    assert workspace.sessions.session == before
    assert "There are no stages on the clipboard" in said(window)
