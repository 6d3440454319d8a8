"""Eight snapshots of the chosen strip, its bus or the session: taken, heard in turn, named, told apart in words."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import replace

from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QInputDialog, QMenu, QPushButton, QVBoxLayout, QWidget

from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.text import escaped, menu_text
from yellow_ember.session.document import Edit
from yellow_ember.session.edits.differences import snapshot_words
from yellow_ember.session.edits.edits import difference
from yellow_ember.session.edits.snapshot_edits import (
    edit_snapshot,
    find_snapshot,
    is_now,
    owner_of,
    recall,
    remove_snapshot,
    take_snapshot,
)
from yellow_ember.session.values.snapshots import PLACES, SCOPES, Snapshot, copy_stage

_NOTHING = "nothing differs"


class _Place(QPushButton):
    """A place, whose words are made when they are asked for: they take longer than a drag can wait."""

    def __init__(self, index: int, tip: Callable[[int], str]) -> None:
        super().__init__(str(index + 1))
        self._index, self._tip = index, tip
        self.setCheckable(True)
        self.setMinimumWidth(22)
        self._kept: bool | None = None
        self.show_kept(False)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)

    def show_kept(self, kept: bool) -> None:
        """Filled where something is kept here, hollow where not."""
        if kept != self._kept:
            self._kept = kept
            hollow = "" if kept else f"background: transparent; color: {theme.DIM.name()}"
            self.setStyleSheet(f"padding: 3px 0px; {hollow}")

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip:
            self.setToolTip(self._tip(self._index))
        return super().event(event)


class SnapshotRow(QWidget):
    """A button for each place: a filled one is heard, an empty one takes how it stands now."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, messages: Messages) -> None:
        super().__init__()
        self._sessions, self._selection, self._messages = sessions, selection, messages
        self.scope = QComboBox()
        self.scope.setAccessibleName("What snapshots are of")
        self.scope.setToolTip("The chosen strip, the bus it feeds with all its tracks, or all strips")
        self.scope.addItems([f"Snapshots of the {scope}" for scope in SCOPES])
        self.scope.currentIndexChanged.connect(lambda _index: self.refresh())
        self.buttons: list[_Place] = []
        row = QHBoxLayout()
        row.setSpacing(3)
        for index in range(PLACES):
            button = _Place(index, self.tip)
            button.clicked.connect(functools.partial(self._clicked, index))
            button.customContextMenuRequested.connect(functools.partial(self._open_menu, index))
            row.addWidget(button)
            self.buttons.append(button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(3)
        layout.addWidget(self.scope)
        layout.addLayout(row)
        self._sessions.changed.connect(self.refresh)
        self._selection.changed.connect(self.refresh)
        self.refresh()

    # -- what there is ------------------------------------------------------------------

    @property
    def _key(self) -> tuple[str, str]:
        """Scope and owner as they are chosen."""
        scope = SCOPES[self.scope.currentIndex()]
        return scope, owner_of(self._sessions.session, scope, self._selection.strip_id)

    def snapshot(self, index: int) -> Snapshot | None:
        """What is kept at a place."""
        return find_snapshot(self._sessions.session, *self._key, index)

    def _now(self, snapshot: Snapshot) -> Snapshot:
        """How it stands now, of the same scope."""
        taken = take_snapshot(self._sessions.session, *snapshot.key)
        return next(one for one in taken.snapshots if one.key == snapshot.key)

    def words(self, old: Snapshot, new: Snapshot) -> list[str]:
        """The difference from one to the other."""
        return snapshot_words(old, new, {strip.id: strip.name for strip in self._sessions.session.strips})

    def refresh(self) -> None:
        """Show which places are filled, and which is heard."""
        session = self._sessions.session
        for index, button in enumerate(self.buttons):
            snapshot = self.snapshot(index)
            button.setChecked(snapshot is not None and is_now(session, snapshot))
            button.show_kept(snapshot is not None)
            button.setAccessibleName(f"Snapshot {index + 1}, empty" if snapshot is None else snapshot.title)

    def tip(self, index: int) -> str:
        """The tooltip of a place: its name, its note, and in words how it differs from now."""
        snapshot = self.snapshot(index)
        keys = f"Alt+{index + 1}"
        if snapshot is None:
            return f"Empty: click to take a snapshot ({keys})"
        words = "<br>".join(map(escaped, self.words(self._now(snapshot), snapshot)[:12])) or _NOTHING
        note = f"<br><i>{escaped(snapshot.note)}</i>" if snapshot.note else ""
        return (f"<b>{escaped(snapshot.title)}</b> ({keys}; Alt+Shift+{index + 1} replaces it){note}"
                f"<br>compared with now: {words}")

    # -- hearing and keeping ------------------------------------------------------------

    def _clicked(self, index: int, _checked: bool = False) -> None:
        self.use(index)

    def use(self, index: int) -> None:
        """Hear what is kept at a place; keep how it stands now where it is empty."""
        snapshot = self.snapshot(index)
        if snapshot is None:
            self.take(index)
            return
        before = self._now(snapshot)
        self._sessions.document.recall(snapshot.title, lambda session: recall(session, snapshot))
        words = "; ".join(self.words(before, self._now(snapshot)))
        self._messages.say(f"{snapshot.title}: {words or _NOTHING}")
        self.refresh()

    def take(self, index: int) -> None:
        """Keep how it stands now."""
        self._edit(f"Take snapshot {index + 1}", difference(
            self._sessions.session, take_snapshot(self._sessions.session, *self._key, index)))
        self._messages.say(f"Snapshot {index + 1} is taken")

    def _edit(self, label: str, edit: Edit) -> None:
        self._sessions.document.recall(label, edit)
        self.refresh()

    # -- menu ---------------------------------------------------------------------------

    def _open_menu(self, index: int, at: QPoint) -> None:
        self.menu(index).popup(self.buttons[index].mapToGlobal(at))

    def menu(self, index: int) -> QMenu:
        """What can be done with a place."""
        menu, snapshot = QMenu(self), self.snapshot(index)
        menu.addAction("Replace" if snapshot else "Take snapshot", lambda: self.take(index))
        if snapshot is None:
            return menu
        menu.addAction("Name\u2026", lambda: self._write(
            snapshot, "Name", snapshot.name, lambda old, text: replace(old, name=text)))
        menu.addAction("Note\u2026", lambda: self._write(
            snapshot, "Note", snapshot.note, lambda old, text: replace(old, note=text)))
        into_now = menu.addMenu("Apply a stage")
        into_other = menu.addMenu("Copy a stage to")
        assert into_now is not None
        assert into_other is not None
        names = {strip.id: strip.name for strip in self._sessions.session.strips}
        others = [other for number in range(PLACES) if number != index and (other := self.snapshot(number)) is not None]
        for other in others:
            into = into_other.addMenu(other.title)
            assert into is not None
            self._add_stages(into, snapshot, names, functools.partial(self._copy, snapshot, other))
        into_other.setEnabled(bool(others))
        self._add_stages(into_now, snapshot, names, functools.partial(self._take_over, snapshot))
        menu.addSeparator()
        menu.addAction("Clear", lambda: self._edit(f"Clear {snapshot.title}",
                                                   lambda session: remove_snapshot(session, snapshot)))
        return menu

    def _add_stages(self, menu: QMenu, snapshot: Snapshot, names: dict[str, str],
                    run: Callable[[str, str], None]) -> None:
        for state in snapshot.states:
            for stage in state.chain:
                label = stage.declaration.label
                if snapshot.scope != "strip":
                    label = f"{names.get(state.strip_id, state.strip_id)}: {label}"
                menu.addAction(menu_text(label), functools.partial(run, state.strip_id, stage.id))

    def _copy(self, source: Snapshot, target: Snapshot, strip_id: str, stage_id: str) -> None:
        """One stage of a snapshot into another."""
        self._edit(f"Copy a stage to {target.title}", lambda session: edit_snapshot(
            session, target, lambda old: copy_stage(source, old, strip_id, stage_id)))

    def _take_over(self, snapshot: Snapshot, strip_id: str, stage_id: str) -> None:
        """One stage of a snapshot, as it was, into what is heard now."""
        now = copy_stage(snapshot, self._now(snapshot), strip_id, stage_id)
        self._edit(f"A stage of {snapshot.title}", lambda session: recall(session, now))

    def _write(self, snapshot: Snapshot, label: str, present: str, change: Callable[[Snapshot, str], Snapshot]) -> None:
        text, accepted = QInputDialog.getText(self, snapshot.title, label, text=present)
        if accepted:
            self._edit(f"{label} of {snapshot.title}", lambda session: edit_snapshot(
                session, snapshot, lambda old: change(old, text.strip())))
