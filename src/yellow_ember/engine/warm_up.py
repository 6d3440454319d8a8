"""Compile or load every kernel, with progress: `python -m yellow_ember.engine.warm_up`."""

from __future__ import annotations

import functools
import os
import sys
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path

import numpy as np

from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.kernels import has_compiled
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.metering import LoudnessMeter, PeakProgrammeMeter
from yellow_ember.dsp.parameters import Automation, Number, Option, Switch, Values
from yellow_ember.dsp.stage import Damage, Disc, Setup, StageKind
from yellow_ember.dsp.stages import STAGES
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.plan import Crew
from yellow_ember.engine.raw_reader import RawReader
from yellow_ember.engine.strip_meters import StripMeter
from yellow_ember.session.values.model import Session, master_strip

_MAX_CHOICES = 12
_STRIPS = "Strips and meters"


def warm_up() -> Iterator[tuple[str, float]]:
    """Run every kernel once; yields (what is next, share done)."""
    yield from _one_by_one(_PARTS)


def load_for_playing() -> Iterator[tuple[str, float]]:
    """Load what sounds; what other values need comes with them, off the audio thread."""
    yield from _one_by_one({**{kind.label: functools.partial(_load, kind) for kind in _IN_ORDER},
                            _STRIPS: _touch_strips})


def _one_by_one(parts: Mapping[str, Callable[[], None]]) -> Iterator[tuple[str, float]]:
    for index, label in enumerate(parts):
        yield label, index / len(parts)
        parts[label]()


def warm_up_on_all_cores() -> Iterator[tuple[str, float]]:
    """The same in a process a core, the longest first; yields (what was done, share done).

    What they compile is found on disk by whoever needs it next.  Where processes can't share the work (no shared
    memory, too little of it), one does it alone.
    """
    try:
        with ProcessPoolExecutor(max_workers=os.cpu_count()) as pool:
            jobs = {pool.submit(_run_part, label): label for label in reversed(_PARTS)}
            for done, job in enumerate(as_completed(jobs), 1):
                job.result()
                yield jobs[job], done / len(jobs)
    except (OSError, NotImplementedError, BrokenProcessPool):
        yield from warm_up()


def _run_part(label: str) -> None:
    _PARTS[label]()


def _touch_strips() -> None:
    """Reach every kernel that is no stage's: a graph of a master alone, its threads, its meters, and a file."""
    session = Session(strips=(master_strip(),))
    graph = Graph(session, GraphSettings(1, 64))
    meter = StripMeter(session.rate, graph.last)
    meter.watch(0, np.zeros((2, 64)), np.zeros((2, 64)))
    with Crew(2) as crew:
        graph.process([(0, 64)], 64, crew)
    meter.process(64)
    block = np.zeros((2, 64))
    LoudnessMeter(session.rate, 2).process(block)
    PeakProgrammeMeter(session.rate, 2).process(block)
    glide(block, np.zeros(4))
    Chain(Setup(session.rate, 2, 64), []).process(block)
    with tempfile.NamedTemporaryFile() as file:
        file.write(bytes(2 * 64 * 4))
        file.flush()
        RawReader(Path(file.name), 2, 64, 64).read(0, block)


def _touch_picture(kind: StageKind) -> None:
    """Reach what the stage's picture needs beside its processor."""
    for part in kind.picture(kind.defaults(), 48000.0, -18.0):
        if isinstance(part, Damage):
            part.at(np.zeros(2), 120.0, 0.0)
        elif isinstance(part, Disc):
            part.marks(0.0)


def _touch(kind: StageKind) -> None:
    """Reach every kernel of a stage: every choice, and every number off its default."""
    values = kind.defaults()
    for parameter in kind.parameters:
        if isinstance(parameter, Number):
            values[parameter.id] = parameter.at(0.7)
        elif isinstance(parameter, Switch):
            values[parameter.id] = True
    # An option of very many choices names figures (a speaker), not kernels.
    options = [p for p in kind.parameters if isinstance(p, Option) and p.automation is Automation.CROSSFADE
               and len(p.choices) <= _MAX_CHOICES]
    most = max((len(option.choices) for option in options), default=0)
    variants = [values, *({**values, **{option.id: option.value_at(k) for option in options}} for k in range(most))]
    _run(kind, [kind.defaults(), *variants])
    _touch_picture(kind)


def _load(kind: StageKind) -> None:
    """Load what makes a stage's sound; where it had to be compiled, compile what its tables are made with too."""
    kind.processor.compiled.load()
    if has_compiled():
        _run(kind, [kind.defaults()])


def _run(kind: StageKind, variants: Iterable[Values]) -> None:
    """Run a stage with each of these values."""
    processor = kind.processor(Setup(48000.0, 2, 64, 2, lookahead=kind.lookahead(kind.defaults(), 48000.0)))
    for variant in variants:
        processor.set(variant, at_once=True)
        processor.process(np.zeros((2, 64)))


_IN_ORDER = sorted(STAGES, key=lambda kind: kind.nonlinear)
"""What takes longest comes last, so that the progress of one process is seen early."""
_PARTS: dict[str, Callable[[], None]] = {
    **{kind.label: functools.partial(_touch, kind) for kind in _IN_ORDER}, _STRIPS: _touch_strips}
"""What there is to compile, by its name."""


def main() -> int:
    terminal = sys.stderr.isatty()
    for label, done in warm_up_on_all_cores():
        end = "\r" if terminal else "\n"
        print(f"Compiling kernels: {done:4.0%}  {label:24}", end=end, file=sys.stderr, flush=True)
    print(f"Compiling kernels: 100%  {'done':24}", file=sys.stderr)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
