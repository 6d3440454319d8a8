"""A tile that stands for something to hear: a click hears it, Enter or a double click keeps it."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from yellow_ember.app.widgets import theme


def arrow_step(event: QKeyEvent, across: int) -> int | None:
    """By how many tiles an arrow key goes on where so many lie side by side; None for other keys."""
    return {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -across,
            Qt.Key.Key_Down: across}.get(Qt.Key(event.key()))


class HearingTile(QWidget):
    """lit : it is what is heard"""

    chosen = pyqtSignal()
    taken = pyqtSignal()

    def __init__(self, name: str) -> None:
        super().__init__()
        self.lit = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(name)

    def show_lit(self, lit: bool) -> None:
        if lit != self.lit:
            self.lit = lit
            self.update()

    def paint_ground(self, painter: QPainter) -> QRectF:
        """Draw the tile's ground and edge; what lies inside it."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1.5, 1.5, -1.5, -1.5)
        painter.setPen(QPen(theme.AFTER if self.lit or self.hasFocus() else theme.EDGE, 2.0 if self.lit else 1.0))
        painter.setBrush(theme.RAISED if self.lit else theme.PANEL)
        painter.drawRoundedRect(box, 3, 3)
        painter.setFont(theme.font(8))
        return box

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self.chosen.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.taken.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_Return | Qt.Key.Key_Enter:
                self.taken.emit()
            case Qt.Key.Key_Space if not self.lit:
                self.chosen.emit()
            case _:
                super().keyPressEvent(event)
