"""How far a chain's result is from a reference of the same performance: what was done to it is measured outright."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.jobs.reference.before_pieces import BeforePieces, alone, single
from yellow_ember.engine.jobs.reference.likely import log_odds
from yellow_ember.measure.likeness.distance import Distance, Respect, distance
from yellow_ember.measure.likeness.evidence import evidence
from yellow_ember.measure.likeness.performance import Change, added_apart, change_of, tone_apart, tone_lacking_db
from yellow_ember.measure.likeness.portrait import portrait

_UNEXPLAINED_DB, _MOST_UNEXPLAINED = 10.0, 3.0
"""A step of what the result leaves unexplained in the reference, and how many count."""
_ADDED_WEIGHT, _TONE_WEIGHT, _PORTRAIT_TONE_WEIGHT = 0.7, 0.85, 0.5
"""Of what is measured, and of what either's portrait tells beside it."""


class SamePerformance:
    """Compares results with the same pieces of a reference.

    Parameters
    ----------
    played : Sequence[Samples]
        What the reference has where the pieces are (channels, frames).
    """

    def __init__(self, before: BeforePieces, played: Sequence[Samples]) -> None:
        self._before, rate = before, before.rate
        self._of_pieces = [portrait(played[:count], rate) for count in range(1, len(played) + 1)]
        self.before, self.reference = portrait(before.pieces, rate), self._of_pieces[-1]
        self._played_alone = [alone(piece, rate) for piece in played]
        changes = [one.against(single(after)) for one, after in zip(before.alone, played, strict=True)]
        self._wanted = [change_of(changes[:count]) for count in range(1, len(played) + 1)]

    def odds(self) -> dict[str, float]:
        """How likely each kind of stage has made the reference of the strip, as the logarithm of its odds."""
        return log_odds(evidence(self.before, self.reference, self._wanted[-1]), same_performance=True)

    def apart(self, made: Sequence[Samples]) -> tuple[Distance, Samples]:
        """How far the results of the first pieces are, and what their third octaves (31,) lack in dB, nan where that is
        not heard."""
        reference, wanted = self._of_pieces[len(made) - 1], self._wanted[len(made) - 1]
        figures = distance(portrait(made, self._before.rate), reference)
        spectra = self._before.spectra(made)
        change = self._before.change(spectra)
        tone = np.append(_TONE_WEIGHT * tone_apart(change, wanted),
                         _PORTRAIT_TONE_WEIGHT * figures.apart[Respect.TONE])
        added = _ADDED_WEIGHT * added_apart(change, wanted)
        result = Distance({**figures.apart, Respect.ADDED: added, Respect.TONE: tone},
                          {**figures.sure, Respect.ADDED: 1.0, Respect.TONE: 1.0}, self._unexplained(spectra, wanted))
        return result, tone_lacking_db(change, wanted)

    def _unexplained(self, spectra: Sequence[NDArray[np.complex128]], wanted: Change) -> float:
        """Steps of what no linear system explains of the reference by a result, which is the same from either side."""
        left = np.mean([10.0 ** (played.against_lines(lines).added_db / 10.0)
                        for played, lines in zip(self._played_alone, spectra, strict=False)])
        gained = 10.0 * np.log10(left + 1e-9) - max(wanted.added_db - 20.0, -60.0)
        return float(np.clip(gained / _UNEXPLAINED_DB, 0.0, _MOST_UNEXPLAINED))
