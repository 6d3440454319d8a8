"""Long work in a process of its own, at low priority, with progress, and cancelled by ending it."""

from __future__ import annotations

import contextlib
import os
import pickle
import signal
import threading
import traceback
from collections.abc import Callable, Generator, Sequence
from multiprocessing.connection import Connection, wait
from typing import Any, Generic, TypeVar

from yellow_ember.engine.forking import be_a_child, context, end_with_parent

_END_SECONDS = 1.5
_NUMBER_BYTES = 4
"""In which copies of a worker are told which part of the work is theirs."""
Result = TypeVar("Result")
Progress = Callable[[float], None]


class JobError(Exception):
    """What went wrong in the worker, in words for the user."""


class Job(Generic[Result]):
    """`function(progress, *arguments)` in a worker; function and arguments must be picklable.

    `poll` is called from time to time; it never waits.  A function that yields gives its parts as they are done.
    """

    def __init__(self, function: Callable[..., Result], *arguments: Any) -> None:
        self._pipe, theirs = context().Pipe(duplex=False)
        self._process = context().Process(target=_work, args=(theirs, function, arguments), daemon=True)
        self.share = 0.0
        self.done = False
        self._result: Result | None = None
        self._error: str | None = None
        self._parts: list[Any] = []
        # A large session is more than a pipe holds: its writing ends when the worker reads, which takes a while.
        self._starting = threading.Thread(target=self._start, args=(theirs,), daemon=True)
        self._starting.start()

    def _start(self, theirs: Connection) -> None:
        """Start the worker; what keeps it from starting is the job's error."""
        try:
            self._process.start()
        except Exception as error:
            self._error = str(error)
        finally:
            theirs.close()

    def poll(self) -> bool:
        """Take in what the worker said; True when the work has ended, well or not."""
        if self.done:
            return True
        try:
            while not self.done and self._pipe.poll():
                what, value = self._pipe.recv()
                if what == "progress":
                    self.share = value
                elif what == "part":
                    self._parts.append(value)
                elif what == "result":
                    self._result, self.done = value, True
                else:
                    self._error, self.done = value, True
        except (EOFError, OSError):
            self._error, self.done = self._error or "the worker ended before its work was done", True
        if self.done:
            self._tidy()
        return self.done

    def result(self) -> Result:
        """What the work gave; JobError where it failed."""
        if self._error is not None:
            raise JobError(self._error)
        return self._result  # type: ignore[return-value]

    def take_parts(self) -> list[Any]:
        """What has come since the last asking, of a function that yields."""
        parts, self._parts = self._parts, []
        return parts

    def wait(self, seconds: float) -> bool:
        """Wait at most so long for news, then `poll`."""
        if not self.done:
            self._pipe.poll(seconds)
        return self.poll()

    def cancel(self) -> None:
        """End the work now.  What it was writing is removed by the worker before it ends."""
        self.stop()
        if not self.done:
            self._join()
            self._error, self.done = "cancelled", True
            self._tidy()

    def abandon(self) -> None:
        """End the work and wait for nothing; what it was writing is removed a moment later."""
        if not self.done:
            self._error, self.done = "cancelled", True
            threading.Thread(target=self._end_and_tidy, daemon=True).start()

    def _end_and_tidy(self) -> None:
        self._starting.join()
        if self._process.pid is not None:
            self._process.terminate()
        self._tidy()

    def stop(self) -> None:
        """Tell the work to end, and do not wait for that."""
        self._starting.join()
        if not self.done and self._process.pid is not None:
            self._process.terminate()

    def _join(self) -> None:
        self._starting.join()
        if self._process.pid is not None:
            self._process.join(timeout=_END_SECONDS)

    def _tidy(self) -> None:
        self._join()
        if self._process.pid is not None and self._process.is_alive():
            self._process.kill()
        self._pipe.close()


def wait_any(jobs: Sequence[Job[Any]], seconds: float) -> None:
    """Wait until one of several jobs has news, but no longer than that."""
    wait([job._pipe for job in jobs if not job.done], seconds)


def cancel_all(jobs: Sequence[Job[Any]]) -> None:
    """End several jobs at once."""
    for job in jobs:
        job.stop()
    for job in jobs:
        job.cancel()


def side_by_side(functions: Sequence[Callable[[], Result]]) -> list[Result]:
    """The results of functions that a worker runs at the same time, each but the first in a copy of the worker.

    Their results must be picklable.  JobError where one failed in its copy.
    """
    copies = [_Copy(function) for function in functions[1:]]
    try:
        return [functions[0](), *(copy.result() for copy in copies)]
    finally:
        for copy in copies:
            copy.end()


def shared_out(function: Callable[..., Result], arguments: Sequence[tuple[Any, ...]], workers: int) -> list[Result]:
    """A function's results in the order of its arguments, each from whichever of so many copies of a worker is free.

    Its results must be picklable.  No more than 1,000 arguments, the numbers of which any pipe holds.  JobError where a
    copy failed.
    """
    waiting, given = os.pipe()
    os.write(given, b"".join(index.to_bytes(_NUMBER_BYTES, "little") for index in range(len(arguments))))
    os.close(given)

    def work() -> list[tuple[int, Result]]:
        indices = (int.from_bytes(taken, "little") for taken in iter(lambda: os.read(waiting, _NUMBER_BYTES), b""))
        return [(index, function(*arguments[index])) for index in indices]

    try:
        done = side_by_side([work] * max(1, min(workers, len(arguments))))
    finally:
        os.close(waiting)
    results = dict(pair for some in done for pair in some)
    return [results[index] for index in range(len(arguments))]


class _Copy(Generic[Result]):
    """A copy of this process that runs one function."""

    def __init__(self, function: Callable[[], Result]) -> None:
        self._pipe, theirs = os.pipe()
        self._pid = os.fork()
        if self._pid == 0:
            try:
                signal.signal(signal.SIGTERM, signal.SIG_DFL)
                end_with_parent(signal.SIGKILL)
                with os.fdopen(theirs, "wb") as file:
                    pickle.dump(function(), file)
                os._exit(0)
            finally:
                os._exit(1)
        os.close(theirs)

    def result(self) -> Result:
        with os.fdopen(self._pipe, "rb", closefd=False) as file:
            try:
                return pickle.load(file)  # type: ignore[no-any-return]
            except (EOFError, pickle.UnpicklingError):
                raise JobError("a part of the work ended before it was done") from None

    def end(self) -> None:
        os.close(self._pipe)
        with contextlib.suppress(ProcessLookupError):
            os.kill(self._pid, signal.SIGKILL)
        os.waitpid(self._pid, 0)


class _Ended(BaseException):
    """Raised in the worker when it is told to end, so that it tidies up on the way out."""


def _end(_signal: int, _frame: object) -> None:
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    # Wherever this interrupts, nobody is to read of it.
    quiet = os.open(os.devnull, os.O_WRONLY)
    os.dup2(quiet, 2)
    raise _Ended


def _work(pipe: Connection, function: Callable[..., Any], arguments: tuple[Any, ...]) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        signal.signal(signal.SIGTERM, _end)
        be_a_child(signal.SIGTERM)
        _run(pipe, function, arguments)
    except _Ended:
        pass


def _run(pipe: Connection, function: Callable[..., Any], arguments: tuple[Any, ...]) -> None:
    os.nice(10)
    last = -1.0

    def progress(share: float) -> None:
        nonlocal last
        if share - last >= 0.01:
            last = share
            pipe.send(("progress", share))

    try:
        try:
            result = function(progress, *arguments)
            if isinstance(result, Generator):
                for part in result:
                    pipe.send(("part", part))
                result = None
            pipe.send(("result", result))
        except (BrokenPipeError, ConnectionResetError):
            pass
        except Exception as error:
            expected = type(error).__module__.startswith("yellow_ember") or isinstance(error, OSError)
            pipe.send(("error", str(error) if expected else traceback.format_exc(limit=4)))
    except OSError:
        pass
