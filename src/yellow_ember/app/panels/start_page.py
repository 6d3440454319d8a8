"""What an empty session shows in place of the bench: what to do now, and the sessions of before."""

from __future__ import annotations

import functools
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from yellow_ember.app.state.commands import Commands
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.layouts import clear
from yellow_ember.app.widgets.text import TextLabel, menu_text
from yellow_ember.shipped import DEMO


class StartPage(QWidget):
    """chosen : a session is to be opened"""

    chosen = pyqtSignal(object)

    def __init__(self, settings: Settings, commands: Commands) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._settings, self._commands = settings, commands
        title = TextLabel("This session is empty")
        title.setFont(theme.font(13, bold=True))
        words = TextLabel("Drop audio files anywhere in the window: each becomes a track. "
                          "Or open a session, or the demo, \u201cNight Ferry to Saltmouth\u201d.")
        words.setObjectName("dim")
        words.setWordWrap(True)
        row = QHBoxLayout()
        for text, command in (("Open audio files\u2026", "New from audio files"), ("Open a session\u2026", "Open")):
            row.addWidget(action_button(text, functools.partial(self._run, command)))
        row.addWidget(action_button("Open the demo", lambda: self.chosen.emit(DEMO)))
        row.addStretch(1)
        self._title = TextLabel("Recent sessions")
        self._title.setFont(theme.font(9.5, bold=True))
        self._recent = QVBoxLayout()
        self._recent.setSpacing(4)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(24, 20, 24, 12)
        layout.setSpacing(10)
        layout.addWidget(title)
        layout.addWidget(words)
        layout.addLayout(row)
        layout.addSpacing(8)
        layout.addWidget(self._title)
        layout.addLayout(self._recent)
        layout.addStretch(1)

    def refresh(self) -> None:
        """Show the recent sessions as they are now."""
        clear(self._recent)
        for name in self._settings.recent:
            path = Path(name)
            button = action_button(menu_text(path.stem), functools.partial(self.chosen.emit, path), name)
            button.setSizePolicy(button.sizePolicy().Policy.Maximum, button.sizePolicy().Policy.Fixed)
            self._recent.addWidget(button)
        self._title.setVisible(bool(self._settings.recent))

    def _run(self, command: str) -> None:
        self._commands.find(command).action.trigger()
