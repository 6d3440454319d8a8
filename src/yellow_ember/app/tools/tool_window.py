"""What all windows beside the main one have in common."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QMimeData, Qt
from PyQt6.QtGui import QCloseEvent, QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.session.document import Edit, Settle, Trial


class ToolWindow(QWidget):
    """Goes with the main window, is gone when it is closed; Escape leaves it, Space plays.

    buttons : by their words, without the dots
    of_the_session : it is about the session that it was opened over, and closes when another one is opened
    """

    of_the_session = True

    def __init__(self, sessions: SessionKeeper, playback: Playback, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._sessions, self._playback = sessions, playback
        self.buttons: dict[str, QPushButton] = {}
        if self.of_the_session:
            self._sessions.opened.connect(self.close)

    def button_row(self, entries: Sequence[tuple[str, Callable[[], object], str]]) -> QHBoxLayout:
        """Buttons side by side: words, what they do, and a hint."""
        row = QHBoxLayout()
        for text, slot, hint in entries:
            button = action_button(text, slot, hint)
            row.addWidget(button)
            self.buttons[text.rstrip("\u2026")] = button
        return row

    def go_back(self) -> None:
        """Leave everything as it was before, and close."""
        self.close()

    def let_go(self) -> None:
        """What is to be put away when the window closes, however it does."""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_Escape:
                self.go_back()
            case Qt.Key.Key_Space:
                self._playback.toggle_play()
            case _:
                super().keyPressEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.let_go()
        event.accept()


class TryingWindow(ToolWindow):
    """Something is heard from it as a change of the document that is no step yet, and dropped unless it is kept.

    heard : what that is, None for nothing
    """

    heard: Any = None
    _trial: Trial | None = None

    def try_out(self, edit: Edit) -> None:
        """Let an edit be heard.  ValueError or KeyError where there is no place for it."""
        if self._trial is None or not self._trial.open:
            self._trial = self._sessions.document.trial(self.windowTitle(), Settle.DROP, alone=True)
        self._trial.show(edit)

    def drop(self) -> None:
        """Leave everything as it was before."""
        trial, self._trial, self.heard = self._trial, None, None
        if trial is not None:
            trial.drop()

    def keep_heard(self, label: str) -> bool:
        """Make what is heard a step of the history; False where nothing is."""
        trial, self._trial, self.heard = self._trial, None, None
        if trial is None or not trial.open:
            return False
        trial.keep(label)
        return True

    def go_back(self) -> None:
        self.drop()
        self.close()

    def let_go(self) -> None:
        self.drop()


def dropped_files(mime: QMimeData | None) -> list[Path]:
    """The files and folders of this machine that a drag brings."""
    return [] if mime is None else [Path(url.toLocalFile()) for url in mime.urls() if url.isLocalFile()]
