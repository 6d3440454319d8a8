"""The search for chains: every preset and kind at first, then the best refined, lengthened and shortened."""

from __future__ import annotations

import secrets
import time
import warnings
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from yellow_ember.engine.cores import cores
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.jobs.measuring import capture_strip
from yellow_ember.engine.jobs.reference.grammar import (
    MOST_STAGES,
    Chain,
    as_searched,
    signature,
    space_of,
    starts,
    with_another_choice,
    with_one_less,
    with_one_more,
    with_tone,
    without_tone,
)
from yellow_ember.engine.jobs.reference.judging import Judge, Judged
from yellow_ember.engine.jobs.reference.references import (
    Reference,
    ReferenceSound,
    UnfitReferenceError,
    read_reference,
)
from yellow_ember.engine.jobs.reference.unreached import unreached
from yellow_ember.files.conformed import conform
from yellow_ember.files.writing import writing
from yellow_ember.folders import Base, folder
from yellow_ember.measure.bands import BAND_CENTRES
from yellow_ember.measure.likeness.distance import EVEN, Distance, Respect
from yellow_ember.measure.likeness.portrait import Portrait, portrait
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.io.presets import shipped_presets
from yellow_ember.session.values.model import Session

PROPOSALS = 6
_BATCH = 16
_SHOWN_AFTER = (0, 5)
"""Batches after which the best of them are shown: the first has every kind in it."""
_BEAMS = (4, 2, 1)
"""How many kinds of chains are refined, round by round."""
_TONES = 3
"""Of how many kinds of chains the tone is set after each round."""
_KEPT_SECONDS = 3 * 24 * 3600.0
_POPULATION = 8
_SPREAD = 0.12
_STARTS_OF_A_KIND, _CHOICES = 2, 4
"""How many of those judged by some pieces are judged by all."""


@dataclass(frozen=True, slots=True)
class SearchOrder:
    """What is looked for.

    Attributes
    ----------
    weights : Mapping[Respect, float]
        How much each respect counts.
    near : Chain | None
        Begin from this chain alone.
    generations : int
        Of each refinement.
    workers : int | None
        Processes, None for one a core; what is found does not depend on it.
    """

    strip_id: str
    reference: Reference
    seed: int = 1
    weights: Mapping[Respect, float] = field(default_factory=lambda: dict(EVEN))
    near: Chain | None = None
    generations: int = 5
    workers: int | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Proposal:
    """A chain, how far it is from the reference, and what makes it as loud as what enters the strip."""

    chain: Chain
    distance: Distance
    offset_db: float
    portrait: Portrait


@dataclass(frozen=True, slots=True, eq=False)
class Findings:
    """What is known so far.

    Attributes
    ----------
    proposals : tuple[Proposal, ...]
        The best first, of each kind of chain one.
    reference, before : Portrait
        Of the reference, and of the strip without a chain.
    beside : Distance
        How far the strip is from the reference without a chain.
    file : Path
        The reference as a file, for whoever wants to hear it, and in `offset_db` what makes it as loud as the strip.
    remarks, unreached : tuple[str, ...]
        What can't be compared, and what even the first proposal lacks, in sentences.
    """

    proposals: tuple[Proposal, ...]
    reference: Portrait
    before: Portrait
    beside: Distance
    same_performance: bool
    file: Path
    offset_db: float
    remarks: tuple[str, ...]
    unreached: tuple[str, ...]


def search(progress: Progress, session: Session, order: SearchOrder) -> Iterator[Findings]:
    """Better and better proposals; the same again from the same seed.

    Raises
    ------
    AudioFileError, UnfitReferenceError
        Where the strip's loop, or the reference, has no sound to compare.
    """
    reference = read_reference(lambda share: progress(0.01 * share), session, order.reference)
    dry = edit_strip(session, order.strip_id, lambda strip: strip.with_(chain=()))
    capture = capture_strip(lambda share: progress(0.01 + 0.01 * share), dry, order.strip_id)
    if capture.before.shape[1] < session.rate or not np.any(capture.before):
        raise UnfitReferenceError("The strip has less than a second of sound in the loop. Set the loop where it plays.")
    judge = Judge(session, order.strip_id, capture, reference.sound, order.weights, order.workers or cores())
    hunt = _Hunt(judge, order)
    file = order.reference.path or _as_file(reference, session.rate)
    offset = judge.offset_db([reference.sound])
    known: dict[int, Proposal] = {}

    def proposal(judged: Judged) -> Proposal:
        if id(judged) not in known:
            made = judge.run(judged.chain)
            known[id(judged)] = Proposal(judged.chain, judged.distance, judge.offset_db(made),
                                         portrait(made, session.rate))
        return known[id(judged)]

    for done, _ in enumerate(hunt.run(session.strip(order.strip_id).chain), 1):
        progress(0.02 + 0.98 * min(1.0, done / hunt.steps))
        proposals = tuple(proposal(judged) for judged in hunt.best(PROPOSALS))
        yield Findings(proposals, judge.reference, judge.before, hunt.nothing.distance, judge.same_performance, file,
                       offset, reference.remarks, unreached(judge.before, judge.reference, proposals[0].distance))


def _as_file(reference: ReferenceSound, rate: int) -> Path:
    """The sound of a reference that is no file, kept for as long as a window may want to hear it."""
    kept = folder(Base.CACHE, "references")
    for old in kept.glob("*.wav"):
        if old.stat().st_mtime < time.time() - _KEPT_SECONDS:
            old.unlink(missing_ok=True)
    path = kept / f"{secrets.token_hex(8)}.wav"
    with writing(path, rate, reference.sound.shape[0]) as writer:
        writer.write(reference.sound)
    conform(path, rate)
    return path


def _cma() -> Any:
    """The package that refines; it brings much along where there is much, which the window need not wait for."""
    with warnings.catch_warnings():
        # It misses a package to draw with.
        warnings.simplefilter("ignore")
        import cma
    return cma


class _Hunt:
    """All chains that were judged over all pieces."""

    def __init__(self, judge: Judge, order: SearchOrder) -> None:
        self._judge, self._order = judge, order
        self.nothing = judge.judge(())
        self._known: list[Judged] = []
        self.steps = 1 + len(_SHOWN_AFTER) + sum(_BEAMS) + len(_BEAMS)

    def best(self, count: int) -> list[Judged]:
        """The best chain of each kind, the best kinds first."""
        kinds: dict[tuple[str, ...], Judged] = {}
        for one in sorted(self._known, key=lambda judged: judged.cost):
            kinds.setdefault(signature(one.chain), one)
        return list(kinds.values())[:count]

    def run(self, present: Chain) -> Iterator[None]:
        """Search; each yield is a step done."""
        yield from self._screen(present)
        for number, beams in enumerate(_BEAMS):
            for beam in self.best(beams):
                self._refine(beam, number)
                yield
            self._restructure()
            self._set_tone()
            yield

    def _screen(self, present: Chain) -> Iterator[None]:
        """Judge every start by one piece, and the better ones by all."""
        if self._order.near is not None:
            chains = [self._order.near, *with_one_less(self._order.near), *with_another_choice(self._order.near)]
        else:
            presets = [as_searched(preset.stages) for preset in shipped_presets()]
            chains = [as_searched(present), *starts(), *(chain for chain in presets if len(chain) <= MOST_STAGES)]
        chains = [chain for chain in chains if chain]
        rough: list[Judged] = []
        for first in range(0, len(chains), _BATCH):
            rough += self._judge.judge_all(chains[first:first + _BATCH], 1)
            if first // _BATCH in _SHOWN_AFTER:
                self._settle(rough, _STARTS_OF_A_KIND)
                yield
        self._settle(rough, _STARTS_OF_A_KIND)
        yield

    def _settle(self, rough: Sequence[Judged], of_a_kind: int) -> None:
        """Judge the best of what was judged by some pieces by all of them, at most so many of each kind of chain."""
        best: dict[tuple[str, ...], int] = {}
        chosen: list[Chain] = []
        for one in sorted(rough, key=lambda judged: judged.cost):
            seen = best[signature(one.chain)] = best.get(signature(one.chain), 0) + 1
            if seen <= of_a_kind and len(chosen) < 2 * PROPOSALS:
                chosen.append(one.chain)
        known = {id(one.chain) for one in self._known}
        self._known += self._judge.judge_all([chain for chain in chosen if id(chain) not in known])

    def _refine(self, beam: Judged, number: int) -> None:
        """Try other choices, then move its numbers (CMA-ES)."""
        if number < 2:
            rough = self._judge.judge_all(list(with_another_choice(beam.chain)), 1 + number)
            self._settle(rough, _CHOICES)
        start = min((one for one in self._known if signature(one.chain) == signature(beam.chain)),
                    key=lambda judged: judged.cost)
        space = space_of(start.chain)
        if not space.axes:
            return
        # The package needs two numbers at least; the second is then never looked at.
        here = space.here if len(space.axes) > 1 else [*space.here, 0.5]
        strategy = _cma().CMAEvolutionStrategy(here, _SPREAD / (1 + number), {
            "bounds": [0.0, 1.0], "popsize": _POPULATION, "seed": self._order.seed, "verbose": -9})
        for _ in range(self._order.generations):
            asked = strategy.ask()
            judged = self._judge.judge_all([space.at(one[:len(space.axes)]) for one in asked])
            self._known += judged
            strategy.tell(asked, [one.cost for one in judged])

    def _set_tone(self) -> None:
        """Bring the best nearer in tone by an equaliser that is worked out, not searched for."""
        chains = []
        for beam in self.best(_TONES):
            bare = without_tone(beam.chain)
            lacking = self._judge.tone_short_db(bare)
            known = np.isfinite(lacking)
            if len(bare) < MOST_STAGES and known.sum() > 1:
                chains.append(with_tone(bare, BAND_CENTRES[known], lacking[known], self._judge.rate))
        self._known += self._judge.judge_all(chains)

    def _restructure(self) -> None:
        """Lengthen and shorten the best."""
        for beam in self.best(2):
            self._known += self._judge.judge_all([*with_one_more(beam.chain), *with_one_less(beam.chain)])
