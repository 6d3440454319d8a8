"""A lane of steps that are generated, drawn by hand, and played through.

Drag to draw a depth from the top down; a right click lets a step be generated again.  Left
and right choose a step, up and down change it, Backspace lets it go.
"""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted
from yellow_ember.dsp.parameters import Steps, Value, Values

HEIGHT = 92
_TITLE = 18.0
_KEY_STEP = 0.05
_NARROWEST = 12.0


KEYS = (("Drag", "draw"), ("Right click, Backspace", "as generated"), ("Left, Right", "another step"),
        ("Up, Down", "shallower, deeper"))
"""What it answers to, for the sheet of keys."""


class StepLane(QWidget):
    """Shows what `show_values` says and asks for changes by its signals, as a value bar does."""

    changing = pyqtSignal(object)
    committed = pyqtSignal(object)

    def __init__(self, parameter: Steps, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.parameter = parameter
        self._values: Values = {}
        self._pattern: list[float] = []
        self._drawn: list[float | None] = []
        self._chosen = 0
        self._playing: int | None = None
        self._drawing = ""
        self._scrolled = 0.0
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(parameter.label)
        self.setToolTip(f"<b>{parameter.label}</b><br>{parameter.help} Right click: as generated.")

    def sizeHint(self) -> QSize:
        return QSize(600, HEIGHT)

    @property
    def value(self) -> Value:
        """What is drawn, without undrawn steps at the end."""
        drawn = list(self._drawn)
        while drawn and drawn[-1] is None:
            drawn.pop()
        return tuple(drawn)

    @property
    def pattern(self) -> list[float]:
        """Depth of every step, drawn or generated."""
        return self._pattern

    def show_values(self, values: Values) -> None:
        """Show the stage as it is now."""
        if values is self._values:
            return
        self._values = values
        self._pattern = self.parameter.pattern(values).tolist()
        drawn = values[self.parameter.id]
        assert isinstance(drawn, tuple)
        self._drawn = [*drawn[:len(self._pattern)], *[None] * (len(self._pattern) - len(drawn))]
        self._chosen = min(self._chosen, len(self._pattern) - 1)
        self._describe()
        self.update()

    def show_place(self, seconds: float | None, tempo: float) -> None:
        """Mark the step that plays at a place of the session, or none."""
        at = None
        if seconds is not None and self._pattern:
            at = int(seconds // self.parameter.step_seconds(self._values, tempo)) % len(self._pattern)
        if at != self._playing:
            self._playing = at
            self.update()

    def _describe(self) -> None:
        here = self._chosen
        origin = "drawn" if self._drawn and self._drawn[here] is not None else "as generated"
        depth = round(100 * self._pattern[here]) if self._pattern else 0
        self.setAccessibleDescription(
            f"Step {here + 1} of {len(self._pattern)}: {depth} % deep, {origin}. {self.parameter.help}")

    # -- geometry -----------------------------------------------------------------------

    def _lane(self) -> QRectF:
        return QRectF(10, _TITLE, self.width() - 20, self.height() - _TITLE - 10)

    @property
    def step_width(self) -> float:
        """How wide a step is drawn: never too narrow for a hand; what does not fit is scrolled to."""
        return max(self._lane().width() / max(len(self._pattern), 1), _NARROWEST)

    @property
    def _beyond(self) -> float:
        """How much of all steps does not fit."""
        return max(self.step_width * len(self._pattern) - self._lane().width(), 0.0)

    def _left_of(self, step: int) -> float:
        return self._lane().left() + step * self.step_width - min(self._scrolled, self._beyond)

    def scroll_to(self, scrolled: float) -> None:
        """Show the steps from so many pixels on."""
        scrolled = min(max(scrolled, 0.0), self._beyond)
        if scrolled != self._scrolled:
            self._scrolled = scrolled
            self.update()

    def _thumb(self) -> QRectF:
        """What shows, and moves, where one is among all steps; empty where all are in sight."""
        lane, beyond = self._lane(), self._beyond
        if beyond <= 0.0:
            return QRectF()
        share = lane.width() / (lane.width() + beyond)
        left = lane.left() + min(self._scrolled, beyond) / (lane.width() + beyond) * lane.width()
        return QRectF(left, lane.bottom() + 3, share * lane.width(), 5)

    def _step_at(self, point: QPointF) -> int:
        step = int((point.x() - self._left_of(0)) / self.step_width)
        return min(max(step, 0), len(self._pattern) - 1)

    def _depth_at(self, point: QPointF) -> float:
        lane = self._lane()
        return min(max((point.y() - lane.top()) / lane.height(), 0.0), 1.0)

    # -- hands --------------------------------------------------------------------------

    def _put(self, step: int, depth: float | None) -> None:
        self._chosen = step
        if self._drawn[step] != depth:
            self._drawn[step] = depth
            self.changing.emit(self.value)
        self._describe()
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if not self._pattern:
            return
        if self._beyond > 0.0 and event.position().y() > self._lane().bottom():
            self._drawing = "scroll"
            self.mouseMoveEvent(event)
            return
        self._drawing = "draw" if event.button() == Qt.MouseButton.LeftButton else "let go"
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drawing == "scroll":
            lane = self._lane()
            share = (event.position().x() - lane.left()) / lane.width()
            self.scroll_to(share * (lane.width() + self._beyond) - lane.width() / 2.0)
        elif self._drawing:
            step = self._step_at(event.position())
            self._put(step, round(self._depth_at(event.position()), 2) if self._drawing == "draw" else None)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drawing == "scroll":
            self._drawing = ""
        elif self._drawing:
            self._drawing = ""
            self.committed.emit(self.value)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self._pattern:
            return
        here = self._chosen
        match event.key():
            case Qt.Key.Key_Left | Qt.Key.Key_Right:
                step = 1 if event.key() == Qt.Key.Key_Right else -1
                self._chosen = (here + step) % len(self._pattern)
                self._bring_into_sight(self._chosen)
                self._describe()
                self.update()
            case Qt.Key.Key_Up | Qt.Key.Key_Down:
                by = _KEY_STEP if event.key() == Qt.Key.Key_Down else -_KEY_STEP
                self._put(here, round(min(max(self._pattern[here] + by, 0.0), 1.0), 2))
                self.committed.emit(self.value)
            case Qt.Key.Key_Backspace | Qt.Key.Key_Delete:
                self._put(here, None)
                self.committed.emit(self.value)
            case _:
                super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        turned = event.angleDelta().x() or event.angleDelta().y()
        if self._beyond > 0.0:
            self.scroll_to(self._scrolled - turned)
        else:
            super().wheelEvent(event)

    def _bring_into_sight(self, step: int) -> None:
        lane, left = self._lane(), self._left_of(step)
        if left < lane.left():
            self.scroll_to(self._scrolled - (lane.left() - left))
        elif left + self.step_width > lane.right():
            self.scroll_to(self._scrolled + left + self.step_width - lane.right())

    # -- drawing ------------------------------------------------------------------------

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), theme.PANEL)
        lane = self._lane()
        painter.setFont(theme.font(8.5, bold=True))
        painter.setPen(theme.TEXT)
        painter.drawText(QRectF(10, 0, 300, _TITLE), int(Qt.AlignmentFlag.AlignVCenter), self.parameter.label)
        painter.setFont(theme.font(8))
        painter.setPen(theme.DIM)
        painter.drawText(QRectF(10, 0, lane.width(), _TITLE),
                         int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight),
                         "drag: draw    right click: as generated    yellow: drawn, blue: generated")
        painter.setPen(QPen(theme.AFTER if self.hasFocus() else theme.EDGE, 1.0))
        painter.setBrush(theme.GROUND)
        painter.drawRect(lane)
        if not self._pattern:
            return
        width = self.step_width
        painter.setClipRect(lane)
        for index, depth in enumerate(self._pattern):
            left = self._left_of(index)
            by_hand = self._drawn[index] is not None
            if index == self._playing:
                painter.fillRect(QRectF(left, lane.top() + 1, width, lane.height() - 1), theme.RAISED)
            if depth > 0.0 or by_hand:
                hole = QRectF(left + 0.5, lane.top() + 1, max(width - 1.0, 1.0), max(depth * (lane.height() - 1), 2.0))
                painter.fillRect(hole, theme.AFTER if by_hand else theme.BEFORE)
            if index % 8 == 0 and index:
                painter.setPen(QPen(theme.EDGE, 1.0))
                painter.drawLine(QPointF(left, lane.top()), QPointF(left, lane.bottom()))
        if self.hasFocus():
            painter.setPen(QPen(theme.TEXT, 1.0, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self._left_of(self._chosen), lane.top(), width, lane.height()))
        painter.setClipping(False)
        painter.fillRect(self._thumb(), theme.EDGE)
