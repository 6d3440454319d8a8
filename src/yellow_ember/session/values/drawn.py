"""What can be drawn over time of a strip, and lanes of macros as lanes of what the macros move."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace

from yellow_ember.dsp.lanes import Lane, Point, Shape, can_have_lane, lane_position, position_at, value_of
from yellow_ember.dsp.parameters import Number, Parameter
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stage_values import DRY, MIX, ON, WET
from yellow_ember.session.values.macros import Bend, Macro, Target, macro_number
from yellow_ember.session.values.model import Session, Strip
from yellow_ember.session.values.strip_values import BYPASS, MUTE, PAN, VOLUME

STRIP_LANES: tuple[Parameter, ...] = (VOLUME, PAN, MUTE, BYPASS)
"""What of every strip can move along the session."""
STAGE_LANES: tuple[Parameter, ...] = (ON, MIX, WET, DRY)
"""What of every stage can, beside its own parameters."""
_BENT_PIECES = 16
"""Straight pieces that stand for a target's bent way."""
_RATE = 48000.0


def lane_parameter(strip: Strip, stage_id: str, name: str) -> Parameter:
    """The parameter that a lane would move.

    Parameters
    ----------
    stage_id : str
        "" for the strip's own, and for its macros.

    Raises
    ------
    KeyError
        Where there is none such.
    ValueError
        Where it can't move along the session.
    """
    if stage_id:
        return stage_lane_parameter(strip.stage(stage_id), name)
    own = next((parameter for parameter in STRIP_LANES if parameter.id == name), None)
    return macro_number(strip.macro(name)) if own is None else own


def stage_lane_parameter(stage: StageSettings, name: str) -> Parameter:
    """The parameter of a stage that a lane would move; errors as of `lane_parameter`."""
    shared = next((parameter for parameter in STAGE_LANES if parameter.id == name), None)
    if shared is not None:
        return shared
    parameter = stage.declaration.parameter(name)
    if not can_have_lane(parameter):
        raise ValueError(f"{parameter.label} can't move along the session")
    return parameter


def can_be_drawn(stage: StageSettings, parameter: Parameter) -> bool:
    """True where a lane of a stage's parameter is offered: a number or a switch that a running stage takes as it is.

    Another setting may make the stage one that has to be rebuilt for it; a lane that it has by then stays, as far as
    the running stage can follow.
    """
    if not can_have_lane(parameter):
        return False
    ends = [replace(stage, params={**stage.params, parameter.id: value}) for value in (
        (parameter.minimum, parameter.maximum) if isinstance(parameter, Number) else (False, True))]
    return len({end.needs(_RATE) for end in ends}) == 1


def drawable(strip: Strip, stage_id: str, name: str) -> Parameter | None:
    """The parameter of a control that a lane is offered for; None where none is."""
    try:
        parameter = lane_parameter(strip, stage_id, name)
    except (KeyError, ValueError):
        return None
    is_own = bool(stage_id) and name in strip.stage(stage_id).params
    return parameter if not is_own or can_be_drawn(strip.stage(stage_id), parameter) else None


def lanes_of(strip: Strip) -> Iterator[tuple[str, Lane]]:
    """All lanes of a strip, each with its stage's id ("" for the strip's own)."""
    yield from (("", lane) for lane in strip.lanes)
    yield from ((stage.id, lane) for stage in strip.chain for lane in stage.lanes)


def find_lane(strip: Strip, stage_id: str, name: str) -> Lane | None:
    """The lane of a parameter, None where it has none."""
    return next((lane for own, lane in lanes_of(strip) if (own, lane.parameter) == (stage_id, name)), None)


def with_macros(strip: Strip, macros: tuple[Macro, ...]) -> Strip:
    """The strip with these macros; lanes of others are gone."""
    names = {macro.id for macro in macros} | {parameter.id for parameter in STRIP_LANES}
    return strip.with_(macros=macros, lanes=tuple(lane for lane in strip.lanes if lane.parameter in names))


def with_macro_lanes(session: Session) -> Session:
    """The session with lanes of macros as lanes of what they move; a lane of the parameter's own goes before."""
    for strip in session.strips:
        macros = {lane.parameter: lane for lane in strip.lanes if lane.on}
        moved = [(target, macro, macros[macro.id]) for macro in strip.macros if macro.id in macros
                 for target in macro.targets if find_lane(strip, target.stage, target.parameter) is None]
        for target, macro, lane in moved:
            strip = strip.with_(chain=tuple(
                replace(stage, lanes=(*stage.lanes, _target_lane(stage, target, macro, lane)))
                if stage.id == target.stage else stage for stage in strip.chain))
        if moved:
            session = session.with_strip(strip)
    return session


def _target_lane(stage: StageSettings, target: Target, macro: Macro, lane: Lane) -> Lane:
    number = stage.declaration.number(target.parameter)
    control = macro_number(macro)
    low, high = lane_position(number, target.low), lane_position(number, target.high)

    def value(seconds: float) -> float:
        return value_of(number, low + target.bend.share(position_at(lane, control, seconds)) * (high - low))

    points = []
    for point, following in itertools.pairwise(lane.points):
        is_straight = point.shape is Shape.LINE and target.bend is Bend.STRAIGHT
        pieces = 1 if point.shape is Shape.HOLD or is_straight else _BENT_PIECES
        shape, length = Shape.HOLD if point.shape is Shape.HOLD else Shape.LINE, following.seconds - point.seconds
        points += [Point(point.seconds + length * piece / pieces, value(point.seconds + length * piece / pieces), shape)
                   for piece in range(pieces)]
    last = lane.points[-1].seconds
    return Lane(parameter=target.parameter, points=(*points, Point(last, value(last))))


def lanes_in_beats(stages: Iterable[StageSettings], session: Session) -> tuple[StageSettings, ...]:
    """Stages whose lanes count in beats from the beginning of bar 1: what serves other songs too."""
    def beats(seconds: float) -> float:
        return max(0.0, seconds - session.first_beat) * session.tempo / 60.0

    return tuple(_with_times(stage, beats) for stage in stages)


def lanes_in_seconds(stages: Iterable[StageSettings], session: Session) -> tuple[StageSettings, ...]:
    """The inverse of `lanes_in_beats`, in a session that may have another tempo."""
    def seconds(beats: float) -> float:
        return session.first_beat + beats * 60.0 / session.tempo

    return tuple(_with_times(stage, seconds) for stage in stages)


def without_lanes(stages: Iterable[StageSettings]) -> tuple[StageSettings, ...]:
    """Stages as they are set, with nothing that moves."""
    return tuple(replace(stage, lanes=()) if stage.lanes else stage for stage in stages)


def _with_times(stage: StageSettings, time: Callable[[float], float]) -> StageSettings:
    if not stage.lanes:
        return stage
    return replace(stage, lanes=tuple(replace(lane, points=tuple(
        replace(point, seconds=time(point.seconds)) for point in lane.points)) for lane in stage.lanes))
