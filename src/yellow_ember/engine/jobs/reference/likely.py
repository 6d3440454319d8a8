"""Which stages are likely to have made a recording of another, learned from many chains at random.

`script/learn_stages.py` lets chains work on made-up music and fits two networks to what they leave behind: one for the
same performance, one for another.  Each tells of every kind of stage how likely it is that it took part.
"""

from __future__ import annotations

import functools
import itertools
from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.jobs.reference.grammar import MOST_STAGES, ORDER, TONE, Chain, Signature, signature
from yellow_ember.shipped import DATA

FILE = DATA / "likely-stages.npz"
USUAL_ODDS = -1.7
"""Log odds of a stage in a chain of which nothing is known."""
_MOST_SURE = 6.0
"""Log odds, beyond which what was learned from a few thousand chains tells nothing."""
_FARTHEST = 5.0
"""Standard deviations from the mean of what was learned from."""


@functools.cache
def _learned() -> Mapping[str, NDArray[Any]]:
    with np.load(FILE) as file:
        return dict(file)


def scaled(evidence: Samples, mean: Samples, deviation: Samples) -> Samples:
    """Evidence (..., n) as a network is given it, by what it was where that was learned from (n,)."""
    return np.clip((evidence - mean) / deviation, -_FARTHEST, _FARTHEST)


def log_odds(evidence: Samples, *, same_performance: bool) -> dict[str, float]:
    """How likely each kind of stage is to be in the chain, as the logarithm of its odds.

    Parameters
    ----------
    evidence : Samples
        (n,), from `measure.likeness.evidence`.
    """
    learned, word = _learned(), "same" if same_performance else "other"
    layer = scaled(evidence, learned[f"{word}_mean"], learned[f"{word}_deviation"])
    layers = sum(name.startswith(f"{word}_weights") for name in learned)
    for index in range(layers):
        layer = layer @ learned[f"{word}_weights{index}"] + learned[f"{word}_offsets{index}"]
        if index < layers - 1:
            layer = np.maximum(layer, 0.0)
    return dict(zip(ORDER, np.clip(layer, -_MOST_SURE, _MOST_SURE).tolist(), strict=True))


def likely_kinds(odds: Mapping[str, float]) -> list[Signature]:
    """All kinds of chains, the likeliest first.

    Parameters
    ----------
    odds : Mapping[str, float]
        Log odds of every kind of stage, as if each were there by itself.
    """
    kinds = [kind for kind in ORDER if kind != TONE]
    all_of_them = [chosen for count in range(1, MOST_STAGES + 1) for chosen in itertools.combinations(kinds, count)]
    return sorted(all_of_them, key=lambda chosen: -sum(odds[kind] for kind in chosen))


def likeliest(chains: Iterable[Chain], odds: Mapping[str, float]) -> list[Chain]:
    """Chains in another order: the first of each kind of chain, then the others; of either the likeliest first."""
    by_likelihood = sorted(chains, key=lambda chain: -likelihood(signature(chain), odds))
    first: dict[Signature, Chain] = {}
    others = [chain for chain in by_likelihood if first.setdefault(signature(chain), chain) is not chain]
    return [*first.values(), *others]


def likelihood(kind: Signature, odds: Mapping[str, float]) -> float:
    """By how much a chain of such stages is likelier than one in which each stage is as it usually is."""
    return sum(odds[one] - USUAL_ODDS for one in kind)
