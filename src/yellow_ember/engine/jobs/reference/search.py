"""The search for chains: every preset and kind at first, then the best refined, lengthened and shortened."""

from __future__ import annotations

import math
import secrets
import time
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TypeVar

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.cores import cores
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.jobs.measuring import capture_strip
from yellow_ember.engine.jobs.reference.descent import descend
from yellow_ember.engine.jobs.reference.grammar import (
    MOST_STAGES,
    Chain,
    Signature,
    Space,
    as_searched,
    at_first,
    chain_of,
    choices_of,
    missing_from,
    plain_stage,
    sets_tone,
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
from yellow_ember.engine.jobs.reference.likely import EVIDENCE_SECONDS, likeliest, likelihood, likely_kinds
from yellow_ember.engine.jobs.reference.pieces import PIECES
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

Group = TypeVar("Group")
PROPOSALS = 6
_BATCH = 16
_SHOWN_AFTER = (0, 5)
"""Batches after which the best of them are shown: the first has the likeliest kinds in it."""
_STARTED = 3
"""How many kinds of chains are gone on with from what was judged at the start, in turn with the best ones of all."""
_MOST_RUNS = 1200
"""No further kind is gone on with after so many runs over a piece."""
_IDLE_STEPS, _IDLE_SHARE = 0.02, 0.15
"""A stage that takes less off the distance, and adds less than this share of it, does nothing."""
_UNHEARD_STEPS = 0.06
"""What is nearer is as good as there."""
_FIRST_ROUNDS, _ROUNDS, _SKETCHED_ROUNDS = 4, 10, 3
"""Of descents: before other choices are tried and behind an equaliser; after that; of other choices and new stages."""
_NEARLY = 1.5
"""How many times as far a chain of fewer stages may be that is gone on with first."""
_KEPT_SECONDS = 3 * 24 * 3600.0
_SCREENED = 7 * _BATCH
"""So many starts are judged, the likeliest first."""
_LIKELY, _LIKELY_MOVED, _LIKELY_SETTLED = 24, 12, 8
"""So many of the likeliest kinds of chains are tried, so many of these moved, and so many judged by all pieces."""
_ODDS_WEIGHT = 0.15
"""By how much a log odds makes up for distance, as the logarithm of a share of it."""
_FINISHED, _MOVED_LAST, _LAST_ROUNDS = 8, 2, 2
"""So many kinds of chains are judged by one long stretch at last, so many of these moved, and for so many rounds."""
_SEARCHED = 0.85
"""How much of a search is done then."""
_PASSAGE_SECONDS, _WHOLE_SECONDS = 4.0, 15.0
"""Of the same performance: by one stretch of so many seconds chains are judged that come near by one, and at last."""
_ADDED = 6
"""So many of the likeliest stages are added to what was found."""
_TONED_TIMES = 2
"""So often an equaliser is worked out, the second time with what it has left as well."""
_STARTS_OF_A_KIND, _CHOICES, _LONGER = 2, 4, 4
"""How many of those judged by one piece are judged by all; as many other choices, or new stages, are moved before."""


@dataclass(frozen=True, slots=True)
class SearchOrder:
    """What is looked for.

    Attributes
    ----------
    weights : Mapping[Respect, float]
        How much each respect counts.
    near : Chain | None
        Begin from this chain alone.
    workers : int | None
        Processes, None for one a core; what is found does not depend on it.
    """

    strip_id: str
    reference: Reference
    seed: int = 1
    weights: Mapping[Respect, float] = field(default_factory=lambda: dict(EVEN))
    near: Chain | None = None
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
    compared, hunt = judge.performance, _Hunt(judge, order)
    file = order.reference.path or _as_file(reference, session.rate)
    offset = judge.offset_db([reference.sound])
    heard: dict[str, tuple[float, Portrait]] = {}

    def hear(chain: Chain) -> tuple[float, Portrait]:
        made = judge.run(chain)
        return judge.offset_db(made), portrait(made, session.rate)

    for _ in hunt.run(session.strip(order.strip_id).chain):
        progress(0.02 + 0.98 * hunt.share)
        best = {repr(judged.chain): judged for judged in hunt.best(PROPOSALS)}
        # What is heard of a chain stays the same when it is judged again, by all of the loop.
        unheard = [words for words in best if words not in heard]
        heard.update(zip(unheard, judge.on_all_cores(hear, [(best[words].chain,) for words in unheard]), strict=True))
        proposals = tuple(Proposal(judged.chain, judged.distance, *heard[words]) for words, judged in best.items())
        missing = unreached(compared.before, compared.reference, proposals[0].distance)
        yield Findings(proposals, compared.reference, compared.before, hunt.nothing.distance, judge.same_performance,
                       file, offset, reference.remarks, missing)


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


class _Hunt:
    """All chains that were judged over all pieces."""

    def __init__(self, judge: Judge, order: SearchOrder) -> None:
        self._judge, self._order = judge, order
        self._closer = judge.by_one_stretch(_PASSAGE_SECONDS) if judge.same_performance else judge
        self.nothing = self._closer.judge(())
        self._known: list[Judged] = []
        self._rough: list[Judged] = []
        self._chance = np.random.default_rng(order.seed)
        self._runs = 0

    @property
    def share(self) -> float:
        """How much of the search is done, before the best are judged by all."""
        return min(_SEARCHED, _SEARCHED * self._runs / _MOST_RUNS)

    def _judged(self, chains: Sequence[Chain], pieces: int = PIECES) -> list[Judged]:
        self._runs += pieces * len(chains)
        return (self._judge if pieces == 1 else self._closer).judge_all(chains, pieces)

    def best(self, count: int) -> list[Judged]:
        """The best chain of each kind, the best kinds first."""
        return list(_best_of_kinds(self._known, lambda one: one.cost).values())[:count]

    def run(self, present: Chain) -> Iterator[None]:
        """Search, until all is done that is worth its time, or no difference is left; each yield is a step done."""
        yield from self._screen(present)
        if self._order.near is None:
            self._follow_likely()
            yield
        # What the start shows best may be what only resembles the reference: others are followed by turns.
        started = list(_best_of_kinds(self._known, self._promise))[:_STARTED]
        refined: set[Signature] = set()
        while self._runs < _MOST_RUNS and not self._unheard:
            best = _best_of_kinds(self._known, lambda one: one.cost)
            reached = {one: judged.distance.total(self._order.weights) for one, judged in best.items()}
            kinds = [one for one in ([*started, *best] if len(refined) % 2 == 0 else best)
                     if one and one not in refined and not idles(one, reached, refined)]
            if not kinds:
                break
            kind = first_of({one: (best[one].cost, self._promise(best[one])) for one in kinds})
            refined.add(kind)
            self._refine(kind)
            self._shorten(kind)
            if not self._unheard or len(self.best(PROPOSALS)) < PROPOSALS:
                self._lengthen(kind)
            yield
        yield from self._finish()

    def _finish(self) -> Iterator[None]:
        """Judge the best by the whole of what there is to hear, set their tone by it, and move them once more."""
        best = self.best(_FINISHED)
        self._closer = self._judge.by_one_stretch(_WHOLE_SECONDS if self._judge.same_performance else EVIDENCE_SECONDS)
        self.nothing, *self._known = self._closer.judge_all([(), *(one.chain for one in best)])
        self._set_tones()
        yield
        if not self._unheard:
            for one in self.best(_MOVED_LAST):
                self._descend(one, _LAST_ROUNDS)
            self._set_tones()
            # What a speaker or a room does to neighbouring third octaves is more than one equaliser can follow.
            self._equalise([one.chain for one in self.best(_MOVED_LAST) if sets_tone(one.chain)])
            yield

    def _set_tones(self) -> None:
        """Bring the best few nearer in tone by one equaliser each."""
        self._equalise([without_tone(one.chain) for one in self.best(_MOVED_LAST)])

    @property
    def _unheard(self) -> bool:
        return self.best(1)[0].distance.total(self._order.weights) <= _UNHEARD_STEPS

    def _promise(self, one: Judged) -> float:
        """How near a chain is, and how likely its kind, as numbers that hardly moved tell little: less is better."""
        return one.cost_but_tone * math.exp(-_ODDS_WEIGHT * likelihood(signature(one.chain), self._judge.odds))

    def _screen(self, present: Chain) -> Iterator[None]:
        """Judge every start by one piece, and the better ones by all."""
        if self._order.near is not None:
            chains = [self._order.near, *with_one_less(self._order.near), *with_another_choice(self._order.near)]
        else:
            presets = [as_searched(preset.stages) for preset in shipped_presets()]
            chains = [as_searched(present), *starts(), *(chain for chain in presets if len(chain) <= MOST_STAGES)]
            chains = likeliest([chain for chain in chains if chain], self._judge.odds)[:_SCREENED]
        for first in range(0, len(chains), _BATCH):
            self._rough += self._judged(chains[first:first + _BATCH], 1)
            if first // _BATCH in _SHOWN_AFTER:
                self._settle(self._rough, _STARTS_OF_A_KIND, PROPOSALS)
                yield
        self._settle(self._rough, _STARTS_OF_A_KIND, 2 * PROPOSALS)
        self._set_tone(())
        yield

    def _follow_likely(self) -> None:
        """Move the nearest of the likeliest kinds of chains a little, by one piece, and judge the best by all."""
        alone = {kind[0]: without_tone(one.chain)[0] for kind, one in _best_of_kinds(self._rough, self._promise).items()
                 if len(kind) == 1}
        chains = [chain for kind in likely_kinds(self._judge.odds)[:_LIKELY]
                  for chain in (chain_of(kind), tuple(alone.get(one, plain_stage(one)) for one in kind))]
        judged = self._judged(chains, 1)
        nearest = list(_best_of_kinds(judged, self._promise).values())[:_LIKELY_MOVED]
        self._settle(judged + self._sketched(nearest, space_of), 1, _LIKELY_SETTLED)

    def _best_of(self, kind: Signature) -> Judged:
        return min((one for one in self._known if signature(one.chain) == kind), key=lambda judged: judged.cost)

    def _settle(self, rough: Sequence[Judged], of_a_kind: int, most: int) -> None:
        """Judge the best of what was judged by one piece by all of them, at most so many of each kind of chain."""
        best: dict[Signature, int] = {}
        chosen: list[Chain] = []
        for one in sorted(rough, key=self._promise):
            seen = best[signature(one.chain)] = best.get(signature(one.chain), 0) + 1
            if seen <= of_a_kind and len(chosen) < most:
                chosen.append(one.chain)
        known = [one.chain for one in self._known]
        self._known += self._judged([chain for chain in chosen if chain not in known])

    def _refine(self, kind: Signature) -> None:
        """Move its numbers, try other choices, and move them again; so too with its tone set, where that is nearer."""
        self._descend(self._bare(kind), _FIRST_ROUNDS)
        others = self._judged(list(with_another_choice(self._bare(kind).chain)), 1)
        # What the numbers of one choice make of another says little before they have moved with it.
        nearest = list(_best_of(others, lambda one: choices_of(one.chain), lambda one: one.cost_but_tone).values())
        sketches = nearest[:_CHOICES]
        if len(kind) > 1:
            # Where one stage has made up for another that was not there yet, no small step leads back.
            sketches += self._judged([at_first(one.chain) for one in sketches], 1)
        self._settle(others + self._sketched(sketches, space_of), _CHOICES, _CHOICES)
        self._descend(self._bare(kind), _ROUNDS)
        self._set_tone(self._best_of(kind).chain)
        best = self._best_of(kind)
        if sets_tone(best.chain):
            self._descend(best, _FIRST_ROUNDS)
            self._set_tone(self._best_of(kind).chain)

    def _bare(self, kind: Signature) -> Judged:
        """The best of a kind whose tone is not set, where there is one."""
        return min((one for one in self._known if signature(one.chain) == kind and not sets_tone(one.chain)),
                   key=lambda judged: judged.cost, default=self._best_of(kind))

    def _descend(self, start: Judged, rounds: int) -> None:
        self._known += descend(self._judged, start, space_of(start.chain), rounds, self._chance)

    def _set_tone(self, chain: Chain) -> None:
        """Bring a chain nearer in tone by one equaliser."""
        self._equalise([without_tone(chain)])

    def _equalise(self, chains: Sequence[Chain]) -> None:
        """Add an equaliser to each chain, which is worked out, not searched for."""
        there = {repr(one.chain): one for one in self._known}
        unknown = [chain for chain in chains if repr(chain) not in there]
        there |= {repr(one.chain): one for one in self._closer.judge_all(unknown)}
        last, wanted = [there[repr(chain)] for chain in chains], [np.zeros(BAND_CENTRES.size) for _ in chains]
        for _ in range(_TONED_TIMES):
            # What is lost in noise, or lies too deep to be told, shows only when the rest is right.
            wanted = [so_far + one.tone_short_db for so_far, one in zip(wanted, last, strict=True)]
            toned = [self._toned(chain, tone) for chain, tone in zip(chains, wanted, strict=True)]
            last = self._judged(toned)
            self._known += last

    @staticmethod
    def _toned(chain: Chain, wanted_db: Samples) -> Chain:
        """The chain with one more equaliser for third octaves (31,), as far as they are known."""
        known = np.isfinite(wanted_db)
        return with_tone(chain, BAND_CENTRES[known], wanted_db[known]) if known.sum() > 1 else chain

    def _shorten(self, kind: Signature) -> None:
        """Leave out each stage of a kind's best."""
        self._known += self._judged(with_one_less(self._best_of(kind).chain))

    def _lengthen(self, kind: Signature) -> None:
        """Add each likely kind of stage to a kind's best, and move what is new where that promises most."""
        likely = sorted(missing_from(kind), key=lambda one: -self._judge.odds[one])[:_ADDED]
        best = self._best_of(kind).chain
        # What is new may do what the equaliser made up for, or need it as before.
        shorter = [without_tone(best), *([best] if sets_tone(best) else [])]
        longer = self._judged([chain for one in shorter for chain in with_one_more(one, likely)], 1)
        nearest = list(_best_of_kinds(longer, self._promise).values())[:_LONGER]
        moved = self._sketched(nearest, lambda chain: space_of(chain, without=kind))
        self._settle(longer + moved, 1, _LONGER)

    def _sketched(self, starts: Sequence[Judged], space: Callable[[Chain], Space]) -> list[Judged]:
        """What a little moving makes, by one piece, of chains that were judged by it."""
        def moved(start: Judged, chance: np.random.Generator) -> list[Judged]:
            return descend(self._judge.judge_roughly, start, space(start.chain), _SKETCHED_ROUNDS, chance)

        found = self._judge.on_all_cores(moved, list(zip(starts, self._chance.spawn(len(starts)), strict=True)))
        result = [judged for some in found for judged in some]
        self._runs += len(result)
        return result


def first_of(kinds: Mapping[Signature, tuple[float, float]]) -> Signature:
    """The first kind of chain, or one with fewer of its stages that is nearly as near, and of those the most promising.

    That takes fewer runs to move, and what is still to be added to it is seen then.

    Parameters
    ----------
    kinds : Mapping[Signature, tuple[float, float]]
        By kind the cost of its best chain, and of what it promises; less is better.
    """
    first, (cost, _) = next(iter(kinds.items()))
    near = [one for one, (its, _) in kinds.items() if Counter(one) < Counter(first) and its <= _NEARLY * cost]
    return min(near, key=lambda one: kinds[one][1]) if near else first


def idles(kind: Signature, reached: Mapping[Signature, float], followed: Collection[Signature]) -> bool:
    """Whether all that a kind of chain has beside a shorter one that was followed does nothing.

    Parameters
    ----------
    reached : Mapping[Signature, float]
        By kind the distance of its best chain, in steps.
    """
    return any(len(one) < len(kind) and not Counter(one) - Counter(kind)
               and -_IDLE_STEPS < reached[kind] - reached[one] < max(_IDLE_STEPS, _IDLE_SHARE * reached[one])
               for one in followed)


def _best_of_kinds(judged: Iterable[Judged], by: Callable[[Judged], float]) -> dict[Signature, Judged]:
    """The best chain of each kind, the best kinds first."""
    return _best_of(judged, lambda one: signature(one.chain), by)


def _best_of(judged: Iterable[Judged], group: Callable[[Judged], Group], by: Callable[[Judged], float]
             ) -> dict[Group, Judged]:
    """The best of each group, the best groups first."""
    best: dict[Group, Judged] = {}
    for one in sorted(judged, key=by):
        best.setdefault(group(one), one)
    return best
