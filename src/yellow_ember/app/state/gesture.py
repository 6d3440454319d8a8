"""What a hand does to one control, from its first movement to its last: one trial, one step of the history."""

from __future__ import annotations

from collections.abc import Hashable

from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.session.document import Edit, Settle, Trial


class Gesture:
    """Holds at most one trial; moving another control keeps what was moved before."""

    def __init__(self, sessions: SessionKeeper) -> None:
        self._sessions = sessions
        self._trial: Trial | None = None
        self._control: Hashable = None

    @property
    def under_way(self) -> bool:
        return self._trial is not None and self._trial.open

    def show(self, label: str, control: Hashable, edit: Edit) -> None:
        """Show where a control was moved to.

        label : what the history calls the step; control : what tells it from other controls
        """
        if not self.under_way or control != self._control:
            self.keep()
            self._trial = self._sessions.document.trial(label, Settle.KEEP)
            self._control = control
        assert self._trial is not None
        self._trial.show(edit)

    def keep(self) -> None:
        """The hand has let go: what it did is a step now."""
        trial, self._trial = self._trial, None
        if trial is not None:
            trial.keep()
