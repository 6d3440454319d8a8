"""How far two recordings are apart in each respect, in steps that one just hears."""

from __future__ import annotations

import enum
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.bands import BAND_CENTRES
from yellow_ember.measure.likeness.density import ORDERS
from yellow_ember.measure.likeness.portrait import Portrait

_HEARD_DB = 45.0
_FARTHEST = 12.0
"""Steps beyond which it makes no difference how far away something is."""
_UNHEARD_DB, _UNHEARD_PCT = -90.0, 0.05
_MIDDLE = (BAND_CENTRES > 60.0) & (BAND_CENTRES < 14000.0)
_ORDERS = len(ORDERS)


class Respect(enum.Enum):
    """In what two recordings may differ."""

    TONE = "Tone"
    ADDED = "Added"
    DYNAMICS = "Dynamics"
    NOISE = "Noise"
    MOTION = "Motion"
    WIDTH = "Width"


Weights = Mapping[Respect, float]
EVEN: dict[Respect, float] = dict.fromkeys(Respect, 1.0)


@dataclass(frozen=True, slots=True, eq=False)
class Distance:
    """How far two recordings are apart.

    Attributes
    ----------
    apart : Mapping[Respect, Samples]
        By respect: of each figure in steps and with its sign, so that the root of the sum of their squares counts.
    sure : Mapping[Respect, float]
        0 to 1.
    unexplained : float
        Of the same performance: steps of what the one leaves unexplained in the other.  They count beside what is
        added, not among its figures: noises and faults that never come again leave as much of whatever comes nearest.
    """

    apart: Mapping[Respect, Samples]
    sure: Mapping[Respect, float]
    unexplained: float = 0.0

    @property
    def steps(self) -> dict[Respect, float]:
        """How far in each respect."""
        return {respect: float(np.linalg.norm(figures)) + self.unexplained * (respect is Respect.ADDED)
                for respect, figures in self.apart.items()}

    def total(self, weights: Weights) -> float:
        """All respects in one figure, as they are weighted and as far as they are sure."""
        shares, steps = self._shares(weights), self.steps
        return sum(shares[respect] * steps[respect] for respect in Respect)

    def figures(self, weights: Weights) -> Samples:
        """All figures in a row, by what the respects weigh: of a result that is as wanted they are zero."""
        shares = self._shares(weights)
        return np.concatenate([*(shares[respect]**0.5 * self.apart[respect] for respect in Respect),
                               [shares[Respect.ADDED]**0.5 * self.unexplained]])

    def _shares(self, weights: Weights) -> dict[Respect, float]:
        counted = {respect: weights[respect] * self.sure[respect] for respect in Respect}
        total = max(sum(counted.values()), 1e-9)
        return {respect: one / total for respect, one in counted.items()}


Features = Mapping[Respect, Samples]
"""What is compared in each respect, in steps."""


def features(one: Portrait) -> Features:
    """A portrait's figures by respect, each divided by what one just hears of it."""
    motion = np.log2(np.array([one.speed.wow_pct, one.speed.flutter_pct]) + _UNHEARD_PCT) / 0.5
    noise = [np.log2(one.faults.clicks_per_s + 1.0), np.log2(one.faults.dropouts_per_min / 6.0 + 1.0) / 2.0,
             one.floor.hum_db / 20.0]
    dynamics = [one.dynamics.range_db / 2.0, np.log2(one.dynamics.attack_db_per_ms + 0.1)]
    return {
        Respect.TONE: np.concatenate((one.tone.loud_db, 0.6 * one.tone.quiet_db)) / 1.5,
        Respect.ADDED: np.concatenate((one.density.flatness_db / 1.5, one.density.tonal_db / 2.0,
                                       one.density.orders_db / 3.0)),
        Respect.DYNAMICS: np.concatenate((one.dynamics.crest_db / 1.5, dynamics)),
        # What lies further down than one hears counts as nothing.
        Respect.NOISE: np.concatenate((np.maximum(one.floor.floor_db, _UNHEARD_DB)[_MIDDLE] / 5.0, noise)),
        Respect.MOTION: motion,
        Respect.WIDTH: np.concatenate((one.width.side_db / 4.0, one.width.correlation / 0.15))}


def spread(portraits: Sequence[Portrait]) -> Features:
    """By how much the figures of several pieces of one recording differ: what its notes do, not its sound."""
    each = [features(one) for one in portraits]
    return {respect: np.std([one[respect] for one in each], axis=0) if len(each) > 1 else 0.0 * each[0][respect]
            for respect in Respect}


def distance(one: Portrait, other: Portrait, spreads: Sequence[Features] = ()) -> Distance:
    """Compare two portraits.

    Parameters
    ----------
    spreads : Sequence[Features]
        Of either recording, where they are of different performances: figures that change with the notes count less.
    """
    first, second = features(one), features(other)
    figures = {}
    for respect in Respect:
        apart = first[respect] - second[respect]
        weight = 1.0 / (1.0 + sum((each[respect] ** 2 for each in spreads), np.zeros(apart.size)))
        if respect is Respect.TONE:
            weight = weight * _heard(one, other)
            # Of the loud and of the quiet notes each by itself, whatever their levels are.
            for part in (slice(0, BAND_CENTRES.size), slice(BAND_CENTRES.size, None)):
                apart[part] -= np.average(apart[part], weights=weight[part] + 1e-9)
        elif respect is Respect.ADDED:
            weight[-_ORDERS:] *= min(one.density.pitched, other.density.pitched)
        apart = np.clip(apart, -_FARTHEST, _FARTHEST)
        figures[respect] = np.sqrt(weight / max(float(weight.sum()), 1e-9)) * apart
    return Distance(figures, _sure(one, other))


def _sure(one: Portrait, other: Portrait) -> dict[Respect, float]:
    tone = min(one.tone.sure, other.tone.sure)
    return {
        Respect.TONE: tone, Respect.ADDED: tone,
        Respect.DYNAMICS: 0.4 + 0.6 * min(one.dynamics.sure, other.dynamics.sure),
        Respect.NOISE: max(one.floor.sure, other.floor.sure) * min(1.0, 0.3 + one.floor.sure + other.floor.sure),
        Respect.MOTION: min(one.speed.sure, other.speed.sure) ** 0.5,
        Respect.WIDTH: min(one.width.sure, other.width.sure)}


def _heard(one: Portrait, other: Portrait) -> Samples:
    """1 for the third octaves of either part that are heard in one of both, else 0."""
    parts = [np.maximum(getattr(one.tone, name), getattr(other.tone, name)) for name in ("loud_db", "quiet_db")]
    return np.concatenate([np.asarray(part > part.max() - _HEARD_DB, dtype=np.float64) for part in parts])


def tone_apart_db(one: Portrait, other: Portrait) -> Samples:
    """By how much the other's loud notes are louder in each third octave (31,), nan where neither is heard."""
    heard = _heard(one, other)[:BAND_CENTRES.size] > 0.0
    apart = other.tone.loud_db - one.tone.loud_db
    return np.where(heard, apart - np.median(apart[heard]), np.nan)
