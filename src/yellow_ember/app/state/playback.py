"""What plays: the engine, where it is, and what of the chosen strips is heard."""

from __future__ import annotations

import threading
import time
from concurrent.futures import Future
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.engine.cores import threads_to_play_with
from yellow_ember.engine.forking import end_server, read_progress
from yellow_ember.engine.live.client import EngineClient, EngineState
from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.session.edits.following import linked_with
from yellow_ember.session.values.model import Session

FRAME_MS = 33
_LOADING_SECONDS = 4.0
"""Kernels that are compiled already are loaded in less."""
_RESTING_MS, _AWAKE_SECONDS = 250, 3.0
"""How slowly the clock goes while nothing moves, and how long meters take to fall."""


class Playback(QObject):
    """Owns the engine, and the clock by which the window shows it.

    beat : with the clock, once there is an engine, for what goes on beside the views; then frame : its new state
    comparing : before is wanted, or after; pictures_hidden : a blind test begins or ends
    """

    beat = pyqtSignal()
    frame = pyqtSignal(object)
    comparing = pyqtSignal(bool)
    pictures_hidden = pyqtSignal(bool)

    def __init__(self, sessions: SessionKeeper, selection: Selection, settings: Settings, messages: Messages,
                 jobs: JobKeeper, record: Path | None) -> None:
        super().__init__()
        self._sessions, self._selection, self._settings = sessions, selection, settings
        self._messages, self._jobs = messages, jobs
        self._record = record
        self.engine: EngineClient | None = None
        self.state = EngineState(0, False, 0.0, 0, 0, 1.0, 0, 0, None)
        self.before = False
        self._play_wanted = False
        self._ready: Future[EngineClient] | None = None
        self._started = 0.0
        self._clock = QTimer(self)
        self._clock.setInterval(FRAME_MS)
        self._clock.timeout.connect(self._tick)
        self._awake_until = 0.0
        for changed in (sessions.adopting, sessions.changed, selection.changed):
            changed.connect(self.wake)
        sessions.adopting.connect(self._on_adopting)
        sessions.changed.connect(self._on_session_changed)
        selection.changed.connect(self._tell_selection)

    # -- life -----------------------------------------------------------------------------

    def start(self) -> None:
        """Start the engine (in the background, it may have to compile) and the clock."""
        device = self._device_settings()
        self._ready = Future()
        self._started = time.monotonic()
        threading.Thread(target=self._start_engine, args=(device, self._ready), daemon=True).start()
        self._clock.start()

    def _start_engine(self, device: DeviceSettings, ready: Future[EngineClient]) -> None:
        try:
            ready.set_result(EngineClient(device, self._messages.say))
        except (OSError, EOFError) as error:
            ready.set_exception(error)

    def kill_engine(self) -> None:
        """End all processes at once; from any thread."""
        engine = self.engine
        if engine is not None:
            engine.kill()
        end_server()

    def stop_clock(self) -> None:
        self._clock.stop()

    def close(self) -> None:
        """End the engine."""
        ready = self._ready
        if ready is not None and ready.done() and ready.exception() is None:
            self.engine = ready.result()
        elif ready is not None:
            # It is still coming, perhaps for a minute, where kernels are compiled: nobody waits for that.
            end_server()
        if self.engine is not None:
            self.engine.close()
            self.engine = None

    def wake(self) -> None:
        """Let the clock go at its full rate, as something is about to move."""
        self._awake_until = time.monotonic() + _AWAKE_SECONDS
        if self._clock.interval() != FRAME_MS:
            self._clock.setInterval(FRAME_MS)

    def _tick(self) -> None:
        if self.engine is None:
            self._adopt_engine()
        if self.engine is not None:
            self.state = self.engine.poll()
            self.beat.emit()
            if self.state.runs:
                self.wake()
            elif time.monotonic() > self._awake_until and self._clock.interval() == FRAME_MS:
                # Nothing moves: a window that rests takes next to nothing.
                self._clock.setInterval(_RESTING_MS)
        self.frame.emit(self.state)

    def _adopt_engine(self) -> None:
        ready = self._ready
        if ready is None or not ready.done():
            self._show_start()
            return
        self._ready = None
        self._jobs.working.emit("", 1.0)
        try:
            self.engine = ready.result()
        except (OSError, EOFError) as error:
            self._messages.warn(f"The engine can't be started: {error}. Start the program again")
            return
        self.engine.set_session(self._sessions.session)
        self._tell_selection()
        self.engine.locate(self.start_position)
        if self._play_wanted:
            self._play_wanted = False
            self.engine.play()

    def _show_start(self) -> None:
        """How far the engine is, once that takes long."""
        share = read_progress()
        if share is not None and time.monotonic() - self._started > _LOADING_SECONDS:
            self._jobs.working.emit("Compiling the audio processing, once after an installation", share)
        else:
            self._jobs.working.emit("Making the sound engine ready", -1.0)

    # -- following ------------------------------------------------------------------------

    def _on_adopting(self, _session: Session) -> None:
        if self.engine is not None:
            self.engine.stop()
            self.engine.locate(self.start_position)

    def _on_session_changed(self, session: Session) -> None:
        if self.engine is not None:
            self.engine.set_session(session)
        self._tell_selection()

    def reload(self) -> None:
        """Play from the files as they are now."""
        if self.engine is not None:
            self.engine.set_session(self._sessions.session, reload=True)

    def _tell_selection(self) -> None:
        if self.engine is None:
            return
        selection = self._selection
        index = selection.strip.index_of(selection.stage_id) if selection.stage_id else 0
        self.engine.watch(selection.strip_id, index)
        self.engine.hear_before(frozenset(
            linked_with(self._sessions.session, selection.chosen) if self.before else ()))

    def hear_before(self, before: bool) -> None:
        """Hear the chosen strips, and all linked with them, before their chains or after them."""
        if before != self.before:
            self.before = before
            self._tell_selection()
        self.comparing.emit(before)

    def hide_pictures(self, hidden: bool) -> None:
        """Keep what is heard from being seen."""
        self.pictures_hidden.emit(hidden)

    # -- transport ------------------------------------------------------------------------

    def toggle_play(self) -> None:
        """Play, or stop."""
        self.wake()
        if self.engine is None:
            self._play_wanted = True
            self._messages.say("Playing starts as soon as the engine is ready")
        elif self.state.playing:
            self.engine.stop()
        else:
            self.engine.play()

    @property
    def start_position(self) -> int:
        """Where playing starts from: the loop's start, or the session's."""
        loop = self._sessions.session.loop
        return loop.start if loop.on else 0

    def locate(self, position: int) -> None:
        """Go on from another frame."""
        self.wake()
        if self.engine is not None:
            self.engine.locate(position)

    def change_device(self, name: str, block: int, threads: int, feed: str) -> None:
        """Play through another device, with another block length, or with other threads (0 for as many as suit).

        feed : what the silent card hears
        """
        settings = self._settings
        settings.device, settings.block, settings.threads, settings.feed = name, block, threads, feed
        if self.engine is not None:
            self.engine.change_device(self._device_settings())

    def go_with_server(self, *, on: bool) -> None:
        """Start, stop and go where a JACK server's transport does, and let it do so with the window's."""
        if on != self._settings.synced:
            self._settings.synced = on
            if self.engine is not None:
                self.engine.change_device(self._device_settings())

    def _device_settings(self) -> DeviceSettings:
        settings = self._settings
        record = self._record if settings.device == SILENT_CARD else None
        return DeviceSettings(settings.device, settings.block, record, settings.threads or threads_to_play_with(),
                              settings.feed, settings.synced)
