"""Run a chain over what stands for a strip's loop, and tell how far the result is from the reference."""

from __future__ import annotations

import copy
import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.jobs.job import side_by_side
from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.measuring import Capture
from yellow_ember.engine.jobs.reference.grammar import TONE, Chain
from yellow_ember.engine.jobs.reference.likely import (
    USUAL_ODDS,
    LikelyChange,
    evidence_of_another,
    likely_change,
    log_odds,
)
from yellow_ember.engine.jobs.reference.pieces import PIECE_SECONDS, PIECES, representative
from yellow_ember.measure.comparison import Before
from yellow_ember.measure.likeness.distance import (
    Distance,
    Features,
    Respect,
    Weights,
    distance,
    spread,
)
from yellow_ember.measure.likeness.evidence import evidence
from yellow_ember.measure.likeness.performance import (
    Change,
    added_apart,
    aligned,
    change_of,
    tone_apart,
    tone_lacking_db,
)
from yellow_ember.measure.likeness.portrait import portrait
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
_UNEXPLAINED_DB, _MOST_UNEXPLAINED = 10.0, 3.0
"""A step of what the result leaves unexplained in the reference, and how many count."""


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
        self._spreads: list[Features] = []
        self._look_at(PIECES, PIECE_SECONDS)
        self.before = portrait(self._dry_pieces(), self.rate)

    def by_one_stretch(self, seconds: float) -> Judge:
        """Who judges the same performance by one stretch that is so long, not by pieces that stand for all of it."""
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
        self._dry_alone = [self._alone(piece) for piece in self._dry_pieces()]
        if self.same_performance:
            played = [self._whole[:, begin + lag:end + lag] for begin, end in self._pieces]
            self._of_pieces = [portrait(played[:count], rate) for count in range(1, len(played) + 1)]
            self.reference = self._of_pieces[-1]
            self._pair_alone = [self._alone(piece) for piece in played]
            changes = [before.against(_single(after)) for before, after in zip(self._dry_alone, played, strict=True)]
            self._wanted = [change_of(changes[:count]) for count in range(1, len(played) + 1)]
        else:
            others = [self._whole[:, at:at + frames] for at in representative(self._whole, rate, 2 * PIECES)]
            self.reference = portrait(others, rate)
            self._spreads = [spread([portrait([piece], rate) for piece in some])
                             for some in (self._dry_pieces(), others)]

    @functools.cached_property
    def odds(self) -> dict[str, float]:
        """How likely each kind of stage has made the reference of the strip, as the logarithm of its odds."""
        return log_odds(self._evidence, same_performance=self.same_performance)

    @functools.cached_property
    def likely_change(self) -> LikelyChange:
        """Of another performance: what was done to it."""
        return likely_change(self._evidence)

    @functools.cached_property
    def _evidence(self) -> Samples:
        """All that there is to tell by what was done to the strip, in a row."""
        if self.same_performance:
            return evidence(self.before, self.reference, self._wanted[-1])
        return evidence_of_another(self._dry, self._whole, self.rate)

    def _dry_pieces(self) -> list[Samples]:
        return [self._dry[:, begin:end] for begin, end in self._pieces]

    def _alone(self, piece: Samples) -> Before:
        # Two channels that are fitted from two need five times the sums for little.
        return Before(_single(piece), self.rate, quick=True)

    def run(self, chain: Chain, pieces: int | None = None) -> list[Samples]:
        """What a chain makes of the first so many pieces, all for None; (channels, frames) each."""
        running = strip_chain(self._session, self._strip_id, chain, self._dry.shape[0], _FACTOR)
        return [run_in_loop(running, self._dry, self._start, self.rate, begin, end)
                for begin, end in self._pieces[:pieces]]

    def judge(self, chain: Chain, pieces: int | None = None) -> Judged:
        """How far a chain's result is from the reference."""
        made = self.run(chain, pieces)
        reference = self._of_pieces[len(made) - 1] if self.same_performance else self.reference
        apart = distance(portrait(made, self.rate), reference, self._spreads)
        spectra = self._spectra(made)
        change = self._change(spectra)
        if self.same_performance:
            wanted = self._wanted[len(made) - 1]
            apart = self._measured(spectra, change, wanted, apart)
            short = tone_lacking_db(change, wanted)
        else:
            apart, short = self._expected(change, apart), self.likely_change.tone_lacking_db(change)
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
        return self._change(self._spectra(made))

    def _spectra(self, made: Sequence[Samples]) -> list[NDArray[np.complex128]]:
        return [before.lines_of(_single(piece)) for before, piece in zip(self._dry_alone, made, strict=False)]

    def _change(self, spectra: Sequence[NDArray[np.complex128]]) -> Change:
        return change_of([before.against_lines(lines) for before, lines in zip(self._dry_alone, spectra,
                                                                               strict=False)])

    def _measured(self, spectra: Sequence[NDArray[np.complex128]], change: Change, wanted: Change,
                  apart: Distance) -> Distance:
        """Of the same performance: what was added, and the tone, are not told from figures of either alone."""
        # What no linear system explains of one by the other is the same from either side.
        left = np.mean([10.0 ** (pair.against_lines(lines).added_db / 10.0)
                        for pair, lines in zip(self._pair_alone, spectra, strict=False)])
        gained = 10.0 * np.log10(left + 1e-9) - max(wanted.added_db - 20.0, -60.0)
        unexplained = float(np.clip(gained / _UNEXPLAINED_DB, 0.0, _MOST_UNEXPLAINED))
        tone = np.append(0.85 * tone_apart(change, wanted), 0.5 * apart.apart[Respect.TONE])
        return Distance({**apart.apart, Respect.ADDED: 0.7 * added_apart(change, wanted), Respect.TONE: tone},
                        {**apart.sure, Respect.ADDED: 1.0, Respect.TONE: 1.0}, unexplained)

    def _expected(self, change: Change, apart: Distance) -> Distance:
        """Of another performance: what is likely to have been added counts beside all figures of either."""
        added = np.append(apart.apart[Respect.ADDED], self.likely_change.added_apart(change))
        return Distance({**apart.apart, Respect.ADDED: added}, apart.sure)

    def judge_all(self, chains: Sequence[Chain], pieces: int | None = None) -> list[Judged]:
        """Judge chains on all cores; in their order."""
        return self.on_all_cores(self.judge, [(chain, pieces) for chain in chains])

    def judge_roughly(self, chains: Sequence[Chain]) -> list[Judged]:
        """Judge chains by the first piece, on one core."""
        return [self.judge(chain, 1) for chain in chains]

    def on_all_cores(self, function: Callable[..., Result], arguments: Sequence[tuple[Any, ...]]) -> list[Result]:
        """A function's results, which must be picklable, in the order of their arguments."""
        if not arguments:
            return []
        shares = [arguments[first::self._workers] for first in range(self._workers)]

        def of(share: Sequence[tuple[Any, ...]]) -> Callable[[], list[Result]]:
            return lambda: [function(*some) for some in share]

        results = side_by_side([of(share) for share in shares if share])
        return [results[index % self._workers][index // self._workers] for index in range(len(arguments))]

    def offset_db(self, made: Sequence[Samples]) -> float:
        """What makes a chain's result as loud as what enters the strip; 0 where either is silent."""
        before, after = (loudness(np.concatenate(pieces, axis=1), self.rate).integrated_lufs
                         for pieces in (self._dry_pieces(), made))
        return float(before - after) if np.isfinite(before - after) else 0.0


def _single(sound: Samples) -> Samples:
    return np.asarray(sound.mean(axis=0, keepdims=True))
