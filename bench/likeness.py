"""Chains that are hidden and looked for: how near the search comes, on performances the same and others.

Material is made as the demo's is, with other notes for the other performance.
"""

from __future__ import annotations

import contextlib
import importlib.util
import itertools
import multiprocessing
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from types import ModuleType
from typing import Any

# First of all: it decides where everything is kept, before anything looks.
from measuring import HOME, row  # isort: skip

import numpy as np
import soundfile

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.parameters import Number, Option, Value
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.engine.cores import cores
from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.reference.for_files import match_file
from yellow_ember.engine.jobs.reference.grammar import ORDER, Chain, plain_stage, with_tone
from yellow_ember.engine.jobs.reference.references import Reference
from yellow_ember.engine.jobs.reference.search import SearchOrder, search
from yellow_ember.measure.bands import BAND_CENTRES
from yellow_ember.measure.comparison import compare
from yellow_ember.measure.likeness.distance import EVEN, distance, tone_apart_db
from yellow_ember.measure.likeness.portrait import portrait
from yellow_ember.session.io.presets import shipped_presets
from yellow_ember.session.values.model import Session, session_from_audio

Submit = Callable[..., Future[Any]]
RATE = 48000
_SECONDS = 10.0
_MAINS = (("tape",), ("drive",), ("bits",), ("amp", "cabinet"), ("vinyl",))
_BESIDE = ("comp", "wear", "motion", "eq", "room")
_LEAST_DB, _MOST_DB = -45.0, -3.0
_SHARES = 0.2, 0.8
_HEARD_DB = 50.0
_TIMED = 5
"""So many searches are timed, each alone."""
_WITHIN = {"same": (2.0, 1.0), "other": (4.0, 2.0)}
"""dB of what is added, and dB rms of third octaves."""
SOURCES = ("bass", "drums", "harmonium", "announcer", "mix")


def _maker() -> ModuleType:
    path = Path(__file__).parents[1] / "script" / "make_demo.py"
    spec = importlib.util.spec_from_file_location("make_demo", path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def performance(source: str, *, other: bool) -> Samples:
    """Ten seconds of one of SOURCES (channels, frames), as in the demo, or with other notes."""
    maker = _maker()
    maker.RANDOM = np.random.default_rng(12 if other else 96)
    if other:
        turned = [maker.G_MINOR, maker.A_MAJOR, maker.D_MINOR, maker.F_MAJOR]
        maker.CHORDS = [tuple(note + 3 for note in chord) for chord in turned * 4]
        maker.LINES = tuple((start, line[::-1]) for start, line in maker.LINES)
    makers = (maker.bass, maker.drums, maker.harmonium, maker.announcer)
    chosen = makers if source == "mix" else (getattr(maker, source),)
    total = np.zeros((2 if source in ("mix", "drums") else 1, round(_SECONDS * RATE)))
    for make in chosen:
        sound = make()[:, :total.shape[1]]
        total += sound / np.sqrt(np.mean(sound**2)) * 10.0 ** (-20.0 / 20.0)
    return total * min(1.0, 0.8 / float(np.abs(total).max()))


@dataclass(frozen=True, slots=True, eq=False)
class Case:
    """A chain that was hidden over a source, and its main stage: the kind that adds most by itself."""

    source: str
    chain: Chain
    main: str


def cases(count: int) -> Iterator[Case]:
    """Chains of one to three stages at settings of their middle range, each of which adds something."""
    chance = np.random.default_rng(7)
    for number, (main, source) in enumerate(itertools.islice(
            zip(itertools.cycle(_MAINS), itertools.cycle(SOURCES + SOURCES[1:]), strict=False), count)):
        dry = performance(source, other=False)
        while True:
            beside = chance.choice(_BESIDE, number % 3, replace=False)
            kinds = sorted((*main, *(str(kind) for kind in beside)), key=ORDER.index)
            chain = tuple(_varied(kind, chance) for kind in kinds)
            if _LEAST_DB < _added(dry, chain)[0] < _MOST_DB:
                break
        yield Case(source, chain, main_stage(dry, chain))


def _varied(kind: str, chance: np.random.Generator) -> StageSettings:
    declared = stage_kind(kind)
    values: dict[str, Value] = dict(declared.defaults())
    for name in declared.front:
        parameter = declared.parameter(name)
        if name == declared.makeup:
            continue
        if isinstance(parameter, Number) and isinstance(values[name], float | int) and chance.random() < 0.6:
            values[name] = parameter.clamp(round(parameter.at(chance.uniform(*_SHARES)), parameter.decimals))
        elif isinstance(parameter, Option) and chance.random() < 0.5:
            values[name] = parameter.value_at(int(chance.integers(len(parameter.choices))))
    return replace(plain_stage(kind), params=values)


def _session(sound: Samples) -> Session:
    path = HOME / "performance.wav"
    soundfile.write(path, sound.T, RATE, subtype="FLOAT")
    return session_from_audio([path], RATE)


def _after(sound: Samples, chain: Chain) -> Samples:
    session = Session(rate=RATE)
    return run_in_loop(strip_chain(session, "hidden", chain, sound.shape[0], 4), sound, 0, RATE)


def _added(sound: Samples, chain: Chain) -> tuple[float, Samples]:
    result = compare(sound.mean(axis=0, keepdims=True), _after(sound, chain).mean(axis=0, keepdims=True), RATE,
                     loop=True)
    # What lies farther below the loudest band is not heard: its level does not matter.
    levels = np.maximum(result.after_db, result.after_db.max() - _HEARD_DB)
    return max(result.added_db, -90.0), np.where(result.before_db > result.before_db.max() - _HEARD_DB, levels, np.nan)


def off(sound: Samples, chain: Chain, hidden: Chain) -> tuple[float, float]:
    """By how much a chain misses what another adds, and its tone, over the same sound."""
    (added, tone), (wanted, wanted_tone) = _added(sound, chain), _added(sound, hidden)
    apart = (tone - wanted_tone)[np.isfinite(tone)]
    return abs(added - wanted), float(np.sqrt(np.mean((apart - apart.mean()) ** 2)))


def main_stage(sound: Samples, chain: Chain) -> str:
    """The kind of the stage that adds most by itself."""
    return max(chain, key=lambda stage: _added(sound, (stage,))[0]).kind if chain else ""


def _baselines(sound: Samples, reference: Samples) -> dict[str, Chain]:
    """Nothing; the preset that comes nearest; an equaliser that brings the tone there."""
    wanted = portrait([reference], RATE)
    piece = sound[:, :2 * RATE]
    nearest = min((preset.stages for preset in shipped_presets()),
                  key=lambda chain: distance(portrait([_after(piece, chain)], RATE), wanted).total(EVEN))
    lacking = tone_apart_db(portrait([sound], RATE), wanted)
    known = np.isfinite(lacking)
    toned = with_tone((), BAND_CENTRES[known], lacking[known])
    return {"nothing": (), "nearest preset": nearest, "equaliser": toned}


def found(sound: Samples, reference: Samples) -> Chain:
    """What a search finds at last for a sound and its reference, on one core of whatever machine."""
    with tempfile.TemporaryDirectory() as folder:
        paths = Path(folder) / "performance.wav", Path(folder) / "reference.wav"
        for path, what in zip(paths, (sound, reference), strict=True):
            soundfile.write(path, what.T, RATE, subtype="FLOAT")
        return match_file(*paths, workers=1).proposals[0].chain


def _times(case: Case) -> tuple[float, float]:
    """After how many seconds a search's first proposals come, and its last, on all cores."""
    session, path = _session(performance(case.source, other=False)), HOME / "reference.wav"
    soundfile.write(path, _reference(case, other=False).T, RATE, subtype="FLOAT")
    began = time.perf_counter()
    steps = search(lambda _share: None, session, SearchOrder(session.strips[0].id, Reference(path)))
    next(steps)
    first = time.perf_counter() - began
    for _ in steps:
        pass
    return first, time.perf_counter() - began


def _reference(case: Case, *, other: bool) -> Samples:
    return _after(performance(case.source, other=other), case.chain)


@dataclass(frozen=True, slots=True, eq=False)
class Result:
    """What was found of a hidden chain.

    Attributes
    ----------
    added_off, tone_off : float
        By how many dB what it adds, and its third octaves (rms), are missed over the strip.
    baselines : dict[str, tuple[float, float]]
        The same of chains that need no search.
    """

    case: Case
    kinds: str
    main: str
    added_off: float
    tone_off: float
    baselines: dict[str, tuple[float, float]]


def _result(case: Case, sound: Samples, reference: Samples, chain: Chain) -> Result:
    baselines = {name: off(sound, one, case.chain) for name, one in _baselines(sound, reference).items()}
    return Result(case, _kinds(chain), main_stage(sound, chain), *off(sound, chain, case.chain), baselines)


def _kinds(chain: Chain) -> str:
    return "+".join(stage.kind for stage in chain)


@contextlib.contextmanager
def workers_of(cluster: str) -> Iterator[Submit]:
    """A search at a time on each core here, or on each worker of a Dask cluster, which needs the package alone."""
    if not cluster:
        with ProcessPoolExecutor(cores(), multiprocessing.get_context("fork")) as pool:
            yield pool.submit
        return
    import cloudpickle
    import distributed

    cloudpickle.register_pickle_by_value(sys.modules[__name__])
    with distributed.Client(cluster, set_as_default=False) as client:
        client.wait_for_workers(1)
        executor = client.get_executor(pure=False)
        # A function that has a name would be sent as its name, and this module be looked for there.
        yield lambda function, *rest: executor.submit(lambda: function(*rest))


def likeness(count: int, cluster: str = "") -> None:
    """Hide chains, look for them, count what was met, and write what was confused into docs/likeness.md.

    Parameters
    ----------
    cluster : str
        The address of a Dask scheduler whose workers search; "" for this machine's cores.
    """
    hidden, tables = list(cases(count)), []
    _time_rows([_times(case) for case in hidden[:_TIMED]])
    for word, wanted in (("same", 0.9), ("other", 0.75)):
        results = []
        pairs = [(performance(case.source, other=False), _reference(case, other=word == "other")) for case in hidden]
        with workers_of(cluster) as submit:
            searches = [submit(found, *pair) for pair in pairs]
            for case, pair, chain in zip(hidden, pairs, searches, strict=True):
                results.append(_result(case, *pair, chain.result()))
                print(f"  {word}: {_line(results[-1])}", flush=True)
        _rows(word, wanted, results)
        tables += [f"### The {word} performance, {count} hidden chains", "",
                   "| on | hidden | found | added off, dB | tone off, dB |", "|---|---|---|---|---|",
                   *(f"| {_line(result)} |" for result in results), "", *_counts(word, results), "",
                   *_confusion(results), ""]
    page = Path(__file__).parents[1] / "docs" / "likeness.md"
    head, mark, _ = page.read_text(encoding="utf-8").partition("## Figures\n")
    page.write_text(head + mark + "\n" + "\n".join(tables).rstrip() + "\n", encoding="utf-8")


def _line(result: Result) -> str:
    return (f"{result.case.source} | {_kinds(result.case.chain)} | {result.kinds} | {result.added_off:.1f} | "
            f"{result.tone_off:.1f}")


def _met(word: str, offs: Sequence[tuple[float, float]]) -> int:
    added, tone = _WITHIN[word]
    return sum(off[0] <= added and off[1] <= tone for off in offs)


def _right(results: Sequence[Result]) -> int:
    """How often the main stage is of the kind that was hidden."""
    return sum(result.main == result.case.main for result in results)


def _searched(results: Sequence[Result]) -> list[tuple[float, float]]:
    return [(result.added_off, result.tone_off) for result in results]


def _rows(word: str, wanted: float, results: list[Result]) -> None:
    count = len(results)
    added, tone = _WITHIN[word]
    met = _met(word, _searched(results))
    row(f"{count} hidden chains, {word} performance: added within {added:g} dB, third octaves within {tone:g} dB rms",
        str(met), f">= {wanted * count:g}", met >= wanted * count)
    for name in results[0].baselines:
        row(f"the same by {name}", str(_met(word, [result.baselines[name] for result in results])), "-", True)
    if word == "same":
        right = _right(results)
        row("the same: kind of the main stage right", str(right), f">= {0.8 * count:g}", right >= 0.8 * count)


def _counts(word: str, results: list[Result]) -> list[str]:
    """How many came near enough, by the search and by what needs none, as a table."""
    names = list(results[0].baselines)
    lines = [("search", _searched(results)),
             *((name, [result.baselines[name] for result in results]) for name in names)]
    added, tone = _WITHIN[word]
    return [f"| of {len(results)} | added within {added:g} dB | third octaves within {tone:g} dB | both |",
            "|---|---|---|---|",
            *(f"| {name} | {sum(off[0] <= added for off in offs)} | {sum(off[1] <= tone for off in offs)} | "
              f"{_met(word, offs)} |" for name, offs in lines), "",
            f"The kind of the main stage is right in {_right(results)}."]


def _time_rows(times: Sequence[tuple[float, float]]) -> None:
    for what, taken, most in zip(("first proposals after", "settled after"), zip(*times, strict=True), (5.0, 60.0),
                                 strict=True):
        middle = float(np.median(taken))
        row(f"{what}, s, median of {len(times)}", f"{middle:.1f}", f"<= {most:g}", middle <= most)


def _confusion(results: list[Result]) -> list[str]:
    """How often each kind of main stage was found as which."""
    hidden = list(dict.fromkeys(result.case.main for result in results))
    found = list(dict.fromkeys((*hidden, *(result.main for result in results))))
    counts = [[sum(result.case.main == one and result.main == other for result in results) for other in found]
              for one in hidden]
    return [f"| main stage hidden, found as | {' | '.join(found)} |", "|---" * (len(found) + 1) + "|",
            *(f"| {one} | {' | '.join(str(number or '') for number in line)} |"
              for one, line in zip(hidden, counts, strict=True))]
