"""How far a chain's result is from a reference of another performance: what was done to that is told, not measured."""

from __future__ import annotations

import functools
from collections.abc import Sequence

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.jobs.reference.before_pieces import BeforePieces
from yellow_ember.engine.jobs.reference.likely import (
    LikelyChange,
    evidence_of_another,
    likely_change,
    log_odds,
    odds_apart,
    tone_steps,
)
from yellow_ember.engine.jobs.reference.pieces import PIECES, representative_pieces
from yellow_ember.measure.likeness.distance import Distance, Features, Respect, distance, spread
from yellow_ember.measure.likeness.evidence import evidence
from yellow_ember.measure.likeness.portrait import portrait
from yellow_ember.measure.likeness.whole_tone import tone_between, whole_tone_db

_PORTRAIT_TONE_WEIGHT = 0.5
"""Of what either's portrait tells of the tone beside what both have between them."""


class BothPerformances:
    """What all of a strip and of a reference tell, by whatever pieces results are compared.

    Parameters
    ----------
    dry, whole : Samples
        All of the strip and of the reference (channels, frames).
    """

    def __init__(self, dry: Samples, whole: Samples, rate: float) -> None:
        self._dry, self._whole, self._rate = dry, whole, rate
        self.spreads = [_spread(dry, rate, PIECES), _spread(whole, rate, 2 * PIECES)]
        self.tone_between = tone_between(dry, whole, rate)

    @functools.cached_property
    def _evidence(self) -> Samples:
        return evidence_of_another(self._dry, self._whole, self._rate)

    def odds(self) -> dict[str, float]:
        """How likely each kind of stage has made the reference of the strip, as the logarithm of its odds."""
        return log_odds(self._evidence, same_performance=False)

    @functools.cached_property
    def likely_change(self) -> LikelyChange:
        """What was done to the reference."""
        return likely_change(self._evidence).with_tone_between(self.tone_between)


class OtherPerformance:
    """Compares results with pieces that stand for a reference.

    Parameters
    ----------
    played : Sequence[Samples]
        The pieces of the reference (channels, frames).
    """

    def __init__(self, before: BeforePieces, played: Sequence[Samples], both: BothPerformances) -> None:
        self._before, self.both, rate = before, both, before.rate
        self.reference = portrait(played, rate)
        counts = range(1, len(before.pieces) + 1)
        self._of_pieces = [portrait(before.pieces[:count], rate) for count in counts]
        self._tones = [whole_tone_db(before.pieces[:count], rate) for count in counts]
        self.before = self._of_pieces[-1]

    def odds(self) -> dict[str, float]:
        """How likely each kind of stage has made the reference of the strip, as the logarithm of its odds."""
        return self.both.odds()

    @functools.cached_property
    def _traces(self) -> dict[str, float]:
        """What stages seem to have left behind in the reference, by the figures that results are compared by."""
        return log_odds(evidence(self.before, self.reference, None), same_performance=False)

    def apart(self, made: Sequence[Samples]) -> tuple[Distance, Samples]:
        """How far the results of the first pieces are, and what their third octaves (31,) lack in dB, nan where that is
        not heard or not known."""
        after, tone = portrait(made, self._before.rate), whole_tone_db(made, self._before.rate)
        figures = distance(after, self.reference, self.both.spreads)
        # What is told of the reference is told of the result as well: what is told wrong of both does not matter.
        traces = log_odds(evidence(self._of_pieces[len(made) - 1], after, None), same_performance=False)
        change = self._before.change(self._before.spectra(made))
        added = np.concatenate((figures.apart[Respect.ADDED], odds_apart(traces, self._traces),
                                [self.both.likely_change.added_apart(change)]))
        lacking = self.both.likely_change.tone_lacking_db(tone - self._tones[len(made) - 1],
                                                          self.both.tone_between.compared_with(tone))
        apart = np.append(tone_steps(lacking), _PORTRAIT_TONE_WEIGHT * figures.apart[Respect.TONE])
        return Distance({**figures.apart, Respect.ADDED: added, Respect.TONE: apart}, figures.sure), lacking


def _spread(sound: Samples, rate: float, count: int) -> Features:
    """What the notes of a recording (channels, frames) do to its figures, by so many pieces."""
    return spread([portrait([piece], rate) for piece in representative_pieces(sound, rate, count)])
