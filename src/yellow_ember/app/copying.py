"""Stages on the clipboard: text as in a chain file, so that they go from strip to strip and session to session."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtWidgets import QApplication

from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.chain import StageSettings
from yellow_ember.engine.board import MOST_STAGES
from yellow_ember.session.chain_file import chain_from_text, chain_to_text
from yellow_ember.session.edits import add_stage, edit_stage, replace_stage
from yellow_ember.session.model import new_id


def _put(workspace: Workspace, stages: Sequence[StageSettings], what: str) -> None:
    clipboard = QApplication.clipboard()
    if stages and clipboard is not None:
        clipboard.setText(chain_to_text(tuple(stages)))
        workspace.messages.say(f"{what} is on the clipboard")


def copy_stage(workspace: Workspace) -> None:
    """The chosen stage."""
    if workspace.stage_id:
        stage = workspace.strip.stage(workspace.stage_id)
        _put(workspace, [stage], stage.declaration.label)


def copy_chain(workspace: Workspace) -> None:
    """All stages of the chosen strip."""
    _put(workspace, workspace.strip.chain, f"The path of {workspace.strip.name}")


def _taken(workspace: Workspace) -> tuple[StageSettings, ...]:
    """What is on the clipboard; nothing, and a word to the user, where that is no chain."""
    clipboard = QApplication.clipboard()
    text = "" if clipboard is None else clipboard.text()
    try:
        return chain_from_text(text, Path.home())
    except ValueError:
        workspace.messages.say("There are no stages on the clipboard")
        return ()


def paste(workspace: Workspace) -> None:
    """The clipboard's stages behind the chosen one, as one step."""
    stages = _taken(workspace)
    if not stages:
        return
    strip = workspace.strip
    room = MOST_STAGES - len(strip.chain)
    if len(stages) > room:
        workspace.messages.warn(f"A strip holds at most {MOST_STAGES} stages; there is room for {room}")
        return
    place = strip.place_of(workspace.stage_id) + 1 if workspace.stage_id else 0
    session, last = workspace.session, ""
    for offset, stage in enumerate(stages):
        fresh = replace_stage(stage, id=new_id(stage.kind))
        session, last = add_stage(session, strip.id, fresh, place + offset), fresh.id
    label = stages[0].declaration.label if len(stages) == 1 else f"{len(stages)} stages"
    workspace.document.commit(f"Paste {label}", session)
    workspace.select(strip.id, last)


def paste_settings(workspace: Workspace) -> None:
    """The settings of a copied stage onto the chosen one of the same kind."""
    stages = _taken(workspace)
    if not stages or not workspace.stage_id:
        return
    chosen = workspace.strip.stage(workspace.stage_id)
    same = next((stage for stage in stages if stage.kind == chosen.kind), None)
    if same is None:
        workspace.messages.say(f"There is no {chosen.declaration.label} on the clipboard")
        return
    workspace.document.commit(f"Paste settings of {chosen.declaration.label}", edit_stage(
        workspace.session, workspace.strip_id, chosen.id, lambda stage: replace_stage(same, id=stage.id)))
