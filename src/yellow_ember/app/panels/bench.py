"""Bench: the chosen stage, its picture on the left, its controls in the order of work on the right.

Made from the stage's declaration; a new stage needs nothing here.
"""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from yellow_ember.app.panels.macro_row import MacroRow
from yellow_ember.app.panels.stage_controls import Bar, StageControls
from yellow_ember.app.pictures.picture import Picture
from yellow_ember.app.state.controllers import Controllers
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.lane_writer import LaneWriter
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.proposal import Proposal
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.state.tools import Tools
from yellow_ember.app.tools.balance_field import BalanceField
from yellow_ember.app.tools.impulse_browser import ImpulseBrowser
from yellow_ember.app.tools.line_up import LineUpTool
from yellow_ember.app.tools.macro_editor import MacroEditor
from yellow_ember.app.tools.variation_sheet import VariationSheet
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.layouts import clear
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.dsp.parameters import Number
from yellow_ember.dsp.stage import Offer
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.live.client import EngineState
from yellow_ember.session.edits.edits import to_defaults


class FindLine(QLineEdit):
    """Where a control's name is typed; Escape shows all of them again."""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and self.text():
            self.clear()
        else:
            super().keyPressEvent(event)


class Bench(QWidget):
    """Picture and controls of one stage."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, jobs: JobKeeper, lane_writer: LaneWriter, tools: Tools, controllers: Controllers
                 ) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._sessions, self._selection, self._playback, self._settings = sessions, selection, playback, settings
        self._messages, self._jobs, self._writer, self._tools = messages, jobs, lane_writer, tools
        self._built_for: tuple[str, str] | None = None
        self._title = TextLabel()
        self._title.setFont(theme.font(10.5, bold=True))
        self._purpose = TextLabel()
        self._purpose.setStyleSheet(f"color: {theme.DIM.name()}")
        self._purpose.setWordWrap(True)
        self._proposal = Proposal(self._sessions, self._messages, self._jobs)
        self.macros = MacroRow(self._sessions, self._selection, lane_writer, playback, controllers)
        self.picture = Picture(self._sessions, self._selection, self._playback, self._settings, self._messages,
                               self._jobs)
        self.controls = StageControls(self._sessions, self._selection, self._settings, self._messages, lane_writer,
                                      controllers)
        self.controls.browsing.connect(self.open_impulses)
        self.controls.folded.connect(lambda: self.all_button.setChecked(self.controls.all_open))
        self._lanes = QVBoxLayout()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.macros)
        layout.addLayout(self._head())
        layout.addLayout(self._finding())
        layout.addLayout(self._body(), 1)
        layout.addLayout(self._lanes)
        self._sessions.changed.connect(self.refresh)
        self._selection.changed.connect(self.refresh)
        self._playback.frame.connect(self._on_frame)
        self.refresh()

    def _head(self) -> QHBoxLayout:
        """The stage's name and what can be done with it."""
        self.propose = action_button(
            "Propose bands", self.propose_bands,
            "Listen to what the stages before this one added, and set the bands by it")
        self.line_up = action_button(
            "Line-up\u2026", self.open_line_up,
            "Align the machine: alignment tape, oscillator, meters, bias curves")
        self.field = action_button(
            "Field\u2026", self.open_field,
            "Drive along, tone up: a map of what is added, with the stage as a point to drag")
        self.variations = action_button(
            "Variations\u2026", self.open_variations,
            "This stage in two dozen ways, equally loud, to click through")
        self.macro_button = action_button(
            "Macros\u2026", self.open_macros,
            "Controls of this path that move several others at once")
        self._reset = action_button("Defaults", self.to_defaults, "Every control of this stage back to its default")
        head = QHBoxLayout()
        head.setContentsMargins(10, 6, 10, 0)
        head.addWidget(self._title, 1)
        for button in (self.propose, self.line_up, self.field, self.variations, self.macro_button, self._reset):
            head.addWidget(button)
        return head

    def _finding(self) -> QHBoxLayout:
        """What the stage is for, and beside it what helps to find one of its controls."""
        self.find_line = FindLine()
        self.find_line.setPlaceholderText("Find a control")
        self.find_line.setAccessibleName("Find a control")
        self.find_line.setClearButtonEnabled(True)
        self.find_line.setFixedWidth(150)
        self.find_line.textChanged.connect(self.controls.find)
        self.find_line.returnPressed.connect(self.controls.focus_found)
        self.all_button = QPushButton("All")
        self.all_button.setToolTip("Open every group of controls, or fold them all")
        self.all_button.setCheckable(True)
        self.all_button.clicked.connect(self.controls.open_all)
        row = QHBoxLayout()
        row.setContentsMargins(10, 0, 10, 0)
        row.addWidget(self._purpose, 1)
        row.addWidget(self.find_line)
        row.addWidget(self.all_button)
        return row

    def _body(self) -> QHBoxLayout:
        """The picture, and beside it the controls."""
        body = QHBoxLayout()
        body.setSpacing(4)
        body.addWidget(self.picture, 5)
        body.addWidget(self.controls, 6)
        return body

    def sizeHint(self) -> QSize:
        return QSize(740, 400)

    @property
    def bars(self) -> dict[str, Bar]:
        """Controls that have been made, by their parameters."""
        return self.controls.bars

    def bar(self, name: str) -> Bar:
        """The control of a parameter, in sight; its group is opened where it was folded."""
        return self.controls.bar(name)

    def find_control(self) -> None:
        """Let a control's name be typed."""
        self.find_line.setFocus()
        self.find_line.selectAll()

    def refresh(self) -> None:
        """Show the chosen stage; controls are made again only for another stage."""
        stage = self.controls.stage
        requested = None if stage is None else (self._selection.strip_id, stage.id)
        if requested != self._built_for:
            self._build(stage)
            self._built_for = requested
        self.picture.setVisible(stage is not None)
        self._reset.setVisible(stage is not None)
        self.variations.setVisible(stage is not None)
        numbers = () if stage is None else [p for p in stage.declaration.parameters if isinstance(p, Number)]
        self.field.setVisible(len(numbers) > 1)
        self.line_up.setVisible(stage is not None and Offer.LINE_UP in stage.declaration.offers)
        self.propose.setVisible(stage is not None and Offer.PROPOSE_BANDS in stage.declaration.offers)
        for widget in (self.find_line, self.all_button):
            widget.setVisible(stage is not None and bool(self.controls.groups))
        if stage is not None:
            self.controls.refresh()
            self.all_button.setChecked(self.controls.all_open)
            self._title.setText(stage.declaration.label + ("" if stage.on else " (bypassed)"))

    def _on_frame(self, state: EngineState) -> None:
        for lane in self.controls.lanes:
            session = self._sessions.session
            seconds = state.position / session.rate - session.first_beat
            lane.show_place(seconds if state.playing else None, session.tempo)
        self.controls.show_drawn()

    def open_line_up(self) -> None:
        """The line-up bench of the chosen machine."""
        stage = self.controls.stage
        if stage is None or Offer.LINE_UP not in stage.declaration.offers:
            self._messages.say("Choose a tape machine to line up")
        else:
            self._tools.open(LineUpTool, self._selection.strip_id, stage.id)

    def propose_bands(self) -> None:
        """Set the chosen stage's bands by what the stages before it added."""
        stage = self.controls.stage
        if stage is not None and Offer.PROPOSE_BANDS in stage.declaration.offers:
            self._proposal.start(self._selection.strip_id, stage.id)

    def open_variations(self) -> None:
        """The chosen stage in many ways, to hear and choose from."""
        if self.controls.stage is not None:
            self._tools.open(VariationSheet)

    def open_field(self) -> None:
        """Drive against tone of the chosen stage, as a map."""
        if self.controls.stage is not None:
            self._tools.open(BalanceField)

    def open_macros(self) -> None:
        """The strip's macros, to make and change."""
        self._tools.open(MacroEditor)

    def open_impulses(self) -> None:
        """Impulse responses to hear in the chosen stage."""
        stage = self.controls.stage
        if stage is not None:
            self._tools.open(ImpulseBrowser, stage.id)

    def _build(self, stage: StageSettings | None) -> None:
        clear(self._lanes)
        self.controls.build()
        self.find_line.clear()
        for lane in self.controls.lanes:
            self._lanes.addWidget(lane)
        if stage is None:
            self._title.setText("No stage chosen")
            self._purpose.setText("Add one in the path above: press the plus, or Insert.")
        else:
            self._purpose.setText(stage.declaration.purpose)

    def to_defaults(self) -> None:
        stage = self.controls.stage
        if stage is not None:
            self._sessions.document.commit(f"{stage.declaration.label} to defaults", lambda session: to_defaults(
                session, self._selection.strip_id, stage.id))
