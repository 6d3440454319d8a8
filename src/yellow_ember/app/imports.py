"""Audio files made ready in the background, one after the other, with progress."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

from yellow_ember.engine.jobs import Job, JobError, Progress
from yellow_ember.files.conformed import Conformed, conform, find_conformed
from yellow_ember.files.kinds import is_file
from yellow_ember.session.model import Session

if TYPE_CHECKING:
    from yellow_ember.app.workspace import Workspace


_CHECK_SECONDS = 1.5


def _conform(progress: Progress, path: Path, rate: int) -> Conformed:
    return conform(path, rate, progress)


class Imports:
    """Sees to it that every track's audio has a ready copy, and tells the engine when it has."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._ready: dict[tuple[Path, int], Conformed] = {}
        self._failed: set[tuple[Path, int]] = set()
        self._waiting: list[tuple[Path, int]] = []
        self._check_at = 0.0
        self._now: tuple[tuple[Path, int], Job[Conformed]] | None = None

    def ready(self, path: Path | None) -> Conformed | None:
        """The ready copy of a file at the session's rate, where there is one."""
        return None if path is None else self._ready.get((path, self._workspace.session.rate))

    @property
    def busy(self) -> bool:
        return bool(self._waiting) or self._now is not None

    def want(self, session: Session) -> None:
        """Look for what this session needs."""
        for strip in session.strips:
            if strip.audio is None:
                continue
            key = (strip.audio, session.rate)
            if key in self._ready or key in self._failed or key in self._waiting or self._is_now(key):
                continue
            found = find_conformed(*key) if is_file(strip.audio) else None
            if found is not None:
                self._take(key, found)
            elif is_file(strip.audio):
                self._waiting.append(key)

    def _is_now(self, key: tuple[Path, int]) -> bool:
        return self._now is not None and self._now[0] == key

    def _take(self, key: tuple[Path, int], found: Conformed) -> None:
        self._ready[key] = found
        if found.warning:
            self._workspace.messages.warn(found.warning)

    def poll(self) -> None:
        """Called with the clock."""
        self._check()
        if self._now is None:
            if self._waiting:
                key = self._waiting.pop(0)
                self._now = (key, Job(_conform, *key))
            return
        key, job = self._now
        if not job.poll():
            self._workspace.working.emit(f"Reading {key[0].name}", job.share)
            return
        self._now = None
        try:
            self._take(key, job.result())
        except JobError as error:
            self._failed.add(key)
            self._workspace.messages.warn(str(error))
        if not self._waiting:
            self._made_ready()

    def _made_ready(self) -> None:
        """Let everybody take the copies that there are now."""
        workspace = self._workspace
        workspace.working.emit("", 1.0)
        if workspace.engine is not None:
            workspace.engine.set_session(workspace.session, reload=True)
        workspace.measurer.want()
        workspace.matcher.want()
        workspace.session_changed.emit(workspace.session)

    def _check(self) -> None:
        """Now and then: make copies anew that somebody has removed or damaged."""
        now = time.monotonic()
        if now < self._check_at:
            return
        self._check_at = now + _CHECK_SECONDS
        lost = [key for key, found in self._ready.items() if not found.is_whole]
        for key in lost:
            del self._ready[key]
        if lost:
            self.want(self._workspace.session)
            if self._now is None and not self._waiting:
                self._made_ready()

    def cancel(self) -> None:
        if self._now is not None:
            self._now[1].cancel()
        self._waiting.clear()
