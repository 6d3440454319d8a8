"""Edits of lanes: begun, drawn, moved, recorded; and lanes that are made from passages."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from yellow_ember.dsp.lanes import MAXIMUM_POINTS, Lane, Point, lane_position, position_at, value_of
from yellow_ember.dsp.parameters import Parameter, Value, as_number, as_pair
from yellow_ember.dsp.stage_values import DRY, ON
from yellow_ember.session.edits.edits import edit_stage, edit_strip, replace_stage
from yellow_ember.session.values.drawn import find_lane, lane_parameter
from yellow_ember.session.values.model import Session, Strip
from yellow_ember.session.values.places import Passage
from yellow_ember.session.values.strip_values import BYPASS

HEARD = 0.004
"""Points that lie no farther from a line, as a share of the control, are not heard."""
_APART = 1e-4
"""Seconds: points that are nearer are one."""


def put_lane(session: Session, strip_id: str, stage_id: str, lane: Lane) -> Session:
    """A lane in place of the one of the same parameter, or beside the others."""

    def put(lanes: tuple[Lane, ...]) -> tuple[Lane, ...]:
        kept = tuple(lane if old.parameter == lane.parameter else old for old in lanes)
        return kept if lane in kept else (*kept, lane)

    return _edit_lanes(session, strip_id, stage_id, put)


def remove_lane(session: Session, strip_id: str, stage_id: str, name: str) -> Session:
    """Without the lane of a parameter, which stays as it is set."""
    return _edit_lanes(session, strip_id, stage_id,
                       lambda lanes: tuple(lane for lane in lanes if lane.parameter != name))


def _edit_lanes(session: Session, strip_id: str, stage_id: str,
                change: Callable[[tuple[Lane, ...]], tuple[Lane, ...]]) -> Session:
    if not stage_id:
        return edit_strip(session, strip_id, lambda strip: strip.with_(lanes=change(strip.lanes)))
    return edit_stage(session, strip_id, stage_id, lambda stage: replace_stage(stage, lanes=change(stage.lanes)))


def present_value(strip: Strip, stage_id: str, name: str) -> float:
    """What a parameter is set to, as a lane holds it: of a pair the middle, of a switch 0 or 1."""
    if stage_id:
        stage = strip.stage(stage_id)
        value: Value = {**stage.own_values, **stage.params}[name]
    else:
        value = getattr(strip, name) if hasattr(strip, name) else strip.macro(name).value
    if value is None:
        return DRY.minimum
    return sum(as_pair(value)) / 2.0 if isinstance(value, tuple) else as_number(value)


def begin_lane(session: Session, strip_id: str, stage_id: str, name: str) -> Session:
    """A lane that stays where the parameter is set now; a lane that is there already stays."""
    strip = session.strip(strip_id)
    lane_parameter(strip, stage_id, name)
    if find_lane(strip, stage_id, name) is not None:
        return session
    point = Point(0.0, present_value(strip, stage_id, name))
    return put_lane(session, strip_id, stage_id, Lane(parameter=name, points=(point,)))


def with_point(lane: Lane, point: Point) -> Lane:
    """The lane with a point, in place of one at the same time."""
    others = [old for old in lane.points if abs(old.seconds - point.seconds) > _APART]
    if len(others) >= MAXIMUM_POINTS:
        raise ValueError(f"a lane holds at most {MAXIMUM_POINTS} points")
    return replace(lane, points=tuple(sorted((*others, point), key=lambda one: one.seconds)))


def without_point(lane: Lane, index: int) -> Lane:
    """The lane without a point; the last one stays."""
    if len(lane.points) == 1:
        return lane
    return replace(lane, points=(*lane.points[:index], *lane.points[index + 1:]))


def moved_point(lane: Lane, index: int, point: Point) -> Lane:
    """The lane with one of its points elsewhere, between its neighbours."""
    low = lane.points[index - 1].seconds if index > 0 else 0.0
    high = lane.points[index + 1].seconds if index + 1 < len(lane.points) else point.seconds
    placed = replace(point, seconds=min(max(point.seconds, low), max(high, low)))
    return replace(lane, points=(*lane.points[:index], placed, *lane.points[index + 1:]))


def offset_lane(lane: Lane, parameter: Parameter, by: float) -> Lane:
    """The lane with all of it higher by a share of the control, as far as its range goes."""
    def moved(point: Point) -> Point:
        position = min(max(lane_position(parameter, point.value) + by, 0.0), 1.0)
        return replace(point, value=value_of(parameter, position))

    return replace(lane, points=tuple(map(moved, lane.points)))


def with_stretch(lane: Lane, parameter: Parameter, points: Sequence[Point]) -> Lane:
    """The lane with some points in place of all that it has between the first and the last of them.

    What lies beside them stays: at both ends the lane comes from where it was, and goes on from where it would be.
    """
    start, end = points[0].seconds, points[-1].seconds
    before = [point for point in lane.points if point.seconds < start - _APART]
    behind = [point for point in lane.points if point.seconds > end + _APART]
    left, right = ([Point(at, value_of(parameter, position_at(lane, parameter, at)))] for at in (start, end))
    room = MAXIMUM_POINTS - len(before) - len(behind) - len(left) - len(right)
    kept = list(points) if len(points) <= room else [*list(points)[:max(room - 1, 0)], points[-1]]
    return replace(lane, points=(*before, *left, *kept, *right, *behind))


def thinned(points: Sequence[Point], parameter: Parameter, tolerance: float = HEARD) -> list[Point]:
    """Points without those that lie so near the line between their neighbours that nobody hears them.

    Douglas and Peucker, The Canadian Cartographer 10, 1973, by the distance along the control.
    """
    if len(points) < 3:
        return list(points)
    times = np.array([point.seconds for point in points])
    places = np.array([lane_position(parameter, point.value) for point in points])
    kept = np.zeros(len(points), bool)
    kept[[0, -1]] = True
    waiting = [(0, len(points) - 1)]
    while waiting:
        first, last = waiting.pop()
        if last - first < 2:
            continue
        inner = slice(first + 1, last)
        length = times[last] - times[first]
        share = (times[inner] - times[first]) / length if length > 0.0 else np.ones(last - first - 1)
        away = np.abs(places[inner] - places[first] - share * (places[last] - places[first]))
        farthest = int(np.argmax(away))
        if away[farthest] > tolerance:
            middle = first + 1 + farthest
            kept[middle] = True
            waiting += [(first, middle), (middle, last)]
    return [point for point, stays in zip(points, kept, strict=True) if stays]


# -- from passages ----------------------------------------------------------------------


def only_in(session: Session, strip_id: str, stage_id: str, passage: Passage) -> Session:
    """A stage, or a strip's whole path, in a passage alone."""
    return _acting(session, strip_id, stage_id, _inside(passage, 1.0))


def not_in(session: Session, strip_id: str, stage_id: str, passage: Passage) -> Session:
    """A stage, or a strip's whole path, everywhere but in a passage."""
    return _acting(session, strip_id, stage_id, _inside(passage, 0.0))


def from_here_on(session: Session, strip_id: str, stage_id: str, seconds: float, fade: float) -> Session:
    """A stage, or a strip's whole path, from a second on."""
    points = [(0.0, 0.0)] if seconds > 0.0 else []
    return _acting(session, strip_id, stage_id, [*points, (seconds, 0.0), (seconds + fade, 1.0)])


def _inside(passage: Passage, inside: float) -> list[tuple[float, float]]:
    """Points of what is at a value in a passage, and at the opposite elsewhere."""
    outside = 1.0 - inside
    return [(passage.start, outside), (passage.start + passage.fade_in, inside), (passage.end, inside),
            (passage.end + passage.fade_out, outside)]


def _acting(session: Session, strip_id: str, stage_id: str, points: Sequence[tuple[float, float]]) -> Session:
    """Let a stage be on, or a path not bypassed, as points say."""
    if stage_id:
        lane = Lane(parameter=ON.id, points=tuple(Point(*point) for point in points))
    else:
        lane = Lane(parameter=BYPASS.id, points=tuple(Point(seconds, 1.0 - value) for seconds, value in points))
    return put_lane(session, strip_id, stage_id, lane)


def everywhere(session: Session, strip_id: str, stage_id: str) -> Session:
    """A stage, or a strip's whole path, as it is set, wherever it is."""
    return remove_lane(session, strip_id, stage_id, _acting_id(stage_id))


def acting_lane(strip: Strip, stage_id: str) -> Lane | None:
    """The lane that says when a stage, or a strip's path, acts; None where there is none."""
    return find_lane(strip, stage_id, _acting_id(stage_id))


def _acting_id(stage_id: str) -> str:
    return ON.id if stage_id else BYPASS.id


