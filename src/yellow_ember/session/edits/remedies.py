"""Which control helps where additions boom, crowd or hiss."""

from __future__ import annotations

from yellow_ember.dsp.chain import StageSettings

_PARAMETERS = {"boom": ("clean_lows_hz", "low_cut_hz", "mono_below_hz"), "crowd": ("lean_db", "tone_hz"),
               "hiss": ("tone_hz", "high_cut_hz", "play_high_db", "high")}
_VERBS = {"boom": "raise", "crowd": "lean away with", "hiss": "lower"}
_ELSE = {"boom": "an Equaliser with a low cut behind", "crowd": "a Tame behind, and let it propose its bands",
         "hiss": "a Tame behind, or an Equaliser with a high cut"}
WHERE = {"boom": "boom below 120 Hz", "crowd": "crowd 2 to 5 kHz", "hiss": "hiss above 8 kHz"}


def remedy(chain: tuple[StageSettings, ...], what: str) -> str:
    """What to do about `what` (boom, crowd or hiss), of the hottest kind of stage that has a control for it."""
    working = [stage for stage in chain if stage.on]
    if what == "hiss":
        for stage in working:
            if stage.params.get("hiss") is True:
                return f"switch Hiss of {stage.declaration.label} off"
    for stage in sorted(working, key=lambda stage: not stage.declaration.nonlinear):
        for name in _PARAMETERS[what]:
            if name in stage.params:
                label = stage.declaration.parameter(name).label
                return f"{_VERBS[what]} {label} of {stage.declaration.label}"
    return f"add {_ELSE[what]}"
