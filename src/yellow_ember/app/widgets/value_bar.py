"""The control for one parameter: a horizontal bar with name, value and a tick at the default.

Drag sideways, finer with Shift; wheel; arrow and page keys; typed value with Enter or a
digit; double-click or Backspace for the default.  A drag or a burst of wheel steps is one
change of the history: `changing` is sent all along, `committed` once.

Where left and right may differ, the mark at the right end takes them apart: the upper half is
then left, the lower one right, and keys move both.
"""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPoint, QPointF, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QAction,
    QBrush,
    QContextMenuEvent,
    QDragEnterEvent,
    QDropEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPolygonF,
    QWheelEvent,
)
from PyQt6.QtWidgets import QAbstractSlider, QLineEdit, QMenu, QSizePolicy, QToolTip, QWidget

from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted
from yellow_ember.app.widgets.text import as_text, escaped
from yellow_ember.dsp.parameters import Impulse, Number, Option, Parameter, Switch, Value, as_pair

HEIGHT = 30
_STEPS = 100
_FINE = 0.1
_TOLD_MS = 6000
_SETTLE_MS = 400
_SPLIT = 20.0
_TICKS = 1000
"""A number's position as screen readers are told it."""


KEYS = (("Drag, wheel, arrows", "change; with Shift finer"), ("A digit or Enter", "type a value"),
        ("Double-click or Backspace", "default"), ("LR at a bar's end", "left and right apart, or together"))
"""What every control answers to, for the sheet of keys."""


class ValueBar(QAbstractSlider):
    """One control.  It shows what `show_value` says and asks for changes by its signals.

    To screen readers it is a slider: along its way for a number, over its choices else.
    """

    changing = pyqtSignal(object)
    committed = pyqtSignal(object)
    browsing = pyqtSignal()
    """A file is to be chosen."""
    menu_opening = pyqtSignal(object)
    """The bar's menu, for others to add to."""
    refused = pyqtSignal(str)
    """What was typed is no value, and why."""

    def __init__(self, parameter: Parameter, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.parameter = parameter
        self._value: Value = parameter.default_value
        self._drag_from: tuple[float, float] | None = None
        self._lane = 0
        self._moved = False
        self._position = 0.0
        self.editor: QLineEdit | None = None
        self._held = self._drawn = False
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(_SETTLE_MS)
        self._settle.timeout.connect(self.commit)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMinimumWidth(110)
        self.setAccessibleName(parameter.label)
        self.setAcceptDrops(isinstance(parameter, Impulse))
        self.setCursor(Qt.CursorShape.PointingHandCursor if not isinstance(parameter, Number)
                       else Qt.CursorShape.SizeHorCursor)
        self.setRange(0, _TICKS if isinstance(parameter, Number) else len(parameter.choices) - 1
                      if isinstance(parameter, Option) else 1)
        self._describe()
        self.valueChanged.connect(self._on_tick)

    # -- value --------------------------------------------------------------------------

    @property
    def setting(self) -> Value:
        return self._value

    def show_value(self, value: Value) -> None:
        """Show a value that came from the model; no signal."""
        if value != self._value:
            self._value = value
            self._describe()
            self.update()

    @property
    def under_hand(self) -> bool:
        """True while it is dragged, or a value is typed."""
        return self._drag_from is not None or self.editor is not None or self._settle.isActive()

    def show_held(self, held: bool) -> None:
        """Mark that a macro has this control in hand."""
        if held != self._held:
            self._held = held
            self.update()

    def show_drawn(self, drawn: bool) -> None:
        """Mark that the value comes from a lane."""
        if drawn != self._drawn:
            self._drawn = drawn
            self._describe()
            self.update()

    def _tick(self) -> int:
        """Where the slider of screen readers stands."""
        return round(self._share(self._value) * self.maximum())

    def _on_tick(self, tick: int) -> None:
        """A screen reader, or Home and End, moved the slider."""
        if tick == self._tick():
            return
        match self.parameter:
            case Number() as number:
                self.ask(self._rounded(number, number.at(tick / _TICKS), fine=False), commit=True)
            case Option() as option:
                self.ask(option.value_at(tick), commit=True)
            case Switch():
                self.ask(bool(tick), commit=True)
            case _:
                self.setValue(self._tick())

    def _describe(self) -> None:
        text = self.parameter.text(self._value)
        self.setValue(self._tick())
        drawn = " It follows its lane." if self._drawn else ""
        self.setAccessibleDescription(f"{text}. {self.parameter.help}{drawn}")
        self.setToolTip(f"<b>{escaped(self.parameter.label)}</b>: {escaped(text)}<br>"
                        f"{escaped(self.parameter.help)}{drawn}")

    def ask(self, value: Value, *, commit: bool) -> None:
        if value != self._value:
            self._value = value
            self._describe()
            self.update()
            self.changing.emit(value)
        if commit:
            self.commit()

    def commit(self) -> None:
        self._settle.stop()
        self.committed.emit(self._value)

    def _share(self, value: Value) -> float:
        """Where a value lies along the bar, 0 to 1."""
        match self.parameter:
            case Number() as number:
                return number.position(value[self._lane] if isinstance(value, tuple) else value)
            case Option() as option:
                return option.index(value) / max(1, len(option.choices) - 1)
            case _:
                return 1.0 if value else 0.0

    def _step(self, steps: float, *, fine: bool = False) -> None:
        """Move by some steps; the change is committed when no more follow."""
        match self.parameter:
            case Number() as number:
                by = steps / _STEPS * (_FINE if fine else 1.0)
                if isinstance(self._value, tuple):
                    sides = (self._rounded(number, number.at(number.position(side) + by), fine=fine)
                             for side in self._value)
                    self.ask(tuple(sides), commit=False)
                else:
                    self.ask(self._rounded(number, number.at(number.position(self._value) + by), fine=fine),
                              commit=False)
            case Option() as option:
                self.ask(option.value_at(option.index(self._value) + (1 if steps > 0 else -1)), commit=False)
            case Switch():
                self.ask(steps > 0, commit=False)
            case _:
                return
        self._settle.start()

    def _on_lane(self, value: float) -> Value:
        """The whole value with that of the lane under the hand."""
        if not isinstance(self._value, tuple):
            return value
        left, right = self._value
        return (value, right) if self._lane == 0 else (left, value)

    @property
    def _splits(self) -> bool:
        return isinstance(self.parameter, Number) and self.parameter.per_channel

    def _split_box(self) -> QRectF:
        """Where the mark is that takes left and right apart."""
        return QRectF(self.width() - _SPLIT, 2, _SPLIT - 2, self.height() - 4)

    def split_or_join(self) -> None:
        """Take left and right apart, or bring them to their middle."""
        if isinstance(self._value, tuple):
            left, right = as_pair(self._value)
            self.ask(0.5 * (left + right), commit=True)
        else:
            self.ask((self._value, self._value), commit=True)  # type: ignore[arg-type]

    @staticmethod
    def _rounded(number: Number, value: float, *, fine: bool) -> float:
        """What a hand sets has no more digits than are shown, or one more when fine."""
        return number.clamp(round(value, number.decimals + (1 if fine else 0)))

    def reset(self) -> None:
        """Back to the default, as one change."""
        self.ask(self.parameter.default_value, commit=True)

    # -- hands --------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._moved = False
        if self._splits and self._split_box().contains(event.position()):
            self.split_or_join()
            return
        self._lane = 1 if event.position().y() > self.height() / 2 else 0
        self._drag_from = (event.position().x(), self._share(self._value))
        self._position = self._drag_from[1]

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag_from is None or not isinstance(self.parameter, Number):
            return
        x, _ = self._drag_from
        moved = event.position().x() - x
        if not self._moved and abs(moved) < 3:
            return
        self._moved = True
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self._position = min(max(self._position + moved / self.width() * (_FINE if fine else 1.0), 0.0), 1.0)
        self._drag_from = (event.position().x(), self._position)
        value = self._rounded(self.parameter, self.parameter.at(self._position), fine=fine)
        self.ask(self._on_lane(value), commit=False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag_from is None:
            return
        self._drag_from = None
        if self._moved:
            self.commit()
        elif not isinstance(self.parameter, Number):
            self._use(event.globalPosition().toPoint())

    def _use(self, where: QPoint) -> None:
        """What a click or Enter does: switch, offer the choices, browse, or type."""
        match self.parameter:
            case Switch():
                self.ask(not self._value, commit=True)
            case Option():
                self._open_choices(where)
            case Impulse():
                self.browsing.emit()
            case _:
                self.edit()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        on_mark = self._splits and self._split_box().contains(event.position())
        if event.button() == Qt.MouseButton.LeftButton and isinstance(self.parameter, Number) and not on_mark:
            self._drag_from = None
            self.reset()

    def _open_choices(self, where: QPoint) -> None:
        assert isinstance(self.parameter, Option)
        menu = QMenu(self)
        for index, choice in enumerate(self.parameter.choices):
            action = QAction(choice.label, menu)
            action.setCheckable(True)
            action.setChecked(index == self.parameter.index(self._value))
            value = self.parameter.value_at(index)
            action.triggered.connect(lambda _checked, chosen=value: self.ask(chosen, commit=True))
            menu.addAction(action)
        menu.popup(where)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        mime = event.mimeData()
        if mime is not None and len(mime.urls()) == 1 and mime.urls()[0].isLocalFile():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        mime = event.mimeData()
        if mime is not None and mime.urls():
            event.acceptProposedAction()
            self.ask(mime.urls()[0].toLocalFile(), commit=True)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        if not isinstance(self.parameter, Switch):
            menu.addAction("Type a value", self.edit)
        if self._splits:
            apart = isinstance(self._value, tuple)
            menu.addAction("Left and right together" if apart else "Left and right apart", self.split_or_join)
        menu.addAction(f"Default ({self.parameter.text(self.parameter.default_value)})", self.reset)
        self.menu_opening.emit(menu)
        menu.popup(event.globalPos())

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120.0 or event.angleDelta().x() / 120.0
        if steps:
            self._step(steps, fine=bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        match event.key():
            case Qt.Key.Key_Right | Qt.Key.Key_Up:
                self._step(1, fine=fine)
            case Qt.Key.Key_Left | Qt.Key.Key_Down:
                self._step(-1, fine=fine)
            case Qt.Key.Key_PageUp:
                self._step(10)
            case Qt.Key.Key_PageDown:
                self._step(-10)
            case Qt.Key.Key_Backspace:
                self.reset()
            case Qt.Key.Key_Return | Qt.Key.Key_Enter:
                self._use(self.mapToGlobal(self.rect().bottomLeft()))
            case _:
                if isinstance(self.parameter, Number) and event.text() and event.text() in "0123456789-+.,":
                    self.edit(event.text())
                else:
                    super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        if self._settle.isActive():
            self.commit()
        super().focusOutEvent(event)
        self.update()

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.update()

    # -- typing -------------------------------------------------------------------------

    def edit(self, start: str = "") -> None:
        """Let the user type a value."""
        if self.editor is not None:
            return
        editor = QLineEdit(start or self.parameter.text(self._value), self)
        editor.setAccessibleName(f"{self.parameter.label}, typed value")
        editor.setGeometry(self.rect().adjusted(self.width() // 2, 2, -2, -2))
        editor.installEventFilter(self)
        editor.returnPressed.connect(lambda: self._finish_edit(keep=True))
        if not start:
            editor.selectAll()
        self.editor = editor
        editor.show()
        editor.setFocus()

    def eventFilter(self, watched: QWidget, event: QEvent) -> bool:
        if watched is self.editor:
            if event.type() == QEvent.Type.FocusOut:
                self._finish_edit(keep=True)
            elif (event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent)
                    and event.key() == Qt.Key.Key_Escape):
                self._finish_edit(keep=False)
                return True
        return super().eventFilter(watched, event)

    def _finish_edit(self, *, keep: bool) -> None:
        editor = self.editor
        if editor is None:
            return
        value = self._value
        if keep:
            try:
                value = self.parameter.parse(editor.text())
            except ValueError as reason:
                self._refuse(editor, str(reason))
                if editor.hasFocus():
                    # It stays open, so that what was typed can be mended.
                    return
                keep = False
        self.editor = None
        editor.removeEventFilter(self)
        editor.deleteLater()
        self.setFocus()
        if keep:
            self.ask(value, commit=True)

    def _refuse(self, editor: QLineEdit, reason: str) -> None:
        """Say at once, beside what was typed, why it is no value."""
        words = f"{editor.text()!r} is no value for {self.parameter.label}: {reason}"
        editor.setStyleSheet(f"border: 2px solid {theme.AFTER.name()}")
        editor.setAccessibleDescription(words)
        editor.selectAll()
        QToolTip.showText(self.mapToGlobal(self.rect().bottomLeft()), as_text(words), self, self.rect(), _TOLD_MS)
        self.refused.emit(words)

    # -- drawing ------------------------------------------------------------------------

    def sizeHint(self) -> QSize:
        return QSize(200, HEIGHT)

    def minimumSizeHint(self) -> QSize:
        return QSize(110, HEIGHT)

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 1.5, -0.5, -1.5)
        enabled = self.isEnabled()
        painter.setPen(QPen(theme.AFTER if self.hasFocus() else theme.EDGE, 1.0))
        painter.setBrush(theme.RAISED)
        painter.drawRoundedRect(box, 3, 3)
        if isinstance(self.parameter, Number):
            self._paint_bar(painter, box.adjusted(1, 1, -1, -1), enabled)
        painter.setFont(theme.font(9))
        painter.setPen(theme.DIM if enabled else theme.FAINT)
        inner = box.adjusted(8, 0, -8, -3)
        if self._splits:
            inner.setRight(self._split_box().left() - 2)
        left, right = Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignRight
        middle = Qt.AlignmentFlag.AlignVCenter
        label = f"\u2022 {self.parameter.label}" if self._held else self.parameter.label
        if self._drawn:
            inner.setLeft(self._paint_lane_sign(painter, inner) + 4)
        painter.drawText(inner, int(left | middle), label)
        name_width = painter.fontMetrics().horizontalAdvance(label)
        painter.setFont(theme.font(9, bold=True))
        painter.setPen(theme.FAINT if not enabled else theme.DIM if self._value is None else theme.TEXT)
        text = self.parameter.text(self._value)
        if isinstance(self.parameter, Switch):
            self._paint_switch(painter, inner, text)
            return
        if isinstance(self.parameter, Option | Impulse):
            text += "  \u25be"
        room = inner.width() - name_width - 8
        text = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(room))
        painter.drawText(inner, int(right | middle), text)

    def _paint_lane_sign(self, painter: QPainter, box: QRectF) -> float:
        """A small line through points, for a value that comes from a lane; where it ends."""
        left, middle = box.left(), box.center().y()
        corners = [QPointF(left, middle + 3), QPointF(left + 4, middle - 3), QPointF(left + 9, middle + 1),
                   QPointF(left + 13, middle - 4)]
        painter.save()
        painter.setPen(QPen(theme.AFTER, 1.4))
        painter.drawPolyline(QPolygonF(corners))
        painter.restore()
        return left + 13

    def _paint_bar(self, painter: QPainter, box: QRectF, enabled: bool) -> None:
        assert isinstance(self.parameter, Number)
        number = self.parameter
        rest = box.left() + number.position(number.default_value) * box.width()
        if number.realistic is not None:
            beyond = QRectF(box)
            beyond.setLeft(box.left() + number.position(number.realistic) * box.width())
            painter.fillRect(beyond, QBrush(theme.EDGE, Qt.BrushStyle.BDiagPattern))
        halves = QRectF(box), QRectF(box)
        if isinstance(self._value, tuple):
            halves[0].setBottom(box.center().y())
            halves[1].setTop(box.center().y())
            for half, side in zip(halves, self._value, strict=True):
                self._paint_lane(painter, half, number, side, rest, enabled)
        elif self._value is not None:
            self._paint_lane(painter, box, number, self._value, rest, enabled)
        painter.setPen(QPen(theme.DIM, 1.0))
        painter.drawLine(QPointF(rest, box.top()), QPointF(rest, box.top() + 4))
        if self._splits:
            mark = self._split_box()
            painter.setFont(theme.font(7, bold=True))
            apart = isinstance(self._value, tuple)
            painter.setPen(theme.AFTER if apart else theme.DIM)
            painter.drawText(mark, int(Qt.AlignmentFlag.AlignCenter), "L\nR" if apart else "LR")

    def _paint_lane(self, painter: QPainter, box: QRectF, number: Number, value: Value, rest: float,
                    enabled: bool) -> None:
        here = box.left() + number.position(value) * box.width()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.AFTER_FILL if enabled else theme.EDGE)
        origin = rest if number.minimum < 0 < number.maximum else box.left()
        painter.drawRect(QRectF(QPointF(min(origin, here), box.top()), QPointF(max(origin, here), box.bottom())))
        painter.setPen(QPen(theme.AFTER if enabled else theme.DIM, 3.0))
        painter.drawLine(QPointF(here, box.bottom() - 5), QPointF(here, box.bottom()))

    def _paint_switch(self, painter: QPainter, box: QRectF, text: str) -> None:
        pill = QRectF(box.right() - 40, box.center().y() - 9, 40, 18)
        painter.setPen(QPen(theme.AFTER if self._value else theme.EDGE, 1.0))
        painter.setBrush(theme.AFTER_FILL if self._value else theme.GROUND)
        painter.drawRoundedRect(pill, 9, 9)
        painter.setPen(theme.TEXT if self._value else theme.DIM)
        painter.drawText(pill, int(Qt.AlignmentFlag.AlignCenter), text)
