"""The steps of the session's history, from the first to the last; a click goes to one."""

from __future__ import annotations

from PyQt6.QtCore import QSize
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.text import TextLabel


class HistoryTool(Tool):
    """A row for each step, below a first one for the session as it was opened."""

    title = "History"
    first_size = QSize(320, 480)

    def __init__(self, sessions: SessionKeeper, playback: Playback) -> None:
        super().__init__(sessions, playback)
        self.setWindowTitle("History of the session")
        self._steps: list[str] = []
        self._position = -1
        self.list = QListWidget()
        self.list.setAccessibleName("Steps")
        self.list.currentRowChanged.connect(self._go_to)
        note = TextLabel("Click a step, or use the arrow keys, to go to the session as it was after it. "
                         "Steps below are kept until you change something.")
        note.setObjectName("dim")
        note.setWordWrap(True)
        layout = QVBoxLayout(self)
        layout.addWidget(self.list, 1)
        layout.addWidget(note)
        sessions.changed.connect(lambda _session: self.refresh())
        self.refresh()

    def first_focus(self) -> QWidget:
        return self.list

    def refresh(self) -> None:
        """Show the steps as they are now."""
        document = self._sessions.document
        steps, position = document.steps, document.position
        if (steps, position) == (self._steps, self._position):
            return
        self.list.blockSignals(True)
        if steps != self._steps:
            self.list.clear()
            self.list.addItems(["As opened", *steps])
        self._steps, self._position = steps, position
        for row in range(self.list.count()):
            item = self.list.item(row)
            assert isinstance(item, QListWidgetItem)
            item.setForeground(theme.TEXT if row <= position else theme.DIM)
        self.list.setCurrentRow(position)
        self.list.blockSignals(False)

    def _go_to(self, row: int) -> None:
        document = self._sessions.document
        if 0 <= row <= len(document.steps) and row != document.position:
            document.go_to(row)
        self.refresh()
