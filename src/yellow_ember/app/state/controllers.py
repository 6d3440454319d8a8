"""MIDI controllers: what moves what, learnt by moving it; kept with the program."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from yellow_ember.app.state.commands import Commands
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.lane_writer import Control, LaneWriter
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.midi_devices import MidiDevices
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.dsp.parameters import Number, Option, Parameter, Switch, Value
from yellow_ember.dsp.stages import STAGES
from yellow_ember.session.document import Edit
from yellow_ember.session.edits.edits import edit_strip, set_macro, set_parameter
from yellow_ember.session.values.macros import macro_number
from yellow_ember.session.values.strip_values import PAN, VOLUME

STRIP, MACRO, STAGE, COMMAND = "strip", "macro", "stage", "command"
"""What a target begins with: the chosen strip's fader or pan, one of its macros by number, a parameter of its stage of
a kind, or a command of the menus."""
_NOTE_ON, _CONTROL_CHANGE = 0x90, 0xB0
_FULL = 127.0
_NEAR = 2.5 / _FULL
"""So near to a value a controller has to come, or past it, to pick it up."""
_LET_GO_MS = 600
_FEEDBACK_SECONDS = 0.05
_LEARNT_SECONDS = 30.0


@dataclass(frozen=True, slots=True)
class Assignment:
    """What one controller moves.

    Attributes
    ----------
    message : str
        "cc" or "note", channel from 1, and number.
    target : str
        What it moves, as above.
    relative : bool
        It says how far it was turned, not where it stands.
    jumps : bool
        A move is taken at once; else only from where the value is.
    """

    message: str
    target: str
    relative: bool = False
    jumps: bool = False

    @property
    def kept(self) -> str:
        """As the settings keep it, beside the message."""
        return "|".join((self.target, "relative" if self.relative else "absolute", "jump" if self.jumps else "pickup"))

    @classmethod
    def of(cls, message: str, kept: str) -> Assignment:
        target, _, ways = kept.partition("|")
        return cls(message, target, "relative" in ways, "jump" in ways)


@dataclass(frozen=True, slots=True)
class _Reached:
    """What a target is just now."""

    parameter: Parameter
    control: Control
    value: Value
    edit: Callable[[Value], Edit]


class Controllers(QObject):
    """Takes what controllers send, and tells them where values are; `changed` when assignments do."""

    changed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, lane_writer: LaneWriter, commands: Commands, midi_devices: MidiDevices) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback = sessions, selection, playback
        self._settings, self._messages, self._writer, self._commands = settings, messages, lane_writer, commands
        self._devices = midi_devices
        self._gesture = Gesture(sessions)
        self._learning, self._learning_until = "", 0.0
        self._held: Control | None = None
        self._last: dict[str, float] = {}
        """Where each controller stood last, 0 to 1."""
        self._picked: dict[str, Control] = {}
        """What each has picked up."""
        self._shown: dict[str, int] = {}
        self._shown_at = 0.0
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(_LET_GO_MS)
        self._settle.timeout.connect(self._let_go)
        playback.beat.connect(self._on_beat)
        midi_devices.moved.connect(self.take)

    # -- assignments --------------------------------------------------------------------

    @property
    def all(self) -> list[Assignment]:
        """By their messages."""
        return [Assignment.of(*entry) for entry in sorted(self._settings.controllers.items())]

    def keep(self, assignment: Assignment) -> None:
        """Take an assignment in place of the one that its message had."""
        self._settings.controllers = {**self._settings.controllers, assignment.message: assignment.kept}
        self._picked.pop(assignment.message, None)
        self.changed.emit()

    def forget(self, message: str) -> None:
        """Let a message move nothing."""
        self._settings.controllers = {name: kept for name, kept in self._settings.controllers.items()
                                      if name != message}
        self.changed.emit()

    def learn(self, target: str) -> None:
        """Have the next controller that moves move this."""
        self._learning, self._learning_until = target, time.monotonic() + _LEARNT_SECONDS
        self._messages.say(f"Move a controller: it will move {self.words(target)}")

    def words(self, target: str) -> str:
        """What a target is called."""
        kind, _, name = target.partition(" ")
        if kind == STRIP:
            return f"{VOLUME.label if name == VOLUME.id else PAN.label} of the chosen strip"
        if kind == MACRO:
            return f"Macro {name} of the chosen strip"
        if kind == COMMAND:
            return name
        stage, _, parameter = name.partition(" ")
        declaration = next((one for one in STAGES if one.kind == stage), None)
        known = declaration is not None and any(one.id == parameter for one in declaration.parameters)
        return f"{declaration.label}: {declaration.parameter(parameter).label}" if declaration and known else name

    # -- what comes in ------------------------------------------------------------------

    def _on_beat(self) -> None:
        engine = self._playback.engine
        if engine is None:
            return
        for message in engine.take_moved():
            self.take(message)
        if time.monotonic() > self._shown_at + _FEEDBACK_SECONDS:
            self._shown_at = time.monotonic()
            self._show_values()

    def take(self, message: bytes) -> None:
        """Do what a message is assigned to, or learn it."""
        if len(message) != 3 or message[0] & 0xF0 not in (_NOTE_ON, _CONTROL_CHANGE):
            return
        what = "note" if message[0] & 0xF0 == _NOTE_ON else "cc"
        name = f"{what} {(message[0] & 0x0F) + 1} {message[1]}"
        if self._learning and time.monotonic() < self._learning_until:
            target, self._learning = self._learning, ""
            self.keep(Assignment(name, target))
            self._messages.say(f"{name} moves {self.words(target)}")
            return
        kept = self._settings.controllers.get(name)
        if kept is not None:
            self._shown[name] = message[2]
            self._move(Assignment.of(name, kept), message[2])

    def _move(self, assignment: Assignment, number: int) -> None:
        kind, _, rest = assignment.target.partition(" ")
        if kind == COMMAND:
            command = next((one for one in self._commands.all if one.name == rest), None)
            # A key says when it is let go as well.
            if command is not None and number > 0 and command.action.isEnabled():
                command.action.trigger()
            return
        reached = self._reach(assignment.target)
        if reached is None:
            return
        now = _position(reached.parameter, reached.value)
        if assignment.relative:
            there = now + (number if number < 64 else number - 128) / _FULL
        else:
            there = number / _FULL
            if not self._picks_up(assignment, reached.control, now, there):
                return
        self._set(reached, min(max(there, 0.0), 1.0))

    def _picks_up(self, assignment: Assignment, control: Control, now: float, there: float) -> bool:
        before = self._last.get(assignment.message)
        self._last[assignment.message] = there
        if assignment.jumps or self._picked.get(assignment.message) == control:
            return True
        if abs(there - now) <= _NEAR or (before is not None and (before - now) * (there - now) <= 0.0):
            self._picked[assignment.message] = control
            return True
        return False

    def _set(self, reached: _Reached, position: float) -> None:
        value = _value_at(reached.parameter, position, reached.value)
        if self._held not in (None, reached.control):
            self._let_go()
        self._held = reached.control
        self._settle.start()
        if not self._writer.move(reached.control, value, reached.edit(value)):
            self._gesture.show(reached.parameter.label, reached.control, reached.edit(value))

    def _let_go(self) -> None:
        """It rests: what it did is a step, or a ride is written."""
        held, self._held = self._held, None
        self._settle.stop()
        if held is None or not self._writer.let_go(held):
            self._gesture.keep()

    def _reach(self, target: str) -> _Reached | None:
        """What of the chosen strip a target is now, None where it has none such."""
        kind, _, name = target.partition(" ")
        strip = self._selection.strip
        if kind == STRIP:
            parameter = VOLUME if name == VOLUME.id else PAN
            return _Reached(parameter, (strip.id, "", parameter.id), getattr(strip, parameter.id), lambda value: (
                lambda session: edit_strip(session, strip.id, lambda old: old.with_(**{parameter.id: value}))))
        if kind == MACRO:
            index = int(name) - 1 if name.isdecimal() else -1
            if not 0 <= index < len(strip.macros):
                return None
            macro = strip.macros[index]
            return _Reached(macro_number(macro), (strip.id, "", macro.id), macro.value, lambda value: (
                lambda session: set_macro(session, strip.id, macro.id, float(str(value)))))
        stage_name, _, parameter_id = name.partition(" ")
        stages = [stage for stage in strip.chain if stage.kind == stage_name and parameter_id in stage.params]
        if not stages:
            return None
        stage = next((one for one in stages if one.id == self._selection.stage_id), stages[0])
        return _Reached(stage.declaration.parameter(parameter_id), (strip.id, stage.id, parameter_id),
                        stage.params[parameter_id], lambda value: (
                            lambda session: set_parameter(session, strip.id, stage.id, parameter_id, value)))

    # -- what goes out ------------------------------------------------------------------

    def _show_values(self) -> None:
        """Tell controllers where values are that they do not stand at."""
        news = []
        for assignment in self.all:
            what, channel, number = assignment.message.split(" ")
            reached = self._reach(assignment.target) if what == "cc" and not assignment.relative else None
            if reached is None or self._held == reached.control:
                continue
            value = round(_FULL * _position(reached.parameter, reached.value))
            if self._shown.get(assignment.message) != value:
                self._shown[assignment.message] = value
                self._last[assignment.message] = value / _FULL
                news.append(bytes((_CONTROL_CHANGE | (int(channel) - 1), int(number), value)))
        if news:
            self._devices.send(news)
            if self._playback.engine is not None:
                self._playback.engine.send_midi(tuple(news))


def _position(parameter: Parameter, value: Value) -> float:
    """Where a value lies, 0 to 1."""
    if isinstance(parameter, Number):
        return parameter.position(value)
    if isinstance(parameter, Option):
        return parameter.index(value) / max(1, len(parameter.choices) - 1)
    return float(bool(value))


def _value_at(parameter: Parameter, position: float, value: Value) -> Value:
    """The value at a place; both sides of a pair go there."""
    if isinstance(parameter, Number):
        number = parameter.clamp(parameter.at(position))
        return (number, number) if isinstance(value, tuple) else number
    if isinstance(parameter, Option):
        return parameter.value_at(round(position * (len(parameter.choices) - 1)))
    return position >= 0.5 if isinstance(parameter, Switch) else value
