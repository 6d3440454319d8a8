"""Conversion of stages and macros to what a file holds of them, and back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stage_values import STAGE_VALUES
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.session.io.content_types import STAGE_CONTENTS, MacroContent, StageContent, TargetContent
from yellow_ember.session.io.field_types import Between
from yellow_ember.session.io.lane_content import Times, lane_contents, lanes_from
from yellow_ember.session.values.drawn import stage_lane_parameter
from yellow_ember.session.values.macros import Bend, Macro, Target
from yellow_ember.session.values.model import new_id


def stages_from(contents: Sequence[StageContent], position: str, times: Times = "seconds"
                ) -> tuple[StageSettings, ...]:
    """Return the stages that a file holds; those without an id get one.

    Raises
    ------
    ValueError
        Names the position in the file, below `position`, and the reason.
    """
    return tuple(_stage_from(content, f"{position}[{index}]", times) for index, content in enumerate(contents))


def _stage_from(content: StageContent, position: str, times: Times) -> StageSettings:
    stage = StageSettings(
        id=content.id or new_id(content.kind), kind=content.kind,
        params=stage_kind(content.kind).complete(content.params),
        **{parameter.id: getattr(content, parameter.id) for parameter in STAGE_VALUES})
    if not content.lanes:
        return stage
    return replace(stage, lanes=lanes_from(content.lanes, lambda name: stage_lane_parameter(stage, name),
                                           f"{position}.lanes", times))


def stage_contents(stages: Sequence[StageSettings]) -> list[StageContent]:
    """Return stages as a file holds them, the inverse of `stages_from`."""
    return [_stage_content(stage, stage.id, "seconds") for stage in stages]


def _stage_content(stage: StageSettings, stage_id: str, times: Times) -> StageContent:
    return STAGE_CONTENTS[stage.kind].model_construct(
        None, id=stage_id, kind=stage.kind, params=dict(stage.params), lanes=lane_contents(stage.lanes, times),
        **stage.own_values)


def macros_from(contents: Sequence[MacroContent], stages: Sequence[StageSettings], position: str) -> tuple[Macro, ...]:
    """Return the macros that a file holds, whose targets name stages by their index in `stages`.

    Raises
    ------
    ValueError
        Names the position in the file, below `position`, and the reason.
    """
    return tuple(
        Macro(content.id or new_id("macro"), content.name, content.value, tuple(
            _target_from(target, stages, f"{position}[{index}].targets[{number}]")
            for number, target in enumerate(content.targets)))
        for index, content in enumerate(contents))


def _target_from(content: TargetContent, stages: Sequence[StageSettings], position: str) -> Target:
    if content.stage >= len(stages):
        raise ValueError(f"{position}.stage: must lie between 0 and {len(stages) - 1}, not {content.stage}"
                         if stages else f"{position}.stage: there are no stages")
    stage = stages[content.stage]
    try:
        parameter = stage.declaration.number(content.parameter)
    except (KeyError, TypeError):
        raise ValueError(f"{position}.parameter: {stage.kind} has no number {content.parameter!r}") from None
    within = Between(parameter.minimum, parameter.maximum)
    ends = {"low": content.low, "high": content.high}
    for name, value in ends.items():
        try:
            ends[name] = parameter.minimum if value is None else within.check(value)
        except ValueError as reason:
            raise ValueError(f"{position}.{name}: {reason}") from None
    return Target(stage.id, content.parameter, **ends, bend=Bend(content.curve))  # type: ignore[arg-type]


def macro_contents(macros: Sequence[Macro], stages: Sequence[StageSettings]) -> list[MacroContent]:
    """Return macros as a file holds them, the inverse of `macros_from`."""
    index = {stage.id: number for number, stage in enumerate(stages)}

    def target_content(target: Target) -> TargetContent:
        return TargetContent.model_construct(stage=index[target.stage], parameter=target.parameter, low=target.low,
                                             high=target.high, curve=target.bend.value)

    return [MacroContent.model_construct(id=macro.id, name=macro.name, value=macro.value,
                                         targets=[target_content(target) for target in macro.targets])
            for macro in macros]


def nameless_chain(stages: Sequence[StageSettings], macros: Sequence[Macro]) -> dict[str, Any]:
    """Return `stages` and `macros` of a file that belongs to no strip: without ids."""
    return {"stages": [_stage_content(stage, "", "beats") for stage in stages],
            "macros": [macro.model_copy(update={"id": ""}) for macro in macro_contents(macros, stages)]}
