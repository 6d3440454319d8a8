"""Starting the window."""

from __future__ import annotations

import os
import signal
import sys
import traceback
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication, QMessageBox

from yellow_ember.app import theme
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.messages import Messages
from yellow_ember.app.settings import load_settings
from yellow_ember.app.single import SingleInstance, hand_over
from yellow_ember.app.workspace import Workspace
from yellow_ember.engine.forking import start_server
from yellow_ember.session.autosave import Leftover, leftovers

DESKTOP_ID = "org.yellowember.YellowEmber"
_ICON = Path(__file__).parents[1] / "data" / f"{DESKTOP_ID}.svg"
RECORD_VARIABLE = "YELLOW_EMBER_RECORD"
"""Names a file for what the silent card is sent: raw float32, two channels."""


def run(paths: list[Path], *, apart: bool = False) -> int:
    """Open the window with a session, audio files, or nothing; the exit status.

    A window that is open already takes them over, unless this one is to stand `apart`.
    """
    if not apart and hand_over(paths):
        return 0
    start_server()
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
    window.show()
    workspace.start()
    if not apart:
        single = SingleInstance(window)
        single.handed.connect(window.take_over)
        workspace.closing.connect(single.close)
    QTimer.singleShot(0, lambda: _first_session(window, paths))
    signal.signal(signal.SIGINT, lambda *_: window.close())
    return application.exec()


def _first_session(window: MainWindow, paths: list[Path]) -> None:
    left = leftovers()
    if left and offer_recovery(window, left[0]):
        return
    if paths:
        window.workspace.open_any(paths)
    else:
        window.workspace.messages.say("Drop audio files here, or open a session")


def offer_recovery(window: MainWindow, left: Leftover) -> bool:
    """Ask whether to take up what a crash left behind; True when it was taken up."""
    button = QMessageBox.StandardButton
    where = "a session never saved" if left.path is None else str(left.path)
    answer = QMessageBox.question(
        window, "Unsaved work found",
        f"The last run ended before {left.session.name} ({where}) was saved.\nTake up the unsaved work?",
        button.Yes | button.No, button.Yes)
    if answer == button.Yes:
        window.workspace.adopt(left.session, left.path, unsaved=True)
        window.workspace.messages.say("Unsaved work was taken up; save it to keep it")
    left.kept.unlink(missing_ok=True)
    return bool(answer == button.Yes)


def report_unexpected(messages: Messages) -> None:
    """Let an error in a slot become a message instead of the program's end."""

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        traceback.print_exception(kind, error, trace)
        messages.warn(f"Something unexpected went wrong: {error}. Your session is safe; please report this.")

    sys.excepthook = hook
