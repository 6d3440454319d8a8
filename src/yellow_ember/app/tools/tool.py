"""What all tools have in common."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QEvent, QMimeData, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.session.document import Edit, Settle, Trial


class Tool(QWidget):
    """Something that is opened for a while, in the window's drawer or in a window of its own.

    Escape leaves it, Space plays.

    title : its name on a tab, in a word or two
    first_size : how large it is in a window of its own at first
    buttons : by their words, without the dots
    of_the_session : it is about the session that it was opened over, and closes when another one is opened
    of_the_strip, of_the_stage : it is about what was chosen then; in the drawer it closes when something else is
    shows_pictures : it shows what a blind test has to hide
    own_keys : keys that it answers to itself although the window has a use for them
    """

    title = ""
    first_size = QSize(640, 520)
    of_the_session = True
    of_the_strip = of_the_stage = False
    shows_pictures = True
    own_keys: frozenset[Qt.Key] = frozenset()

    closed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, playback: Playback) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._sessions, self._playback = sessions, playback
        self.buttons: dict[str, QPushButton] = {}
        self._gone = False
        if self.of_the_session:
            self._sessions.opened.connect(self.close)

    @property
    def stays(self) -> bool:
        """Whether it is at work, so that opening such a tool shows this one again."""
        return False

    def first_focus(self) -> QWidget:
        """What the focus goes to when it is opened."""
        return self

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
        """Put away what is not needed when it closes, however it does."""

    def event(self, event: QEvent | None) -> bool:
        if (isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride
                and event.key() in self.own_keys and event.modifiers() == Qt.KeyboardModifier.NoModifier):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_Escape:
                self.go_back()
            case Qt.Key.Key_Space:
                self._playback.toggle_play()
            case _:
                super().keyPressEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        event.accept()
        if not self._gone:
            self._gone = True
            self.let_go()
            self.closed.emit()


class TryingTool(Tool):
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
