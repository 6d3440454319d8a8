"""What the views share: the document, the engine, work in the background, what is selected."""

from __future__ import annotations

import contextlib
import functools
import os
import threading
import time
from concurrent.futures import Future
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from yellow_ember.app.state.added import AddedListening
from yellow_ember.app.state.background import BackgroundPrints
from yellow_ember.app.state.dissector import Dissector
from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.keeper import EditKeeper
from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.settings import Settings, save_settings
from yellow_ember.engine.forking import end_server, read_progress
from yellow_ember.engine.jobs.printing import Printed, PrintOrder, print_session
from yellow_ember.engine.live.client import EngineClient, EngineState
from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.files.impulses import read_impulse
from yellow_ember.files.kinds import FileState, is_file, state_of_file
from yellow_ember.files.reading import READABLE, AudioFileError, probe
from yellow_ember.session.document import Document, Rule
from yellow_ember.session.edits.edits import add_track, difference
from yellow_ember.session.edits.following import follow, linked_with
from yellow_ember.session.io.autosave import Card, keep_version
from yellow_ember.session.io.reading import SessionFileError
from yellow_ember.session.io.session_file import impulse_files, missing_audio, read_session, relocate, write_session
from yellow_ember.session.values.limits import MAXIMUM_STRIPS
from yellow_ember.session.values.model import MASTER, RATES, Session, Strip, master_strip, session_from_audio

FRAME_MS = 33
_LOADING_SECONDS = 4.0
"""Kernels that are compiled already are loaded in less."""


class Workspace(QObject):
    """Owns the document and everything that runs beside the window.

    session_changed : a new value; opened : another session altogether
    selected : strip or stage chosen; frame : a new engine state, some thirty times a second
    closing : the last moment to put things away; pictures_hidden : a blind test begins or ends
    """

    session_changed = pyqtSignal(object)
    opened = pyqtSignal()
    selected = pyqtSignal()
    frame = pyqtSignal(object)
    working = pyqtSignal(str, float)
    comparing = pyqtSignal(bool)
    closing = pyqtSignal()
    pictures_hidden = pyqtSignal(bool)

    def __init__(self, settings: Settings, record: Path | None = None) -> None:
        super().__init__()
        self.settings = settings
        self.messages = Messages()
        self.document = Document(Session(strips=(master_strip(),)), rule=self._rule)
        self.engine: EngineClient | None = None
        self.state = EngineState(0, False, 0.0, 0, 0, 1.0, 0)
        self.strip_id = MASTER
        self.stage_id = ""
        self._chosen: tuple[str, ...] = ()
        self.before = False
        self._record = record
        self._play_wanted = False
        self.keeper = EditKeeper(self._unsaved, self.messages.warn)
        self._on_disk: FileState | None = None
        """How the session's file was when it was read or written here."""
        self.jobs = JobKeeper()
        self._orders: list[tuple[Session, PrintOrder]] = []
        """Prints that wait for their turn."""
        self._engine_ready: Future[EngineClient] | None = None
        self.imports = Imports(self)
        self.measurer = Measurer(self)
        self.matcher = Matcher(self)
        self.prints = BackgroundPrints(self)
        self.added = AddedListening(self)
        self.dissector = Dissector(self)
        self._closed = False
        self._clock = QTimer(self)
        self._clock.setInterval(FRAME_MS)
        self._clock.timeout.connect(self._tick)
        self._unlisten = self.document.listen(self._on_change)

    # -- life ---------------------------------------------------------------------------

    def start(self) -> None:
        """Start the engine (in the background, it may have to compile) and the clock."""
        device = DeviceSettings(self.settings.device, self.settings.block, self._record)
        self._engine_ready = Future()
        self._started = time.monotonic()
        threading.Thread(target=self._start_engine, args=(device, self._engine_ready), daemon=True).start()
        self._clock.start()

    def _start_engine(self, device: DeviceSettings, ready: Future[EngineClient]) -> None:
        try:
            ready.set_result(EngineClient(device, self.messages.say))
        except (OSError, EOFError) as error:
            ready.set_exception(error)

    def kill_engine(self) -> None:
        """End all processes at once; from any thread."""
        engine = self.engine
        if engine is not None:
            engine.kill()
        end_server()

    def close(self, *, keep_unsaved: bool = False) -> None:
        """End everything that runs beside the window; unsaved edits are given up unless they are to be kept."""
        if self._closed:
            return
        self._closed = True
        if keep_unsaved:
            # The system is in a hurry: the work first, then the layout, and nobody waits for the engine.
            self.keeper.write_now()
            self.kill_engine()
        with contextlib.suppress(OSError):
            save_settings(self.settings)
        self.closing.emit()
        self._clock.stop()
        self._orders.clear()
        self.jobs.close()
        ready = self._engine_ready
        if ready is not None and ready.done() and ready.exception() is None:
            self.engine = ready.result()
        elif ready is not None:
            # It is still coming, perhaps for a minute, where kernels are compiled: nobody waits for that.
            end_server()
        if self.engine is not None:
            self.engine.close()
            self.engine = None
        self.keeper.close(forget=not keep_unsaved)

    def _tick(self) -> None:
        if self.engine is None:
            self._adopt_engine()
        if self.engine is not None:
            self.state = self.engine.poll()
            self.imports.poll()
            self.matcher.poll()
            self.measurer.poll()
            self.prints.poll()
            self.added.poll()
            self.dissector.poll()
            if self.printing:
                self.working.emit("Printing", self.jobs.share(self))
        self.frame.emit(self.state)

    def _adopt_engine(self) -> None:
        ready = self._engine_ready
        if ready is None or not ready.done():
            self._show_start()
            return
        self._engine_ready = None
        try:
            self.engine = ready.result()
        except (OSError, EOFError) as error:
            self.messages.warn(f"The engine can't be started: {error}. Start the program again")
            return
        self.working.emit("", 1.0)
        self.engine.set_session(self.session)
        self._tell_selection()
        self.engine.locate(self.start_position)
        if self._play_wanted:
            self._play_wanted = False
            self.engine.play()

    def _show_start(self) -> None:
        """How far the engine is, once that takes long."""
        share = read_progress()
        if share is not None and time.monotonic() - self._started > _LOADING_SECONDS:
            self.working.emit("Compiling the audio processing, once after an installation", share)
        else:
            self.working.emit("Making the sound engine ready", -1.0)

    # -- session ------------------------------------------------------------------------

    @property
    def session(self) -> Session:
        return self.document.session

    def _rule(self) -> Rule:
        """What else moves with a change: what is linked, all strips that are chosen now, levels that are kept."""
        chosen = self.chosen

        def follows(base: Session, before: Session, new: Session) -> Session:
            return self.matcher.take_back(base, before, follow(base, new, chosen))

        return follows

    def _unsaved(self) -> tuple[Session, Path | None] | None:
        """The session and its file, where it has edits that the file does not hold."""
        document = self.document
        return (document.session, document.path) if document.modified else None

    def _on_change(self, session: Session) -> None:
        # First of all: whatever goes wrong behind it, the edit is kept.
        self.keeper.edited()
        if self.strip_id not in {strip.id for strip in session.strips}:
            self.strip_id = MASTER
        if self.stage_id not in {stage.id for stage in self.strip.chain}:
            self.stage_id = self.strip.chain[0].id if self.strip.chain else ""
        if self.engine is not None:
            self.engine.set_session(session)
        self._tell_selection()
        # The views first, which let go of what is gone; then what speaks to them by itself.
        self.session_changed.emit(session)
        self.imports.want(self.session)
        self.measurer.want()
        self.matcher.want()

    def adopt(self, session: Session, path: Path | None, *, unsaved: bool = False) -> None:
        """Work on another session from now on; `unsaved` where its file does not hold it."""
        self._unlisten()
        # Who still tries something over the one that goes has nothing to try it on any more.
        self.document.settle()
        self.document = Document(session, path, self._rule)
        if unsaved:
            self.document.mark_unsaved()
        self._unlisten = self.document.listen(self._on_change)
        if self.engine is not None:
            self.engine.stop()
            self.engine.locate(self.start_position)
        here = {strip.id for strip in session.strips}
        self.strip_id = session.shown if session.shown in here else session.strips[0].id
        self._chosen = ()
        self.matcher.opened(session)
        self._on_change(session)
        if not unsaved:
            self.keeper.forget()
        self._on_disk = None if path is None else state_of_file(path)
        for strip in missing_audio(session):
            self.messages.warn(f"The audio of {strip.name} is missing: {strip.audio}. "
                               "Session > Find missing audio points it to where it is now")
        for strip, _stage, path in impulse_files(session):
            try:
                read_impulse(path, session.rate)
            except AudioFileError as error:
                self.messages.warn(f"{strip.name} can't use its impulse response: {error}")
        self.opened.emit()

    def open_path(self, path: Path) -> None:
        """Open a session file; SessionFileError where it can't be."""
        session = read_session(path)
        self.settings.remember(path)
        self.adopt(session, path)
        self.messages.say(f"Opened {path.name}")

    def open_card(self, card: Card) -> None:
        """Work on a session that was kept: set aside, or an earlier version.  SessionFileError where it is damaged."""
        self.adopt(card.session(), card.path, unsaved=True)
        self.messages.say(f"Opened {card.name} as it was kept; save it to keep it")

    def take_up(self, card: Card) -> None:
        """Go on with what a crash left.  SessionFileError where it is damaged."""
        session = card.session()
        self.keeper.take(card)
        self.adopt(session, card.path, unsaved=True)
        self.messages.say("Unsaved work was taken up; save it to keep it")

    def open_audio(self, paths: list[Path]) -> None:
        """A new session from audio files; what can't be used is named and left out."""
        if len(paths) >= MAXIMUM_STRIPS:
            self.messages.warn(f"{len(paths)} files are more than a session holds; open at most {MAXIMUM_STRIPS - 1}")
            return
        good = self._usable(paths)
        if not good:
            return
        rate = probe(good[0]).rate
        self.adopt(session_from_audio(good, rate if rate in RATES else 48000), None)
        self.messages.say(f"New session from {len(good)} file{'s' if len(good) > 1 else ''}")

    def add_audio(self, paths: list[Path]) -> None:
        """More tracks for this session."""
        if len(paths) + len(self.session.strips) > MAXIMUM_STRIPS:
            self.messages.warn(f"A session holds at most {MAXIMUM_STRIPS - 1} tracks and buses; "
                               f"{len(paths)} more are too many")
            return
        good = self._usable(paths)
        if good:
            self.document.commit("Add tracks", lambda session: functools.reduce(add_track, good, session))

    def _usable(self, paths: list[Path]) -> list[Path]:
        good = []
        for path in paths:
            try:
                probe(path)
                good.append(Path(os.path.abspath(path)))
            except AudioFileError as error:
                self.messages.warn(str(error))
        return good

    def open_any(self, paths: list[Path]) -> None:
        """A session file, or audio files: what a drop or the command line brings."""
        sessions = [path for path in paths if path.suffix.lower() not in READABLE]
        if sessions:
            try:
                self.open_path(sessions[0])
            except SessionFileError as error:
                self.messages.warn(str(error))
        elif paths:
            self.open_audio(paths)

    @property
    def changed_on_disk(self) -> bool:
        """True where somebody else has written the session's file since it was read or saved here."""
        path = self.document.path
        return path is not None and self._on_disk is not None and state_of_file(path) not in (None, self._on_disk)

    def save(self, path: Path) -> bool:
        """Write the session; True when it is on disk."""
        session = self.session.with_(shown=self.strip_id)
        try:
            write_session(session, path)
        except SessionFileError as error:
            self.messages.warn(f"{error}. The session is unchanged and still open; save it elsewhere")
            return False
        self.document.saved(path)
        self._on_disk = state_of_file(path)
        self.settings.remember(path)
        self.keeper.forget()
        try:
            keep_version(session, path)
        except OSError as error:
            self.messages.warn(f"The earlier version can't be kept: {error.strerror or error}")
        self.messages.say(f"Saved {path.name}")
        self.session_changed.emit(self.session)
        return True

    def find_missing(self, folder: Path) -> None:
        """Look below a folder for audio that is missing."""
        found = relocate(self.session, folder)
        left = len(missing_audio(found)) + sum(not is_file(path) for _, _, path in impulse_files(found))
        self.document.commit("Find missing audio", difference(self.session, found))
        self.messages.say("All audio is found" if left == 0 else f"{left} files are still missing")

    @property
    def is_shipped(self) -> bool:
        """True for the demo, whose own file stays as it is."""
        path = self.document.path
        return path is not None and Path(__file__).resolve().parents[2] in path.resolve().parents

    @property
    def own_folder(self) -> Path:
        """Where the session's files belong: beside its file, or the user's home."""
        path = self.document.path
        return Path(os.path.expanduser("~")) if path is None or self.is_shipped else path.parent

    # -- selection ----------------------------------------------------------------------

    @property
    def strip(self) -> Strip:
        return self.session.strip(self.strip_id)

    @property
    def chosen(self) -> tuple[str, ...]:
        """Ids of the strips that are edited at once, in the desk's order; one of them is `strip_id`."""
        if not self._chosen:
            return (self.strip_id,)
        return tuple(strip.id for strip, _ in self.session.depth_first()
                     if strip.id in self._chosen or strip.id == self.strip_id)

    def choose_also(self, strip_id: str) -> None:
        """Put a strip with those that are edited at once, or take it out."""
        chosen = set(self.chosen) ^ {strip_id}
        if not chosen:
            return
        self._chosen = tuple(chosen)
        if self.strip_id not in chosen:
            self.select(next(strip.id for strip, _ in self.session.depth_first() if strip.id in chosen))
        elif strip_id in chosen:
            self.select(strip_id)
        self._chosen_changed()

    def choose_also_next(self, strip_id: str) -> None:
        """Go on to a strip and keep those chosen that were."""
        self._chosen = tuple({*self.chosen, strip_id})
        self.select(strip_id)
        self._chosen_changed()

    def choose_up_to(self, strip_id: str) -> None:
        """Choose all strips between the present one and that one."""
        order = [strip.id for strip, _ in self.session.depth_first()]
        low, high = sorted((order.index(self.strip_id), order.index(strip_id)))
        self._chosen = tuple(order[low:high + 1])
        self._chosen_changed()

    def choose_only(self, strip_id: str) -> None:
        """Choose one strip alone."""
        several = len(self.chosen) > 1
        self._chosen = ()
        self.select(strip_id)
        if several:
            self._chosen_changed()

    def _chosen_changed(self) -> None:
        self._tell_selection()
        self.selected.emit()

    def select(self, strip_id: str, stage_id: str | None = None) -> None:
        """Choose a strip, and one of its stages (its first unless named)."""
        chain = self.session.strip(strip_id).chain
        if stage_id is None:
            stage_id = chain[0].id if chain else ""
            if strip_id == self.strip_id and self.stage_id in {stage.id for stage in chain}:
                stage_id = self.stage_id
        if (strip_id, stage_id) == (self.strip_id, self.stage_id):
            return
        other_strip = strip_id != self.strip_id
        if strip_id not in self._chosen:
            self._chosen = ()
        self.strip_id, self.stage_id = strip_id, stage_id
        self._tell_selection()
        if other_strip:
            self.measurer.want()
        self.selected.emit()

    def _tell_selection(self) -> None:
        if self.engine is None:
            return
        place = self.strip.place_of(self.stage_id) if self.stage_id else 0
        self.engine.watch(self.strip_id, place)
        self.engine.hear_before(frozenset(linked_with(self.session, self.chosen) if self.before else ()))

    def hear_before(self, before: bool) -> None:
        """Hear the chosen strips, and all linked with them, before their chains or after them."""
        self.added.switch(False)
        if before != self.before:
            self.before = before
            self._tell_selection()
            self.comparing.emit(before)

    def hide_pictures(self, hidden: bool) -> None:
        """Keep what is heard from being seen."""
        self.pictures_hidden.emit(hidden)

    def hear_added(self) -> None:
        """Hear what the chosen strip's chain added, alone, instead of before or after."""
        self.hear_before(False)
        self.added.switch(True)

    # -- transport ----------------------------------------------------------------------

    def toggle_play(self) -> None:
        if self.engine is None:
            self._play_wanted = True
            self.messages.say("Playing starts as soon as the engine is ready")
        elif self.state.playing:
            self.engine.stop()
        else:
            self.engine.play()

    @property
    def start_position(self) -> int:
        """Where playing starts from: the loop's start, or the session's."""
        return self.session.loop.start if self.session.loop.on else 0

    def locate(self, position: int) -> None:
        if self.engine is not None:
            self.engine.locate(position)

    def change_device(self, name: str, block: int) -> None:
        self.settings.device, self.settings.block = name, block
        if self.engine is not None:
            record = self._record if name == SILENT_CARD else None
            self.engine.change_device(DeviceSettings(name, block, record))

    # -- printing -----------------------------------------------------------------------

    @property
    def printing(self) -> bool:
        return self.jobs.is_running(self)

    def print(self, order: PrintOrder) -> None:
        """Print in the background, after what is being printed already."""
        self._orders.append((self.session, order))
        self._start_print()

    def _start_print(self) -> None:
        if not self.printing and self._orders:
            session, order = self._orders.pop(0)
            self.jobs.start(self, print_session, session, order, done=self._printed, failed=self._not_printed)
            self.messages.say(f"Printing to {order.folder}")

    def cancel_print(self) -> None:
        self._orders.clear()
        if self.printing:
            self.jobs.cancel(self)
            self.working.emit("", 1.0)
            self.messages.say("Printing was cancelled; no file was left")

    def _not_printed(self, reason: str) -> None:
        self.working.emit("", 1.0)
        self.messages.warn(f"Printing failed: {reason}")
        self._start_print()

    def _printed(self, printed: Printed) -> None:
        self.working.emit("", 1.0)
        self._start_print()
        names = ", ".join(path.name for path in printed.files)
        held = f" The ceiling held it down by up to {-printed.ceiling_db:.1f} dB." if printed.ceiling_db < -0.05 else ""
        self.messages.say(f"Printed {names}.{held}")
