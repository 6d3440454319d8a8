"""A sheet of controls: the front ones always in sight, the others in groups that fold to a line each."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QObject, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QPainter, QPen, QPolygonF, QResizeEvent
from PyQt6.QtWidgets import QAbstractButton, QMenu, QSizePolicy, QVBoxLayout, QWidget

from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted
from yellow_ember.plain_text import with_minus

_COLUMN, _GAP, _BETWEEN = 178, 6, 2
_HEAD = 22


class ControlGrid(QWidget):
    """Controls in rows, as many side by side as fit; those that are hidden leave no hole."""

    def __init__(self, controls: Sequence[QWidget], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._controls = list(controls)
        for control in self._controls:
            control.setParent(self)
            control.installEventFilter(self)
        self._arrange()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.HideToParent, QEvent.Type.ShowToParent):
            self._arrange()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._arrange()

    def _arrange(self) -> None:
        columns = max(1, (self.width() + _GAP) // (_COLUMN + _GAP))
        width = (self.width() - _GAP * (columns - 1)) // columns
        bottom, shown = 0, [control for control in self._controls if not control.isHidden()]
        for start in range(0, len(shown), columns):
            row = shown[start:start + columns]
            height = max(control.sizeHint().height() for control in row)
            for index, control in enumerate(row):
                control.setGeometry(index * (width + _GAP), bottom, width, height)
            bottom += height + _BETWEEN
        self.setFixedHeight(bottom)


class Heading(QAbstractButton):
    """A group's line: its name, and what in it differs from the default.  A press opens or folds the group.

    Backspace, or its menu, puts the group back to its defaults.
    """

    def __init__(self, title: str, reset: Callable[[], None]) -> None:
        super().__init__()
        self.title, self.differs = title, ""
        self._contents = ""
        self._reset = reset
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.toggled.connect(lambda _on: self._describe())

    def sizeHint(self) -> QSize:
        return QSize(2 * _COLUMN, _HEAD)

    def show_contents(self, differs: str, contents: str) -> None:
        """differs : controls away from their defaults, with their values; contents : names of all its controls"""
        if (differs, contents) != (self.differs, self._contents):
            self.differs, self._contents = differs, contents
            self._describe()

    def _describe(self) -> None:
        self.setAccessibleName(f"{self.title}, {'open' if self.isChecked() else 'folded'}")
        words = f"Changed: {self.differs}" if self.differs else f"As by default: {self._contents}"
        self.setAccessibleDescription(f"{words}. Backspace puts it back to its defaults.")
        self.setToolTip(f"{self.title}. {words}")
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        opens = {Qt.Key.Key_Right: True, Qt.Key.Key_Left: False}.get(Qt.Key(event.key()))
        if event.key() == Qt.Key.Key_Backspace:
            self._reset()
        elif opens is not None:
            if opens is not self.isChecked():
                self.click()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addAction(f"Defaults of {self.title}", self._reset)
        menu.popup(event.globalPos())

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect())
        painter.setPen(QPen(theme.EDGE, 1.0))
        painter.drawLine(box.topLeft(), box.topRight())
        middle = box.center().y()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.AFTER if self.hasFocus() or self.underMouse() else theme.DIM)
        painter.drawPolygon(arrow(7.0, middle, down=self.isChecked()))
        painter.setFont(theme.font(8.5, bold=True))
        painter.setPen(theme.TEXT)
        left = box.adjusted(17, 0, -4, 0)
        painter.drawText(left, int(Qt.AlignmentFlag.AlignVCenter), self.title)
        left.setLeft(left.left() + painter.fontMetrics().horizontalAdvance(self.title) + 10)
        painter.setFont(theme.font(8.5))
        painter.setPen(theme.AFTER if self.differs else theme.DIM)
        words = painter.fontMetrics().elidedText(
            with_minus(self.differs or self._contents), Qt.TextElideMode.ElideRight, int(left.width()))
        painter.drawText(left, int(Qt.AlignmentFlag.AlignVCenter), words)


def arrow(x: float, y: float, *, down: bool) -> QPolygonF:
    """A small triangle that points down, or to the right."""
    if down:
        return QPolygonF([QPointF(x - 4, y - 2.5), QPointF(x + 4, y - 2.5), QPointF(x, y + 3.5)])
    return QPolygonF([QPointF(x - 2.5, y - 4), QPointF(x + 3.5, y), QPointF(x - 2.5, y + 4)])


class FoldingGroup(QWidget):
    """A heading, and below it the group's controls while it is open.  They are made when they are first needed."""

    toggled = pyqtSignal(bool)

    def __init__(self, title: str, make: Callable[[], Sequence[QWidget]], reset: Callable[[], None]) -> None:
        super().__init__()
        self.heading = Heading(title, reset)
        self.heading.toggled.connect(self._show_or_fold)
        self._make = make
        self._grid: ControlGrid | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(_BETWEEN)
        layout.addWidget(self.heading)

    @property
    def title(self) -> str:
        return self.heading.title

    @property
    def is_open(self) -> bool:
        return self.heading.isChecked()

    def open(self, on: bool = True) -> None:
        """Open or fold the group."""
        self.heading.setChecked(on)

    def _show_or_fold(self, on: bool) -> None:
        if on and self._grid is None:
            self._grid = ControlGrid(self._make(), self)
            layout = self.layout()
            assert layout is not None
            layout.addWidget(self._grid)
        if self._grid is not None:
            self._grid.setVisible(on)
        self.toggled.emit(on)


class ControlSheet(QWidget):
    """Front controls, then the groups, from the top down."""

    def __init__(self, front: Sequence[QWidget], groups: Sequence[FoldingGroup]) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.groups = {group.title: group for group in groups}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(6, 2, 6, 4)
        layout.setSpacing(3)
        layout.addWidget(ControlGrid(front))
        for group in groups:
            layout.addWidget(group)
        layout.addStretch(1)
