"""Keeps the session that is edited: opens and saves it, and tells who listens of every change."""

from __future__ import annotations

import functools
import os
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.keeper import EditKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.settings import Settings
from yellow_ember.choices import RATES
from yellow_ember.files.file_marks import FileMarks, read_marks
from yellow_ember.files.impulses import read_impulse
from yellow_ember.files.kinds import FileState, is_file, state_of_file
from yellow_ember.files.reading import READABLE, AudioFileError, probe
from yellow_ember.session.document import Document, Rule, nothing_follows
from yellow_ember.session.edits.edits import add_track, difference
from yellow_ember.session.edits.time_edits import add_marker, add_region, place_by_time_stamp
from yellow_ember.session.io.autosave import Card, keep_version
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.session_file import impulse_files, missing_audio, read_session, relocate, write_session
from yellow_ember.session.values.limits import MAXIMUM_STRIPS
from yellow_ember.session.values.model import MASTER, Session, master_strip, session_from_audio

_PACKAGE = Path(__file__).resolve().parents[2]


def _time_stamps(session: Session) -> dict[Path, float]:
    """Seconds since midnight at the first sample of the files that say so."""
    return {path: time for path in session.files if (time := read_marks(path).time) is not None}


def _with_markers(session: Session, marks: list[FileMarks]) -> Session:
    """The session with the markers of the first file that has any, where it has none of its own."""
    markers = next((one.markers for one in marks if one.markers), ())
    if session.markers:
        return session
    return functools.reduce(lambda result, marker: add_marker(result, *marker), markers, session)


class SessionKeeper(QObject):
    """Owns the document.

    changed : a new value, for the views; taken_in : all views have taken it in
    adopting : another session takes the place of the one before, and is about to be shown; opened : it is
    """

    changed = pyqtSignal(object)
    taken_in = pyqtSignal()
    adopting = pyqtSignal(object)
    opened = pyqtSignal()
    time_stamps_found = pyqtSignal()
    """Files that came in would lie elsewhere by their time stamps."""

    def __init__(self, settings: Settings, messages: Messages) -> None:
        super().__init__()
        self._settings, self._messages = settings, messages
        self.rule: Callable[[], Rule] = lambda: nothing_follows
        """Asked for at every edit: what else moves with it."""
        self.document = Document(Session(strips=(master_strip(),)), rule=self._rule)
        self.edits = EditKeeper(self._unsaved, messages.warn)
        self._on_disk: FileState | None = None
        """How the session's file was when it was read or written here."""
        self._unlisten = self.document.listen(self._on_change)

    @property
    def session(self) -> Session:
        """What is shown of the session."""
        return self.document.session

    def _rule(self) -> Rule:
        return self.rule()

    def _unsaved(self) -> tuple[Session, Path | None] | None:
        """The session and its file, where it has edits that the file does not hold."""
        document = self.document
        return (document.session, document.path) if document.modified else None

    def _on_change(self, session: Session) -> None:
        # First of all: whatever goes wrong behind it, the edit is kept.
        self.edits.edited()
        # The views first, which let go of what is gone; then what speaks to them by itself.
        self.changed.emit(session)
        self.taken_in.emit()

    def tell_again(self) -> None:
        """Tell everybody of the session as it is: what it stands on has changed (files, a save)."""
        self.changed.emit(self.session)

    # -- opening --------------------------------------------------------------------------

    def adopt(self, session: Session, path: Path | None, *, unsaved: bool = False) -> None:
        """Work on another session from now on; `unsaved` where its file does not hold it."""
        self._unlisten()
        # Who still tries something over the one that goes has nothing to try it on any more.
        self.document.settle()
        self.document = Document(session, path, self._rule)
        if unsaved:
            self.document.mark_unsaved()
        self._unlisten = self.document.listen(self._on_change)
        self.adopting.emit(session)
        self._on_change(session)
        if not unsaved:
            self.edits.forget()
        self._on_disk = None if path is None else state_of_file(path)
        self._warn_of_files(session)
        self.opened.emit()

    def _warn_of_files(self, session: Session) -> None:
        for strip in missing_audio(session):
            missing = next(path for path in strip.files if not is_file(path))
            self._messages.warn(f"The audio of {strip.name} is missing: {missing}. "
                                "Session > Find missing audio points it to where it is now")
        for strip, _stage, path in impulse_files(session):
            try:
                read_impulse(path, session.rate)
            except AudioFileError as error:
                self._messages.warn(f"{strip.name} can't use its impulse response: {error}")

    def open_path(self, path: Path) -> None:
        """Open a session file; SessionFileError where it can't be."""
        session = read_session(path)
        self._settings.remember(path)
        self.adopt(session, path)
        self._messages.say(f"Opened {path.name}")

    def open_card(self, card: Card) -> None:
        """Work on a session that was kept: set aside, or an earlier version.  SessionFileError where it is damaged."""
        self.adopt(card.session(), card.path, unsaved=True)
        self._messages.say(f"Opened {card.name} as it was kept; save it to keep it")

    def take_up(self, card: Card) -> None:
        """Go on with what a crash left.  SessionFileError where it is damaged."""
        session = card.session()
        self.edits.take(card)
        self.adopt(session, card.path, unsaved=True)
        self._messages.say("Unsaved work was taken up; save it to keep it")

    def open_audio(self, paths: list[Path]) -> None:
        """A new session from audio files; what can't be used is named and left out."""
        if len(paths) >= MAXIMUM_STRIPS:
            self._messages.warn(f"{len(paths)} files are more than a session holds; open at most {MAXIMUM_STRIPS - 1}")
            return
        good = self._usable(paths)
        if not good:
            return
        rate = probe(good[0]).rate
        session = session_from_audio(good, rate if rate in RATES else 48000)
        marks = list(map(read_marks, good))
        tempo = next((one.tempo for one in marks if one.tempo is not None), None)
        self.adopt(_with_markers(session if tempo is None else session.with_(tempo=tempo), marks), None)
        self._offer_time_stamps()
        self._messages.say(f"New session from {len(good)} file{'s' if len(good) > 1 else ''}")

    def add_audio(self, paths: list[Path], out: str = MASTER) -> None:
        """More tracks for this session, that feed a bus."""
        if len(paths) + len(self.session.strips) > MAXIMUM_STRIPS:
            self._messages.warn(f"A session holds at most {MAXIMUM_STRIPS - 1} tracks and buses; "
                                f"{len(paths)} more are too many")
            return
        good = self._usable(paths)
        if good:
            marks = list(map(read_marks, good))
            self.document.commit("Add tracks", lambda session: _with_markers(
                functools.reduce(lambda result, path: add_track(result, path, out), good, session), marks))
            self._offer_time_stamps()

    def add_files(self, strip_id: str, paths: list[Path], seconds: float) -> None:
        """Put files on a track, all from a second on."""
        good = self._usable(paths)
        try:
            self.document.commit("Add a file", lambda session: functools.reduce(
                lambda result, path: add_region(result, strip_id, path, seconds), good, session))
        except ValueError as error:
            self._messages.warn(str(error))

    def _offer_time_stamps(self) -> None:
        placed = place_by_time_stamp(self.session, _time_stamps(self.session))
        if placed.strips != self.session.strips:
            self.time_stamps_found.emit()
        elif placed.starts_at != self.session.starts_at:
            # They lie where they belong, and the session learns its time of day.
            self.document.commit("Time of day", lambda session: session.with_(starts_at=placed.starts_at))

    def place_by_time_stamp(self) -> None:
        """Put every region where its file's time stamp says."""
        times = _time_stamps(self.session)
        if not times:
            self._messages.warn("None of the files has a time stamp (Broadcast WAV)")
            return
        self.document.commit("Place by time stamp", lambda session: place_by_time_stamp(session, times))
        self._messages.say(f"{len(times)} file{'s' if len(times) > 1 else ''} placed by time stamp")

    def _usable(self, paths: list[Path]) -> list[Path]:
        good = []
        for path in paths:
            try:
                probe(path)
                good.append(Path(os.path.abspath(path)))
            except AudioFileError as error:
                self._messages.warn(str(error))
        return good

    def open_any(self, paths: list[Path]) -> None:
        """A session file, or audio files: what a drop or the command line brings."""
        sessions = [path for path in paths if path.suffix.lower() not in READABLE]
        if sessions:
            try:
                self.open_path(sessions[0])
            except SessionFileError as error:
                self._messages.warn(str(error))
        elif paths:
            self.open_audio(paths)

    def find_missing(self, folder: Path) -> None:
        """Look below a folder for audio that is missing."""
        result = relocate(self.session, folder)
        left = len(missing_audio(result)) + sum(not is_file(path) for _, _, path in impulse_files(result))
        self.document.commit("Find missing audio", difference(self.session, result))
        self._messages.say("All audio is found" if left == 0 else f"{left} files are still missing")

    # -- saving ---------------------------------------------------------------------------

    @property
    def changed_on_disk(self) -> bool:
        """True where somebody else has written the session's file since it was read or saved here."""
        path = self.document.path
        return path is not None and self._on_disk is not None and state_of_file(path) not in (None, self._on_disk)

    def save(self, path: Path, shown: str) -> bool:
        """Write the session, to be opened at the strip `shown`; True when it is on disk."""
        session = self.session.with_(shown=shown)
        try:
            write_session(session, path)
        except SessionFileError as error:
            self._messages.warn(f"{error}. The session is unchanged and still open; save it elsewhere")
            return False
        self.document.saved(path)
        self._on_disk = state_of_file(path)
        self._settings.remember(path)
        self.edits.forget()
        try:
            keep_version(session, path)
        except OSError as error:
            self._messages.warn(f"The earlier version can't be kept: {error.strerror or error}")
        self._messages.say(f"Saved {path.name}")
        self.tell_again()
        return True

    @property
    def is_shipped(self) -> bool:
        """True for the demo, whose own file stays as it is."""
        path = self.document.path
        return path is not None and _PACKAGE in path.resolve().parents

    @property
    def own_folder(self) -> Path:
        """Where the session's files belong: beside its file, or the user's home."""
        path = self.document.path
        return Path(os.path.expanduser("~")) if path is None or self.is_shipped else path.parent
