"""The chosen strip's macros: a row of controls, and the menu that puts a parameter into one."""

from __future__ import annotations

from PyQt6.QtWidgets import QGridLayout, QMenu, QWidget

from yellow_ember.app.panels.lane_menu import add_lane_menu, follow_lane
from yellow_ember.app.panels.learning import add_learning
from yellow_ember.app.state.controllers import MACRO, Controllers
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.lane_writer import LaneWriter
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets.layouts import clear
from yellow_ember.app.widgets.text import menu_text
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Value, as_number
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.session.edits.edits import add_macro, edit_macro, set_macro
from yellow_ember.session.values.macros import MAX_MACROS, Macro, macro_number, target_from_here
from yellow_ember.session.values.model import Session

_IN_A_ROW = 4


class MacroRow(QWidget):
    """Hidden while the strip has no macros."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, writer: LaneWriter, playback: Playback,
                 controllers: Controllers) -> None:
        super().__init__()
        self._sessions, self._selection, self._writer = sessions, selection, writer
        self._controllers = controllers
        self._gesture = Gesture(self._sessions)
        self.bars: dict[str, ValueBar] = {}
        self._shown: object = None
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(10, 4, 10, 0)
        self._grid.setSpacing(4)
        self._sessions.changed.connect(self.refresh)
        self._selection.changed.connect(self.refresh)
        playback.frame.connect(lambda _state: self._show_lanes())
        self.refresh()

    def refresh(self) -> None:
        strip = self._selection.strip
        requested = strip.id, [(macro.id, macro.name, macro.targets) for macro in strip.macros]
        if requested != self._shown:
            self._shown = requested
            self._build(strip.macros)
        for macro in strip.macros:
            follow_lane(self.bars[macro.id], self._writer, (strip.id, "", macro.id), macro.value)
        self.setVisible(bool(strip.macros))

    def _build(self, macros: tuple[Macro, ...]) -> None:
        self._gesture.keep()
        clear(self._grid)
        self.bars = {}
        for index, macro in enumerate(macros):
            bar = ValueBar(macro_number(macro))
            bar.changing.connect(lambda value, chosen=macro.id: self._set(chosen, value))
            bar.committed.connect(lambda _value, chosen=macro.id: self._commit(chosen))
            bar.menu_opening.connect(lambda menu, chosen=macro.id: add_lane_menu(
                menu, self._sessions, (self._selection.strip_id, "", chosen)))
            add_learning(bar, self._controllers, f"{MACRO} {index + 1}")
            self.bars[macro.id] = bar
            self._grid.addWidget(bar, index // _IN_A_ROW, index % _IN_A_ROW)

    def _set(self, macro_id: str, value: Value) -> None:
        strip = self._selection.strip

        def edit(session: Session) -> Session:
            return set_macro(session, strip.id, macro_id, as_number(value))

        if not self._writer.move((strip.id, "", macro_id), value, edit):
            self._gesture.show(strip.macro(macro_id).name, (strip.id, macro_id), edit)

    def _commit(self, macro_id: str) -> None:
        if not self._writer.let_go((self._selection.strip_id, "", macro_id)):
            self._gesture.keep()

    def _show_lanes(self) -> None:
        strip = self._selection.strip
        if any(lane.parameter in self.bars for lane in strip.lanes):
            self.refresh()


def add_macro_menu(menu: QMenu, sessions: SessionKeeper, selection: Selection, stage: StageSettings,
                   parameter: str) -> None:
    """Offer to put a parameter into a macro, or to take it out."""
    strip = selection.strip
    label = stage.declaration.parameter(parameter).label

    def put(macro: Macro) -> None:
        target = target_from_here(stage, parameter, stage.params[parameter])
        sessions.document.commit(f"Add {label} to {macro.name}", lambda session: edit_macro(
            session, strip.id, macro.id,
            lambda old: old.with_target(target)))

    def take(macro: Macro) -> None:
        sessions.document.commit(f"Remove {label} from {macro.name}", lambda session: edit_macro(
            session, strip.id, macro.id, lambda old: old.without(stage.id, parameter)))

    def put_into_new() -> None:
        target = target_from_here(stage, parameter, stage.params[parameter])
        sessions.document.commit("New macro", lambda session: add_macro(
            session, strip.id, f"{label}, macro {len(strip.macros) + 1}", (target,)))

    menu.addSeparator()
    for macro in strip.macros:
        if macro.targeting(stage.id, parameter):
            menu.addAction(menu_text(f"Remove from {macro.name}"), lambda chosen=macro: take(chosen))
        else:
            menu.addAction(menu_text(f"Add to {macro.name}"), lambda chosen=macro: put(chosen))
    if len(strip.macros) < MAX_MACROS:
        menu.addAction("Add to a new macro", put_into_new)
