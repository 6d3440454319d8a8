"""Listening to the added part alone: kept up to date in a worker, and played in place of the chosen strip."""

from __future__ import annotations

import time

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.background import BackgroundPrints
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.measurer import sound_of
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.engine.jobs.difference import AddedPart, print_added

_SETTLE_SECONDS = 0.3


class AddedListening(QObject):
    """`changed` is sent when it is switched, and when another added part is heard.

    keep_tone : the linear change of tone is left in; louder_db : by how much what is heard is lifted
    """

    changed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, jobs: JobKeeper, prints: BackgroundPrints) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback, self._settings = sessions, selection, playback, settings
        self._messages, self._jobs, self._prints = messages, jobs, prints
        self.on = False
        self.keep_tone = False
        self.louder_db = 0.0
        self.part: AddedPart | None = None
        self._requested: tuple[object, ...] = ()
        self._heard: tuple[object, ...] = ()
        self._since = 0.0
        playback.comparing.connect(lambda _before: self.switch(False))
        playback.beat.connect(self.poll)

    def listen(self) -> None:
        """Hear what the chosen strip's chain added, alone, instead of before or after."""
        self._playback.hear_before(False)
        self.switch(True)

    def switch(self, on: bool) -> None:
        """Hear the added part of the chosen strip, or the strip again."""
        if on == self.on:
            return
        self.on = on
        if not on:
            self._drop()
        self.changed.emit()

    def set(self, *, keep_tone: bool | None = None, louder_db: float | None = None) -> None:
        """Change what is left in, or how loud it is."""
        self.keep_tone = self.keep_tone if keep_tone is None else keep_tone
        self.louder_db = self.louder_db if louder_db is None else louder_db

    def _drop(self) -> None:
        self._jobs.cancel(self)
        self.part, self._heard, self._requested = None, (), ()
        self._prints.put_first(None)

    def poll(self) -> None:
        """Called with the clock."""
        if not self.on:
            return
        strip = self._selection.strip
        if self.part is not None and self.part.part.strip_id != strip.id:
            self._drop()
            self.changed.emit()
        requested = (*sound_of(self._sessions.session, strip.id), self.keep_tone, round(self.louder_db, 1),
                     strip.match_db if self.keep_tone else 0.0)
        now = time.monotonic()
        if requested != self._requested:
            self._requested, self._since = requested, now
            self._jobs.cancel(self)
        if not self._jobs.is_running(self) and self._heard != requested and now - self._since >= _SETTLE_SECONDS:
            if not strip.chain:
                self._heard = requested
                self._messages.say(f"{strip.name} has no stages: nothing is added")
                return
            limit = round(self._settings.prints_gb * 2**30)
            self._jobs.start(self, print_added, self._sessions.session, strip.id, self.keep_tone, self.louder_db, limit,
                             done=self._take, failed=self._fail)

    def _take(self, added: AddedPart) -> None:
        self._heard, self.part = self._requested, added
        self._prints.put_first(added.part)
        self.changed.emit()

    def _fail(self, reason: str) -> None:
        self._heard = self._requested
        self._messages.warn(f"The added part can't be heard: {reason}")
