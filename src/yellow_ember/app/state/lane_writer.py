"""What moving a control does where its value comes from a lane, or while moves are recorded."""

from __future__ import annotations

import enum
from dataclasses import dataclass, field

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.dsp.lanes import Lane, Point, lane_position, position_at, value_of
from yellow_ember.dsp.parameters import Parameter, Value, as_number, as_pair
from yellow_ember.engine.live.client import EngineState
from yellow_ember.session.document import Edit, Settle, Trial
from yellow_ember.session.edits.lane_edits import (
    begin_lane,
    offset_lane,
    put_lane,
    thinned,
    with_point,
    with_stretch,
)
from yellow_ember.session.values.drawn import drawable, find_lane, lane_parameter
from yellow_ember.session.values.model import Session

_STILL_SECONDS = 0.08
"""A control that was let alone for so long has stayed where it was until then."""
Control = tuple[str, str, str]
"""Ids of the strip, of the stage ("" for the strip's own), and of what is moved."""


class Ride(enum.Enum):
    """How moves are recorded while playing."""

    OFF = "off"
    TOUCH = "touch"
    """As long as a control is held."""
    LATCH = "latch"
    """From the first touch until playing ends."""


RIDES = {Ride.OFF: "Off", Ride.TOUCH: "Touch", Ride.LATCH: "Latch"}


@dataclass
class _Take:
    """Moves of one control that are being recorded."""

    parameter: Parameter
    trial: Trial
    passes: list[list[Point]] = field(default_factory=lambda: [[]])
    """Points in the order in which they came; a jump back in time begins another list."""

    def add(self, seconds: float, value: float) -> None:
        points = self.passes[-1]
        if points and seconds < points[-1].seconds:
            points = []
            self.passes.append(points)
        if points and seconds - points[-1].seconds > _STILL_SECONDS:
            points.append(Point(seconds - 0.5 * _STILL_SECONDS, points[-1].value))
        points.append(Point(seconds, value))


class LaneWriter(QObject):
    """Takes the moves of controls that have a lane, and records moves while playing.

    `changed` is sent when recording is switched, or a take begins or ends; `asking` when a lane was moved by its
    control and waits for `keep_offset`, `keep_point` or `drop`.
    """

    changed = pyqtSignal()
    asking = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, playback: Playback, settings: Settings, messages: Messages) -> None:
        super().__init__()
        self._sessions, self._playback, self._settings, self._messages = sessions, playback, settings, messages
        self.ride = Ride.OFF
        self._takes: dict[Control, _Take] = {}
        self._heard = 0.0
        """The second that was heard last."""
        self._moved: tuple[Control, Parameter, Lane, float] | None = None
        """What is moved by hand though it has a lane: which, its lane as it was, and by how much of the control."""
        self._trial: Trial | None = None
        playback.frame.connect(self._on_frame)
        sessions.adopting.connect(lambda _session: self._forget())

    def set_ride(self, ride: Ride) -> None:
        """Record moves from now on, or no more."""
        if ride is not self.ride:
            self._finish_all()
            self.ride = ride
            self.changed.emit()

    @property
    def seconds(self) -> float:
        """Where playing is heard."""
        return self._playback.state.position / self._sessions.session.rate

    def drawn_value(self, control: Control) -> float | None:
        """What a control's lane says now; None where it has none that is on."""
        strip_id, stage_id, name = control
        strip = self._sessions.session.strip(strip_id)
        lane = find_lane(strip, stage_id, name)
        if lane is None or not lane.on or control in self._takes:
            return None
        parameter = lane_parameter(strip, stage_id, name)
        return value_of(parameter, position_at(lane, parameter, self.seconds))

    def move(self, control: Control, value: Value, edit: Edit) -> bool:
        """Take a control's move, if it is recorded or goes to a lane; else give it back with False.

        Parameters
        ----------
        edit : Edit
            What the move would do to the session.
        """
        strip_id, stage_id, name = control
        strip = self._sessions.session.strip(strip_id)
        parameter = drawable(strip, stage_id, name)
        if parameter is None:
            return False
        number = sum(as_pair(value)) / 2.0 if isinstance(value, tuple) else as_number(value) if isinstance(
            value, int | float) else None
        if number is None:
            return False
        if self.ride is not Ride.OFF and self._playback.state.playing:
            self._record(control, parameter, number, edit)
            return True
        lane = find_lane(strip, stage_id, name)
        if lane is None or not lane.on:
            return False
        self._offset(control, parameter, lane, number)
        return True

    # -- recording ----------------------------------------------------------------------

    def _record(self, control: Control, parameter: Parameter, value: float, edit: Edit) -> None:
        strip_id, stage_id, name = control
        take = self._takes.get(control)
        if take is None:
            trial = self._sessions.document.trial(f"Ride of {parameter.label}", Settle.KEEP)
            take = self._takes[control] = _Take(parameter, trial)
            self.changed.emit()
        take.add(self.seconds, value)

        def heard(session: Session) -> Session:
            # What is under the hand is heard, and not the lane that it will replace.
            lane = find_lane(session.strip(strip_id), stage_id, name)
            session = edit(session)
            return session if lane is None else put_lane(session, strip_id, stage_id, _off(lane))

        take.trial.show(heard)

    def let_go(self, control: Control) -> bool:
        """A hand has let go of a control; False where that was nothing of ours."""
        if control in self._takes:
            if self.ride is Ride.TOUCH:
                self._finish(control)
            return True
        if self._trial is not None:
            self.asking.emit()
            return True
        return False

    def _on_frame(self, state: EngineState) -> None:
        if state.playing:
            self._heard = self.seconds
        elif self._takes:
            self._finish_all()

    def _finish_all(self) -> None:
        for control in list(self._takes):
            self._finish(control)

    def _finish(self, control: Control) -> None:
        """Make what was recorded of a control a lane, as one step."""
        strip_id, stage_id, name = control
        take = self._takes.pop(control)
        if self.ride is Ride.LATCH:
            # It stayed where it was left until playing ended.
            take.add(self._heard, take.passes[-1][-1].value)
        passes = [thinned(points, take.parameter) for points in take.passes if points]

        def written(session: Session) -> Session:
            session = begin_lane(session, strip_id, stage_id, name)
            lane = find_lane(session.strip(strip_id), stage_id, name)
            assert lane is not None
            for points in passes:
                lane = with_stretch(lane, take.parameter, points)
            return put_lane(session, strip_id, stage_id, lane)

        take.trial.show(written)
        take.trial.keep()
        count = sum(map(len, passes))
        self._messages.say(f"{take.parameter.label}: {count} point{'s' if count != 1 else ''} written")
        self.changed.emit()

    def _forget(self) -> None:
        self._takes.clear()
        self._trial, self._moved = None, None

    # -- a lane moved by its control ------------------------------------------------------

    def _offset(self, control: Control, parameter: Parameter, lane: Lane, value: float) -> None:
        """Let all of a lane be heard higher or lower, so that it is at the value now."""
        if self._moved is None or self._moved[0] != control:
            self.drop()
            self._trial = self._sessions.document.trial(f"Offset of {parameter.label}", Settle.DROP)
            self._moved = control, parameter, lane, 0.0
        _, _, origin, _ = self._moved
        by = lane_position(parameter, value) - position_at(origin, parameter, self.seconds)
        self._moved = control, parameter, origin, by
        assert self._trial is not None
        self._trial.show(lambda session: put_lane(session, *control[:2], offset_lane(origin, parameter, by)))

    @property
    def offset_words(self) -> str:
        """What is asked about, in words; "" where nothing is."""
        return "" if self._moved is None else self._moved[1].label

    def keep_offset(self) -> None:
        """Leave the whole lane moved."""
        if self._trial is not None:
            self._trial.keep()
        self._trial, self._moved = None, None

    def keep_point(self) -> None:
        """Write the value that was set as a point where playing is, and leave the rest of the lane as it was."""
        if self._trial is None or self._moved is None:
            return
        control, parameter, lane, by = self._moved
        position = position_at(lane, parameter, self.seconds) + by
        point = Point(self.seconds, value_of(parameter, min(max(position, 0.0), 1.0)))
        self._trial.show(lambda session: put_lane(session, *control[:2], with_point(lane, point)))
        self._trial.keep(f"Point of {parameter.label}")
        self._trial, self._moved = None, None

    def drop(self) -> None:
        """Leave the lane as it was."""
        if self._trial is not None:
            self._trial.drop()
        self._trial, self._moved = None, None


def _off(lane: Lane) -> Lane:
    return Lane(parameter=lane.parameter, points=lane.points, on=False)
