"""All that a user sets of one stage, as a value."""

from __future__ import annotations

from dataclasses import dataclass

from yellow_ember.dsp.arrays import gain
from yellow_ember.dsp.lanes import Lane
from yellow_ember.dsp.parameters import Number, Value, Values
from yellow_ember.dsp.stage import StageKind
from yellow_ember.dsp.stage_values import DRY, STAGE_VALUES, WET
from yellow_ember.dsp.stages import stage_kind


def level_of(parameter: Number, decibels: float | None) -> float:
    """The amplitude of a level, silent at the bottom of its range and where there is none."""
    return 0.0 if decibels is None or decibels <= parameter.minimum else gain(decibels)


@dataclass(frozen=True, slots=True, kw_only=True)
class StageSettings:
    """All that a user sets of one stage.

    Attributes
    ----------
    id : str
        Unique within a session.
    on, dry_db, wet_db, mix_pct, mono : bool, float | None, float, float, bool
        What every stage has (`dsp/stage_values.py`); both levels stand behind the mix.
    params : Values
        Full and checked, by the kind's declaration.
    lanes : tuple[Lane, ...]
        What of it moves along the session, at most one for each parameter.
    """

    id: str
    kind: str
    on: bool = True
    dry_db: float | None = None
    wet_db: float = 0.0
    mix_pct: float = 100.0
    mono: bool = False
    params: Values
    lanes: tuple[Lane, ...] = ()

    @property
    def declaration(self) -> StageKind:
        return stage_kind(self.kind)

    def value(self, name: str) -> Value:
        return self.params[name]

    @property
    def wet_gain(self) -> float:
        """The amplitude of what the stage makes in what goes on."""
        return level_of(WET, self.wet_db) * self.mix_pct / 100.0

    @property
    def dry_gain(self) -> float:
        """The amplitude of what enters the stage in what goes on."""
        return level_of(DRY, self.dry_db) + 1.0 - self.mix_pct / 100.0

    @property
    def own_values(self) -> dict[str, Value]:
        """What it has beside its parameters, by the ids of `STAGE_VALUES`."""
        return {parameter.id: getattr(self, parameter.id) for parameter in STAGE_VALUES}

    def needs(self, rate: float) -> tuple[int, str, bool, bool]:
        """What a running stage is made for and can't change.

        Frames of the future that it must see, the path of its impulse response, whether it is mono, and
        whether its sound goes round through the rest of the chain.
        """
        kind = self.declaration
        return kind.lookahead(self.params, rate), kind.impulse(self.params), self.mono, kind.loops(self.params)
