"""Which control helps where additions boom, crowd or hiss."""

from __future__ import annotations

from yellow_ember.dsp.parameters import Switch
from yellow_ember.dsp.stage_settings import StageSettings

_VERBS = {"boom": "raise", "crowd": "lean away with", "hiss": "lower"}
_ELSE = {"boom": "an Equaliser with a low cut behind", "crowd": "a Tame behind, and let it propose its bands",
         "hiss": "a Tame behind, or an Equaliser with a high cut"}
WHERE = {"boom": "boom below 120 Hz", "crowd": "crowd 2 to 5 kHz", "hiss": "hiss above 8 kHz"}


def remedy(chain: tuple[StageSettings, ...], what: str) -> str:
    """What to do about `what` (boom, crowd or hiss), of the stage that adds most that has a control for it."""
    working = [stage for stage in chain if stage.on]
    adding_first = sorted(working, key=lambda stage: not stage.declaration.nonlinear)
    helping = [(stage, stage.declaration.parameter(name)) for stage in adding_first
               for name in stage.declaration.remedies.get(what, ())]
    for stage, parameter in helping:
        if isinstance(parameter, Switch) and stage.params[parameter.id] is True:
            return f"switch {parameter.label} of {stage.declaration.label} off"
    for stage, parameter in helping:
        if not isinstance(parameter, Switch):
            return f"{_VERBS[what]} {parameter.label} of {stage.declaration.label}"
    return f"add {_ELSE[what]}"
