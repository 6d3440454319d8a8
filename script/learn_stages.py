#!/usr/bin/env python3
"""Learn what stages leave behind, from chains at random: the file that a search for a reference begins with.

Usage: learn_stages.py [--chains N] [--only same|other] [--out FILE]

It takes an hour on two cores.  Learn again when a model, or a figure that recordings are compared by, has changed:
until then a search follows less likely chains first.
"""

import argparse
import functools
import multiprocessing
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, fields, replace
from pathlib import Path

import make_demo
import numpy as np
from sklearn.metrics import roc_auc_score
from sklearn.neural_network import MLPClassifier, MLPRegressor
from sklearn.preprocessing import StandardScaler

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.parameters import Number, Option, Switch, Value
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.engine.cores import cores
from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.measuring import Capture
from yellow_ember.engine.jobs.reference.grammar import ORDER, Chain, plain_stage
from yellow_ember.engine.jobs.reference.judging import Judge
from yellow_ember.engine.jobs.reference.likely import EVIDENCE_SECONDS, FILE, scaled, targets
from yellow_ember.measure.comparison import Before
from yellow_ember.measure.likeness.distance import EVEN
from yellow_ember.measure.likeness.evidence import evidence
from yellow_ember.measure.likeness.performance import change_of
from yellow_ember.measure.likeness.portrait import portrait
from yellow_ember.session.values.model import Loop, Session

RATE = make_demo.RATE
SECONDS = 10
PARTS = {"drums": make_demo.drums, "bass": make_demo.bass, "harmonium": make_demo.harmonium,
         "guitar": make_demo.guitar, "announcer": make_demo.announcer}
LINES = make_demo.LINES
PERFORMANCES = 6
CHAINS, CHAINS_EACH = {"same": 8500, "other": 5400}, {"same": 20, "other": 10}
"""By performance: all of them, and those over one material."""
OVERSAMPLING = 2
HEARD = 1e-5
WITH_CABINET, ALONE_CABINET = 0.85, 0.05
MOVED, CHOSEN, SWITCHED = 0.65, 0.6, 0.3
HIDDEN_UNITS, PENALTY = (128,), 3.0
CHANGE_UNITS, CHANGE_PENALTY = (256,), 20.0
ADDED_STEP_DB, TONE_STEP_DB = 5.0, 6.0
TESTED = 0.1


@functools.cache
def performed(part: str, number: int) -> Samples:
    """One part of the demo's song with other notes, chords and chances."""
    chance = np.random.default_rng([number, list(PARTS).index(part)])
    chords = [make_demo.G_MINOR, make_demo.A_MAJOR, make_demo.D_MINOR, make_demo.F_MAJOR]
    chance.shuffle(chords)
    shift = int(chance.integers(-6, 7))
    # The makers read their notes from their module.
    make_demo.RANDOM = np.random.default_rng(int(chance.integers(1 << 30)))
    make_demo.CHORDS = [tuple(note + shift for note in chord) for chord in chords * 4]
    make_demo.LINES = tuple((start, line[::-1] if chance.random() < 0.5 else line) for start, line in LINES)
    return np.asarray(PARTS[part](), dtype=np.float32)


def performances(chance: np.random.Generator) -> list[Samples]:
    """Two stretches of one part, or of several together, of one tone: (channels, frames) each."""
    together = 1 if chance.random() < 0.75 else int(chance.integers(2, len(PARTS)))
    parts = list(chance.choice(list(PARTS), together, replace=False))
    levels = chance.uniform(-24.0, -16.0, len(parts))
    frames = SECONDS * RATE
    octaves = np.log2(np.fft.rfftfreq(frames, 1.0 / RATE) + 1.0) - np.log2(800.0)
    bell = np.exp(-(((octaves - chance.uniform(-3.0, 4.0)) / chance.uniform(0.5, 1.5)) ** 2))
    tone_db = (chance.random() < 0.7) * (chance.uniform(-1.5, 1.5) * np.clip(octaves, -4.0, 4.0)
                                         + chance.uniform(-6.0, 6.0) * bell)
    result = []
    for _ in range(2):
        total = np.zeros((2 if len(parts) > 1 or parts[0] == "drums" else 1, frames))
        for part, level in zip(parts, levels, strict=True):
            sound = performed(str(part), int(chance.integers(PERFORMANCES)))
            first = int(chance.integers(sound.shape[1] - frames + 1))
            stretch = sound[:, first:first + frames].astype(np.float64)
            total += stretch * 10.0 ** (level / 20.0) / max(float(np.sqrt(np.mean(stretch**2))), 1e-6)
        total = np.fft.irfft(np.fft.rfft(total) * 10.0 ** (tone_db / 20.0), frames)
        result.append(total * min(1.0, 0.8 / float(np.abs(total).max())))
    return result


def random_stage(kind: str, chance: np.random.Generator) -> StageSettings:
    """A stage with some of its front anywhere but at its ends, and the rest as it comes."""
    declared = stage_kind(kind)
    values: dict[str, Value] = dict(declared.defaults())
    for name in dict.fromkeys((*declared.front, *declared.varied, *((declared.tone,) if declared.tone else ()))):
        parameter, value = declared.parameter(name), values[name]
        if name == declared.makeup:
            continue
        if isinstance(parameter, Number) and isinstance(value, float | int) and chance.random() < MOVED:
            values[name] = parameter.clamp(round(parameter.at(chance.uniform(0.08, 0.92)), parameter.decimals))
        elif isinstance(parameter, Option) and chance.random() < CHOSEN:
            values[name] = parameter.value_at(int(chance.integers(len(parameter.choices))))
        elif isinstance(parameter, Switch) and chance.random() < SWITCHED:
            values[name] = not value
    return replace(plain_stage(kind), params=values)


def random_chain(chance: np.random.Generator) -> Chain:
    """One to three stages in their order; an amp mostly has a cabinet behind it."""
    kinds = [kind for kind in ORDER if kind != "cabinet"]
    chosen = [str(kind) for kind in chance.choice(kinds, int(chance.choice([1, 2, 3], p=[0.3, 0.4, 0.3])),
                                                  replace=False)]
    if chance.random() < (WITH_CABINET if "amp" in chosen else ALONE_CABINET):
        chosen.append("cabinet")
    return tuple(random_stage(kind, chance) for kind in sorted(chosen, key=ORDER.index))


@dataclass(frozen=True, slots=True)
class Examples:
    """What some chains left behind (rows, n), their stages (rows, 14), and what these did (rows, 1 + 31)."""

    evidence: Samples
    stages: Samples
    changes: Samples


def of_the_same(number: int) -> Examples:
    """Some chains over one material, each told from the same performance without it."""
    chance = np.random.default_rng([96, number])
    played, _ = performances(chance)
    judge = Judge(Session(rate=RATE), "learning", Capture(played, played, Loop(0, played.shape[1])), played, EVEN, 1)
    rows = []
    for _ in range(CHAINS_EACH["same"]):
        chain = random_chain(chance)
        made = judge.run(chain)
        if min(float(np.abs(sound).max()) for sound in made) > HEARD:
            before, change = judge.performance.before, judge.change(made)
            rows.append((evidence(before, portrait(made, RATE), change), stages_of(chain), targets(change)))
    return _examples(rows)


def of_the_other(number: int) -> Examples:
    """Some chains over one material, each told from two stretches of another performance without it."""
    chance = np.random.default_rng([197, number])
    played, again = performances(chance)
    frames, settled = round(EVIDENCE_SECONDS * RATE), RATE
    # The end of the one and the beginning of the other are other notes of one tone.
    others = [portrait([np.roll(again, -first, axis=1)[:, :frames]], RATE) for first in (0, again.shape[1] // 2)]
    before = Before(played[:, settled:settled + frames].mean(axis=0, keepdims=True), RATE, quick=True)
    rows = []
    for _ in range(CHAINS_EACH["other"]):
        chain = random_chain(chance)
        running = strip_chain(Session(rate=RATE), "learning", chain, played.shape[0], OVERSAMPLING)
        made = run_in_loop(running, played, 0, RATE, settled, settled + frames)
        if float(np.abs(made).max()) > HEARD:
            after = portrait([made], RATE)
            change = change_of([before.against(made.mean(axis=0, keepdims=True))])
            rows += [(evidence(other, after, None), stages_of(chain), targets(change)) for other in others]
    return _examples(rows)


def stages_of(chain: Chain) -> list[float]:
    """Of each kind, whether it is in a chain."""
    return [float(any(stage.kind == kind for stage in chain)) for kind in ORDER]


def _examples(rows: Sequence[tuple[Samples, list[float], Samples]]) -> Examples:
    return Examples(*(np.array(column, dtype=np.float32) for column in zip(*rows, strict=True)))


def _given(rows: Samples) -> tuple[int, StandardScaler, Samples]:
    """How many rows (chains, n) are learned from, by what all are scaled, and what a network is given of them."""
    kept = rows.shape[0] - round(TESTED * rows.shape[0])
    scaler = StandardScaler().fit(rows[:kept])
    return kept, scaler, scaled(rows, scaler.mean_, scaler.scale_)


def learned(word: str, rows: Samples, stages: Samples) -> dict[str, Samples]:
    """A network that tells the stages (chains, 14) from what they left behind (chains, n)."""
    kept, scaler, given = _given(rows)
    network = MLPClassifier(HIDDEN_UNITS, alpha=PENALTY, early_stopping=True, random_state=1)
    network.fit(given[:kept], stages[:kept])
    told = network.predict_proba(given[kept:])
    print(word, ", ".join(f"{kind} {roc_auc_score(stages[kept:, index], told[:, index]):.2f}"
                          for index, kind in enumerate(ORDER)))
    return _in_file(word, scaler, network.coefs_, network.intercepts_)


def learned_change(rows: Samples, changes: Samples) -> dict[str, Samples]:
    """A network that tells what was done (chains, 1 + 31) from what it left behind (chains, n)."""
    kept, scaler, given = _given(rows)
    mean, step = changes[:kept].mean(axis=0), np.append(ADDED_STEP_DB, np.full(changes.shape[1] - 1, TONE_STEP_DB))
    network = MLPRegressor(hidden_layer_sizes=CHANGE_UNITS, alpha=CHANGE_PENALTY, early_stopping=True, random_state=1)
    network.fit(given[:kept], (changes[:kept] - mean) / step)
    missed = np.median(np.abs(network.predict(given[kept:]) * step + mean - changes[kept:]), axis=0)
    print(f"change: added missed by {missed[0]:.1f} dB, third octaves by {missed[1:].mean():.1f} dB")
    *hidden, last = network.coefs_
    *offsets, last_offsets = network.intercepts_
    return _in_file("change", scaler, [*hidden, last * step], [*offsets, last_offsets * step + mean])


def _in_file(word: str, scaler: StandardScaler, weights: Sequence[Samples], offsets: Sequence[Samples]
             ) -> dict[str, Samples]:
    """A network by the names under which the program reads it."""
    numbers = {"mean": scaler.mean_, "deviation": scaler.scale_}
    for index, (weight, offset) in enumerate(zip(weights, offsets, strict=True)):
        numbers |= {f"weights{index}": weight, f"offsets{index}": offset}
    return {f"{word}_{name}": np.asarray(value, dtype=np.float32) for name, value in numbers.items()}


def main() -> None:
    arguments = argparse.ArgumentParser(description=__doc__)
    arguments.add_argument("--chains", type=int)
    arguments.add_argument("--only", choices=CHAINS, help="by one performance, and keep what was learned by the other")
    arguments.add_argument("--out", type=Path, default=FILE)
    given = arguments.parse_args()
    networks: dict[str, Samples] = {}
    if given.only:
        with np.load(given.out) as file:
            networks |= file
    for performance in [given.only] if given.only else CHAINS:
        made = _made(performance, given.chains or CHAINS[performance])
        networks |= learned(performance, made.evidence, made.stages)
        if performance == "other":
            networks |= learned_change(made.evidence, made.changes)
    np.savez_compressed(given.out, **networks)


def _made(performance: str, chains: int) -> Examples:
    """So many chains of one performance, run on all cores."""
    numbers = range(-(-chains // CHAINS_EACH[performance]))
    with ProcessPoolExecutor(cores(), multiprocessing.get_context("fork")) as pool:
        made = list(pool.map(of_the_same if performance == "same" else of_the_other, numbers))
    return Examples(*(np.concatenate([getattr(one, column.name) for one in made]) for column in fields(Examples)))


if __name__ == "__main__":
    main()
