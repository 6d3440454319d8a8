"""Conversion of lanes to what a file holds of them, and back."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Literal

from yellow_ember.dsp.lanes import Lane, Point, Shape
from yellow_ember.dsp.parameters import Number, Parameter
from yellow_ember.session.io.content_types import LaneContent, PointContent
from yellow_ember.session.io.field_types import Between

Times = Literal["seconds", "beats"]
"""What the points of a kind of file's lanes are counted in; presets and sets serve any tempo."""


def lane_contents(lanes: Iterable[Lane], times: Times) -> list[LaneContent]:
    """Return lanes as a file holds them, the inverse of `lanes_from`."""
    return [LaneContent.model_construct(
        parameter=lane.parameter, on=lane.on, points=[_point_content(point, times) for point in lane.points])
        for lane in lanes]


def _point_content(point: Point, times: Times) -> PointContent:
    seconds, beats = (point.seconds, None) if times == "seconds" else (None, point.seconds)
    return PointContent.model_construct(seconds=seconds, beats=beats, value=point.value, shape=point.shape.value)


def lanes_from(contents: Sequence[LaneContent], parameter_of: Callable[[str], Parameter], position: str,
               times: Times) -> tuple[Lane, ...]:
    """Return the lanes that a file holds.

    Parameters
    ----------
    parameter_of : Callable[[str], Parameter]
        What a lane's name stands for; KeyError or ValueError where it can have none.

    Raises
    ------
    ValueError
        Names the position in the file, below `position`, and the reason.
    """
    names = [content.parameter for content in contents]
    for index, name in enumerate(names):
        if name in names[:index]:
            raise ValueError(f"{position}[{index}].parameter: {name!r} has a lane already")
    return tuple(_lane_from(content, parameter_of, f"{position}[{index}]", times)
                 for index, content in enumerate(contents))


def _lane_from(content: LaneContent, parameter_of: Callable[[str], Parameter], position: str, times: Times) -> Lane:
    try:
        parameter = parameter_of(content.parameter)
    except KeyError:
        raise ValueError(f"{position}.parameter: there is no {content.parameter!r} to have a lane") from None
    except ValueError as reason:
        raise ValueError(f"{position}.parameter: {reason}") from None
    low, high = (parameter.minimum, parameter.maximum) if isinstance(parameter, Number) else (0.0, 1.0)
    within = Between(low, high)
    points: list[Point] = []
    for number, point in enumerate(content.points):
        place = f"{position}.points[{number}]"
        try:
            within.check(point.value)
        except ValueError as reason:
            raise ValueError(f"{place}.value: {reason}") from None
        time, other = (point.seconds, point.beats) if times == "seconds" else (point.beats, point.seconds)
        if time is None or other is not None:
            raise ValueError(f"{place}: its time must be given in {times}")
        if points and time < points[-1].seconds:
            raise ValueError(
                f"{place}.{times}: must not lie before {points[-1].seconds:g}, where the point before it is")
        points.append(Point(time, point.value, Shape(point.shape)))
    return Lane(parameter=content.parameter, points=tuple(points), on=content.on)
