"""Run a chain over what stands for a strip's loop, and tell how far the result is from the reference."""

from __future__ import annotations

import copy
import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.jobs.job import shared_out
from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.measuring import Capture
from yellow_ember.engine.jobs.reference.before_pieces import BeforePieces
from yellow_ember.engine.jobs.reference.grammar import TONE, Chain
from yellow_ember.engine.jobs.reference.likely import USUAL_ODDS
from yellow_ember.engine.jobs.reference.other_performance import BothPerformances, OtherPerformance
from yellow_ember.engine.jobs.reference.pieces import PIECE_SECONDS, PIECES, representative, representative_pieces
from yellow_ember.engine.jobs.reference.same_performance import SamePerformance
from yellow_ember.measure.likeness.distance import Distance, Respect, Weights
from yellow_ember.measure.likeness.performance import Change, aligned
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.values.model import Session

Result = TypeVar("Result")
_FACTOR = 2
"""Oversampling while searching: what is proposed is heard at the session's own."""
_STAGE_COSTS, _TONE_COSTS = 0.12, 0.04
"""Steps that a stage has to be worth, and one that sets the tone alone."""
_ODDS_COST, _LEAST_COSTS = 0.04, 0.03
"""By how much less where the stage is likelier than usual, for each log odds, and the least."""
_TONE_WEIGHT = 0.2
"""What tone counts for where an equaliser may still set it."""


@dataclass(frozen=True, slots=True, eq=False)
class Judged:
    """A chain, and how far its result is from the reference.

    Attributes
    ----------
    apart : Samples
        All figures of the distance, weighted.
    cost : float
        The sum of all by which chains are ranked.
    cost_but_tone : float
        The same where the tone counts for little: what is right but for that needs an equaliser alone.
    tone_short_db : Samples
        What its result's third octaves (31,) lack of the reference's, nan where neither is heard; of another
        performance of what is likely to have been there, as notes differ as well.
    """

    chain: Chain
    distance: Distance
    apart: Samples
    cost: float
    cost_but_tone: float
    tone_short_db: Samples


class Judge:
    """Knows a strip's sound before its chain, and the reference."""

    def __init__(self, session: Session, strip_id: str, capture: Capture, reference: Samples,
                 weights: Weights, workers: int) -> None:
        self._session, self._strip_id, self._weights = session, strip_id, weights
        self._dry, self._start, self._workers = capture.before, capture.loop.start, workers
        self.rate = session.rate
        self._whole, self._lag = reference, aligned(self._dry, reference, self.rate)
        self.same_performance = self._lag is not None
        self._look_at(PIECES, PIECE_SECONDS)

    def by_one_stretch(self, seconds: float) -> Judge:
        """Who judges by one stretch that is so long, not by pieces that stand for all of it."""
        result = copy.copy(self)
        result.odds = self.odds
        result._look_at(1, seconds)
        return result

    def _look_at(self, count: int, seconds: float) -> None:
        """Choose so many pieces to judge by, and learn what there is to know of them."""
        rate, lag = self.rate, self._lag or 0
        first, end = max(0, -lag), min(self._dry.shape[1], self._whole.shape[1] - lag)
        shared = self._dry[:, first:end] if self.same_performance else self._dry
        frames = min(round(seconds * rate), shared.shape[1])
        self._pieces = [(first + at, first + at + frames) for at in representative(shared, rate, count, seconds)]
        self._before = BeforePieces([self._dry[:, begin:end] for begin, end in self._pieces], rate)
        self.performance: SamePerformance | OtherPerformance
        if self.same_performance:
            self.performance = SamePerformance(self._before, [self._whole[:, begin + lag:end + lag]
                                                              for begin, end in self._pieces])
        else:
            # What is of other notes takes more pieces to know.
            others = representative_pieces(self._whole, rate, 2 * count if count > 1 else 1, seconds)
            self.performance = OtherPerformance(self._before, others, self._both)

    @functools.cached_property
    def _both(self) -> BothPerformances:
        return BothPerformances(self._dry, self._whole, self.rate)

    @functools.cached_property
    def odds(self) -> dict[str, float]:
        """How likely each kind of stage has made the reference of the strip, as the logarithm of its odds."""
        return self.performance.odds()

    def run(self, chain: Chain, pieces: int | None = None) -> list[Samples]:
        """What a chain makes of the first so many pieces, all for None; (channels, frames) each."""
        running = strip_chain(self._session, self._strip_id, chain, self._dry.shape[0], _FACTOR)
        return [run_in_loop(running, self._dry, self._start, self.rate, begin, end)
                for begin, end in self._pieces[:pieces]]

    def judge(self, chain: Chain, pieces: int | None = None) -> Judged:
        """How far a chain's result is from the reference."""
        apart, short = self.performance.apart(self.run(chain, pieces))
        costs = sum(self._stage_costs(stage.kind) for stage in chain)
        but_tone = {**self._weights, Respect.TONE: _TONE_WEIGHT * self._weights[Respect.TONE]}
        return Judged(chain, apart, apart.figures(self._weights), apart.total(self._weights) + costs,
                      apart.total(but_tone) + costs, short)

    def _stage_costs(self, kind: str) -> float:
        if kind == TONE:
            return _TONE_COSTS
        return max(_STAGE_COSTS - _ODDS_COST * (self.odds.get(kind, USUAL_ODDS) - USUAL_ODDS), _LEAST_COSTS)

    def change(self, made: Sequence[Samples]) -> Change:
        """What a chain did to the first pieces (channels, frames), of which this is made."""
        return self._before.change(self._before.spectra(made))

    def judge_all(self, chains: Sequence[Chain], pieces: int | None = None) -> list[Judged]:
        """Judge chains on all cores; in their order."""
        return self.on_all_cores(self.judge, [(chain, pieces) for chain in chains])

    def judge_roughly(self, chains: Sequence[Chain]) -> list[Judged]:
        """Judge chains by the first piece, on one core."""
        return [self.judge(chain, 1) for chain in chains]

    def on_all_cores(self, function: Callable[..., Result], arguments: Sequence[tuple[Any, ...]]) -> list[Result]:
        """A function's results, which must be picklable, in the order of their arguments."""
        return shared_out(function, arguments, self._workers)

    def offset_db(self, made: Sequence[Samples]) -> float:
        """What makes a chain's result as loud as what enters the strip; 0 where either is silent."""
        before, after = (loudness(np.concatenate(pieces, axis=1), self.rate).integrated_lufs
                         for pieces in (self._before.pieces, made))
        return float(before - after) if np.isfinite(before - after) else 0.0

