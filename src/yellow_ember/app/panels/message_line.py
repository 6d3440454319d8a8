"""The quiet line at the bottom: the last message, and the progress of work."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QWidget

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Message, Messages
from yellow_ember.app.state.rendering import Rendering
from yellow_ember.app.tools.dialogs import MessageList
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.announcing import announce
from yellow_ember.app.widgets.text import TextLabel, as_text


class MessageLine(QWidget):
    """A click opens the list of all messages."""

    arrived = pyqtSignal(object)

    def __init__(self, messages: Messages, jobs: JobKeeper, rendering: Rendering) -> None:
        super().__init__()
        self._messages, self._jobs, self._rendering = messages, jobs, rendering
        self.setFixedHeight(26)
        self.text = TextLabel()
        self.text.setTextFormat(Qt.TextFormat.PlainText)
        self.text.setMinimumWidth(50)
        self.work = TextLabel()
        self.work.setStyleSheet(f"color: {theme.DIM.name()}")
        self.progress = QProgressBar()
        self.progress.setFixedSize(140, 10)
        self.progress.setTextVisible(False)
        self.progress.setStyleSheet(
            f"QProgressBar {{ background: {theme.RAISED.name()}; border: none; }}"
            f"QProgressBar::chunk {{ background: {theme.DIM.name()}; }}")
        self.cancel = QPushButton("Cancel")
        self.cancel.setFixedHeight(20)
        self.cancel.clicked.connect(self._rendering.cancel)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 0, 10, 0)
        layout.addWidget(self.text, 1)
        for widget in (self.work, self.progress, self.cancel):
            layout.addWidget(widget)
            widget.hide()
        # Messages may come from other threads; the signal brings them to this one.
        self.arrived.connect(self._show)
        self._messages.listener = self.arrived.emit
        self._jobs.working.connect(self._show_work)
        for message in self._messages.all[-1:]:
            self._show(message)

    def _show(self, message: Message) -> None:
        self.text.setText(("!  " if message.problem else "") + message.text)
        self.text.setFont(theme.font(9, bold=message.problem))
        self.text.setStyleSheet(f"color: {(theme.TEXT if message.problem else theme.DIM).name()}")
        self.text.setToolTip(as_text(message.text))
        announce(message.text, urgent=message.problem)

    def _show_work(self, what: str, share: float) -> None:
        for widget in (self.work, self.progress):
            widget.setVisible(bool(what))
        self.cancel.setVisible(bool(what) and self._rendering.is_running)
        self.work.setText(what)
        self.progress.setRange(0, 0 if share < 0 else 100)
        self.progress.setValue(max(0, round(100 * share)))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        MessageList(self._messages, self).show()
