"""The pages of the help: guides that are written, and a page for each stage from its declaration.  Markdown."""

from __future__ import annotations

import functools
from dataclasses import dataclass

from yellow_ember.app.tools.control_figure import figure_of
from yellow_ember.dsp.parameters import Edges, Impulse, Number, Option, Parameter, Steps
from yellow_ember.dsp.stage import StageKind
from yellow_ember.dsp.stages import STAGES, stage_kind
from yellow_ember.session.io.presets import shipped_presets
from yellow_ember.shipped import DATA

GUIDES = DATA / "guides"
_MAX_PRESETS = 8
_MANY = 12


@dataclass(frozen=True, slots=True)
class Page:
    """key : what links to it name: `guide:STEM`, `stage:KIND` or `control:KIND/ID`"""

    key: str
    title: str
    text: str


def _range(parameter: Parameter) -> str:
    """What a parameter can be, in words."""
    if isinstance(parameter, Option):
        labels = [choice.label for choice in parameter.choices]
        more = f" and {len(labels) - _MANY} more" if len(labels) > _MANY else ""
        return ", ".join(labels[:_MANY]) + more
    if isinstance(parameter, Impulse):
        return "a file"
    if isinstance(parameter, Edges):
        return f"up to {parameter.most} frequencies"
    if isinstance(parameter, Steps):
        return "drawn in a lane"
    if isinstance(parameter, Number):
        return f"{parameter.text(parameter.minimum)} to {parameter.text(parameter.maximum)}"
    return "on or off"


def control_page(kind: StageKind, name: str) -> Page:
    """What there is to say of one control, with its figure where the stage's picture shows it.

    ValueError where the stage has no such control.
    """
    parameter = kind.parameter(name)
    front = " It is one of those to reach for first." if name in kind.front else ""
    lines = [f"# {parameter.label}", "", f"[{kind.label}](stage:{kind.kind}), {parameter.group.value}: "
             f"{_range(parameter)}{_default(parameter)}.", "", parameter.help + front, ""]
    if figure_of(kind, name) is not None:
        lines += [f"![{parameter.label}](figure:{kind.kind}/{name})", ""]
    return Page(f"control:{kind.kind}/{name}", parameter.label, "\n".join(lines))


def _default(parameter: Parameter) -> str:
    if isinstance(parameter, Steps | Impulse):
        return ""
    return f"; default {parameter.text(parameter.default_value)}"


def stage_page(kind: StageKind) -> Page:
    """All that a stage's declaration says, for someone who uses it."""
    lines = [f"# {kind.label}", "", kind.purpose, ""]
    if kind.drive is not None:
        low, high = kind.comfort_db
        lines += [f"It feels at home with {low:g} to {high:g} dB against 0 VU going in; "
                  f"*{kind.parameter(kind.drive).label}* drives it harder.", ""]
    front = ", ".join(f"*{kind.parameter(name).label}*" for name in kind.front)
    suits = ", ".join(f"[{stage_kind(name).label}](stage:{name})" for name in kind.neighbours)
    lines += [f"First to reach for: {front}.", "", f"Suits behind it: {suits}.", ""]
    for group, parameters in kind.groups():
        lines += [f"## {group.value}", ""]
        for parameter in parameters:
            lines += [f"**{parameter.label}** ({_range(parameter)}{_default(parameter)}). {parameter.help}", ""]
    presets = [preset.name for preset in shipped_presets() if any(stage.kind == kind.kind for stage in preset.stages)]
    if presets:
        lines += ["## Presets with it", ""]
        lines += [", ".join(f"[{name}](preset:{name})" for name in presets[:_MAX_PRESETS]) + (
            f" and {len(presets) - _MAX_PRESETS} more." if len(presets) > _MAX_PRESETS else "."), ""]
    return Page(f"stage:{kind.kind}", kind.label, "\n".join(lines))


@functools.cache
def guides() -> tuple[Page, ...]:
    """The written ones, in the order of their files."""
    result = []
    for path in sorted(GUIDES.glob("*.md"), key=lambda path: int(path.stem.partition("-")[0])):
        text = path.read_text("utf-8")
        result.append(Page(f"guide:{path.stem.partition('-')[2]}", text.splitlines()[0].removeprefix("# "), text))
    return tuple(result)


@functools.cache
def stage_pages() -> tuple[Page, ...]:
    """A page for each stage, in the order in which they are offered."""
    return tuple(stage_page(kind) for kind in STAGES)
