"""Many files through one chain, several at a time, each in a worker process.

One that can't be used does not stop the rest.  What is done stays done: a run that was cancelled goes on where it was.
"""

from __future__ import annotations

import json
import os
import string
from collections.abc import Callable, Generator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from dataclasses import asdict, dataclass, field
from pathlib import Path

from yellow_ember.dsp.chain import StageSettings
from yellow_ember.engine.file_processing import FileOrder, process_file
from yellow_ember.engine.forking import context
from yellow_ember.files.reading import READABLE, AudioFileError

FIELDS = ("name", "folder", "preset", "number")
DONE, SKIPPED, FAILED = "done", "skipped", "failed"
_WAITING = 4
"""Files for each worker that are handed out at once."""


@dataclass(frozen=True, slots=True)
class BatchOrder:
    """What to do with all files.

    names : pattern of the results' names without ending, with {name}, {folder}, {preset} and {number}
    resume : leave out files whose result is there already; jobs : how many at a time
    """

    out: Path
    stages: tuple[StageSettings, ...]
    preset: str = ""
    names: str = "{name}"
    suffix: str = ".wav"
    file: FileOrder = field(default_factory=FileOrder)
    resume: bool = False
    jobs: int = 1


@dataclass(frozen=True, slots=True)
class BatchEntry:
    """What became of one file; `state` is done, skipped or failed, `note` the reason or what else is to be said."""

    source: Path
    target: Path
    state: str
    note: str = ""
    match_db: float = 0.0
    clipped: int = 0


def report_text(entries: Sequence[BatchEntry]) -> str:
    """What became of all files, as JSON."""
    return json.dumps([{**asdict(entry), "source": str(entry.source), "target": str(entry.target)}
                       for entry in entries], indent=1) + "\n"


def counted(entries: Sequence[BatchEntry]) -> str:
    """How many are done, skipped and failed, in words."""
    counts = {state: sum(entry.state == state for entry in entries) for state in (DONE, SKIPPED, FAILED)}
    return ", ".join(f"{count} {state}" for state, count in counts.items() if count or state == DONE)


def cores() -> int:
    """How many files are worth working on at a time."""
    return max(1, len(os.sched_getaffinity(0)))


def found_files(inputs: Sequence[Path]) -> list[tuple[Path, Path]]:
    """Sound files among the inputs and in their folders, each with its place below what it was found in.

    AudioFileError where an input is not there, or none holds a sound file.
    """
    found: list[tuple[Path, Path]] = []
    for entry in inputs:
        if entry.is_dir():
            inside = sorted(path for path in entry.rglob("*") if path.is_file() and path.suffix.lower() in READABLE)
            found += [(path, path.relative_to(entry)) for path in inside]
        elif entry.exists():
            found.append((entry, Path(entry.name)))
        else:
            raise AudioFileError(f"{entry} is not there")
    if not found:
        raise AudioFileError("no sound files there: " + ", ".join(str(entry) for entry in inputs))
    return found


def targets(files: Sequence[tuple[Path, Path]], order: BatchOrder) -> list[Path]:
    """Where each result goes; folders below an input are kept.

    ValueError where the pattern is no good, or would give two files one name.
    """
    for _text, name, _spec, _conversion in string.Formatter().parse(order.names):
        if name is not None and name not in FIELDS:
            raise ValueError(f"the names' pattern knows {', '.join(FIELDS)}, not {name!r}")
    made: dict[Path, Path] = {}
    for number, (source, below) in enumerate(files, 1):
        name = order.names.format(name=below.stem, folder=source.resolve().parent.name, preset=order.preset,
                                  number=f"{number:04d}")
        if not name or "/" in name:
            raise ValueError(f"{name!r} can't be a file's name")
        target = order.out / below.parent / f"{name}{order.suffix}"
        if target in made:
            raise ValueError(f"{source} and {made[target]} would both become {target}; put {{number}} into the names")
        made[target] = source
    return list(made)


def _one(source: Path, target: Path, stages: tuple[StageSettings, ...], order: FileOrder) -> BatchEntry:
    """One file, in a worker."""
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        result = process_file(source, target, stages, order)
    except (AudioFileError, OSError, ValueError) as error:
        return BatchEntry(source, target, FAILED, str(error))
    return BatchEntry(source, target, DONE, result.warning, result.match_db, result.clipped)


def run_batch(inputs: Sequence[Path], order: BatchOrder,
              progress: Callable[[float], None] = lambda share: None) -> Generator[BatchEntry, None, None]:
    """What became of each file, as it is done.  Closing the iterator cancels what has not begun.

    AudioFileError and ValueError where nothing can be begun.
    """
    files = found_files(inputs)
    pairs = list(zip([source for source, _ in files], targets(files, order), strict=True))
    todo = []
    for source, target in pairs:
        if order.resume and target.exists():
            yield BatchEntry(source, target, SKIPPED, "is there already")
        else:
            todo.append((source, target))
    done = len(pairs) - len(todo)
    with ProcessPoolExecutor(order.jobs, mp_context=context()) as pool:
        running: set[Future[BatchEntry]] = set()
        left = iter(todo)
        try:
            while True:
                while len(running) < order.jobs * _WAITING and (pair := next(left, None)) is not None:
                    running.add(pool.submit(_one, *pair, order.stages, order.file))
                if not running:
                    return
                ready, running = wait(running, return_when=FIRST_COMPLETED)
                for future in ready:
                    done += 1
                    progress(done / len(pairs))
                    yield future.result()
        finally:
            pool.shutdown(wait=True, cancel_futures=True)
