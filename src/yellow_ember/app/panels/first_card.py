"""The card of the first start: four things to try, each ticked once it is done; closed, it never comes back."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QToolButton, QWidget

from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.widgets.text import TextLabel


class FirstCard(QWidget):
    """A row of four buttons above the work.

    steps : the buttons, by what they are for
    """

    def __init__(self, sessions: SessionKeeper, playback: Playback, settings: Settings) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._sessions, self._settings = sessions, settings
        self.steps: dict[str, QPushButton] = {}
        self._words: dict[str, str] = {}
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(10, 4, 6, 4)
        self._row.addWidget(TextLabel("Try this:"))
        close = QToolButton()
        close.setText("\u00d7")
        close.setAccessibleName("Close this card for good")
        close.setToolTip("Close this card for good")
        close.clicked.connect(self.close_for_good)
        self._end = close
        self._row.addStretch(1)
        self._row.addWidget(close)
        playback.frame.connect(lambda state: self.tick("play") if state.playing else None)
        playback.comparing.connect(lambda: self.tick("compare"))
        sessions.opened.connect(self.refresh)
        self.refresh()

    def add(self, name: str, words: str, run: Callable[[], object]) -> None:
        """One more thing to try; a click does it, or shows where it is done."""
        button = QPushButton(words)
        button.clicked.connect(lambda _checked: run())
        self.steps[name], self._words[name] = button, words
        self._row.insertWidget(self._row.count() - 2, button)

    def tick(self, name: str) -> None:
        """Mark that a thing was tried."""
        button = self.steps.get(name)
        if button is not None and self.isVisible() and not button.text().startswith("\u2713"):
            button.setText(f"\u2713 {self._words[name]}")
            button.setAccessibleDescription("done")

    def refresh(self) -> None:
        """Show it with the demo, until it is closed."""
        self.setVisible(not self._settings.card_closed and self._sessions.is_shipped)

    def close_for_good(self) -> None:
        self._settings.card_closed = True
        self.hide()
