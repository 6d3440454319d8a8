"""Which strips and which stage one works on."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.session.values.model import MASTER, Session, Strip


class Selection(QObject):
    """One strip is chosen, and a stage of it where it has any; others may be edited with it.

    `changed` is sent when another strip or stage is chosen, or others are edited with it.
    """

    changed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper) -> None:
        super().__init__()
        self._sessions = sessions
        self.strip_id = MASTER
        self.stage_id = ""
        self._chosen: tuple[str, ...] = ()
        sessions.adopting.connect(self._on_adopting)
        sessions.changed.connect(self._on_session_changed)

    def _on_adopting(self, session: Session) -> None:
        here = {strip.id for strip in session.strips}
        self.strip_id = session.shown if session.shown in here else session.strips[0].id
        self._chosen = ()

    def _on_session_changed(self, session: Session) -> None:
        """Let go of what is gone."""
        if self.strip_id not in {strip.id for strip in session.strips}:
            self.strip_id = MASTER
        if self.stage_id not in {stage.id for stage in self.strip.chain}:
            self.stage_id = self.strip.chain[0].id if self.strip.chain else ""

    @property
    def strip(self) -> Strip:
        """The chosen strip as it is now."""
        return self._sessions.session.strip(self.strip_id)

    @property
    def chosen(self) -> tuple[str, ...]:
        """Ids of the strips that are edited at once, in the desk's order; one of them is `strip_id`."""
        if not self._chosen:
            return (self.strip_id,)
        return tuple(strip.id for strip, _ in self._sessions.session.depth_first()
                     if strip.id in self._chosen or strip.id == self.strip_id)

    def choose_also(self, strip_id: str) -> None:
        """Put a strip with those that are edited at once, or take it out."""
        chosen = set(self.chosen) ^ {strip_id}
        if not chosen:
            return
        self._chosen = tuple(chosen)
        if self.strip_id not in chosen:
            self.select(next(strip.id for strip, _ in self._sessions.session.depth_first() if strip.id in chosen))
        elif strip_id in chosen:
            self.select(strip_id)
        self.changed.emit()

    def choose_also_next(self, strip_id: str) -> None:
        """Go on to a strip and keep those chosen that were."""
        self._chosen = tuple({*self.chosen, strip_id})
        self.select(strip_id)
        self.changed.emit()

    def choose_up_to(self, strip_id: str) -> None:
        """Choose all strips between the present one and that one."""
        order = [strip.id for strip, _ in self._sessions.session.depth_first()]
        low, high = sorted((order.index(self.strip_id), order.index(strip_id)))
        self._chosen = tuple(order[low:high + 1])
        self.changed.emit()

    def choose_all(self, strip_ids: Sequence[str]) -> None:
        """Choose these strips together; the first of them is shown."""
        if strip_ids:
            self._chosen = tuple(strip_ids)
            if self.strip_id not in strip_ids:
                self.select(strip_ids[0])
            self.changed.emit()

    def choose_only(self, strip_id: str) -> None:
        """Choose one strip alone."""
        several = len(self.chosen) > 1
        self._chosen = ()
        self.select(strip_id)
        if several:
            self.changed.emit()

    def select(self, strip_id: str, stage_id: str | None = None) -> None:
        """Choose a strip, and one of its stages (its first unless named)."""
        chain = self._sessions.session.strip(strip_id).chain
        if stage_id is None:
            stage_id = chain[0].id if chain else ""
            if strip_id == self.strip_id and self.stage_id in {stage.id for stage in chain}:
                stage_id = self.stage_id
        if (strip_id, stage_id) == (self.strip_id, self.stage_id):
            return
        if strip_id not in self._chosen:
            self._chosen = ()
        self.strip_id, self.stage_id = strip_id, stage_id
        self.changed.emit()
