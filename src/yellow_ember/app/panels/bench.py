"""Bench: the chosen stage, its picture on the left, its controls in the order of work on the right.

Made from the stage's declaration; a new stage needs nothing here.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QScrollArea, QVBoxLayout, QWidget

from yellow_ember.app.panels.lane_menu import add_lane_menu, follow_lane
from yellow_ember.app.panels.macro_row import MacroRow, add_macro_menu
from yellow_ember.app.pictures.picture import Picture
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.lane_writer import Control, LaneWriter
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.proposal import Proposal
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.tools.balance_field import BalanceField
from yellow_ember.app.tools.impulse_browser import ImpulseBrowser
from yellow_ember.app.tools.line_up import LineUpWindow
from yellow_ember.app.tools.macro_editor import MacroEditor
from yellow_ember.app.tools.variation_sheet import VariationSheet
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.flow import ColumnFlow
from yellow_ember.app.widgets.layouts import clear
from yellow_ember.app.widgets.step_lane import StepLane
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Group, Impulse, Number, Steps, Value
from yellow_ember.dsp.stage import Offer
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stage_values import STAGE_CONTROLS
from yellow_ember.engine.live.client import EngineState
from yellow_ember.files.impulses import read_impulse
from yellow_ember.files.reading import AudioFileError
from yellow_ember.session.edits.edits import AS_NEW, edit_stage, replace_stage, set_parameter, to_defaults
from yellow_ember.session.values.macros import can_be_moved
from yellow_ember.session.values.model import Session

_MANY = 16


class Bench(QWidget):
    """Picture and controls of one stage."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, jobs: JobKeeper, lane_writer: LaneWriter) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._sessions, self._selection, self._playback, self._settings = sessions, selection, playback, settings
        self._messages, self._jobs, self._writer = messages, jobs, lane_writer
        self._gesture = Gesture(self._sessions)
        self.bars: dict[str, ValueBar | StepLane] = {}
        self.jumps: dict[str, QPushButton] = {}
        self._sentence = ""
        self._titles: set[str] = set()
        self._built_for: tuple[str, str] | None = None
        self._title = TextLabel()
        self._title.setFont(theme.font(10.5, bold=True))
        self._purpose = TextLabel()
        self._purpose.setStyleSheet(f"color: {theme.DIM.name()}")
        self._purpose.setWordWrap(True)
        self._purpose.setContentsMargins(10, 0, 10, 0)
        self._proposal = Proposal(self._sessions, self._messages, self._jobs)
        self.macros = MacroRow(self._sessions, self._selection, lane_writer, playback)
        self.picture = Picture(self._sessions, self._selection, self._playback, self._settings, self._messages,
                               self._jobs)
        self.scroll_area = QScrollArea()
        self.scroll_area.setWidgetResizable(True)
        self.scroll_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._jump_row, self._lanes = QHBoxLayout(), QVBoxLayout()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.macros)
        layout.addLayout(self._head())
        layout.addWidget(self._purpose)
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

    def _body(self) -> QHBoxLayout:
        """The picture, and beside it the controls under the row of their groups."""
        self._jump_row.setContentsMargins(6, 0, 6, 0)
        self._jump_row.setSpacing(2)
        right = QVBoxLayout()
        right.setSpacing(2)
        right.addLayout(self._jump_row)
        right.addWidget(self.scroll_area, 1)
        body = QHBoxLayout()
        body.setSpacing(4)
        body.addWidget(self.picture, 5)
        body.addLayout(right, 6)
        return body

    def sizeHint(self) -> QSize:
        return QSize(740, 400)

    def _stage(self) -> StageSettings | None:
        return self._selection.strip.stage(self._selection.stage_id) if self._selection.stage_id else None

    def refresh(self) -> None:
        """Show the chosen stage; controls are made again only for another stage."""
        stage = self._stage()
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
        if stage is None:
            return
        shown = {**stage.params, **stage.own_values}
        idle = stage.declaration.idle(stage.params)
        for name, bar in self.bars.items():
            if isinstance(bar, StepLane):
                bar.show_values(stage.params)
            else:
                follow_lane(bar, self._writer, self._control(name), shown[name])
                bar.setEnabled(name not in idle)
                bar.show_held(any(macro.targeting(stage.id, name) for macro in self._selection.strip.macros))
        self._show_groups(stage, idle)
        self._title.setText(stage.declaration.label + ("" if stage.on else " (bypassed)"))

    def _show_groups(self, stage: StageSettings, idle: frozenset[str]) -> None:
        """Leave out groups in which nothing does anything."""
        flow = self.scroll_area.widget()
        assert isinstance(flow, ColumnFlow)
        titles = {group.value for group, members in stage.declaration.groups() if not idle.issuperset(
            member.id for member in members)} | {Group.OUTPUT.value}
        if titles != self._titles:
            self._titles = titles
            flow.show_only(titles)
            for title, button in self.jumps.items():
                button.setHidden(title not in titles)

    def _on_frame(self, state: EngineState) -> None:
        for bar in self.bars.values():
            if isinstance(bar, StepLane):
                session = self._sessions.session
                seconds = state.position / session.rate - session.first_beat
                bar.show_place(seconds if state.playing else None, session.tempo)
        self._show_lanes()

    def _control(self, name: str) -> Control:
        return self._selection.strip_id, self._selection.stage_id, name

    def _show_lanes(self) -> None:
        """Let the bars of what moves along the session show where that is now."""
        stage = self._stage()
        if stage is None or self._gesture.under_way:
            return
        for lane in stage.lanes:
            bar = self.bars.get(lane.parameter)
            if isinstance(bar, ValueBar):
                follow_lane(bar, self._writer, self._control(lane.parameter), bar.value)

    def open_line_up(self) -> None:
        """The line-up bench of the chosen machine, in a window of its own."""
        stage = self._stage()
        if stage is None or Offer.LINE_UP not in stage.declaration.offers:
            self._messages.say("Choose a tape machine to line up")
        else:
            LineUpWindow(self._sessions, self._playback, self._messages, self._jobs, self._selection.strip_id,
                         stage.id, self).show()

    def propose_bands(self) -> None:
        """Set the chosen stage's bands by what the stages before it added."""
        stage = self._stage()
        if stage is not None and Offer.PROPOSE_BANDS in stage.declaration.offers:
            self._proposal.start(self._selection.strip_id, stage.id)

    def open_variations(self) -> None:
        """The chosen stage in many ways, in a window of their own."""
        if self._stage() is not None:
            VariationSheet(self._sessions, self._selection, self._playback, self._messages, self._jobs, self).show()

    def open_field(self) -> None:
        """Drive against tone of the chosen stage, as a map."""
        if self._stage() is not None:
            BalanceField(self._sessions, self._selection, self._playback, self._jobs, self).show()

    def open_macros(self) -> None:
        """The strip's macros, in a window of their own."""
        MacroEditor(self._sessions, self._selection, self._playback, self._messages, self).show()

    def _offer_more(self, name: str, menu: QMenu) -> None:
        """What else can be done with a control: its lane, and macros."""
        stage = self._stage()
        add_lane_menu(menu, self._sessions, self._control(name))
        if stage is not None and name in stage.params and can_be_moved(stage, name):
            add_macro_menu(menu, self._sessions, self._selection, stage, name)

    def open_impulses(self) -> None:
        """Impulse responses to hear in the chosen stage, in a window of their own."""
        stage = self._stage()
        if stage is not None:
            ImpulseBrowser(self._sessions, self._selection, self._playback, self._settings, self._messages,
                           self._jobs, stage.id, self).show()

    def _build(self, stage: StageSettings | None) -> None:
        self._gesture.keep()
        self.bars = {}
        self.jumps = {}
        self._titles = set()
        for row in (self._jump_row, self._lanes):
            clear(row)
        flow = ColumnFlow()
        if stage is None:
            self._title.setText("No stage chosen")
            self._purpose.setText("Add one in the path above: press the plus, or Insert.")
            self.scroll_area.setWidget(flow)
            return
        kind = stage.declaration
        self._purpose.setText(kind.purpose)
        groups = dict(kind.groups())
        for group in Group:
            members = list(groups.get(group, []))
            if group is Group.OUTPUT:
                members += STAGE_CONTROLS
            if not members:
                continue
            bars = []
            for parameter in members:
                bar = StepLane(parameter) if isinstance(parameter, Steps) else ValueBar(parameter)
                bar.changing.connect(lambda value, name=parameter.id: self._set(name, value))
                bar.committed.connect(lambda _value, name=parameter.id: self._commit(name))
                if isinstance(bar, ValueBar):
                    bar.browsing.connect(self.open_impulses)
                    bar.refused.connect(self._messages.warn)
                    bar.menu_opening.connect(lambda menu, name=parameter.id: self._offer_more(name, menu))
                self.bars[parameter.id] = bar
                if isinstance(bar, StepLane):
                    self._lanes.addWidget(bar)
                else:
                    bars.append(bar)
            flow.add_group(group.value, bars, functools.partial(self._reset_group, group))
        self.scroll_area.setWidget(flow)
        if len(kind.parameters) > _MANY:
            self._add_jumps(flow)

    def _add_jumps(self, flow: ColumnFlow) -> None:
        """A button for each group, which scrolls to it."""
        for title in flow.titles():
            button = QPushButton(title.split()[-1] if title[-1].isdigit() else title)
            button.setObjectName("jump")
            button.setAccessibleName(f"Go to {title}")
            button.setToolTip(f"Go to {title}")
            button.clicked.connect(lambda _checked, chosen=title: self._go_to(flow, chosen))
            self._jump_row.addWidget(button)
            self.jumps[title] = button
        self._jump_row.addStretch(1)

    def _go_to(self, flow: ColumnFlow, title: str) -> None:
        bar = self.scroll_area.verticalScrollBar()
        assert bar is not None
        bar.setValue(flow.top_of(title))

    def _commit(self, name: str) -> None:
        """Make the change a step, and say what else moved with it."""
        if self._writer.let_go(self._control(name)):
            return
        self._gesture.keep()
        if self._sentence:
            self._messages.say(self._sentence)
            self._sentence = ""

    def _set(self, name: str, value: Value) -> None:
        stage = self._stage()
        if stage is None:
            return
        if name in stage.own_values:
            self._show(name, value, lambda session, strip_id: edit_stage(
                session, strip_id, stage.id, lambda old: replace_stage(old, **{name: value})))
            return
        kind = stage.declaration
        if value and isinstance(kind.parameter(name), Impulse):
            try:
                read_impulse(Path(str(value)), self._sessions.session.rate)
            except AudioFileError as error:
                self._messages.warn(str(error))
                self.refresh()
                return
        if kind.follow is not None:
            self._sentence = kind.follow(stage.params, {**stage.params, name: value})[1] or self._sentence
        self._show(name, value, lambda session, strip_id: set_parameter(session, strip_id, stage.id, name, value))

    def _show(self, name: str, value: Value, change: Callable[[Session, str], Session]) -> None:
        strip_id = self._selection.strip_id
        if self._writer.move(self._control(name), value, lambda session: change(session, strip_id)):
            return
        self._gesture.show(self.bars[name].parameter.label, (self._selection.stage_id, name),
                           lambda session: change(session, strip_id))

    def _reset_group(self, group: Group) -> None:
        """Every control of a group to its default, as one step."""
        stage = self._stage()
        if stage is None:
            return
        defaults = {p.id: p.default_value for p in stage.declaration.parameters if p.group is group}
        extra = AS_NEW if group is Group.OUTPUT else {}
        self._sessions.document.commit(f"{group.value} to defaults", lambda session: edit_stage(
            session, self._selection.strip_id, stage.id,
            lambda old: replace_stage(old, params={**old.params, **defaults}, **extra)))

    def to_defaults(self) -> None:
        stage = self._stage()
        if stage is not None:
            self._sessions.document.commit(f"{stage.declaration.label} to defaults", lambda session: to_defaults(
                session, self._selection.strip_id, stage.id))
