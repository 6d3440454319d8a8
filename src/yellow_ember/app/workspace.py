"""What the views share: the document, the engine, work in the background, what is selected."""

from __future__ import annotations

import threading
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from yellow_ember.app.added import AddedListening
from yellow_ember.app.background import BackgroundPrints
from yellow_ember.app.dissector import Dissector
from yellow_ember.app.imports import Imports
from yellow_ember.app.measurer import Measurer
from yellow_ember.app.messages import Messages
from yellow_ember.app.settings import Settings, save_settings
from yellow_ember.engine.client import EngineClient, EngineState
from yellow_ember.engine.devices import SILENT_CARD
from yellow_ember.engine.jobs import Job, JobError
from yellow_ember.engine.messages import DeviceSettings
from yellow_ember.engine.printing import Printed, PrintOrder, print_session
from yellow_ember.files.impulses import read_impulse
from yellow_ember.files.reading import READABLE, AudioFileError, probe
from yellow_ember.session.autosave import Autosave
from yellow_ember.session.document import Document
from yellow_ember.session.edits import add_track
from yellow_ember.session.following import follow, linked_with
from yellow_ember.session.model import MASTER, RATES, Session, Strip, master_strip, session_from_audio
from yellow_ember.session.reading import SessionFileError
from yellow_ember.session.session_file import impulse_files, missing_audio, read_session, relocate, write_session

FRAME_MS = 33
_AUTOSAVE_MS = 800


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
        self.document = Document(Session(strips=(master_strip(),)), rule=self._follow)
        self.engine: EngineClient | None = None
        self.state = EngineState(0, False, 0.0, 0, 0, 1.0, 0)
        self.strip_id = MASTER
        self.stage_id = ""
        self._chosen: tuple[str, ...] = ()
        self.before = False
        self._record = record
        self._play_wanted = False
        self._autosave = Autosave()
        self._writer = ThreadPoolExecutor(1)
        self.thinker = ThreadPoolExecutor(1)
        """Short sums that a view must not wait for (they let go of the interpreter's lock)."""
        self._print: Job[Printed] | None = None
        self._engine_ready: Future[EngineClient] | None = None
        self.imports = Imports(self)
        self.measurer = Measurer(self)
        self.prints = BackgroundPrints(self)
        self.added = AddedListening(self)
        self.dissector = Dissector(self)
        self._save_timer = QTimer(self)
        self._save_timer.setSingleShot(True)
        self._save_timer.setInterval(_AUTOSAVE_MS)
        self._save_timer.timeout.connect(self._keep)
        self._clock = QTimer(self)
        self._clock.setInterval(FRAME_MS)
        self._clock.timeout.connect(self._tick)
        self._unlisten = self.document.listen(self._on_change)

    # -- life ---------------------------------------------------------------------------

    def start(self) -> None:
        """Start the engine (in the background, it may have to compile) and the clock."""
        device = DeviceSettings(self.settings.device, self.settings.block, self._record)
        self._engine_ready = Future()
        threading.Thread(target=self._start_engine, args=(device, self._engine_ready), daemon=True).start()
        self._clock.start()

    def _start_engine(self, device: DeviceSettings, ready: Future[EngineClient]) -> None:
        try:
            ready.set_result(EngineClient(device, self.messages.say))
        except OSError as error:
            ready.set_exception(error)

    def close(self) -> None:
        """End everything that runs beside the window."""
        self.closing.emit()
        self._clock.stop()
        self._save_timer.stop()
        self.imports.cancel()
        self.measurer.cancel()
        self.prints.cancel()
        self.added.cancel()
        self.dissector.cancel()
        if self._print is not None:
            self._print.cancel()
        if self.engine is None and self._engine_ready is not None:
            self.engine = self._engine_ready.result(timeout=60.0)
        if self.engine is not None:
            self.engine.close()
            self.engine = None
        self._writer.shutdown()
        self.thinker.shutdown(cancel_futures=True)
        self._autosave.forget()
        try:
            save_settings(self.settings)
        except OSError as error:
            self.messages.warn(f"The settings can't be kept: {error.strerror}")

    def _tick(self) -> None:
        if self.engine is None:
            self._adopt_engine()
        if self.engine is not None:
            self.state = self.engine.poll()
            self.imports.poll()
            self.measurer.poll()
            self.prints.poll()
            self.added.poll()
            self.dissector.poll()
            self._poll_print()
        self.frame.emit(self.state)

    def _adopt_engine(self) -> None:
        ready = self._engine_ready
        if ready is None or not ready.done():
            self.working.emit("Making the sound engine ready", -1.0)
            return
        self._engine_ready = None
        try:
            self.engine = ready.result()
        except OSError as error:
            self.messages.warn(f"The engine can't be started: {error.strerror}")
            return
        self.working.emit("", 1.0)
        self.engine.set_session(self.session)
        self._tell_selection()
        self.engine.locate(self.start_position)
        if self._play_wanted:
            self._play_wanted = False
            self.engine.play()

    # -- session ------------------------------------------------------------------------

    @property
    def session(self) -> Session:
        return self.document.session

    def _follow(self, committed: Session, now: Session, new: Session) -> Session:
        """What else moves with a change: linked strips and stages, and all that are chosen."""
        return follow(committed, now, new, self.chosen)

    def _on_change(self, session: Session) -> None:
        if self.strip_id not in {strip.id for strip in session.strips}:
            self.strip_id = MASTER
        if self.stage_id not in {stage.id for stage in self.strip.chain}:
            self.stage_id = self.strip.chain[0].id if self.strip.chain else ""
        if self.engine is not None:
            self.engine.set_session(session)
        self._tell_selection()
        self.imports.want(session)
        self.measurer.want()
        self._save_timer.start()
        self.session_changed.emit(session)

    def adopt(self, session: Session, path: Path | None, *, unsaved: bool = False) -> None:
        """Work on another session from now on."""
        self._unlisten()
        self.document = Document(session, path, self._follow)
        if unsaved:
            self.document.mark_unsaved()
        self._unlisten = self.document.listen(self._on_change)
        if self.engine is not None:
            self.engine.stop()
            self.engine.locate(self.start_position)
        self.strip_id = session.strips[0].id
        self._chosen = ()
        self._on_change(session)
        if not unsaved:
            self._save_timer.stop()
            self._autosave.forget()
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

    def open_audio(self, paths: list[Path]) -> None:
        """A new session from audio files; what can't be used is named and left out."""
        good = self._usable(paths)
        if not good:
            return
        rate = probe(good[0]).rate
        self.adopt(session_from_audio(good, rate if rate in RATES else 48000), None)
        self.messages.say(f"New session from {len(good)} file{'s' if len(good) > 1 else ''}")

    def add_audio(self, paths: list[Path]) -> None:
        """More tracks for this session."""
        good = self._usable(paths)
        session = self.session
        for path in good:
            session = add_track(session, path)
        if good:
            self.document.commit("Add tracks", session)

    def _usable(self, paths: list[Path]) -> list[Path]:
        good = []
        for path in paths:
            try:
                probe(path)
                good.append(path.resolve())
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

    def save(self, path: Path) -> bool:
        """Write the session; True when it is on disk."""
        try:
            write_session(self.session, path)
        except SessionFileError as error:
            self.messages.warn(f"{error}. The session is unchanged and still open; save it elsewhere")
            return False
        self.document.saved(path)
        self.settings.remember(path)
        self._save_timer.stop()
        self._autosave.forget()
        self.messages.say(f"Saved {path.name}")
        self.session_changed.emit(self.session)
        return True

    def find_missing(self, folder: Path) -> None:
        """Look below a folder for audio that is missing."""
        found = relocate(self.session, folder)
        left = len(missing_audio(found)) + sum(not path.is_file() for _, _, path in impulse_files(found))
        self.document.commit("Find missing audio", found)
        self.messages.say("All audio is found" if left == 0 else f"{left} files are still missing")

    @property
    def is_shipped(self) -> bool:
        """True for the demo, whose own file stays as it is."""
        path = self.document.path
        return path is not None and Path(__file__).resolve().parents[1] in path.resolve().parents

    @property
    def own_folder(self) -> Path:
        """Where the session's files belong: beside its file, or the user's home."""
        path = self.document.path
        return Path.home() if path is None or self.is_shipped else path.parent

    def _keep(self) -> None:
        """Write unsaved edits where a crash does not reach them."""
        if not self.document.modified:
            self._autosave.forget()
            return
        session, path = self.session, self.document.path
        self._writer.submit(self._autosave.keep, session, path).add_done_callback(self._kept)

    def _kept(self, outcome: Future[None]) -> None:
        error = outcome.exception()
        if isinstance(error, OSError):
            self.messages.warn(f"Unsaved edits can't be kept safe: {error.strerror}")

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
        return self._print is not None

    def print(self, order: PrintOrder) -> None:
        """Print in the background."""
        if self._print is None and self.engine is not None:
            self._print = Job(print_session, self.session, order)
            self.messages.say(f"Printing to {order.folder}")

    def cancel_print(self) -> None:
        if self._print is not None:
            self._print.cancel()
            self._print = None
            self.working.emit("", 1.0)
            self.messages.say("Printing was cancelled; no file was left")

    def _poll_print(self) -> None:
        if self._print is None:
            return
        if not self._print.poll():
            self.working.emit("Printing", self._print.share)
            return
        job, self._print = self._print, None
        self.working.emit("", 1.0)
        try:
            printed = job.result()
        except JobError as error:
            self.messages.warn(f"Printing failed: {error}")
            return
        names = ", ".join(path.name for path in printed.files)
        held = f" The ceiling held it down by up to {-printed.ceiling_db:.1f} dB." if printed.ceiling_db < -0.05 else ""
        self.messages.say(f"Printed {names}.{held}")
