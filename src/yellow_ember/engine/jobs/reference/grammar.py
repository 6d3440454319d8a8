"""Which chains are tried: stages in an order that makes sense, and what of them is varied."""

from __future__ import annotations

import itertools
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.nearest_tone import nearest_tone
from yellow_ember.dsp.parameters import Number, Option, Switch, Value, Values
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.session.edits.edits import replace_stage
from yellow_ember.session.edits.variation_plan import along, first_choice

ORDER = ("comp", "texture", "bits", "drive", "bands", "amp", "cabinet", "echo", "tape", "wear", "motion", "vinyl", "eq",
         "room")
"""From what is played into to what it is heard from.  What only keeps levels has no part in it."""
_SPEAKER = "cabinet"
TONE = "eq"
"""What sets the tone and does nothing else."""
MOST_STAGES = 4
"""Beside what sets the tone."""
_DRIVES = (-0.3, -0.2, -0.1, -0.05, 0.05, 0.1, 0.2, 0.3)
_ASIDE = (-0.3, 0.3)
"""How far along its control what drives a stage is moved, and any other number, from where it stands."""
_STARTS, _ADDED_EACH = 8, 3
"""Settings of each kind that a search begins with; each third of them is tried where a stage is added."""

Chain = tuple[StageSettings, ...]
Signature = tuple[str, ...]
"""By which chains count as of one kind: what is in them but for what sets the tone alone."""


def signature(chain: Chain) -> Signature:
    """The kinds of a chain's stages, as far as they count."""
    return tuple(stage.kind for stage in chain if stage.kind != TONE)


def plain_stage(kind: str, values: Values | None = None) -> StageSettings:
    """A stage whose name, by which its noises go, is the same in every search."""
    declared = stage_kind(kind)
    return StageSettings(id=kind, kind=kind, params=values or declared.defaults())


def chain_of(kinds: Iterable[str]) -> Chain:
    """A chain of these kinds of stages as they come."""
    return tuple(plain_stage(kind) for kind in kinds)


def as_searched(chain: Sequence[StageSettings]) -> Chain:
    """A chain of a preset or a strip as a search takes it up, at rest and without what is off or only keeps levels."""
    seen: dict[str, int] = {}
    result = []
    for stage in chain:
        if stage.on and stage.kind in ORDER:
            result.append(replace(stage, id=_id_of(stage.kind, seen.get(stage.kind, 0)), lanes=()))
            seen[stage.kind] = seen.get(stage.kind, 0) + 1
    return tuple(result)


def _id_of(kind: str, there: int) -> str:
    """The id of one more stage of a kind, of which so many are there."""
    return f"{kind}{there or ''}"


def starts() -> list[Chain]:
    """Every kind at the settings that a sheet of its variations begins with, what feels its load with one as well.

    The first settings of all kinds come first.
    """
    by_kind: list[list[Chain]] = []
    for kind in ORDER:
        chains: list[Chain] = [(stage,) for stage in _settings_of(kind)]
        by_kind.append(chains)
        if stage_kind(kind).feels_load:
            by_kind.append([(*chain, plain_stage(_SPEAKER)) for chain in chains])
    return [chain for row in itertools.zip_longest(*by_kind) for chain in row if chain is not None]


def _settings_of(kind: str) -> list[StageSettings]:
    declared = stage_kind(kind)
    return [plain_stage(kind, values)
            for values in along(declared, declared.defaults(), first_choice(declared), _STARTS).values]


def at_first(chain: Chain) -> Chain:
    """The chain with every number where it stands at first, and other choices as they are."""
    return tuple(replace_stage(stage, params={
        name: stage.declaration.defaults()[name] if isinstance(stage.declaration.parameter(name), Number) else value
        for name, value in stage.params.items()}) for stage in chain)


def missing_from(kind: Signature) -> list[str]:
    """The kinds of stages that a kind of chain has not, in their order."""
    return [one for one in ORDER if one not in kind and one != TONE]


def with_one_more(chain: Chain, kinds: Collection[str]) -> list[Chain]:
    """The chain with each of these kinds, where that belongs, at a few settings."""
    if len(signature(chain)) >= MOST_STAGES:
        return []
    return [_inserted(chain, stage) for kind in kinds
            for stage in (plain_stage(kind), *_settings_of(kind)[::_ADDED_EACH])]


def _inserted(chain: Chain, stage: StageSettings) -> Chain:
    place = ORDER.index(stage.kind)
    before = [index for index, one in enumerate(chain) if one.kind in ORDER and ORDER.index(one.kind) <= place]
    at = before[-1] + 1 if before else 0
    return (*chain[:at], stage, *chain[at:])


def sets_tone(chain: Chain) -> bool:
    """Whether something in it sets the tone alone."""
    return any(stage.kind == TONE for stage in chain)


def without_tone(chain: Chain) -> Chain:
    """The chain without what sets the tone alone."""
    return tuple(stage for stage in chain if stage.kind != TONE)


def with_tone(chain: Chain, hz: Samples, wanted_db: Samples) -> Chain:
    """The chain with one more equaliser, which changes its tone (n,) as wanted, as near as it comes."""
    there = sum(stage.kind == TONE for stage in chain)
    stage = plain_stage(TONE, nearest_tone(hz, wanted_db))
    return _inserted(chain, replace(stage, id=_id_of(TONE, there)))


def with_one_less(chain: Chain) -> list[Chain]:
    """The chain without each of its stages."""
    return [chain[:at] + chain[at + 1:] for at in range(len(chain))] if len(chain) > 1 else []


def with_another_choice(chain: Chain) -> Iterator[Chain]:
    """The chain with every other choice, every switch the other way, and every number elsewhere, of each stage."""
    for stage in chain:
        kind = stage.declaration
        for name in dict.fromkeys((*kind.varied, *kind.front)):
            parameter = kind.parameter(name)
            values: list[Value] = []
            if isinstance(parameter, Number) and isinstance(stage.params[name], float | int):
                here = parameter.position(stage.params[name])
                places = [here + step for step in (_DRIVES if name == kind.drive else _ASIDE)]
                values = [parameter.clamp(round(parameter.at(place), parameter.decimals)) for place in places]
            elif isinstance(parameter, Option):
                values = [parameter.value_at(index) for index in range(len(parameter.choices))]
            elif isinstance(parameter, Switch):
                values = [False, True]
            for value in values:
                if value != stage.params[name]:
                    yield _with(chain, stage, {name: value})


def choices_of(chain: Chain) -> tuple[Value, ...]:
    """All that its stages are set to but for numbers."""
    return tuple(value for stage in chain for name, value in stage.params.items()
                 if not isinstance(stage.declaration.parameter(name), Number))


def _with(chain: Chain, stage: StageSettings, changed: dict[str, Value]) -> Chain:
    kind = stage.declaration
    values: dict[str, Value] = {**stage.params, **changed}
    if kind.follow is not None:
        values = {**kind.follow(stage.params, values)[0], **changed}
    return tuple(replace_stage(one, params=values) if one is stage else one for one in chain)


@dataclass(frozen=True, slots=True)
class Space:
    """The numbers of a chain that are varied, each from 0 to 1 along its control."""

    chain: Chain
    axes: tuple[tuple[int, Number], ...]

    @property
    def here(self) -> list[float]:
        """Where the chain stands."""
        return [number.position(self.chain[index].params[number.id]) for index, number in self.axes]

    def at(self, positions: Sequence[float]) -> Chain:
        """The chain at other places, rounded as its controls show them."""
        values = [dict(stage.params) for stage in self.chain]
        for (index, number), position in zip(self.axes, positions, strict=True):
            values[index][number.id] = number.clamp(round(number.at(float(position)), number.decimals))
        return tuple(replace_stage(stage, params=some) for stage, some in zip(self.chain, values, strict=True))


def space_of(chain: Chain, without: Collection[str] = ()) -> Space:
    """What of a chain is varied: the front's numbers, but for those that make up for level, or set the tone, alone.

    Parameters
    ----------
    without : Collection[str]
        Kinds that stay as they are.
    """
    axes = []
    for index, stage in enumerate(chain):
        kind = stage.declaration
        if stage.kind == TONE or stage.kind in without:
            continue
        for name in dict.fromkeys((*kind.front, *((kind.tone,) if kind.tone else ()))):
            parameter = kind.parameter(name)
            if (isinstance(parameter, Number) and name != kind.makeup and isinstance(stage.params[name], float | int)
                    and name not in kind.idle(stage.params)):
                axes.append((index, parameter))
    return Space(chain, tuple(axes))
