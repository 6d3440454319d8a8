"""The present session, its history, and who listens to it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from yellow_ember.session.limits import check_limits
from yellow_ember.session.model import Session
from yellow_ember.session.sharing import bytes_beyond

Listener = Callable[[Session], None]
Rule = Callable[[Session, Session, Session], Session]
"""From the last step, the present value and a new one to what the new one becomes."""


MAXIMUM_HISTORY_BYTES = 200 * 2**20
"""What the steps of the history take beyond what they share; the oldest are forgotten first."""


def _as_it_is(committed: Session, now: Session, new: Session) -> Session:
    return new


@dataclass(frozen=True, slots=True)
class _Step:
    """A step of the history: its name, the value on its other side, and what that takes of memory by itself."""

    label: str
    session: Session
    size: int


class Document:
    """Owns the present value.

    `change` during a drag shows the value without a step in the history; `commit` makes
    the step, from where the drag began.  Listeners are called on every real change.
    rule : what else moves with a change; going back and forth in the history is left alone
    """

    def __init__(self, session: Session, path: Path | None = None, rule: Rule = _as_it_is) -> None:
        self._rule = rule
        self._now = session
        self._committed = session
        self._saved = session
        self._undo: list[_Step] = []
        self._redo: list[_Step] = []
        self.history_bytes = 0
        """What all steps take of memory beyond what they share."""
        self._listeners: list[Listener] = []
        self.path = path

    @property
    def session(self) -> Session:
        return self._now

    @property
    def modified(self) -> bool:
        """True when there are edits that the session's file does not hold."""
        return self._now != self._saved

    def listen(self, listener: Listener) -> Callable[[], None]:
        """Call `listener` with every new value; the result stops that."""
        self._listeners.append(listener)
        return lambda: self._listeners.remove(listener)

    def change(self, session: Session) -> None:
        """Show a new value; it becomes a step with the next `commit`.

        LimitError, and nothing is changed, where it would be larger than a session may be.
        """
        self._show(self._rule(self._committed, self._now, session))

    def _show(self, session: Session) -> None:
        if session != self._now:
            if session.strips is not self._now.strips:
                check_limits(session)
            self._now = session
            for listener in list(self._listeners):
                listener(session)

    def commit(self, label: str, session: Session | None = None) -> None:
        """Make all since the last step one step of the history, named by `label`."""
        if session is not None:
            self.change(session)
        if self._now != self._committed:
            self.history_bytes -= sum(step.size for step in self._redo)
            self._redo.clear()
            step = _Step(label, self._committed, bytes_beyond(self._committed, self._now))
            self._undo.append(step)
            self.history_bytes += step.size
            self._committed = self._now
            self._forget_oldest()

    def _forget_oldest(self) -> None:
        count = 0
        while self.history_bytes > MAXIMUM_HISTORY_BYTES and count < len(self._undo) - 1:
            self.history_bytes -= self._undo[count].size
            count += 1
        del self._undo[:count]

    def recall(self, label: str, session: Session) -> None:
        """A step to a value as it is: nothing else moves along."""
        self._show(session)
        self.commit(label)

    def revert(self) -> None:
        """Drop what was changed since the last step."""
        self._show(self._committed)

    def adjust(self, edit: Callable[[Session], Session]) -> None:
        """A change that belongs to the last step rather than to a new one (a measured offset).

        A drag that goes on meanwhile still becomes a step of its own.
        """
        resting = self._committed == self._now
        adjusted = edit(self._now)
        self._committed = adjusted if resting else edit(self._committed)
        self._show(adjusted)

    @property
    def undo_label(self) -> str | None:
        return self._undo[-1].label if self._undo else None

    @property
    def redo_label(self) -> str | None:
        return self._redo[-1].label if self._redo else None

    def undo(self) -> str | None:
        """Go back a step; its name, or None where there is none."""
        return self._step(self._undo, self._redo)

    def redo(self) -> str | None:
        return self._step(self._redo, self._undo)

    def _step(self, source: list[_Step], target: list[_Step]) -> str | None:
        if not source:
            return None
        step = source.pop()
        target.append(_Step(step.label, self._committed, step.size))
        self._committed = step.session
        self._show(step.session)
        return step.label

    def saved(self, path: Path) -> None:
        """The present value now stands in that file."""
        self.path = path
        self._saved = self._now

    def mark_unsaved(self) -> None:
        """The value stands in no file yet (recovered after a crash)."""
        self._saved = self._saved.with_(name=self._saved.name + "\0")
