"""What is different between two states of strips, in words."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from yellow_ember.dsp.chain import StageSettings
from yellow_ember.dsp.parameters import Number, Parameter, Switch, Taper, Value
from yellow_ember.session.values.snapshots import Snapshot, StripState

_SMALL = 1e-9
_HOSTED = {"wet_db": "wet level", "dry_db": "dry level", "mix_pct": "mix"}


def _signed(parameter: Number, change: float) -> str:
    text = parameter.text(abs(change)) if parameter.minimum <= abs(change) <= parameter.maximum else (
        f"{abs(change):.{parameter.decimals}f} {parameter.unit}".strip())
    return f"{'+' if change > 0 else '-'}{text}"


def _value_words(parameter: Parameter, old: Value, new: Value) -> str:
    label = parameter.label[:1].lower() + parameter.label[1:]
    plain = isinstance(old, int | float) and isinstance(new, int | float)
    if isinstance(parameter, Switch):
        return f"{label} {'on' if new else 'off'}"
    if isinstance(parameter, Number) and plain and parameter.taper is not Taper.LOG:
        return f"{label} {_signed(parameter, float(new) - float(old))}"  # type: ignore[arg-type]
    return f"{label} {parameter.text(old)} to {parameter.text(new)}"


def stage_words(old: StageSettings, new: StageSettings) -> list[str]:
    """What is different from one state of a stage to another."""
    words = []
    if old.on != new.on:
        words.append("switched on" if new.on else "bypassed")
    for parameter in old.declaration.parameters:
        before, after = old.params[parameter.id], new.params[parameter.id]
        if before != after and not (isinstance(before, float) and isinstance(after, float)
                                    and abs(before - after) < _SMALL):
            words.append(_value_words(parameter, before, after))
    for name, label in _HOSTED.items():
        before, after = getattr(old, name), getattr(new, name)
        if before != after:
            unit = "%" if name == "mix_pct" else "dB"
            words.append(f"{label} {after - before:+.1f} {unit}" if None not in (before, after) else
                         f"{label} {'none' if after is None else f'{after:.1f} {unit}'}")
    if old.mono != new.mono:
        words.append(f"mono {'on' if new.mono else 'off'}")
    return words


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
    words = list(chain_words(old.chain, new.chain))
    if old.bypass != new.bypass:
        words.append("path bypassed" if new.bypass else "path in")
    if levels and abs(old.volume_db - new.volume_db) > _SMALL:
        words.append(f"volume {new.volume_db - old.volume_db:+.1f} dB")
    if levels and abs(old.pan - new.pan) > _SMALL:
        words.append(f"pan {new.pan - old.pan:+.0f}")
    return words


def snapshot_words(old: Snapshot, new: Snapshot, names: Mapping[str, str]) -> list[str]:
    """What is different from one snapshot to another of the same scope, a line for each strip that differs.

    names : of strips by id
    """
    lines = []
    for state in new.states:
        before = old.state(state.strip_id)
        words = state_words(before, state, levels=new.scope != "strip") if before is not None else ["is new"]
        if words:
            name = names.get(state.strip_id, state.strip_id)
            lines.append("; ".join(words) if new.scope == "strip" else f"{name}: {'; '.join(words)}")
    return lines
