"""Files through a chain on the machines of a Dask cluster, by its scheduler's address.

Its workers need this package.  They make each result beside its target under a hidden name; only this process lets it
appear, so that a file which is done again, because its worker died, is there once.  Files lie in a folder that all
machines reach by the same path, or are sent along.
"""

from __future__ import annotations

import contextlib
import shutil
import tempfile
from collections.abc import Callable, Generator, Sequence
from pathlib import Path
from types import ModuleType
from typing import Any, NamedTuple

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.jobs.batch_order import DONE, FAILED, BatchEntry, BatchOrder
from yellow_ember.engine.jobs.file_processing import FileOrder, FileResult, process_file, refuse_taken
from yellow_ember.files.atomic import Appearing, appearing, cannot_write
from yellow_ember.files.reading import AudioFileError

_PATIENCE_SECONDS = 10.0
_LOOK_SECONDS = 0.1
_SHARE, _SHARE_BYTES = 8, 1 << 24
"""At most so many files, and about so much, are one task: a task costs as much beside its work as a short file does."""
_TASKS_A_THREAD = 2
"""So many are with the cluster at once: enough that no worker waits, few enough that stopping is quick."""

_Pair = tuple[Path, Path]


def run_on_cluster(pairs: Sequence[_Pair], order: BatchOrder, stopped: Callable[[], bool]
                   ) -> Generator[BatchEntry, None, None]:
    """What became of each file (source, target), as it is done.

    ValueError where the cluster can't be reached or has no worker.
    """
    distributed = _library()
    try:
        client = distributed.Client(order.cluster, timeout=_PATIENCE_SECONDS, set_as_default=False)
    except (OSError, ValueError) as error:
        raise ValueError(f"no Dask scheduler answers at {order.cluster}: {error}") from None
    with contextlib.closing(client):
        try:
            client.wait_for_workers(1, timeout=_PATIENCE_SECONDS)
        except TimeoutError:
            raise ValueError(f"the cluster at {order.cluster} has no worker") from None
        run = _Run(distributed, client, order)
        try:
            yield from run.entries(list(pairs), stopped)
        finally:
            run.give_up()


def _library() -> ModuleType:
    try:
        import distributed
    except ImportError:
        raise ValueError("a cluster needs another package: pip install 'yellow-ember[cluster]'") from None
    result: ModuleType = distributed
    return result


class _UnderWay:
    """A file that is with the cluster."""

    def __init__(self, source: Path, target: Path) -> None:
        self.source = source
        self._stack = contextlib.ExitStack()
        target.parent.mkdir(parents=True, exist_ok=True)
        self.arrival: Appearing = self._stack.enter_context(appearing(target, over_empty=True))
        self.arrival.temporary.touch()

    def arrive(self, sound: bytes | None) -> Path:
        """Let the result appear, sent back or written there; its path.  OSError where it can't."""
        if sound is not None:
            self.arrival.temporary.write_bytes(sound)
        self._stack.close()
        return self.arrival.path

    def give_up(self) -> None:
        """Leave nothing behind."""
        error = InterruptedError()
        with contextlib.suppress(InterruptedError):
            self._stack.__exit__(InterruptedError, error, None)


class _Away(NamedTuple):
    """A file as a worker gets it.

    Attributes
    ----------
    sound : bytes | None
        What it holds; None where it can be read there.
    part : Path | None
        An empty file for the result; None where it is sent back.
    suffix : str
        Of the result.
    """

    source: Path
    sound: bytes | None
    part: Path | None
    suffix: str


_Answer = tuple[FileResult | str, bytes | None]
"""What came of a file or why nothing did, and the result's bytes where they are sent."""


class _Run:
    def __init__(self, distributed: ModuleType, client: Any, order: BatchOrder) -> None:
        self._distributed, self._client, self._order = distributed, client, order
        self._under_way: dict[Any, list[_UnderWay]] = {}
        """By their futures."""
        self._alone: list[_Pair] = []
        """What is tried again, each by itself, as a worker fell over one of several."""

    def entries(self, left: list[_Pair], stopped: Callable[[], bool]) -> Generator[BatchEntry, None, None]:
        """What became of each file, as it is done."""
        left.reverse()
        while (left or self._alone or self._under_way) and not stopped():
            threads = max(1, sum(self._client.nthreads().values()))
            while (left or self._alone) and len(self._under_way) < _TASKS_A_THREAD * threads:
                share = [self._alone.pop()] if self._alone else _share_of(left, threads)
                # What is told can be the last that is asked for: nothing is left open meanwhile.
                yield from self._submit(share)
            yield from self._ended(_LOOK_SECONDS)
        # What was done counts, also where it was stopped.
        yield from self._ended(0.0)

    def give_up(self) -> None:
        """Nothing that is not done yet is wanted any more."""
        self._client.cancel(list(self._under_way))
        for files in self._under_way.values():
            for file in files:
                file.give_up()
        self._under_way.clear()

    def _submit(self, share: Sequence[_Pair]) -> list[BatchEntry]:
        """Hand some files to the cluster; those that can't be."""
        files, away, failed = [], [], []
        for source, target in share:
            try:
                refuse_taken(target)
                sound = source.read_bytes() if self._order.sends else None
                file = _UnderWay(source, target)
            except (AudioFileError, OSError) as error:
                failed.append(BatchEntry(source, target, FAILED, str(error)))
                continue
            part = None if self._order.sends else file.arrival.temporary.absolute()
            files.append(file)
            away.append(_Away(source.absolute(), sound, part, target.suffix))
        if files:
            future = self._client.submit(process_away, away, self._order.stages, self._order.file, pure=False)
            self._under_way[future] = files
        return failed

    def _ended(self, seconds: float) -> Generator[BatchEntry, None, None]:
        if not self._under_way:
            return
        with contextlib.suppress(TimeoutError), self._client.as_current():
            self._distributed.wait(list(self._under_way), timeout=seconds, return_when="FIRST_COMPLETED")
        for future in [future for future in self._under_way if future.done()]:
            yield from self._outcome(future, self._under_way.pop(future))

    def _outcome(self, future: Any, files: Sequence[_UnderWay]) -> list[BatchEntry]:
        try:
            answers: list[_Answer] = future.result()
        except Exception as error:  # whatever a worker falls over must not end the others' work
            if len(files) > 1:
                for file in files:
                    file.give_up()
                    self._alone.append((file.source, file.arrival.path))
                return []
            answers = [(f"the cluster could not do it: {error}", None)]
        return [_entry(file, *answer) for file, answer in zip(files, answers, strict=True)]


def _share_of(left: list[_Pair], threads: int) -> list[_Pair]:
    """The next files for one task, taken off the end; towards the last fewer, so that all workers end together."""
    most, total = min(_SHARE, max(1, len(left) // (2 * threads))), 0
    result: list[_Pair] = []
    while left and len(result) < most and total < _SHARE_BYTES:
        source, target = left.pop()
        with contextlib.suppress(OSError):
            total += source.stat().st_size
        result.append((source, target))
    return result


def _entry(file: _UnderWay, answer: FileResult | str, sound: bytes | None) -> BatchEntry:
    target = file.arrival.path
    if isinstance(answer, FileResult):
        try:
            return BatchEntry(file.source, file.arrive(sound), DONE, answer.warning, answer.match_db, answer.clipped)
        except OSError as error:
            answer = cannot_write(target, error)
    file.give_up()
    return BatchEntry(file.source, target, FAILED, answer)


def process_away(files: Sequence[_Away], stages: Sequence[StageSettings], order: FileOrder) -> list[_Answer]:
    """Process some files where a worker runs."""
    return [_one_away(file, stages, order) for file in files]


def _one_away(file: _Away, stages: Sequence[StageSettings], order: FileOrder) -> _Answer:
    with tempfile.TemporaryDirectory() as folder:
        source = file.source
        if file.sound is not None:
            source = Path(folder) / source.name
            source.write_bytes(file.sound)
        try:
            result = process_file(source, Path(folder) / f"result-of-it{file.suffix}", stages, order)
            if file.part is None:
                return result, result.target.read_bytes()
            # Not made anew where it was removed because nobody wants it any more.
            with result.target.open("rb") as made, file.part.open("r+b") as wanted:
                shutil.copyfileobj(made, wanted)
                wanted.truncate()
        except (AudioFileError, OSError, ValueError) as error:
            return str(error), None
        return result, None
