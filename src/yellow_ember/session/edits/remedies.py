"""Which control helps where additions boom, crowd or hiss, and the edit that moves it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from yellow_ember.dsp.parameters import Number, Parameter, Switch, as_number
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES
from yellow_ember.session.edits.edits import put_stages, set_parameter
from yellow_ember.session.values.model import Session, new_stage

WHERE = {"boom": "boom below 120 Hz", "crowd": "crowd 2 to 5 kHz", "hiss": "hiss above 8 kHz"}
_VERBS = {"boom": "raise", "crowd": "lean away with", "hiss": "lower"}
_BOOM_HZ, _HISS_HZ = 110.0, 8000.0
_LEAN_DB = 2.0


@dataclass(frozen=True, slots=True)
class Remedy:
    """words : what to do; apply : session and strip -> the session with it done"""

    words: str
    apply: Callable[[Session, str], Session]


def remedy(chain: tuple[StageSettings, ...], what: str) -> Remedy:
    """What to do about `what` (boom, crowd or hiss), of the stage that adds most that has a control for it."""
    working = [stage for stage in chain if stage.on]
    adding_first = sorted(working, key=lambda stage: not stage.declaration.nonlinear)
    helping = [(stage, stage.declaration.parameter(name)) for stage in adding_first
               for name in stage.declaration.remedies.get(what, ())]
    for stage, parameter in helping:
        if isinstance(parameter, Switch) and stage.params[parameter.id] is True:
            return Remedy(f"switch {parameter.label} of {stage.declaration.label} off",
                          _setting(stage, parameter, value=False))
    for stage, parameter in helping:
        if isinstance(parameter, Number):
            better = _better(parameter, as_number(stage.params[parameter.id]), what)
            if better is not None:
                return Remedy(f"{_VERBS[what]} {parameter.label} of {stage.declaration.label}",
                              _setting(stage, parameter, better))
    kind = next(kind for kind in STAGES if what in kind.against)
    stage, values = new_stage(kind.kind), kind.against[what]
    added = replace(stage, params={**stage.params, **values})
    parts = " and ".join(f"{kind.parameter(name).label} {kind.parameter(name).text(values[name])}" for name in values)
    return Remedy(f"add {kind.label}{parts and f', {parts},'} behind",
                  lambda session, strip_id: put_stages(session, strip_id, (added,), "", replace=False))


def _setting(stage: StageSettings, parameter: Parameter, value: float | bool) -> Callable[[Session, str], Session]:
    return lambda session, strip_id: set_parameter(session, strip_id, stage.id, parameter.id, value)


def _better(number: Number, now: float, what: str) -> float | None:
    """A step that one hears, in the direction that helps; None at the end of the range."""
    if number.unit != "Hz":
        step = now - _LEAN_DB if what != "boom" else now + _LEAN_DB
    elif what == "boom":
        step = max(_BOOM_HZ, 1.3 * now)
    else:
        step = min(_HISS_HZ, 0.75 * now)
    better = number.clamp(step)
    return None if better == now else better
