"""Starting the window."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import traceback
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication, QMessageBox

from yellow_ember.app.ending import SystemEnding
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.pictures.ahead import PicturesAhead
from yellow_ember.app.single import Answer, SingleInstance
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.settings import load_settings
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.text import as_text
from yellow_ember.app.workspace import Workspace
from yellow_ember.files.atomic import sweep_parts
from yellow_ember.files.reading import AudioFileError
from yellow_ember.folders import troubles
from yellow_ember.session.edits.limits import LimitError
from yellow_ember.session.io.autosave import Card, leftovers, set_aside
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.shipped import DATA

DESKTOP_ID = "org.yellowember.YellowEmber"
_ICON = DATA / f"{DESKTOP_ID}.svg"
RECORD_VARIABLE = "YELLOW_EMBER_RECORD"
"""Names a file for what the silent card is sent: raw float32, two channels."""
_REFUSALS = (SessionFileError, AudioFileError, LimitError)
"""Errors whose words are for the user."""


def run(paths: list[Path], answer: Answer, *, apart: bool) -> int:
    """Open the window, and stay until it is closed; the exit status.

    Parameters
    ----------
    answer : Answer
        What another window said, with which this one does not stand `apart`.
    """
    settings = load_settings()
    if settings.scale != 100:
        os.environ.setdefault("QT_SCALE_FACTOR", str(settings.scale / 100))
    application = QApplication(sys.argv[:1])
    application.setApplicationName("Yellow Ember")
    application.setDesktopFileName(DESKTOP_ID)
    application.setWindowIcon(QIcon(str(_ICON)))
    record = os.environ.get(RECORD_VARIABLE)
    workspace = Workspace(settings, Path(record) if record else None)
    report_unexpected(workspace.messages)
    theme.apply(application, settings.look)
    window = MainWindow(workspace)
    ending = SystemEnding(workspace.sessions.edits.write_now, workspace.playback.kill_engine)
    ending.asked.connect(lambda: application.exit(0))
    window.closes_quietly = lambda: ending.logging_out
    window.show()
    workspace.start()
    if answer is Answer.SILENT:
        workspace.messages.warn("Another window of this program does not answer; this one stands beside it")
    elif not apart:
        single = SingleInstance(window)
        single.handed.connect(window.take_over)
        workspace.closing.connect(single.close)
    threading.Thread(target=sweep_parts, daemon=True).start()
    workspace.closing.connect(PicturesAhead().close)
    QTimer.singleShot(0, lambda: _first_session(window, paths))
    application.exec()
    # Closed by the user, everything is put away; ended by a signal or with the display, the work is kept.
    window.end(keep_unsaved=True)
    if not ending.ending:
        ending.close()
    return 0


def _first_session(window: MainWindow, paths: list[Path]) -> None:
    for trouble in troubles():
        window.workspace.messages.warn(trouble)
    taken_up = any(offer_recovery(window, card) for card in leftovers())
    if paths and taken_up:
        # What was named on the command line is opened as well, in a window of its own.
        subprocess.Popen([sys.executable, "-m", "yellow_ember", "open", "--apart", *map(str, paths)])
    elif paths:
        window.workspace.sessions.open_any(paths)
    elif not taken_up:
        window.workspace.messages.say("Drop audio files here, or open a session")


def offer_recovery(window: MainWindow, card: Card) -> bool:
    """Ask whether to take up what a crash left behind; True when it was taken up, else it is set aside."""
    button = QMessageBox.StandardButton
    where = "a session never saved" if card.path is None else str(card.path)
    answer = QMessageBox.question(
        window, "Unsaved work found",
        as_text(f"The last run ended before {card.name} ({where}) was saved.") + "<br>Open the unsaved work?",
        button.Yes | button.No, button.Yes)
    try:
        if answer == button.Yes:
            window.workspace.sessions.take_up(card)
            return True
        set_aside(card)
        window.workspace.messages.say("The unsaved work is kept under Session > Work set aside")
    except (SessionFileError, OSError) as error:
        window.workspace.messages.warn(f"The unsaved work can't be opened: {error}")
    return False


def report_unexpected(messages: Messages) -> None:
    """Let an error in a slot become a message instead of the program's end; the same one is told once."""
    told: set[str] = set()

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if isinstance(error, _REFUSALS):
            messages.warn(str(error))
            return
        where = traceback.extract_tb(trace)[-1:]
        key = f"{kind.__name__} {[(frame.filename, frame.lineno) for frame in where]}"
        if key not in told:
            told.add(key)
            traceback.print_exception(kind, error, trace)
            messages.warn(f"Something unexpected went wrong: {error}. Your session is safe; please report this.")

    sys.excepthook = hook
