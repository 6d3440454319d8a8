"""Which stages are likely to have made a recording of another: what was learned, and how it is learned."""

from __future__ import annotations

import functools
import importlib
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.measuring import Capture
from yellow_ember.engine.jobs.reference import likely
from yellow_ember.engine.jobs.reference.grammar import ORDER, TONE, Chain, chain_of, plain_stage, signature, starts
from yellow_ember.engine.jobs.reference.judging import Judge
from yellow_ember.engine.jobs.reference.likely import (
    USUAL_ODDS,
    LikelyChange,
    likeliest,
    likelihood,
    likely_kinds,
    odds_apart,
    tone_steps,
)
from yellow_ember.engine.jobs.reference.other_performance import OtherPerformance
from yellow_ember.measure.likeness.distance import EVEN, Respect
from yellow_ember.measure.likeness.performance import Change
from yellow_ember.measure.likeness.whole_tone import ToneBetween
from yellow_ember.session.values.model import Loop, Session

RATE = 48000
SCRIPTS = Path(__file__).resolve().parents[1] / "script"


@functools.cache
def plucked(seed: int) -> Samples:
    """Six seconds of notes that die away, as no instrument of the demo plays them (1, frames)."""
    chance = np.random.default_rng(seed)
    frames, since = 6 * RATE, np.arange(RATE) / RATE
    sound = np.zeros(frames + RATE)
    for begin in range(0, frames, round(0.3 * RATE)):
        hz = 110.0 * 2.0 ** (chance.integers(0, 24) / 12.0)
        for partial in range(1, 9):
            sound[begin:begin + RATE] += (np.minimum(since / 0.004, 1.0) * np.exp(-2.0 * since * partial) / partial
                                          * np.sin(2.0 * np.pi * hz * partial * since))
    return np.asarray(0.4 * sound[None, :frames] / np.abs(sound).max() + 1e-5 * chance.normal(size=(1, frames)))


def judge_of(chain: Chain, *, other: bool = False) -> Judge:
    """Who is to find a chain over plucked notes, by the same notes or by others."""
    sound, session = plucked(1), Session(rate=RATE)
    made = run_in_loop(strip_chain(session, "hidden", chain, 1, 2), plucked(2) if other else sound, 0, RATE)
    judge = Judge(session, "strip", Capture(sound, sound, Loop(0, sound.shape[1])), made, EVEN, 1)
    assert judge.same_performance is not other
    return judge


def _told(judge: Judge) -> LikelyChange:
    """What was done to other notes."""
    assert isinstance(judge.performance, OtherPerformance)
    return judge.performance.both.likely_change


def odds_of(chain: Chain, *, other: bool = False) -> dict[str, float]:
    """How likely each kind of stage is told to be in a chain over plucked notes."""
    return judge_of(chain, other=other).odds


def driven(drive_db: float) -> Chain:
    """A drive."""
    stage = plain_stage("drive")
    return (replace(stage, params={**stage.params, "drive_db": drive_db}),)


CHAINS = [(("drive",), {"drive_db": 24.0}), (("bits",), {"bits": 6.0}), (("amp", "cabinet"), {}),
          (("vinyl",), {"wear_pct": 60.0}), (("motion",), {"wow_pct": 1.0}), (("room",), {"level_db": -6.0})]


@pytest.mark.parametrize(("other", "most_missed"), [(False, 1), (True, 3)])
def test_stages_are_known_by_what_they_leave_behind(other: bool, most_missed: int) -> None:
    """On notes and an instrument that nothing was learned from: most are among the three likeliest of fourteen."""
    missed = []
    for kinds, settings in CHAINS:
        *before, last = chain_of(kinds)
        odds = odds_of((*before, replace(last, params={**last.params, **settings})), other=other)
        likeliest_three = sorted(odds, key=lambda kind: -odds[kind])[:3]
        missed += [kind for kind in kinds[:1] if kind not in likeliest_three]
    assert len(missed) <= most_missed, missed


def test_how_much_was_added_is_told_by_other_notes() -> None:
    """On notes and an instrument that nothing was learned from: the more the more there is, and within 6 dB of most."""
    missed, told = [], []
    for drive_db in (12.0, 24.0, 36.0):
        judge = judge_of(driven(drive_db), other=True)
        there = judge.change(judge.run(driven(drive_db)))
        told.append(_told(judge).added_db)
        missed.append(abs(told[-1] - there.added_db))
        # A chain that adds as much is nearer than one that adds nothing, or far more or less.
        by_drive = {drive: judge.judge(driven(drive)).distance.steps[Respect.ADDED] for drive in (-6.0, drive_db)}
        assert by_drive[drive_db] < 0.5 * min(by_drive[-6.0], judge.judge(()).distance.steps[Respect.ADDED])
    assert told == sorted(told)
    assert np.median(missed) < 6.0


def test_what_is_likely_to_have_been_done_is_compared_with_what_a_chain_does() -> None:
    levels = np.where(np.arange(31) < 25, -15.0, -80.0)
    likely_change = LikelyChange(-20.0, np.where(np.arange(31) < 10, 3.0, 0.0))
    changes = [Change(added, levels, levels, levels) for added in (-32.0, -20.0, -14.0, 40.0, -math.inf)]
    # In steps of 12 dB, and no more than counts; what adds next to nothing is 50 dB below.
    assert [likely_change.added_apart(change) for change in changes] == [-1.0, 0.0, 0.5, 2.4, -2.4]
    heard = np.arange(31) < 25
    lacking = likely_change.tone_lacking_db(np.full(31, 2.0), heard)
    assert np.array_equal(lacking[:25], np.where(np.arange(25) < 10, 3.0, 0.0))
    assert np.isnan(lacking[25:]).all()
    # All that is heard together is a step apart where each third octave is; nothing where the level alone is another.
    assert np.linalg.norm(tone_steps(np.where(heard, 1.8, np.nan))) == pytest.approx(1.0)
    assert not tone_steps(likely_change.tone_lacking_db(likely_change.tone_db + 5.0, heard)).any()
    assert np.isnan(likely_change.tone_lacking_db(levels, np.zeros(31, bool))).all()


def test_a_tone_that_is_heard_counts_by_how_sure_it_is() -> None:
    """Beside what was learned, whose shape alone counts."""
    likely_change = LikelyChange(-20.0, np.linspace(-6.0, 6.0, 31))
    heard = ToneBetween(np.where(np.arange(31) < 15, 0.0, 8.0), np.full(31, 1e-6), np.ones(31, bool))
    assert likely_change.with_tone_between(heard).tone_db == pytest.approx(heard.change_db)
    unsure = replace(heard, error_db=np.full(31, 1e6))
    told = likely_change.with_tone_between(unsure).tone_db
    assert told - told.mean() == pytest.approx(likely_change.tone_db, abs=1e-6)
    between = likely_change.with_tone_between(replace(heard, error_db=np.full(31, 3.0))).tone_db
    assert between == pytest.approx((told + heard.change_db) / 2.0)


def test_two_results_are_as_far_apart_as_what_stages_seem_to_have_left_in_them() -> None:
    odds = dict.fromkeys(ORDER, -2.0)
    assert odds_apart({**odds, "tape": 0.5}, odds) == pytest.approx(2.0 * (np.array(ORDER) == "tape"))


def test_a_reference_is_no_nearer_by_figures_that_are_told_wrong_of_both() -> None:
    """What was done to other notes is found again by what that leaves behind, not by what is told of it outright."""
    performance = judge_of(driven(24.0), other=True).performance
    by_drive = {drive: performance.apart(judge_of(driven(24.0), other=True).run(driven(drive)))[0].steps[Respect.ADDED]
                for drive in (-6.0, 6.0, 24.0)}
    assert by_drive[24.0] < by_drive[6.0] < by_drive[-6.0]


def test_kinds_of_chains_come_by_how_likely_all_their_stages_are() -> None:
    odds = {**dict.fromkeys(ORDER, -3.0), "drive": 2.0, "cabinet": 1.0, "tape": -0.5}
    kinds = likely_kinds(odds)
    assert kinds[:4] == [("drive", "cabinet"), ("drive", "cabinet", "tape"), ("drive",), ("drive", "tape")]
    assert len(set(kinds)) == len(kinds) == sum(math.comb(len(ORDER) - 1, count) for count in (1, 2, 3, 4))
    assert not any(TONE in kind for kind in kinds)
    assert likelihood(("drive",), odds) == 2.0 - USUAL_ODDS
    assert likelihood((), odds) == 0.0


def test_the_first_of_every_kind_comes_before_others_of_what_is_likely() -> None:
    odds = {**dict.fromkeys(ORDER, -3.0), "tape": 1.0}
    chains = likeliest(starts(), odds)
    assert sorted(map(repr, chains)) == sorted(map(repr, starts()))
    kinds = [signature(chain) for chain in chains]
    count = len(set(kinds))
    assert len(set(kinds[:count])) == count
    assert kinds[0] == kinds[count] == ("tape",)
    assert chains[0] == next(chain for chain in starts() if signature(chain) == ("tape",))


def test_what_does_nothing_costs_more_the_less_likely_it_is() -> None:
    sound = plucked(1)
    judge = Judge(Session(rate=RATE), "strip", Capture(sound, sound, Loop(0, sound.shape[1])), sound, EVEN, 1)
    costs = []
    for odds in (-4.0, USUAL_ODDS, 1.0):
        judge.odds = dict.fromkeys(ORDER, odds)
        costs.append(judge.judge((plain_stage("comp"),)).cost - judge.judge(()).cost)
    assert costs[0] > costs[1] > costs[2]


@pytest.mark.filterwarnings("ignore")  # Of so few chains some figures are not defined.
def test_learning_writes_what_the_search_reads(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """By few chains over few notes: what it makes of them is read in place of what ships, which it does not need."""
    shipped = odds_of(chain_of(["drive"]))
    monkeypatch.syspath_prepend(SCRIPTS)
    learning = importlib.import_module("learn_stages")
    monkeypatch.setattr(learning, "PARTS", {part: learning.PARTS["announcer"] for part in ("one", "two", "three")})
    monkeypatch.setattr(learning, "PERFORMANCES", 1)
    monkeypatch.setattr(learning, "CHAINS_EACH", {"same": 10, "other": 10})
    monkeypatch.setattr("sys.argv", ["learn_stages.py", "--chains", "40", "--out", str(tmp_path / "learned.npz")])
    monkeypatch.setattr(likely, "FILE", tmp_path / "learned.npz")
    likely._learned.cache_clear()
    try:
        learning.main()
        odds = odds_of(chain_of(["drive"]))
        change = _told(judge_of(chain_of(["drive"]), other=True))
    finally:
        likely._learned.cache_clear()
    assert change.tone_db.shape == (31,)
    assert np.isfinite([change.added_db, *change.tone_db]).all()
    assert list(odds) == list(ORDER)
    assert odds != shipped
