"""What is different between two states of strips, in words."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from yellow_ember.dsp.parameters import MINUS, Number, Parameter, Switch, Taper, Value, Values
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stage_values import ON, STAGE_CONTROLS
from yellow_ember.session.values.snapshots import Snapshot, StripState
from yellow_ember.session.values.strip_values import BYPASS, PAN, VOLUME

_SMALL = 1e-9


def _signed(parameter: Number, change: float) -> str:
    text = parameter.text(abs(change)) if parameter.minimum <= abs(change) <= parameter.maximum else (
        f"{abs(change):.{parameter.decimals}f} {parameter.unit}".strip())
    return f"{'+' if change > 0 else MINUS}{text.lstrip('+')}"


def _value_words(parameter: Parameter, old: Value, new: Value) -> str:
    label = parameter.label[:1].lower() + parameter.label[1:]
    plain = isinstance(old, int | float) and isinstance(new, int | float)
    if parameter is ON:
        return "switched on" if new else "bypassed"
    if parameter is BYPASS:
        return "path bypassed" if new else "path in"
    if isinstance(parameter, Number) and None in (old, new):
        return f"{label} {parameter.text(new)}"
    if isinstance(parameter, Switch):
        return f"{label} {'on' if new else 'off'}"
    if isinstance(parameter, Number) and plain and parameter.taper is not Taper.LOG:
        return f"{label} {_signed(parameter, float(new) - float(old))}"  # type: ignore[arg-type]
    return f"{label} {parameter.text(old)} to {parameter.text(new)}"


def stage_words(old: StageSettings, new: StageSettings) -> list[str]:
    """What is different from one state of a stage to another."""
    parameters = (ON, *old.declaration.parameters, *STAGE_CONTROLS)
    return list(_changes(parameters, {**old.params, **old.own_values}, {**new.params, **new.own_values}))


def _changes(parameters: Iterable[Parameter], old: Values, new: Values) -> Iterator[str]:
    """What is different in some parameters, in words."""
    for parameter in parameters:
        before, after = old[parameter.id], new[parameter.id]
        if before != after and not (isinstance(before, float) and isinstance(after, float)
                                    and abs(before - after) < _SMALL):
            yield _value_words(parameter, before, after)


def chain_words(old: tuple[StageSettings, ...], new: tuple[StageSettings, ...]) -> Iterator[str]:
    """What is different from one chain to another, stage by stage."""
    before = {stage.id: stage for stage in old}
    after = {stage.id: stage for stage in new}
    for stage in old:
        if stage.id not in after:
            yield f"without {stage.declaration.label}"
    for stage in new:
        if stage.id not in before:
            yield f"with {stage.declaration.label}"
        elif words := stage_words(before[stage.id], stage):
            yield f"{stage.declaration.label}: {', '.join(words)}"
    shared_before = [stage.id for stage in old if stage.id in after]
    if shared_before != [stage.id for stage in new if stage.id in before]:
        yield "stages in another order"


def state_words(old: StripState, new: StripState, *, levels: bool) -> list[str]:
    """What is different from one state of a strip to another; levels : fader and pan as well."""
    parameters = (BYPASS, VOLUME, PAN) if levels else (BYPASS,)
    before, after = ({parameter.id: getattr(state, parameter.id) for parameter in parameters} for state in (old, new))
    return [*chain_words(old.chain, new.chain), *_changes(parameters, before, after)]


def snapshot_words(old: Snapshot, new: Snapshot, names: Mapping[str, str]) -> list[str]:
    """What is different from one snapshot to another of the same scope, a line for each strip that differs.

    Parameters
    ----------
    names : Mapping[str, str]
        Of strips by id.
    """
    lines = []
    for state in new.states:
        before = old.state(state.strip_id)
        words = state_words(before, state, levels=new.scope != "strip") if before is not None else ["is new"]
        if words:
            name = names.get(state.strip_id, state.strip_id)
            lines.append("; ".join(words) if new.scope == "strip" else f"{name}: {'; '.join(words)}")
    return lines
