"""Bench: the chosen stage, its picture on the left, its controls in the order of work on the right.

Made from the stage's declaration; a new stage needs nothing here.
"""

from __future__ import annotations

import functools

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from yellow_ember.app import theme
from yellow_ember.app.flow import ColumnFlow
from yellow_ember.app.picture import Picture
from yellow_ember.app.value_bar import ValueBar
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.chain import StageSettings
from yellow_ember.dsp.parameters import Group, Number, Value, as_number
from yellow_ember.session.edits import edit_stage, replace_stage, set_parameter

_LOWEST = -60.0
WET = Number(id="wet_db", label="Wet level", unit="dB", minimum=_LOWEST, maximum=12.0, default=0.0,
             group=Group.OUTPUT, floor_word="silent", help="The level of what the stage makes.")
DRY = Number(id="dry_db", label="Dry level", unit="dB", minimum=_LOWEST, maximum=12.0, default=_LOWEST,
             group=Group.OUTPUT, floor_word="none",
             help="Lets the untouched sound through beside what the stage makes, in step with it.")


class Bench(QWidget):
    """Picture and controls of one stage."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._workspace = workspace
        self.bars: dict[str, ValueBar] = {}
        self._built_for: tuple[str, str] | None = None
        self._title = QLabel()
        self._title.setFont(theme.font(10.5, bold=True))
        self._purpose = QLabel()
        self._purpose.setStyleSheet(f"color: {theme.DIM.name()}")
        self._purpose.setWordWrap(True)
        self._reset = QPushButton("Defaults")
        self._reset.setToolTip("Every control of this stage back to its default")
        self._reset.clicked.connect(self._to_defaults)
        self.picture = Picture(workspace)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        head = QHBoxLayout()
        head.setContentsMargins(10, 6, 10, 0)
        head.addWidget(self._title)
        head.addWidget(self._purpose, 1)
        head.addWidget(self._reset)
        body = QHBoxLayout()
        body.setSpacing(4)
        body.addWidget(self.picture, 5)
        body.addWidget(self._scroll, 6)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(head)
        layout.addLayout(body, 1)
        workspace.session_changed.connect(self.refresh)
        workspace.selected.connect(self.refresh)
        self.refresh()

    def sizeHint(self) -> QSize:
        return QSize(740, 400)

    def _stage(self) -> StageSettings | None:
        workspace = self._workspace
        return workspace.strip.stage(workspace.stage_id) if workspace.stage_id else None

    def refresh(self) -> None:
        """Show the chosen stage; controls are made anew only for another stage."""
        stage = self._stage()
        wanted = None if stage is None else (self._workspace.strip_id, stage.id)
        if wanted != self._built_for:
            self._build(stage)
            self._built_for = wanted
        self.picture.setVisible(stage is not None)
        self._reset.setVisible(stage is not None)
        if stage is None:
            return
        for name, value in stage.params.items():
            self.bars[name].show_value(value)
        self.bars["wet_db"].show_value(max(stage.wet_db, _LOWEST))
        self.bars["dry_db"].show_value(_LOWEST if stage.dry_db is None else max(stage.dry_db, _LOWEST))
        self._title.setText(stage.declaration.label + ("" if stage.on else " (bypassed)"))

    def _build(self, stage: StageSettings | None) -> None:
        self.bars = {}
        flow = ColumnFlow()
        if stage is None:
            self._title.setText("No stage chosen")
            self._purpose.setText("Add one in the path above: press the plus, or Insert.")
            self._scroll.setWidget(flow)
            return
        kind = stage.declaration
        self._purpose.setText(kind.purpose)
        groups = dict(kind.groups())
        for group in Group:
            members = list(groups.get(group, []))
            if group is Group.OUTPUT:
                members += [WET, DRY]
            if not members:
                continue
            bars = []
            for parameter in members:
                bar = ValueBar(parameter)
                bar.changing.connect(lambda value, name=parameter.id: self._set(name, value))
                bar.committed.connect(lambda _value, label=parameter.label: self._workspace.document.commit(label))
                self.bars[parameter.id] = bar
                bars.append(bar)
            flow.add_group(group.value, bars, functools.partial(self._reset_group, group))
        self._scroll.setWidget(flow)

    def _set(self, name: str, value: Value) -> None:
        workspace, stage = self._workspace, self._stage()
        if stage is None:
            return
        if name in ("wet_db", "dry_db"):
            level = as_number(value)
            floor: float | None = None if name == "dry_db" else -120.0
            changed = floor if level <= _LOWEST else level
            workspace.document.change(edit_stage(
                workspace.session, workspace.strip_id, stage.id, lambda old: replace_stage(old, **{name: changed})))
            return
        workspace.document.change(set_parameter(workspace.session, workspace.strip_id, stage.id, name, value))

    def _reset_group(self, group: Group) -> None:
        """Every control of a group to its default, as one step."""
        workspace, stage = self._workspace, self._stage()
        if stage is None:
            return
        defaults = {p.id: p.default_value for p in stage.declaration.parameters if p.group is group}
        extra: dict[str, object] = {"wet_db": 0.0, "dry_db": None} if group is Group.OUTPUT else {}
        workspace.document.commit(f"{group.value} to defaults", edit_stage(
            workspace.session, workspace.strip_id, stage.id,
            lambda old: replace_stage(old, params={**old.params, **defaults}, **extra)))

    def _to_defaults(self) -> None:
        workspace, stage = self._workspace, self._stage()
        if stage is not None:
            workspace.document.commit(f"{stage.declaration.label} to defaults", edit_stage(
                workspace.session, workspace.strip_id, stage.id,
                lambda old: replace_stage(old, params=old.declaration.defaults(), wet_db=0.0, dry_db=None)))
