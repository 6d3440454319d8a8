"""Which stages are likely to have made a recording of another, and what they did, learned from many chains at random.

`script/learn_stages.py` lets chains work on made-up music and fits networks to what they leave behind: one for the same
performance and one for another tell of every kind of stage how likely it is that it took part.  A third tells what was
added, and how third octaves changed, where two performances differ and nothing of that can be measured.
"""

from __future__ import annotations

import functools
import itertools
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.jobs.reference.grammar import MOST_STAGES, ORDER, TONE, Chain, Signature, signature
from yellow_ember.engine.jobs.reference.pieces import representative_pieces
from yellow_ember.measure.likeness.evidence import evidence
from yellow_ember.measure.likeness.performance import Change, tone_change_db
from yellow_ember.measure.likeness.portrait import portrait
from yellow_ember.measure.likeness.whole_tone import ToneBetween
from yellow_ember.shipped import DATA

FILE = DATA / "likely-stages.npz"
USUAL_ODDS = -1.7
"""Log odds of a stage in a chain of which nothing is known."""
EVIDENCE_SECONDS = 7.0
"""Of two performances: the more notes are heard, the less it matters which."""
_MOST_SURE = 6.0
"""Log odds, beyond which what was learned from a few thousand chains tells nothing."""
_FARTHEST = 5.0
"""Standard deviations from the mean of what was learned from."""
_LEAST_ADDED_DB = -50.0
"""What adds less is told from nothing by no figure of another performance."""
_ADDED_STEP_DB, _MOST_ADDED_STEPS = 12.0, 2.4
"""Of what is added: some three times what half of all chains are told wrong by; and so many steps count at most."""
_TONE_STEP_DB, _FARTHEST_TONE_DB = 1.8, 18.0
_TOLD_TONE_ERROR_DB = 3.0
"""By how much third octaves are told wrong."""
_ODDS_STEP = 1.25
"""Of what two results leave behind, in log odds of each kind of stage."""


@functools.cache
def _learned() -> Mapping[str, NDArray[Any]]:
    with np.load(FILE) as file:
        return dict(file)


def scaled(evidence: Samples, mean: Samples, deviation: Samples) -> Samples:
    """Evidence (..., n) as a network is given it, by what it was where that was learned from (n,)."""
    return np.clip((evidence - mean) / deviation, -_FARTHEST, _FARTHEST)


def _told(word: str, evidence: Samples) -> Samples:
    """What a network tells by evidence (n,)."""
    learned = _learned()
    layer = scaled(evidence, learned[f"{word}_mean"], learned[f"{word}_deviation"])
    layers = sum(name.startswith(f"{word}_weights") for name in learned)
    for index in range(layers):
        layer = layer @ learned[f"{word}_weights{index}"] + learned[f"{word}_offsets{index}"]
        if index < layers - 1:
            layer = np.maximum(layer, 0.0)
    return layer


def log_odds(evidence: Samples, *, same_performance: bool) -> dict[str, float]:
    """How likely each kind of stage is to be in the chain, as the logarithm of its odds.

    Parameters
    ----------
    evidence : Samples
        (n,), from `measure.likeness.evidence`.
    """
    told = np.clip(_told("same" if same_performance else "other", evidence), -_MOST_SURE, _MOST_SURE)
    return dict(zip(ORDER, told.tolist(), strict=True))


@dataclass(frozen=True, slots=True, eq=False)
class LikelyChange:
    """What is likely to have been done where that can't be measured.

    Attributes
    ----------
    added_db : float
        As in a Change, -50 or more.
    tone_db : Samples
        (31,): by how much each third octave became louder against all of them.
    """

    added_db: float
    tone_db: Samples

    def added_apart(self, change: Change) -> float:
        """By how many steps a change adds more."""
        apart = (max(change.added_db, _LEAST_ADDED_DB) - self.added_db) / _ADDED_STEP_DB
        return float(np.clip(apart, -_MOST_ADDED_STEPS, _MOST_ADDED_STEPS))

    def tone_lacking_db(self, change_db: Samples, heard: NDArray[np.bool_]) -> Samples:
        """What a change of third octaves (31,) lacks, at its best level; nan where it is not heard."""
        lacking = self.tone_db - change_db
        return np.where(heard, lacking - (np.median(lacking[heard]) if heard.any() else 0.0), np.nan)

    def with_tone_between(self, heard: ToneBetween) -> LikelyChange:
        """The same, where what two recordings' tones have between them counts by how sure that is."""
        share = 1.0 / (1.0 + (heard.error_db / _TOLD_TONE_ERROR_DB) ** 2)
        # Of what is told the shape alone: what lies deep says little of the level of the rest.
        told = self.tone_db + np.average(heard.change_db - self.tone_db, weights=share * heard.heard)
        return replace(self, tone_db=share * heard.change_db + (1.0 - share) * told)


def tone_steps(lacking_db: Samples) -> Samples:
    """How far a tone is apart that lacks so much in each third octave (31,), in steps, signed."""
    heard = max(int(np.isfinite(lacking_db).sum()), 1)
    return np.asarray(np.clip(np.nan_to_num(lacking_db), -_FARTHEST_TONE_DB, _FARTHEST_TONE_DB)
                      / (_TONE_STEP_DB * heard**0.5))


def odds_apart(odds: Mapping[str, float], wanted: Mapping[str, float]) -> Samples:
    """How far two results are apart in what stages seem to have left behind in them (14,), in steps, signed."""
    return np.array([odds[kind] - wanted[kind] for kind in ORDER]) / _ODDS_STEP


def targets(change: Change) -> Samples:
    """What the network for changes is to tell of one (1 + 31,)."""
    return np.append(max(change.added_db, _LEAST_ADDED_DB), tone_change_db(change))


def likely_change(evidence: Samples) -> LikelyChange:
    """What was done, by evidence (n,) from two performances."""
    told = _told("change", evidence)
    return LikelyChange(max(float(told[0]), _LEAST_ADDED_DB), told[1:])


def evidence_of_another(dry: Samples, reference: Samples, rate: float) -> Samples:
    """What two performances tell, by the seconds of either that stand best for it (n,).

    Parameters
    ----------
    dry, reference : Samples
        (channels, frames) each.
    """
    before, after = (portrait(representative_pieces(sound, rate, 1, EVIDENCE_SECONDS), rate)
                     for sound in (dry, reference))
    return evidence(before, after, None)


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
