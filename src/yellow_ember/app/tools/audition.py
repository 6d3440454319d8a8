"""A window in which one hears entries of a list on a strip while the loop plays, each as loud as what was there.

Arrow keys go through them, Enter keeps the one that is heard, Escape goes back to where one was.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import TryingTool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.engine.jobs.measuring import StripMeasurement, measure_strip
from yellow_ember.session.edits.edits import difference, edit_strip
from yellow_ember.session.values.model import Session

KEYS = (("Up, Down", "hear the next one"), ("Enter", "keep it"), ("Escape", "revert"))
"""What all lists of things to hear answer to, for the sheet of keys."""


class Audition(TryingTool):
    """What is heard is a trial of the document.

    Entries have keys; a row without one ("" in `keys`) can't be heard.
    """

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 jobs: JobKeeper) -> None:
        super().__init__(sessions, playback)
        self._selection, self._messages, self._jobs = selection, messages, jobs
        self._strip_id = self._selection.strip_id
        self._offsets: dict[str, float] = {}
        self._measuring = ""
        """Key of the entry that is being measured."""
        self.heard: str | None = None
        self.state = TextLabel("Arrow keys: hear    Enter: keep    Escape: revert")
        self.state.setStyleSheet(f"color: {theme.DIM.name()}")
        self.state.setWordWrap(True)
        self.closing_row = self.button_row((
            ("Keep", self.keep, "Keep what you hear, as one step of the history"),
            ("Revert", self.go_back, "Leave the strip as it was")))
        self._sessions.changed.connect(self._leave_what_is_gone)

    def needed(self) -> set[str]:
        """Ids of the strips and stages that are tried on."""
        return {self._strip_id}

    def _leave_what_is_gone(self, session: Session) -> None:
        """Close where a strip or a stage that is tried on is there no more."""
        here = {strip.id for strip in session.strips} | {stage.id for strip in session.strips for stage in strip.chain}
        if not self.needed() <= here:
            self.close()

    # -- what is heard ------------------------------------------------------------------

    @abstractmethod
    def keys(self) -> Sequence[str]:
        """The entries' keys, a row each."""

    @abstractmethod
    def tried(self, session: Session, key: str) -> Session:
        """A session with that entry in use.  ValueError says why it can't be."""

    @abstractmethod
    def step(self, key: str) -> str:
        """What the history calls keeping it."""

    @abstractmethod
    def describe(self, key: str) -> None:
        """Show what is known of the chosen entry."""

    def activate(self) -> None:
        """Enter on a row."""
        self.keep()

    @property
    @abstractmethod
    def row(self) -> int:
        """The chosen row, -1 for none."""

    @property
    def chosen_key(self) -> str:
        row, keys = self.row, self.keys()
        return keys[row] if 0 <= row < len(keys) else ""

    def _matched(self, key: str, match_db: float) -> Session:
        return edit_strip(self.tried(self._sessions.document.committed, key), self._strip_id,
                          lambda strip: strip.with_(match_db=match_db))

    def try_row(self) -> None:
        """Let the chosen row be heard."""
        key = self.chosen_key
        if not key:
            return
        self.describe(key)
        try:
            if key in self._offsets:
                self._hear(key)
            else:
                # It is heard once it is known how loud it is, never before.
                self.state.setText("measuring\u2026")
                self._measure(key)
        except ValueError as reason:
            self.state.setText(str(reason))

    def _measure(self, key: str) -> None:
        tried = self._matched(key, 0.0)
        self._measuring = key
        self._jobs.start(self, measure_strip, tried, self._strip_id, done=self._take, failed=self._fail)

    def _hear(self, key: str) -> None:
        offset = self._offsets[key]
        self.try_out(difference(self._sessions.document.committed, self._matched(key, offset)))
        self.heard = key
        self.state.setText(f"heard, matched by {offset:+.2f} dB    Enter: keep    Escape: back")

    def hear_unmatched(self) -> None:
        """Hear the chosen entry at once, at the strip's match as it is, where it is not known how loud it is."""
        strip = self._sessions.document.committed.strip(self._strip_id)
        self._offsets.setdefault(self.chosen_key, strip.match_db)
        self._hear(self.chosen_key)

    def _take(self, measurement: StripMeasurement) -> None:
        self._know(measurement.offset_db)

    def _fail(self, reason: str) -> None:
        self._know(0.0)
        self.state.setText(reason)

    def _know(self, offset_db: float) -> None:
        """How loud an entry is: it can be heard, and there is time for those beside the chosen one."""
        key, self._measuring = self._measuring, ""
        self._offsets[key] = offset_db
        if self.chosen_key == key:
            self._hear(key)
        row, keys = self.row, self.keys()
        for beside in (row + 1, row - 1):
            if row >= 0 and 0 <= beside < len(keys) and keys[beside] and keys[beside] not in self._offsets:
                try:
                    self._measure(keys[beside])
                    return
                except ValueError:
                    # It will say why when it is chosen.
                    continue

    def keep(self) -> None:
        """Make what is heard a step of the history, and close."""
        if self.heard is not None:
            label = self.step(self.heard)
            if self.keep_heard(label):
                self._messages.say(f"{label} is on {self._sessions.session.strip(self._strip_id).name}")
        self.close()

    def let_go(self) -> None:
        self._jobs.cancel(self)
        super().let_go()
