"""Puts together what the views share; only the main window, the start and the tests know all of it."""

from __future__ import annotations

import contextlib
import inspect
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from yellow_ember.app.state.added import AddedListening
from yellow_ember.app.state.background import BackgroundPrints
from yellow_ember.app.state.commands import Commands
from yellow_ember.app.state.controllers import Controllers
from yellow_ember.app.state.dissector import Dissector
from yellow_ember.app.state.garbage import GarbageCollector
from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.lane_writer import LaneWriter
from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.midi_devices import MidiDevices
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.recording import Recording
from yellow_ember.app.state.rendering import Rendering
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.session_waves import SessionWaves
from yellow_ember.app.state.settings import Settings, save_settings
from yellow_ember.app.state.tempo_tap import TempoTap
from yellow_ember.app.state.time_view import TimeView
from yellow_ember.app.state.tools import Tools
from yellow_ember.session.document import Rule
from yellow_ember.session.edits.following import follow
from yellow_ember.session.values.model import Session

_PIECES = ("sessions", "selection", "playback", "settings", "messages", "jobs", "imports", "measurer", "matcher",
           "prints", "added", "dissector", "rendering", "recording", "midi_devices", "controllers", "time_view",
           "session_waves", "tempo_tap", "lane_writer", "tools", "commands")
Made = TypeVar("Made")
_KEEP_MS = 1500


class Workspace(QObject):
    """All pieces of state.  `closing` is the last moment to put things away."""

    closing = pyqtSignal()

    def __init__(self, settings: Settings, record: Path | None = None) -> None:
        super().__init__()
        self.settings = settings
        self._garbage = GarbageCollector()
        self._garbage.setParent(self)
        self.messages = Messages()
        self.tools = Tools(self.give)
        self.commands = Commands(settings)
        self.jobs = JobKeeper()
        self.sessions = SessionKeeper(settings, self.messages)
        self.selection = Selection(self.sessions)
        self.playback = Playback(self.sessions, self.selection, settings, self.messages, self.jobs, record)
        self.time_view = TimeView()
        self.tempo_tap = self.give(TempoTap)
        self.lane_writer = self.give(LaneWriter)
        self.imports = self.give(Imports)
        self.measurer = self.give(Measurer)
        self.session_waves = self.give(SessionWaves)
        self.matcher = self.give(Matcher)
        self.prints = self.give(BackgroundPrints)
        self.added = self.give(AddedListening)
        self.dissector = self.give(Dissector)
        self.rendering = self.give(Rendering)
        self.recording = self.give(Recording)
        self.midi_devices = self.give(MidiDevices)
        self.controllers = self.give(Controllers)
        for name in _PIECES:
            piece = getattr(self, name)
            if isinstance(piece, QObject):
                # They go together, and in Qt's order.
                piece.setParent(self)
        self.sessions.rule = self._rule
        self._closed = False
        self._keeping = QTimer(self)
        self._keeping.setInterval(_KEEP_MS)
        self._keeping.timeout.connect(self._keep_settings)

    def give(self, make: Callable[..., Made], *more: object) -> Made:
        """What `make` makes of the pieces of state that its parameters name, and of `more` for the others in turn."""
        names = list(inspect.signature(make).parameters)
        pieces = {name: getattr(self, name) for name in names if name in _PIECES}
        return make(**pieces, **dict(zip((name for name in names if name not in pieces), more, strict=False)))

    def _rule(self) -> Rule:
        """What else moves with a change: what is linked, all strips that are chosen now, levels that are kept."""
        chosen = self.selection.chosen

        def follows(base: Session, before: Session, new: Session) -> Session:
            return self.matcher.take_back(base, before, follow(base, new, chosen))

        return follows

    def start(self) -> None:
        """Start the engine and the clock."""
        self.playback.start()
        self._keeping.start()

    def _keep_settings(self) -> None:
        """Keep what was set, so that no end of the program loses it."""
        if self.settings.changed:
            # A folder that allows nothing was told of at the start.
            with contextlib.suppress(OSError):
                save_settings(self.settings)

    def close(self, *, keep_unsaved: bool = False) -> None:
        """End everything that runs beside the window; unsaved edits are given up unless they are to be kept."""
        if self._closed:
            return
        self._closed = True
        if keep_unsaved:
            # The system is in a hurry: the work first, then the layout, and nobody waits for the engine.
            self.sessions.edits.write_now()
            self.playback.kill_engine()
        self._keeping.stop()
        self._keep_settings()
        self.closing.emit()
        self.midi_devices.close()
        self.playback.stop_clock()
        self.jobs.close()
        self.playback.close()
        self.sessions.edits.close(forget=not keep_unsaved)
