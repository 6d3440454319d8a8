"""Stages on the clipboard and dragged from strip to strip.

They travel as the text of a chain file, so that they also go from session to session and window to window.
"""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QMimeData, Qt
from PyQt6.QtGui import QDrag
from PyQt6.QtWidgets import QApplication, QWidget

from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.session.edits.edits import add_stage, carry_stage, difference, edit_stage, replace_stage
from yellow_ember.session.io.chain_file import chain_from_text, chain_to_text
from yellow_ember.session.values.limits import MAXIMUM_STAGES
from yellow_ember.session.values.model import Session, new_id

_ORIGIN = "application/x-yellow-ember-stages"
"""Where dragged stages come from: process, strip and ids."""


def _put(messages: Messages, stages: Sequence[StageSettings], what: str) -> None:
    clipboard = QApplication.clipboard()
    if stages and clipboard is not None:
        clipboard.setText(chain_to_text(tuple(stages)))
        messages.say(f"{what} is on the clipboard")


def copy_stage(selection: Selection, messages: Messages) -> None:
    """The chosen stage."""
    if selection.stage_id:
        stage = selection.strip.stage(selection.stage_id)
        _put(messages, [stage], stage.declaration.label)


def copy_chain(selection: Selection, messages: Messages) -> None:
    """All stages of the chosen strip."""
    _put(messages, selection.strip.chain, f"The path of {selection.strip.name}")


def _taken(messages: Messages) -> tuple[StageSettings, ...]:
    """What is on the clipboard; nothing, and a word to the user, where that is no chain."""
    clipboard = QApplication.clipboard()
    text = "" if clipboard is None else clipboard.text()
    try:
        return chain_from_text(text, Path.home())
    except ValueError:
        messages.say("There are no stages on the clipboard")
        return ()


def _words(stages: Sequence[StageSettings]) -> str:
    return stages[0].declaration.label if len(stages) == 1 else f"{len(stages)} stages"


def add_copies(messages: Messages, session: Session, strip_id: str, stages: Sequence[StageSettings],
               index: int) -> tuple[Session, str]:
    """Copies of stages into a strip from a place on; the session and the last copy's id.

    A strip that is too full for them stays as it is, with a word to the user.
    """
    strip = session.strip(strip_id)
    room = MAXIMUM_STAGES - len(strip.chain)
    if len(stages) > room:
        messages.warn(f"A strip holds at most {MAXIMUM_STAGES} stages; "
                                f"there is room for {room} in {strip.name}")
        return session, ""
    last = ""
    for offset, stage in enumerate(stages):
        fresh = replace_stage(stage, id=new_id(stage.kind))
        session, last = add_stage(session, strip_id, fresh, index + offset), fresh.id
    return session, last


def add_to_chosen(sessions: SessionKeeper, selection: Selection, messages: Messages, stages: Sequence[StageSettings],
                  label: str) -> None:
    """Copies of stages behind the chosen one, and at the end of every other chosen strip, as one step."""
    session, chosen = sessions.session, ""
    for strip_id in selection.chosen:
        strip = session.strip(strip_id)
        index = len(strip.chain)
        if strip_id == selection.strip_id:
            index = strip.index_of(selection.stage_id) + 1 if selection.stage_id else 0
        session, last = add_copies(messages, session, strip_id, stages, index)
        chosen = last if strip_id == selection.strip_id else chosen
    sessions.document.commit(label, difference(sessions.session, session))
    if chosen:
        selection.select(selection.strip_id, chosen)


def paste(sessions: SessionKeeper, selection: Selection, messages: Messages) -> None:
    """The clipboard's stages into the chosen strips."""
    stages = _taken(messages)
    if stages:
        add_to_chosen(sessions, selection, messages, stages, f"Paste {_words(stages)}")


def paste_settings(sessions: SessionKeeper, selection: Selection, messages: Messages) -> None:
    """The settings of a copied stage onto the chosen one of the same kind."""
    stages = _taken(messages)
    if not stages or not selection.stage_id:
        return
    chosen = selection.strip.stage(selection.stage_id)
    same = next((stage for stage in stages if stage.kind == chosen.kind), None)
    if same is None:
        messages.say(f"There is no {chosen.declaration.label} on the clipboard")
        return
    sessions.document.commit(f"Paste settings of {chosen.declaration.label}", lambda session: edit_stage(
        session, selection.strip_id, chosen.id, lambda stage: replace_stage(same, id=stage.id)))


# -- dragging -----------------------------------------------------------------------------


def dragged(strip_id: str, stages: Sequence[StageSettings]) -> QMimeData:
    """What a drag carries."""
    mime = QMimeData()
    mime.setText(chain_to_text(tuple(stages)))
    origin = {"process": os.getpid(), "strip": strip_id, "stages": [stage.id for stage in stages]}
    mime.setData(_ORIGIN, json.dumps(origin).encode())
    return mime


def drag(widget: QWidget, messages: Messages, strip_id: str, stages: Sequence[StageSettings]) -> None:
    """Let the user carry stages to another strip."""
    if not stages:
        return
    messages.say(f"Drop {_words(stages)} on a strip: it moves there. With Ctrl it is copied, "
                           "with Ctrl and Shift only its settings are.")
    carrying = QDrag(widget)
    carrying.setMimeData(dragged(strip_id, stages))
    carrying.exec(Qt.DropAction.MoveAction | Qt.DropAction.CopyAction | Qt.DropAction.LinkAction,
                  Qt.DropAction.MoveAction)


def can_drop(mime: QMimeData | None) -> bool:
    """True for stages, from here or from another window."""
    return mime is not None and (mime.hasFormat(_ORIGIN) or '"yellow-ember/chain"' in mime.text())


def drop(sessions: SessionKeeper, selection: Selection, messages: Messages, strip_id: str, mime: QMimeData | None,
         keys: Qt.KeyboardModifier) -> None:
    """Dropped stages onto a strip, as one step: moved, with Ctrl copied, with Ctrl and Shift their settings alone."""
    if mime is None:
        return
    try:
        stages = chain_from_text(mime.text(), Path.home())
        origin = json.loads(bytes(mime.data(_ORIGIN).data()) or b"{}")
    except ValueError as reason:
        messages.warn(f"What was dropped is no chain: {reason}")
        return
    if not stages:
        return
    session, name = sessions.session, sessions.session.strip(strip_id).name
    control, shift = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
    here = origin.get("process") == os.getpid() and _is_there(session, origin)
    if keys & control and keys & shift:
        _drop_settings(sessions, messages, strip_id, stages)
    elif here and not keys & control:
        if origin["strip"] == strip_id:
            return
        if len(session.strip(strip_id).chain) + len(stages) > MAXIMUM_STAGES:
            messages.warn(f"A strip holds at most {MAXIMUM_STAGES} stages; {name} is too full")
            return
        for stage_id in origin["stages"]:
            session = carry_stage(session, origin["strip"], stage_id, strip_id)
        sessions.document.commit(f"Move {_words(stages)} to {name}", difference(sessions.session, session))
        selection.select(strip_id, origin["stages"][-1])
    else:
        session, last = add_copies(messages, session, strip_id, stages, len(session.strip(strip_id).chain))
        sessions.document.commit(f"Copy {_words(stages)} to {name}", difference(sessions.session, session))
        if last:
            selection.select(strip_id, last)


def _is_there(session: Session, origin: dict[str, object]) -> bool:
    for strip in session.strips:
        if strip.id == origin.get("strip"):
            ids = [stage.id for stage in strip.chain]
            stages = origin.get("stages")
            return isinstance(stages, list) and all(stage in ids for stage in stages)
    return False


def _drop_settings(sessions: SessionKeeper, messages: Messages, strip_id: str, stages: Sequence[StageSettings]) -> None:
    """The settings of each dropped stage onto the first of its kind."""
    session, strip = sessions.session, sessions.session.strip(strip_id)
    taken = []
    for stage in stages:
        same = next((old for old in strip.chain if old.kind == stage.kind), None)
        if same is not None:
            session = edit_stage(session, strip_id, same.id,
                                 lambda old, new=stage: replace_stage(new, id=old.id))  # type: ignore[misc]
            taken.append(stage)
    if taken:
        sessions.document.commit(f"Settings of {_words(taken)} to {strip.name}",
                                  difference(sessions.session, session))
    else:
        messages.say(f"{strip.name} has no {_words(stages)} to take the settings")
