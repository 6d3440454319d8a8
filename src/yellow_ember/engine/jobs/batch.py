"""Many files through one chain, several at a time, each in a worker process.

One that can't be used does not stop the rest.  What is done stays done: a run that was cancelled goes on where it was.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import string
from collections.abc import Callable, Generator, Iterator, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.jobs.batch_order import DONE, FAILED, SKIPPED, BatchEntry, BatchOrder
from yellow_ember.engine.jobs.cluster import run_on_cluster
from yellow_ember.engine.jobs.file_processing import FileOrder, process_file
from yellow_ember.engine.jobs.job import Job, JobError, Progress, cancel_all, wait_any
from yellow_ember.files.kinds import files_below
from yellow_ember.files.reading import READABLE, AudioFileError

FIELDS = ("name", "folder", "preset", "number")
_SHARE = 16
_LOOK_SECONDS = 0.1
"""At most so many files are handed to a worker at once."""
_MAXIMUM_WIDTH = 40


def report_text(entries: Sequence[BatchEntry]) -> str:
    """What became of all files, as JSON."""
    return json.dumps([{**asdict(entry), "source": str(entry.source), "target": str(entry.target)}
                       for entry in entries], indent=1) + "\n"


def counted(entries: Sequence[BatchEntry]) -> str:
    """How many are done, skipped and failed, in words."""
    counts = {state: sum(entry.state == state for entry in entries) for state in (DONE, SKIPPED, FAILED)}
    return ", ".join(f"{count} {state}" for state, count in counts.items() if count or state == DONE)


def found_files(inputs: Sequence[Path]) -> list[tuple[Path, Path]]:
    """Sound files among the inputs and in their folders, each with its place below what it was found in.

    AudioFileError where an input is not there, or none holds a sound file.
    """
    result: list[tuple[Path, Path]] = []
    for entry in inputs:
        if os.path.isdir(entry):
            inside = [path for path in files_below(entry) if path.suffix.lower() in READABLE]
            result += [(path, path.relative_to(entry)) for path in inside]
        elif os.path.lexists(entry):
            result.append((entry, Path(entry.name)))
        else:
            raise AudioFileError(f"{entry} is not there")
    if not result:
        raise AudioFileError("no sound files there: " + ", ".join(str(entry) for entry in inputs))
    return result


def targets(files: Sequence[tuple[Path, Path]], order: BatchOrder) -> list[Path]:
    """Where each result goes; folders below an input are kept.

    ValueError where the pattern is no good, or would give two files one name.
    """
    for _text, name, spec, _conversion in string.Formatter().parse(order.names):
        if name is not None and name not in FIELDS:
            raise ValueError(f"the names' pattern knows {', '.join(FIELDS)}, not {name!r}")
        if "{" in (spec or "") or any(int(digits) > _MAXIMUM_WIDTH for digits in re.findall(r"\d+", spec or "")):
            raise ValueError(f"the names' pattern can't pad {name} by {spec!r}; {_MAXIMUM_WIDTH} places are the most")
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
    return BatchEntry(source, result.target, DONE, result.warning, result.match_db, result.clipped)


def _several(_progress: Progress, pairs: Sequence[tuple[Path, Path]], stages: tuple[StageSettings, ...],
             order: FileOrder) -> Iterator[BatchEntry]:
    """Some files one after the other, in a worker."""
    for source, target in pairs:
        yield _one(source, target, stages, order)


class _Share:
    """Some of the files, on their way through a worker."""

    def __init__(self, pairs: Sequence[tuple[Path, Path]], order: BatchOrder) -> None:
        self._left = list(pairs)
        self.job: Job[Any] = Job(_several, pairs, order.stages, order.file)

    def entries(self) -> list[BatchEntry]:
        """What has been done since the last asking; a worker that broke down has failed on the rest."""
        ended = self.job.poll()
        result: list[BatchEntry] = self.job.take_parts()
        del self._left[:len(result)]
        if ended and self._left:
            try:
                self.job.result()
                reason = "the worker ended before its work was done"
            except JobError as error:
                reason = str(error)
            result += [BatchEntry(source, target, FAILED, reason) for source, target in self._left]
        return result


def run_batch(inputs: Sequence[Path], order: BatchOrder, progress: Callable[[float], None] = lambda share: None,
              stopped: Callable[[], bool] = lambda: False) -> Generator[BatchEntry, None, None]:
    """What became of each file, as it is done.

    AudioFileError and ValueError where nothing can be begun.

    Parameters
    ----------
    stopped : Callable[[], bool]
        Asked now and then; once it is True, or the iterator is closed, what runs ends and leaves no file behind.
    """
    files = found_files(inputs)
    pairs = list(zip([source for source, _ in files], targets(files, order), strict=True))
    todo = []
    for source, target in pairs:
        if order.resume and os.path.lexists(target):
            yield BatchEntry(source, target, SKIPPED, "is there already")
        else:
            todo.append((source, target))
    done, run = len(pairs) - len(todo), run_on_cluster if order.cluster else _run_here
    with contextlib.closing(run(todo, order, stopped)) as entries:
        for entry in entries:
            done += 1
            progress(done / len(pairs))
            yield entry


def _run_here(todo: list[tuple[Path, Path]], order: BatchOrder, stopped: Callable[[], bool]
              ) -> Generator[BatchEntry, None, None]:
    """What became of each file (source, target), in workers of this machine."""
    # Towards the end the shares get smaller, so that all workers end together.
    running: list[_Share] = []
    try:
        while (todo or running) and not stopped():
            while todo and len(running) < order.jobs:
                count = min(_SHARE, max(1, len(todo) // (2 * order.jobs)))
                running.append(_Share(todo[:count], order))
                del todo[:count]
            wait_any([share.job for share in running], _LOOK_SECONDS)
            for share in running:
                yield from share.entries()
            running = [share for share in running if not share.job.done]
        # What was done counts, also where it was stopped.
        for share in running:
            yield from share.entries()
    finally:
        cancel_all([share.job for share in running])
