"""A chain in a line of words: each stage, and what tells most of how it is set."""

from __future__ import annotations

from collections.abc import Sequence

from yellow_ember.dsp.parameters import Number, Option, Switch
from yellow_ember.dsp.stage_settings import StageSettings

_MOST = 3


def chain_summary(chain: Sequence[StageSettings]) -> str:
    """"Tape machine at Lantern, 7.5 ips; Bit reduction at 12.0, 26.00 kHz"; "nothing" for no stage.

    The more stages, the less of each.
    """
    most = max(1, _MOST + 1 - len(chain))
    return "; ".join(_stage(stage, most) for stage in chain) or "nothing"


def _stage(stage: StageSettings, most: int) -> str:
    kind = stage.declaration
    first = dict.fromkeys((*kind.varied, *((kind.drive,) if kind.drive else ())))
    others = [name for name in kind.front if name not in first and name != kind.makeup
              and stage.params[name] != kind.defaults()[name]]
    told = [kind.parameter(name).text(stage.params[name]) for name in first if stage.params[name] is not None]
    for name in others:
        parameter, value = kind.parameter(name), stage.params[name]
        if isinstance(parameter, Switch):
            told += [parameter.label.lower()] if value else []
        elif isinstance(parameter, Number | Option) and value is not None:
            told.append(f"{parameter.label.lower()} {parameter.text(value)}")
    told = [words for words in told if not words.endswith("off")][:most]
    return f"{kind.label} at {', '.join(told)}" if told else kind.label
