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
from typing import Any

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.jobs.batch_order import DONE, FAILED, BatchEntry, BatchOrder
from yellow_ember.engine.jobs.file_processing import FileOrder, FileResult, process_file, refuse_taken
from yellow_ember.files.atomic import Appearing, appearing, cannot_write
from yellow_ember.files.reading import AudioFileError

_PATIENCE_SECONDS = 10.0
_LOOK_SECONDS = 0.1
_LEAST_UNDER_WAY, _UNDER_WAY_A_THREAD = 32, 4
"""So many files are with the cluster at once: enough that no worker waits, few enough that stopping is quick."""


def run_on_cluster(pairs: Sequence[tuple[Path, Path]], order: BatchOrder, stopped: Callable[[], bool]
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


class _Run:
    def __init__(self, distributed: ModuleType, client: Any, order: BatchOrder) -> None:
        self._distributed, self._client, self._order = distributed, client, order
        self._under_way: dict[Any, _UnderWay] = {}
        """By their futures."""

    def entries(self, left: list[tuple[Path, Path]], stopped: Callable[[], bool]
                ) -> Generator[BatchEntry, None, None]:
        """What became of each file, as it is done."""
        left.reverse()
        while (left or self._under_way) and not stopped():
            most = max(_LEAST_UNDER_WAY, _UNDER_WAY_A_THREAD * sum(self._client.nthreads().values()))
            while left and len(self._under_way) < most:
                source, target = left.pop()
                try:
                    self._submit(source, target)
                except (AudioFileError, OSError) as error:
                    yield BatchEntry(source, target, FAILED, str(error))
            yield from self._ended(_LOOK_SECONDS)
        # What was done counts, also where it was stopped.
        yield from self._ended(0.0)

    def give_up(self) -> None:
        """Nothing that is not done yet is wanted any more."""
        self._client.cancel(list(self._under_way))
        for file in self._under_way.values():
            file.give_up()
        self._under_way.clear()

    def _submit(self, source: Path, target: Path) -> None:
        refuse_taken(target)
        sound = source.read_bytes() if self._order.sends else None
        file = _UnderWay(source, target)
        part = None if self._order.sends else file.arrival.temporary.absolute()
        future = self._client.submit(
            process_away, source.absolute(), sound, part, target.suffix, self._order.stages, self._order.file,
            pure=False)
        self._under_way[future] = file

    def _ended(self, seconds: float) -> Generator[BatchEntry, None, None]:
        if not self._under_way:
            return
        with contextlib.suppress(TimeoutError), self._client.as_current():
            self._distributed.wait(list(self._under_way), timeout=seconds, return_when="FIRST_COMPLETED")
        for future in [future for future in self._under_way if future.done()]:
            yield self._entry(future, self._under_way.pop(future))

    def _entry(self, future: Any, file: _UnderWay) -> BatchEntry:
        target = file.arrival.path
        try:
            answer, sound = future.result()
        except Exception as error:  # whatever a worker falls over must not end the others' work
            answer, sound = f"the cluster could not do it: {error}", None
        if isinstance(answer, FileResult):
            try:
                return BatchEntry(file.source, file.arrive(sound), DONE, answer.warning, answer.match_db,
                                  answer.clipped)
            except OSError as error:
                answer = cannot_write(target, error)
        file.give_up()
        return BatchEntry(file.source, target, FAILED, answer)


def process_away(source: Path, sound: bytes | None, part: Path | None, suffix: str, stages: Sequence[StageSettings],
                 order: FileOrder) -> tuple[FileResult | str, bytes | None]:
    """Process a file where a worker runs; what came of it or why nothing did, and the result's bytes.

    Parameters
    ----------
    sound : bytes | None
        What the file holds; None where it can be read here.
    part : Path | None
        An empty file for the result; None where it is sent back.
    """
    with tempfile.TemporaryDirectory() as folder:
        if sound is not None:
            source = Path(folder) / source.name
            source.write_bytes(sound)
        try:
            result = process_file(source, Path(folder) / f"result-of-it{suffix}", stages, order)
            if part is None:
                return result, result.target.read_bytes()
            # Not made anew where it was removed because nobody wants it any more.
            with result.target.open("rb") as made, part.open("r+b") as wanted:
                shutil.copyfileobj(made, wanted)
                wanted.truncate()
        except (AudioFileError, OSError, ValueError) as error:
            return str(error), None
        return result, None
