"""The chosen stage's controls: its front first, then its groups, each folded to a line that says what it changes."""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QMenu, QScrollArea

from yellow_ember.app.panels.lane_menu import add_lane_menu, follow_lane
from yellow_ember.app.panels.learning import add_learning
from yellow_ember.app.panels.macro_row import add_macro_menu
from yellow_ember.app.state.controllers import STAGE, Controllers
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.lane_writer import Control, LaneWriter
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.widgets.folding import ControlSheet, FoldingGroup
from yellow_ember.app.widgets.step_lane import StepLane
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Group, Impulse, Parameter, Steps, Value
from yellow_ember.dsp.stage import StageKind
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stage_values import STAGE_CONTROLS
from yellow_ember.files.impulses import read_impulse
from yellow_ember.files.reading import AudioFileError
from yellow_ember.session.edits.edits import AS_NEW, edit_stage, replace_stage, set_parameter
from yellow_ember.session.values.macros import can_be_moved
from yellow_ember.session.values.model import Session

Bar = ValueBar | StepLane


class StageControls(QScrollArea):
    """Every control of one stage.

    bars : those that have been made, by their parameters; `bar` makes one where it has not
    lanes : lanes of steps among them, for the bench to show at its full width
    """

    browsing = pyqtSignal()
    """A file is to be chosen for the stage."""
    folded = pyqtSignal()
    """A group was opened or folded."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, settings: Settings, messages: Messages,
                 lane_writer: LaneWriter, controllers: Controllers) -> None:
        super().__init__()
        self._sessions, self._selection, self._settings = sessions, selection, settings
        self._messages, self._writer, self._controllers = messages, lane_writer, controllers
        self._gesture = Gesture(sessions)
        self.bars: dict[str, Bar] = {}
        self.lanes: list[StepLane] = []
        self.groups: dict[str, FoldingGroup] = {}
        self._members: dict[str, list[Parameter]] = {}
        self._front: list[Parameter] = []
        self._sentence = self._words = ""
        self.setAccessibleName("Controls of the stage")
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    @property
    def stage(self) -> StageSettings | None:
        """The chosen stage."""
        return self._selection.strip.stage(self._selection.stage_id) if self._selection.stage_id else None

    # -- making -------------------------------------------------------------------------

    def build(self) -> None:
        """Make the controls of the chosen stage in place of those that were there."""
        self._gesture.keep()
        self.bars, self.lanes, self.groups, self._members, self._words = {}, [], {}, {}, ""
        stage = self.stage
        if stage is None:
            self.setWidget(ControlSheet((), ()))
            return
        kind = stage.declaration
        self._front = [kind.parameter(name) for name in kind.front]
        front = [self._make(parameter) for parameter in self._front]
        for parameter in kind.parameters:
            if isinstance(parameter, Steps):
                lane = self._make(parameter)
                assert isinstance(lane, StepLane)
                self.lanes.append(lane)
        for group in Group:
            members = _behind_the_front(kind, group)
            if members:
                self._members[group.value] = members
                self.groups[group.value] = FoldingGroup(
                    group.value, functools.partial(self._make_group, group.value),
                    functools.partial(self._reset_group, group))
        opened = self._opened()
        for title, folding in self.groups.items():
            folding.open(title in opened)
            folding.toggled.connect(lambda _on: self._remember())
        self.setWidget(ControlSheet(front, list(self.groups.values())))

    def _make_group(self, title: str) -> list[Bar]:
        return [self._make(parameter) for parameter in self._members[title]]

    def _make(self, parameter: Parameter) -> Bar:
        bar = StepLane(parameter) if isinstance(parameter, Steps) else ValueBar(parameter)
        name, stage = parameter.id, self.stage
        bar.changing.connect(lambda value: self._set(name, value))
        bar.committed.connect(lambda _value: self._commit(name))
        if isinstance(bar, ValueBar):
            bar.browsing.connect(self.browsing)
            bar.refused.connect(self._messages.warn)
            bar.menu_opening.connect(lambda menu: self._offer_more(name, menu))
            if stage is not None and name in stage.params:
                add_learning(bar, self._controllers, f"{STAGE} {stage.kind} {name}")
        self.bars[name] = bar
        if stage is not None:
            self._show_bar(stage, name, bar, stage.declaration.idle(stage.params))
        return bar

    def bar(self, name: str) -> Bar:
        """The control of a parameter; its group is opened where it was folded.  KeyError where there is none."""
        if name not in self.bars:
            self.groups[self._title_of(name)].open()
        return self.bars[name]

    # -- showing ------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the stage's values; groups in which nothing does anything are left out."""
        stage = self.stage
        if stage is None:
            return
        idle = stage.declaration.idle(stage.params)
        for name, bar in self.bars.items():
            self._show_bar(stage, name, bar, idle)
        shown = {**stage.params, **stage.own_values}
        for title, members in self._members.items():
            works = title == Group.OUTPUT.value or not idle.issuperset(member.id for member in members)
            differs = ", ".join(f"{_within(member.label)} {member.text(shown[member.id])}" for member in members
                                if shown[member.id] != member.default_value and member.id not in idle)
            self.groups[title].heading.show_contents(differs, ", ".join(_within(member.label) for member in members))
            self.groups[title].setHidden(not works or not self._matching(title))

    def _show_bar(self, stage: StageSettings, name: str, bar: Bar, idle: frozenset[str]) -> None:
        if isinstance(bar, StepLane):
            bar.show_values(stage.params)
            bar.setHidden(name in idle)
            return
        follow_lane(bar, self._writer, self._control(name), {**stage.params, **stage.own_values}[name])
        bar.setEnabled(name not in idle)
        bar.show_held(any(macro.targeting(stage.id, name) for macro in self._selection.strip.macros))

    def show_drawn(self) -> None:
        """Let the bars of what moves along the session show where that is now."""
        stage = self.stage
        if stage is None or self._gesture.under_way:
            return
        for lane in stage.lanes:
            bar = self.bars.get(lane.parameter)
            if isinstance(bar, ValueBar):
                follow_lane(bar, self._writer, self._control(lane.parameter), bar.setting)

    def _control(self, name: str) -> Control:
        return self._selection.strip_id, self._selection.stage_id, name

    # -- finding and folding ------------------------------------------------------------

    def find(self, words: str) -> None:
        """Show the controls alone in whose name all words are; all of them for no words."""
        before, self._words = self._words, words.strip().lower()
        if not before and not self._words:
            return
        opened = self._opened()
        for title, folding in self.groups.items():
            folding.blockSignals(True)
            folding.open(bool(self._matching(title)) if self._words else title in opened)
            folding.blockSignals(False)
        for name, bar in self.bars.items():
            if isinstance(bar, ValueBar):
                bar.setHidden(not self._matches(bar.parameter, self._title_of(name)))
        self.refresh()

    def focus_found(self) -> None:
        """Put the focus on the first control that was found."""
        for name in (*(p.id for p in self._front), *(p.id for members in self._members.values() for p in members)):
            bar = self.bars.get(name)
            if bar is not None and not bar.isHidden() and bar.isEnabled():
                bar.setFocus()
                self.ensureWidgetVisible(bar)
                return

    def _title_of(self, name: str) -> str:
        return next((title for title, members in self._members.items()
                     if any(member.id == name for member in members)), "")

    def _matches(self, parameter: Parameter, title: str) -> bool:
        return all(word in f"{parameter.label} {title}".lower() for word in self._words.split())

    def _matching(self, title: str) -> list[Parameter]:
        return [member for member in self._members[title] if self._matches(member, title)]

    @property
    def all_open(self) -> bool:
        return all(folding.is_open for folding in self.groups.values())

    def open_all(self, on: bool) -> None:
        """Open every group, or fold them all."""
        for folding in self.groups.values():
            folding.open(on)

    def _opened(self) -> list[str]:
        """Titles of the groups that are open for stages of this kind."""
        stage = self.stage
        return [] if stage is None else self._settings.opened.get(stage.kind, "").split(",")

    def _remember(self) -> None:
        """Keep which groups are open for all stages of this kind."""
        stage = self.stage
        self.folded.emit()
        if stage is not None and not self._words:
            opened = ",".join(title for title, folding in self.groups.items() if folding.is_open)
            self._settings.opened = {**self._settings.opened, stage.kind: opened}

    # -- changing -----------------------------------------------------------------------

    def _offer_more(self, name: str, menu: QMenu) -> None:
        """Offer what else can be done with a control: its lane, and macros."""
        stage = self.stage
        add_lane_menu(menu, self._sessions, self._control(name))
        if stage is not None and name in stage.params and can_be_moved(stage, name):
            add_macro_menu(menu, self._sessions, self._selection, stage, name)

    def _commit(self, name: str) -> None:
        """Make the change a step, and say what else moved with it."""
        if self._writer.let_go(self._control(name)):
            return
        self._gesture.keep()
        if self._sentence:
            self._messages.say(self._sentence)
            self._sentence = ""

    def _set(self, name: str, value: Value) -> None:
        stage = self.stage
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
        """Put every control under a heading back to its default, as one step."""
        stage = self.stage
        if stage is None:
            return
        ids = {member.id for member in self._members[group.value]}
        defaults = {p.id: p.default_value for p in stage.declaration.parameters if p.id in ids}
        extra = AS_NEW if group is Group.OUTPUT else {}
        self._sessions.document.commit(f"{group.value} to defaults", lambda session: edit_stage(
            session, self._selection.strip_id, stage.id,
            lambda old: replace_stage(old, params={**old.params, **defaults}, **extra)))


def _behind_the_front(kind: StageKind, group: Group) -> list[Parameter]:
    """The controls that a group's heading stands for."""
    members = [p for p in kind.parameters if p.group is group and p.id not in kind.front and not isinstance(p, Steps)]
    return [*members, *STAGE_CONTROLS] if group is Group.OUTPUT else members


def _within(label: str) -> str:
    """A label within a sentence: in small letters, unless it is an abbreviation."""
    return label if len(label) < 2 or label[1].isupper() else label[0].lower() + label[1:]
