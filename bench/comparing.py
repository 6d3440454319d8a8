"""Two revisions measured in turn, row by row: how fast this one is against another."""

from __future__ import annotations

import contextlib
import os
import re
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

_ROOT = Path(__file__).parents[1]
_ROW = re.compile(r"^  (?P<what>.+): (?P<result>\S.*) \(wanted (?P<wanted>.+)\)$", re.MULTILINE)
_NUMBER = re.compile(r"-?\d+(\.\d+)?")
KERNELS = ("tape", "stages", "blocks", "cabinet", "oversampling")
"""The parts that `--check` measures."""
_SLOWER = 1.0 / 1.1


@dataclass(frozen=True, slots=True)
class Measured:
    """A row's first number; more_is_better : None where the row asks for nothing"""

    value: float
    more_is_better: bool | None


@dataclass(frozen=True, slots=True)
class Compared:
    """A row of two revisions: how many times as good this one is, in each pair of runs.

    ours, theirs : medians
    """

    what: str
    ours: float
    theirs: float
    ratios: tuple[float, ...]

    @property
    def ratio(self) -> float:
        return statistics.median(self.ratios)

    @property
    def slower(self) -> bool:
        """Over 10 % worse, and worse each time: what one run alone shows may be the machine's."""
        return self.ratio < _SLOWER and max(self.ratios) < 1.0


def rows_of(text: str) -> dict[str, Measured]:
    """What a run has printed, by the rows' names; rows without a number are left out."""
    result = {}
    for row in _ROW.finditer(text):
        number = _NUMBER.search(row["result"])
        if number is not None:
            better = {"<": False, ">": True}.get(row["wanted"][0])
            result[row["what"]] = Measured(float(number[0]), better)
    return result


def compared(pairs: Sequence[tuple[Mapping[str, Measured], Mapping[str, Measured]]]) -> list[Compared]:
    """Rows that every run of both revisions has; pairs : (ours, theirs), run one after the other"""
    names = [what for what, row in pairs[0][0].items() if row.more_is_better is not None
             and all(what in run for pair in pairs for run in pair)]
    result = []
    for what in names:
        values = [(ours[what].value, theirs[what].value) for ours, theirs in pairs]
        if all(min(both) > 0.0 for both in values):
            more = pairs[0][0][what].more_is_better
            ratios = tuple(ours / theirs if more else theirs / ours for ours, theirs in values)
            ours_of, theirs_of = zip(*values, strict=True)
            result.append(Compared(what, statistics.median(ours_of), statistics.median(theirs_of), ratios))
    return result


def compare(revision: str, parts: Sequence[str], times: int) -> list[Compared]:
    """Measure this tree and a revision in turn, each with its own bench.

    Raises
    ------
    subprocess.CalledProcessError
        Where there is no such revision, or its bench knows no such part.
    """
    with _checked_out(revision) as other:
        pairs = []
        for number in range(times):
            print(f"Run {number + 1} of {times}", flush=True)
            ours, theirs = (rows_of(_measured(tree, parts)) for tree in (_ROOT, other))
            pairs.append((ours, theirs))
    return compared(pairs)


def show(rows: Sequence[Compared]) -> None:
    width = max((len(row.what) for row in rows), default=4)
    print(f"\n{'what':{width}}  {'this':>8}  {'other':>8}  times as good (least to most)")
    for row in rows:
        spread = f"{min(row.ratios):.2f} to {max(row.ratios):.2f}"
        print(f"{row.what:{width}}  {row.ours:8.3g}  {row.theirs:8.3g}  {row.ratio:5.2f} ({spread})"
              f"{'  SLOWER' if row.slower else ''}")


@contextlib.contextmanager
def _checked_out(revision: str) -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="yellow-ember-other-") as folder:
        tree = Path(folder) / "tree"
        subprocess.run(["git", "-C", _ROOT, "worktree", "add", "--detach", "--force", tree, revision], check=True,
                       capture_output=True)
        try:
            # What it has to compile is no part of its speed.
            _in_tree(tree, "-m", "yellow_ember.engine.warm_up")
            yield tree
        finally:
            subprocess.run(["git", "-C", _ROOT, "worktree", "remove", "--force", tree], check=False,
                           capture_output=True)


def _measured(tree: Path, parts: Sequence[str]) -> str:
    bench = tree / "bench"
    # Older revisions have no such start.
    start = bench if (bench / "__main__.py").exists() else bench / "run.py"
    return _in_tree(tree, str(start), "--quick", "--only", *parts)


def _in_tree(tree: Path, *words: str) -> str:
    environment = os.environ | {"PYTHONPATH": str(tree / "src")}
    return subprocess.run([sys.executable, *words], cwd=tree, env=environment, check=True, text=True,
                          stdout=subprocess.PIPE).stdout
