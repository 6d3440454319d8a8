"""Compile or load every kernel, with progress: `python -m yellow_ember.engine.warm_up`."""

from __future__ import annotations

import functools
import os
import sys
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool

import numpy as np

from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.kernels.mixing import add_rows, advance, ceiling, level_turn, print_to_sides, to_sides
from yellow_ember.dsp.metering import LevelMeter, LoudnessMeter, PeakProgrammeMeter
from yellow_ember.dsp.parameters import Automation, Number, Option, Switch
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.stage import Setup, StageKind
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES

_MAX_CHOICES = 12


_MIXING = "Mixing and meters"


def warm_up() -> Iterator[tuple[str, float]]:
    """Run every stage and mixing kernel once; yields (what is next, share done)."""
    for index, label in enumerate(_PARTS):
        yield label, index / len(_PARTS)
        _PARTS[label]()


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


def _touch_mixing() -> None:
    """Reach every kernel that is no stage's."""
    block = np.zeros((2, 16))
    ceiling(block, 1.0, 0.1, np.ones(1))
    state = Ramp(0.0, 48000.0).state
    advance(state, 1)
    level_turn(block, block, 0.1, np.ones(2))
    add_rows(block, np.zeros((1, 32)), np.zeros(1, np.int64))
    to_sides(block, state, state, block.copy())
    print_to_sides(np.zeros((16, 2), np.float32), block.copy(), 0, state, state, state, block)
    for channels in (1, 2):
        quiet = np.zeros((channels, 16))
        LevelMeter(48000.0, channels).process(quiet)
        LoudnessMeter(48000.0, channels).process(quiet)
        PeakProgrammeMeter(48000.0, channels).process(quiet)


def _touch(kind: StageKind) -> None:
    """Reach every kernel of a stage: every choice, every number off its default, a crossfade, a dry signal."""
    setup = Setup(48000.0, 2, 64, 2)
    values = kind.defaults()
    for parameter in kind.parameters:
        if isinstance(parameter, Number):
            values[parameter.id] = parameter.at(0.7)
        elif isinstance(parameter, Switch):
            values[parameter.id] = True
    settings = StageSettings(id="a", kind=kind.kind, params=kind.defaults(), dry_db=-6.0)
    chain = Chain(setup, [settings])
    block = np.zeros((2, 64))
    chain.process(block)
    # An option of very many choices names figures (a speaker), not kernels.
    options = [p for p in kind.parameters if isinstance(p, Option) and p.automation is Automation.CROSSFADE
               and len(p.choices) <= _MAX_CHOICES]
    most = max((len(option.choices) for option in options), default=0)
    variants = [values, *({**values, **{option.id: option.value_at(k) for option in options}} for k in range(most))]
    for variant in variants:
        chain.update([StageSettings(id="a", kind=kind.kind, params=variant, on=variant is not values)])
        for _ in range(20):
            chain.process(block)


_PARTS: dict[str, Callable[[], None]] = {
    _MIXING: _touch_mixing,
    **{kind.label: functools.partial(_touch, kind) for kind in sorted(STAGES, key=lambda kind: kind.nonlinear)}}
"""What there is to compile, by its name.  What runs at a raised rate takes longest and comes last, so that the progress
of one process is seen early."""


def main() -> int:
    terminal = sys.stderr.isatty()
    for label, done in warm_up_on_all_cores():
        end = "\r" if terminal else "\n"
        print(f"Compiling kernels: {done:4.0%}  {label:24}", end=end, file=sys.stderr, flush=True)
    print(f"Compiling kernels: 100%  {'done':24}", file=sys.stderr)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
