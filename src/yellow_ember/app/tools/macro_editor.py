"""Macros of a strip in a window: their names, what each moves, over which range and along which curve."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QMenu,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.layouts import clear
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Choice, Group, Number, Option, Value, as_number
from yellow_ember.session.document import Edit
from yellow_ember.session.edits.edits import add_macro, edit_macro, edit_macros, set_macro
from yellow_ember.session.values.macros import Bend, Macro, Target, macro_number, target_from_here
from yellow_ember.session.values.model import Strip

CURVE = Option(id="curve", label="Curve", group=Group.DRIVE, default=Bend.STRAIGHT.value,
               choices=tuple(Choice(bend.value, bend.value) for bend in Bend),
               help="How the parameter follows: straight, late (most of it in the upper part) or early.")


class MacroEditor(Tool):
    """Works on the strip that was chosen when it was opened."""

    title = "Macros"
    first_size = QSize(760, 420)
    of_the_strip = True

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages) -> None:
        super().__init__(sessions, playback)
        self._selection, self._messages = selection, messages
        self._gesture = Gesture(self._sessions)
        self._strip_id = self._selection.strip_id
        self._macro_id = ""
        self._shown: object = None
        self.bars: dict[tuple[int, str], ValueBar] = {}
        self.setWindowTitle(f"Macros of {self._selection.strip.name}")
        self.list = QListWidget()
        self.list.setAccessibleName("Macros")
        self.list.currentRowChanged.connect(self._choose)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the macro")
        self.name.editingFinished.connect(self._rename)
        self.value = QVBoxLayout()
        self._table = QGridLayout()
        self.add = QPushButton("Add a parameter\u2026")
        self.add.clicked.connect(self._open_parameters)
        self._lay_out()
        self._sessions.changed.connect(self.refresh)
        if self._strip.macros:
            self._macro_id = self._strip.macros[0].id
        self.refresh()

    def _lay_out(self) -> None:
        new, remove = QPushButton("New macro"), QPushButton("Remove")
        new.clicked.connect(self.new_macro)
        remove.clicked.connect(self.remove_macro)
        buttons = QHBoxLayout()
        buttons.addWidget(new)
        buttons.addWidget(remove)
        left = QVBoxLayout()
        left.addWidget(self.list, 1)
        left.addLayout(buttons)
        inside = QWidget()
        inside.setObjectName("panel")
        column = QVBoxLayout(inside)
        column.addLayout(self._table)
        column.addStretch(1)
        scroll = QScrollArea()
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidgetResizable(True)
        scroll.setWidget(inside)
        head = QHBoxLayout()
        label = TextLabel("Name")
        label.setBuddy(self.name)
        head.addWidget(label)
        head.addWidget(self.name, 1)
        right = QVBoxLayout()
        right.addLayout(head)
        right.addLayout(self.value)
        right.addWidget(scroll, 1)
        right.addWidget(self.add)
        layout = QHBoxLayout(self)
        layout.addLayout(left, 2)
        layout.addLayout(right, 6)

    @property
    def _strip(self) -> Strip:
        return self._sessions.session.strip(self._strip_id)

    @property
    def _macro(self) -> Macro | None:
        return next((macro for macro in self._strip.macros if macro.id == self._macro_id), None)

    def let_go(self) -> None:
        self._gesture.keep()

    # -- showing ------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the macros as they are; controls are made again only where there are others."""
        if self._strip_id not in {strip.id for strip in self._sessions.session.strips}:
            self.close()
            return
        macros, macro = self._strip.macros, self._macro
        names = [old.name for old in macros]
        if names != [self.list.item(row).text() for row in range(self.list.count())]:  # type: ignore[union-attr]
            self.list.blockSignals(True)
            self.list.clear()
            self.list.addItems(names)
            self.list.blockSignals(False)
        ids = [old.id for old in macros]
        self.list.blockSignals(True)
        self.list.setCurrentRow(ids.index(self._macro_id) if macro is not None else -1)
        self.list.blockSignals(False)
        for widget in (self.name, self.add):
            widget.setEnabled(macro is not None)
        self.name.setText("" if macro is None else macro.name)
        requested = None if macro is None else (macro.id, macro.name, [(t.stage, t.parameter) for t in macro.targets])
        if requested != self._shown:
            self._shown = requested
            self._build(macro)
        if macro is not None:
            self.bars[-1, "value"].show_value(macro.value)
            for index, target in enumerate(macro.targets):
                for name, value in (("low", target.low), ("high", target.high), ("curve", target.bend.value)):
                    self.bars[index, name].show_value(value)

    def _build(self, macro: Macro | None) -> None:
        self._gesture.keep()
        for box in (self._table, self.value):
            clear(box)
        self.bars = {}
        if macro is None:
            hint = TextLabel("A macro moves several controls of this path at once.")
            hint.setStyleSheet(f"color: {theme.DIM.name()}")
            self._table.addWidget(hint, 0, 0)
            return
        self.value.addWidget(self._bar(-1, "value", macro_number(macro), self._set_value))
        for index, target in enumerate(macro.targets):
            stage = self._strip.stage(target.stage)
            number = stage.declaration.number(target.parameter)
            label = TextLabel(f"{stage.declaration.label}: {number.label}")
            label.setToolTip(number.help)
            self._table.addWidget(label, index, 0)
            for column, (name, words) in enumerate((("low", "At 0 %"), ("high", "At 100 %")), 1):
                end = dataclasses.replace(number, label=words, default=getattr(target, name), unset_word="",
                                          per_channel=False)
                self._table.addWidget(self._bar(index, name, end, functools.partial(
                    self._set_end, index, name, f"Range of {number.label}")), index, column)
            self._table.addWidget(self._bar(index, "curve", CURVE, functools.partial(
                self._set_curve, index, f"Curve of {number.label}")), index, 3)
            away = QPushButton("\u00d7")
            away.setAccessibleName(f"Take {number.label} out")
            away.setToolTip(f"Take {number.label} out of this macro")
            away.setMaximumWidth(28)
            away.clicked.connect(lambda _checked, at=index: self.take_out(at))
            self._table.addWidget(away, index, 4)

    def _bar(self, index: int, name: str, parameter: Number | Option, change: Callable[[Value], None]) -> ValueBar:
        bar = ValueBar(parameter)
        bar.changing.connect(change)
        bar.committed.connect(lambda _value: self._gesture.keep())
        self.bars[index, name] = bar
        return bar

    # -- changing -----------------------------------------------------------------------

    def _choose(self, row: int) -> None:
        macros = self._strip.macros
        self._macro_id = macros[row].id if 0 <= row < len(macros) else ""
        self.refresh()

    def new_macro(self) -> None:
        try:
            session = add_macro(self._sessions.session, self._strip_id, f"Macro {len(self._strip.macros) + 1}")
        except ValueError as reason:
            self._messages.warn(str(reason))
            return
        added = session.strip(self._strip_id).macros[-1]
        self._macro_id = added.id
        self._sessions.document.commit("New macro", lambda session: edit_macros(
            session, self._strip_id, (*session.strip(self._strip_id).macros, added)))

    def remove_macro(self) -> None:
        macro = self._macro
        if macro is not None:
            left = tuple(old for old in self._strip.macros if old.id != macro.id)
            self._macro_id = left[0].id if left else ""
            self._sessions.document.commit(f"Remove {macro.name}", lambda session: edit_macros(
                session, self._strip_id, left))

    def _rename(self) -> None:
        macro, name = self._macro, self.name.text().strip()
        if macro is not None and name and name != macro.name:
            self._sessions.document.commit(f"Rename {macro.name}", self._changed(
                lambda old: dataclasses.replace(old, name=name)))

    def _changed(self, change: Callable[[Macro], Macro]) -> Edit:
        strip_id, macro_id = self._strip_id, self._macro_id
        return lambda session: edit_macro(session, strip_id, macro_id, change)

    def _set_value(self, value: Value) -> None:
        strip_id, macro = self._strip_id, self._macro
        if macro is not None:
            self._gesture.show(macro.name, (macro.id, "value"),
                               lambda session: set_macro(session, strip_id, macro.id, as_number(value)))

    def _change_target(self, index: int, name: str, label: str, change: Callable[[Target], Target]) -> None:
        self._gesture.show(label, (self._macro_id, index, name), self._changed(
            lambda old: dataclasses.replace(old, targets=tuple(
                change(target) if at == index else target for at, target in enumerate(old.targets)))))

    def _set_end(self, index: int, name: str, label: str, value: Value) -> None:
        if name == "low":
            self._change_target(index, name, label, lambda target: dataclasses.replace(target, low=as_number(value)))
        else:
            self._change_target(index, name, label, lambda target: dataclasses.replace(target, high=as_number(value)))

    def _set_curve(self, index: int, label: str, value: Value) -> None:
        self._change_target(index, "curve", label, lambda target: dataclasses.replace(target, bend=Bend(str(value))))

    def take_out(self, index: int) -> None:
        """Let go of one target."""
        macro = self._macro
        if macro is not None:
            target = macro.targets[index]
            self._sessions.document.commit(f"Out of {macro.name}", self._changed(
                lambda old: old.without(target.stage, target.parameter)))

    def _open_parameters(self) -> None:
        self.parameter_menu().popup(self.add.mapToGlobal(self.add.rect().bottomLeft()))

    def parameter_menu(self) -> QMenu:
        """Every continuous parameter of the path that this macro does not move yet, by stage."""
        menu, macro = QMenu(self), self._macro
        for stage in self._strip.chain:
            below = menu.addMenu(stage.declaration.label)
            assert below is not None
            for parameter in stage.declaration.parameters:
                if macro is not None and isinstance(parameter, Number) and not macro.targeting(stage.id, parameter.id):
                    below.addAction(f"{parameter.group.value}: {parameter.label}",
                                    lambda chosen=stage.id, name=parameter.id: self.put_in(chosen, name))
        return menu

    def put_in(self, stage_id: str, parameter: str) -> None:
        """One target more: from where the parameter stands to the top of its range."""
        stage = self._strip.stage(stage_id)
        target = target_from_here(stage, parameter, stage.params[parameter])
        self._sessions.document.commit(f"{stage.declaration.parameter(parameter).label} into a macro", self._changed(
            lambda old: old.with_target(target)))
