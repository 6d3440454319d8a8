"""Lanes: how a parameter moves along the session, point by point, and what a compiled stage reads of that."""

from __future__ import annotations

import enum
import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.parameters import Number, Parameter, Switch, Value
from yellow_ember.dsp.record import Record, setting, vector, whole_setting, whole_vector

GRID = 64
"""Frames: parameters that move along a lane are looked at so often, counted from the session's start."""
MAXIMUM_POINTS = 10_000
"""Of one lane."""
STEP_SECONDS = 0.015
"""A step of a parameter that glides takes so long."""


class Shape(enum.Enum):
    """How a lane goes on from a point to the next."""

    HOLD = "hold"
    LINE = "line"
    CURVE = "curve"
    """Slowly away, slowly there."""


SHAPES = tuple(Shape)


@dataclass(frozen=True, slots=True)
class Point:
    """A place of a lane.

    Attributes
    ----------
    seconds : float
        From the session's start.
    value : float
        In the parameter's unit; of a switch 0 to 1.
    """

    seconds: float
    value: float
    shape: Shape = Shape.LINE


@dataclass(frozen=True, slots=True, kw_only=True)
class Lane:
    """A parameter along the session.

    Attributes
    ----------
    parameter : str
        Its id: of a stage's parameter, or of what every stage or every strip has.
    points : tuple[Point, ...]
        At least one, in the order of time.
    on : bool
        False where the parameter stays as it is set for now.
    """

    parameter: str
    points: tuple[Point, ...]
    on: bool = True


def lane_position(parameter: Parameter, value: float) -> float:
    """Where a lane's value lies on its parameter's control, 0 to 1."""
    return parameter.position(parameter.clamp(value)) if isinstance(parameter, Number) else min(max(value, 0.0), 1.0)


def value_of(parameter: Parameter, position: float) -> float:
    """The value at a position, the inverse of `lane_position`."""
    return parameter.clamp(parameter.at(position)) if isinstance(parameter, Number) else position


def set_value(parameter: Parameter, position: float) -> Value:
    """What the parameter is set to at a position: a number, or on from the middle up."""
    return position >= 0.5 if isinstance(parameter, Switch) else value_of(parameter, position)


def position_at(lane: Lane, parameter: Parameter, seconds: float) -> float:
    """Where on its control a lane's parameter is at a second, 0 to 1."""
    points = lane.points
    if seconds <= points[0].seconds:
        return lane_position(parameter, points[0].value)
    for point, following in itertools.pairwise(points):
        if seconds < following.seconds:
            first, last = lane_position(parameter, point.value), lane_position(parameter, following.value)
            share = (seconds - point.seconds) / (following.seconds - point.seconds)
            return first + (last - first) * _share(SHAPES.index(point.shape), share)
    return lane_position(parameter, points[-1].value)


@kernel
def _share(shape: int, share: float) -> float:
    """How much of the way to the next point is done; shape : its place in `SHAPES`"""
    if shape == 0:
        return 0.0
    return 0.5 - 0.5 * math.cos(math.pi * share) if shape == 2 else share


class LaneRecord(Record):
    """A lane's points.

    Attributes
    ----------
    frames, positions : Samples
        Where they lie, in frames of the session, and on the parameter's control.
    shapes : NDArray[np.int64]
        How it goes on from each, by place in `SHAPES`.
    """

    frames: Samples = setting("points")
    positions: Samples = setting("points")
    shapes: NDArray[np.int64] = whole_setting("points")


LANE = LaneRecord.dtype


@kernel
def lane_at(lane: LaneRecord, frame: float) -> float:
    """Where on its control the parameter is at a frame, 0 to 1."""
    frames, positions = vector(lane.frames), vector(lane.positions)
    low, high = 0, frames.shape[0] - 1
    if frame >= frames[high]:
        return float(positions[high])
    if frame <= frames[0]:
        return float(positions[0])
    while high - low > 1:
        middle = (low + high) // 2
        if frames[middle] <= frame:
            low = middle
        else:
            high = middle
    share = (frame - frames[low]) / (frames[high] - frames[low])
    return float(positions[low] + (positions[high] - positions[low]) * _share(whole_vector(lane.shapes)[low], share))


def lane_record(lane: Lane, parameter: Parameter, rate: float, *, glides: bool) -> LaneRecord:
    """Return a lane as compiled code reads it.

    Parameters
    ----------
    glides : bool
        A step takes STEP_SECONDS, as far as the next point lets it.
    """
    points = [(point.seconds * rate, lane_position(parameter, point.value), SHAPES.index(point.shape))
              for point in lane.points]
    if glides:
        points = _without_steps(points, STEP_SECONDS * rate)
    record = LaneRecord.make(points=len(points))
    record.frames, record.positions, record.shapes = (np.array(column) for column in zip(*points, strict=True))
    return record


def _without_steps(points: Sequence[tuple[float, float, int]], longest: float) -> list[tuple[float, float, int]]:
    """Points with a short line in place of every step."""
    result = [points[0]]
    for index in range(1, len(points)):
        frame, position, shape = points[index]
        before, held = result[-1], result[-1][1]
        steps = before[2] == 0 or frame <= before[0]
        if steps and position != held:
            room = points[index + 1][0] - frame if index + 1 < len(points) else longest
            length = min(longest, max(room, 0.0))
            if frame > before[0]:
                result.append((frame, held, 1))
            elif result[-1][0] == frame:
                result[-1] = (frame, held, 1)
            if length > 0.0:
                result.append((frame + length, position, shape))
        else:
            result.append((frame, position, shape))
    return result


def can_have_lane(parameter: Parameter) -> bool:
    """True for what can move along the session: numbers and switches."""
    return isinstance(parameter, Number | Switch)
