"""The palette: type a few letters of what you want done, Enter does it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QModelIndex, QRectF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QPainter
from PyQt6.QtWidgets import (
    QDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.widgets import theme


@dataclass(frozen=True, slots=True)
class Choice:
    """Something to do.  where : its menu, or what it is about"""

    words: str
    where: str
    keys: str
    run: Callable[[], object]


def ranked(choices: Sequence[Choice], typed: str) -> list[Choice]:
    """The choices that hold all words that were typed, those first whose words begin with them."""
    words = typed.lower().split()

    def rank(choice: Choice) -> int | None:
        text, named = f"{choice.words} {choice.where}".lower(), choice.words.lower().split()
        if not all(word in text for word in words):
            return None
        return sum(not any(part.startswith(word) for part in named) for word in words)

    ranks = [(rank(choice), choice) for choice in choices]
    return [choice for _, choice in sorted(((rank, choice) for rank, choice in ranks if rank is not None),
                                           key=lambda entry: entry[0])]


class _Rows(QStyledItemDelegate):
    """Draws what is done, where it is, and its keys at the right."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(200, 26)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        choice: Choice = index.data(Qt.ItemDataRole.UserRole)
        box, middle = QRectF(option.rect).adjusted(10, 0, -10, 0), int(Qt.AlignmentFlag.AlignVCenter)
        painter.save()
        if option.state & option.state.State_Selected:
            painter.fillRect(option.rect, theme.AFTER_FILL)
        painter.setFont(theme.font(9.5))
        painter.setPen(theme.TEXT)
        painter.drawText(box, middle, choice.words)
        used = painter.fontMetrics().horizontalAdvance(choice.words) + 14
        painter.setFont(theme.font(8.5))
        painter.setPen(theme.DIM)
        painter.drawText(box.adjusted(used, 0, 0, 0), middle, choice.where)
        painter.setPen(theme.AFTER)
        painter.drawText(box, middle | int(Qt.AlignmentFlag.AlignRight), choice.keys)
        painter.restore()


class Palette(QDialog):
    """A line to type in, and below it what answers to that."""

    def __init__(self, choices: Sequence[Choice], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Commands")
        self.setWindowFlag(Qt.WindowType.FramelessWindowHint)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._choices = list(choices)
        self.line = QLineEdit()
        self.line.setPlaceholderText("What do you want to do?")
        self.line.setAccessibleName("Find a command")
        self.list = QListWidget()
        self.list.setAccessibleName("Commands")
        self.list.setItemDelegate(_Rows(self.list))
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.itemClicked.connect(lambda _item: self.accept())
        self.line.textChanged.connect(self._fill)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.addWidget(self.line)
        layout.addWidget(self.list)
        self.resize(min(560, parent.width() - 40), min(380, parent.height() - 80))
        centre = parent.mapToGlobal(parent.rect().center())
        self.move(centre.x() - self.width() // 2, parent.mapToGlobal(parent.rect().topLeft()).y() + 60)
        self._fill("")
        self.line.setFocus()

    @property
    def shown(self) -> list[Choice]:
        """What the list shows, in its order."""
        rows = (self.list.item(row) for row in range(self.list.count()))
        return [row.data(Qt.ItemDataRole.UserRole) for row in rows if row is not None]

    def _fill(self, typed: str) -> None:
        self.list.clear()
        for choice in ranked(self._choices, typed):
            item = QListWidgetItem()
            item.setData(Qt.ItemDataRole.UserRole, choice)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{choice.words}, {choice.where}, {choice.keys}")
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 8, Qt.Key.Key_PageUp: -8}.get(
            Qt.Key(event.key()))
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.accept()
        elif by is None:
            super().keyPressEvent(event)
        else:
            self.list.setCurrentRow(min(max(self.list.currentRow() + by, 0), self.list.count() - 1))

    def accept(self) -> None:
        """Close, then do what is chosen."""
        row, shown = self.list.currentRow(), self.shown
        super().accept()
        if 0 <= row < len(shown):
            shown[row].run()
