"""The session that is edited: its committed value, its history, what is being tried, and who listens."""

from __future__ import annotations

import enum
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from yellow_ember.session.edits.limits import check_limits
from yellow_ember.session.sharing import bytes_beyond
from yellow_ember.session.values.model import Session

Listener = Callable[[Session], None]
Edit = Callable[[Session], Session]
"""From one value to the next.  KeyError or ValueError where the value has no place for it."""
Rule = Callable[[Session, Session, Session], Session]
"""From what an edit began from, what was shown before it and what it gives, to the value with all that moves along."""

MAXIMUM_HISTORY_BYTES = 200 * 2**20
"""What the steps of the history take beyond what they share; the oldest are forgotten first."""


def nothing_follows(base: Session, before: Session, new: Session) -> Session:
    """The rule by which an edit moves nothing else."""
    return new


class Settle(enum.Enum):
    """What becomes of a trial that others have to be done with (an undo, another session)."""

    KEEP = "a movement of the hand: it is a step"
    DROP = "something that is only heard: it is gone"


@dataclass(frozen=True, slots=True)
class _Step:
    """A step of the history: its name, the value on its other side, and what that takes of memory by itself."""

    label: str
    session: Session
    size: int


class Trial:
    """Something that is shown and not decided yet: a drag, a preset that is heard, a side of a blind test.

    It belongs to who opened it, who shows, keeps or drops it; nobody else's edits swallow or lose it.
    Where it is not `open` any more it was settled meanwhile: what it was about is gone, or somebody went back in the
    history.
    """

    def __init__(self, document: Document, label: str, settle: Settle, rule: Rule) -> None:
        self.label = label
        self.settle = settle
        self.open = True
        self._document = document
        self._rule = rule
        self._edit: Edit | None = None
        self._adjustments: list[Edit] = []
        """What was measured of what is shown."""
        self._base: Session | None = None
        self._result: Session | None = None

    def show(self, edit: Edit) -> None:
        """Show what an edit makes of the value, in place of what this trial showed before.

        KeyError, ValueError or LimitError, and nothing is changed, where there is no place for it.
        """
        if self.open:
            before = self._edit, self._base, self._adjustments
            self._edit, self._base, self._adjustments = edit, None, []
            try:
                self._document.refresh(strict=self)
            except Exception:
                self._edit, self._base, self._adjustments = before
                raise

    def keep(self, label: str = "") -> None:
        """Make what is shown a step of the history."""
        self._document.close_trial(self, label or self.label, kept=True)

    def drop(self) -> None:
        """Leave the value as it is without this."""
        self._document.close_trial(self, "", kept=False)

    def adjust(self, edit: Edit) -> None:
        """Correct what is shown until something else is (a measured level)."""
        self._adjustments.append(edit)
        self._base = None

    def result_on(self, base: Session) -> Session:
        """What it makes of a value."""
        if self._edit is None:
            return base
        if self._base is not base or self._result is None:
            new = self._edit(base)
            if new.strips is not base.strips:
                check_limits(new)
            new = self._rule(base, base if self._result is None else self._result, new)
            for adjustment in self._adjustments:
                new = adjustment(new)
            self._base, self._result = base, new
        return self._result


class Document:
    """Owns the committed value, its history, and the trials that are open.

    What is shown is the committed value with the trials' edits applied in the order in which they were opened.
    Listeners are called on every real change of it.

    Parameters
    ----------
    rule : Callable[[], Rule]
        Asked for at every edit and opening of a trial, what else moves with it; history and snapshots follow none.
    """

    def __init__(self, session: Session, path: Path | None = None,
                 rule: Callable[[], Rule] = lambda: nothing_follows) -> None:
        self._rule = rule
        self._shown = session
        self._committed = session
        self._saved = session
        self._trials: list[Trial] = []
        self._undo: list[_Step] = []
        self._redo: list[_Step] = []
        self.history_bytes = 0
        """What all steps take of memory beyond what they share."""
        self._listeners: list[Listener] = []
        self.path = path

    @property
    def session(self) -> Session:
        """The value that is shown."""
        return self._shown

    @property
    def committed(self) -> Session:
        """The value without what is only tried."""
        return self._committed

    @property
    def modified(self) -> bool:
        """True when there are edits that the session's file does not hold."""
        return self._shown != self._saved

    def listen(self, listener: Listener) -> Callable[[], None]:
        """Call `listener` with every new value; the result stops that."""
        self._listeners.append(listener)
        return lambda: self._listeners.remove(listener)

    # -- trials ---------------------------------------------------------------------------

    def trial(self, label: str, settle: Settle = Settle.KEEP, *, alone: bool = False) -> Trial:
        """Begin to try something; `alone` where nothing is to move along with it."""
        trial = Trial(self, label, settle, nothing_follows if alone else self._rule())
        self._trials.append(trial)
        return trial

    def refresh(self, strict: Trial | None = None) -> None:
        """Show the committed value with all trials on it.

        A trial for which there is no place any more is gone; where it is `strict`, the error is raised instead.
        """
        shown = self._fold(strict)
        if shown != self._shown:
            self._shown = shown
            for listener in list(self._listeners):
                listener(shown)

    def _fold(self, strict: Trial | None = None) -> Session:
        """The committed value with all trials on it."""
        value = self._committed
        for trial in list(self._trials):
            try:
                value = trial.result_on(value)
            except (KeyError, ValueError):
                if trial is strict:
                    raise
                self._close(trial)
        return value

    def close_trial(self, trial: Trial, label: str, *, kept: bool) -> None:
        """End a trial: a step of the history where it is kept."""
        if trial.open:
            before = self._trials[:self._trials.index(trial)]
            self._close(trial)
            if kept:
                self._step_to(label, self._with_what_it_needs(trial.result_on, before))
            self.refresh()

    def _with_what_it_needs(self, edit: Edit, tried: list[Trial]) -> Session:
        """An edit of the committed value; where it is about something that is only tried, that is kept first."""
        try:
            return edit(self._committed)
        except KeyError:
            if not tried:
                raise
            for trial in tried:
                self.close_trial(trial, trial.label, kept=True)
            return edit(self._committed)

    def _close(self, trial: Trial) -> None:
        trial.open = False
        self._trials.remove(trial)

    def settle(self) -> None:
        """Be done with all trials: what a hand moved is kept, what was only heard is dropped."""
        for trial in list(self._trials):
            self.close_trial(trial, trial.label, kept=trial.settle is Settle.KEEP)

    # -- steps ----------------------------------------------------------------------------

    def commit(self, label: str, edit: Edit) -> None:
        """Make an edit of the committed value a step of the history; what is being tried stays tried.

        KeyError, ValueError or LimitError, and nothing is changed, where there is no place for it.
        """
        new = self._with_what_it_needs(edit, list(self._trials))
        base = self._committed
        if new.strips is not base.strips:
            check_limits(new)
        self._step_to(label, self._rule()(base, base, new))
        self.refresh()

    def recall(self, label: str, edit: Edit) -> None:
        """A step to a value as it is: nothing else moves along."""
        new = self._with_what_it_needs(edit, list(self._trials))
        check_limits(new)
        self._step_to(label, new)
        self.refresh()

    def _step_to(self, label: str, new: Session) -> None:
        if new != self._committed:
            self.history_bytes -= sum(step.size for step in self._redo)
            self._redo.clear()
            step = _Step(label, self._committed, bytes_beyond(self._committed, new))
            self._undo.append(step)
            self.history_bytes += step.size
            self._committed = new
            self._forget_oldest()

    def _forget_oldest(self) -> None:
        count = 0
        while self.history_bytes > MAXIMUM_HISTORY_BYTES and count < len(self._undo) - 1:
            self.history_bytes -= self._undo[count].size
            count += 1
        del self._undo[:count]

    def adjust(self, edit: Edit) -> None:
        """A change that is no step of its own but belongs to what is there (a measured level).

        Of what is being tried it becomes a part, where it concerns that and not the committed value.
        """
        self._committed = edit(self._committed)
        self._fold()
        value = self._committed
        for trial in self._trials:
            value = trial.result_on(value)
            if edit(value) != value:
                trial.adjust(edit)
                break
        self.refresh()

    # -- history --------------------------------------------------------------------------

    @property
    def undo_label(self) -> str | None:
        """What `undo` would take back."""
        moving = next((trial.label for trial in reversed(self._trials) if trial.settle is Settle.KEEP), None)
        return moving or (self._undo[-1].label if self._undo else None)

    @property
    def redo_label(self) -> str | None:
        """What `redo` would bring back."""
        return self._redo[-1].label if self._redo else None

    def undo(self) -> str | None:
        """Go back a step; its name, or None where there is none.  Trials are settled first."""
        self.settle()
        return self._step(self._undo, self._redo)

    def redo(self) -> str | None:
        self.settle()
        return self._step(self._redo, self._undo)

    @property
    def steps(self) -> list[str]:
        """Names of all steps from the first to the last, those that were taken back among them."""
        return [step.label for step in (*self._undo, *reversed(self._redo))]

    @property
    def position(self) -> int:
        """How many of the steps are in the value."""
        return len(self._undo)

    def go_to(self, position: int) -> None:
        """Go back or forward until that many steps are in the value.  ValueError beyond the history.

        Trials are settled first; one that is kept is a step more, before which `position` counts as it did.
        """
        if not 0 <= position <= len(self.steps):
            raise ValueError(f"there are {len(self.steps)} steps, not {position}")
        self.settle()
        while self.position > position:
            self._step(self._undo, self._redo)
        while self.position < position:
            self._step(self._redo, self._undo)

    def _step(self, source: list[_Step], target: list[_Step]) -> str | None:
        if not source:
            return None
        step = source.pop()
        target.append(_Step(step.label, self._committed, step.size))
        self._committed = step.session
        self.refresh()
        return step.label

    # -- file -----------------------------------------------------------------------------

    def saved(self, path: Path) -> None:
        """What is shown now stands in that file."""
        self.path = path
        self._saved = self._shown

    def mark_unsaved(self) -> None:
        """The value stands in no file yet (recovered after a crash)."""
        self._saved = self._saved.with_(name=self._saved.name + "\0")
