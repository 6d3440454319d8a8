"""Runs work in the background for whoever asks for it, and brings what comes of it to the window's thread."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, Protocol

from PyQt6 import sip
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from yellow_ember.engine.jobs.job import Job, JobError, cancel_all

POLL_MS = 33
_GROUP = "group "


class _Work(Protocol):
    """Something under way: a job in a worker process, or a sum in a thread."""

    share: float

    def poll(self) -> bool: ...

    def take_parts(self) -> list[Any]: ...

    def result(self) -> Any: ...

    def abandon(self) -> None: ...


class _Sum:
    """A function in the keeper's thread, seen as a job."""

    share = 0.0

    def __init__(self, future: Future[Any]) -> None:
        self._future = future

    def poll(self) -> bool:
        return self._future.done()

    def take_parts(self) -> list[Any]:
        return []

    def result(self) -> Any:
        try:
            return self._future.result()
        except Exception as error:
            raise JobError(str(error) or type(error).__name__) from error

    def abandon(self) -> None:
        self._future.cancel()


@dataclass
class _Entry:
    owner: QObject
    work: _Work
    done: Callable[[Any], object]
    failed: Callable[[str], object]
    part: Callable[[Any], object]


def _ignore(_value: Any) -> None:
    return


class JobKeeper(QObject):
    """Keeps all work that runs beside the window, by its owner and a name.

    Of work with one owner and name only the latest counts: starting it again ends what ran before, and nothing of that
    arrives any more.  An owner that is gone has its work ended.  What was started is answered by exactly one call of
    `done` or `failed`, in the window's thread, unless it is cancelled.
    working : what long work goes on, and how far it is, 0 to 1 (-1 where nobody knows); "" at its end
    """

    working = pyqtSignal(str, float)

    def __init__(self) -> None:
        super().__init__()
        self._entries: dict[tuple[int, str], _Entry] = {}
        self._closed = False
        self._threads = ThreadPoolExecutor(1)
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self.poll)

    def start(self, owner: QObject, function: Callable[..., Any], *arguments: Any, name: str = "",
              done: Callable[[Any], object] = _ignore, failed: Callable[[str], object] = _ignore,
              part: Callable[[Any], object] = _ignore) -> None:
        """Run `function(progress, *arguments)` in a worker process; all must be picklable.

        done : called with its result; failed : with the reason, in words for the user
        part : called with what a function that yields has given so far, one after the other
        """
        self._keep(owner, name, lambda: Job(function, *arguments), done, failed, part)

    def think(self, owner: QObject, function: Callable[..., Any], *arguments: Any, name: str = "",
              done: Callable[[Any], object] = _ignore, failed: Callable[[str], object] = _ignore) -> None:
        """Run `function(*arguments)`, a short sum that lets go of the interpreter's lock, in a thread."""
        self._keep(owner, name, lambda: _Sum(self._threads.submit(function, *arguments)), done, failed, _ignore)

    def _keep(self, owner: QObject, name: str, begin: Callable[[], _Work], done: Callable[[Any], object],
              failed: Callable[[str], object], part: Callable[[Any], object]) -> None:
        self.cancel(owner, name)
        if self._closed:
            return
        self._entries[id(owner), name] = _Entry(owner, begin(), done, failed, part)
        if not self._timer.isActive():
            self._timer.start()

    def start_several(self, owner: QObject, function: Callable[..., Any], arguments: Sequence[tuple[Any, ...]], *,
                      done: Callable[[Any], object] = _ignore, failed: Callable[[str], object] = _ignore,
                      part: Callable[[Any], object] = _ignore) -> None:
        """Run `function` in several workers at once, one for each of `arguments`; an owner has one such group.

        done : called once all have ended; failed : once one has failed, which ends the others
        """
        self.cancel_several(owner)
        names = [f"{_GROUP}{number}" for number in range(len(arguments))]

        def one_done(result: Any) -> None:
            if not self.is_running_several(owner):
                done(result)

        def one_failed(reason: str) -> None:
            self.cancel_several(owner)
            failed(reason)

        for name, some in zip(names, arguments, strict=True):
            self.start(owner, function, *some, name=name, done=one_done, failed=one_failed, part=part)

    def _group(self, owner: QObject) -> list[tuple[int, str]]:
        return [key for key in self._entries if key[0] == id(owner) and key[1].startswith(_GROUP)]

    def is_running_several(self, owner: QObject) -> bool:
        """True while workers of a group run."""
        return bool(self._group(owner))

    def cancel_several(self, owner: QObject) -> None:
        """End a group's work."""
        for _, name in self._group(owner):
            self.cancel(owner, name)

    def is_running(self, owner: QObject, name: str = "") -> bool:
        """True from the start of work until its answer."""
        return (id(owner), name) in self._entries

    def share(self, owner: QObject, name: str = "") -> float:
        """How much of it is done, 0 to 1; 1 where nothing runs."""
        entry = self._entries.get((id(owner), name))
        return 1.0 if entry is None else entry.work.share

    def cancel(self, owner: QObject, name: str = "") -> None:
        """End that work now, where it runs; nothing of it arrives any more."""
        entry = self._entries.pop((id(owner), name), None)
        if entry is not None:
            entry.work.abandon()

    def poll(self) -> None:
        """Hand out what has arrived; the keeper's own clock calls it."""
        for key, entry in list(self._entries.items()):
            if sip.isdeleted(entry.owner) and self._entries.pop(key, None) is entry:
                entry.work.abandon()
                continue
            ended = entry.work.poll()
            for result in entry.work.take_parts():
                if self._entries.get(key) is entry:
                    entry.part(result)
            if ended and self._entries.get(key) is entry:
                del self._entries[key]
                self._answer(entry)
        if not self._entries:
            self._timer.stop()

    @staticmethod
    def _answer(entry: _Entry) -> None:
        try:
            result = entry.work.result()
        except JobError as error:
            entry.failed(str(error))
        else:
            entry.done(result)

    def close(self) -> None:
        """End all work at once; what is asked for from now on is never begun."""
        self._closed = True
        self._timer.stop()
        entries = list(self._entries.values())
        self._entries.clear()
        cancel_all([entry.work for entry in entries if isinstance(entry.work, Job)])
        with contextlib.suppress(RuntimeError):
            self._threads.shutdown(wait=False, cancel_futures=True)
