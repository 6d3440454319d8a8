"""The chosen strip's lanes under the waves: what moves along the session, drawn and changed by hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPen, QPixmap, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QMenu, QWidget

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.state.time_view import TimeView
from yellow_ember.app.tools.time_dialogs import PointDialog
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted, still
from yellow_ember.dsp.lanes import Lane, Point, Shape, lane_position, position_at, value_of
from yellow_ember.dsp.parameters import Number, Parameter
from yellow_ember.engine.live.client import EngineState
from yellow_ember.session.edits.lane_edits import moved_point, put_lane, remove_lane, with_point, without_point
from yellow_ember.session.values.bars import beats_at, snapped
from yellow_ember.session.values.drawn import find_lane, lane_parameter, lanes_of

ROW = 46
MOST_ROWS = 3
_NEAR = 6.0
_MARGIN = 5.0
_NOTCH = 120.0
_FINE_STEP, _STEP = 0.002, 0.01
SHAPE_WORDS = {Shape.LINE: "A line from here", Shape.CURVE: "A curve from here", Shape.HOLD: "Hold from here"}

KEYS = (("Double-click", "a point; on one, type it"), ("Drag", "move a point; from the line, a new one"),
        ("Delete", "remove the point"), ("Up, Down", "its value; finer with Shift"), ("Left, Right", "its time"),
        ("C", "line, curve, hold"), ("Ctrl+C, Ctrl+V", "copy the lane; paste it where playing is"))
"""What it answers to, for the sheet of keys."""


@dataclass(frozen=True, slots=True)
class _Row:
    """A lane as it is shown: whose it is, what it moves, its words and its place."""

    stage_id: str
    lane: Lane
    parameter: Parameter
    words: str
    box: QRectF


class LaneView(QWidget):
    """A row for every lane; hidden where there is none."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, time_view: TimeView) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback = sessions, selection, playback
        self._settings, self._messages, self._view = settings, messages, time_view
        self._gesture = Gesture(sessions)
        self._first_row = 0
        self._chosen: tuple[str, str, int] | None = None
        """The chosen point: its stage, its parameter and its number."""
        self._dragged = False
        self._pointer: QPointF | None = None
        self._position = 0
        self._still: QPixmap | None = None
        self._shown: tuple[object, ...] = ()
        self._copied: tuple[tuple[float, float, Shape], ...] = ()
        """Times from the first, places on the control, shapes."""
        self.on_scroll: Callable[[QWheelEvent], None] | None = None
        """Where a wheel goes that moves the time."""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Lanes")
        self.setAccessibleDescription("What moves along the session. Arrow keys move the chosen point, "
                                      "Delete removes it, C changes how the lane goes on from it.")
        sessions.changed.connect(self._refresh)
        selection.changed.connect(self._refresh)
        playback.frame.connect(self._on_frame)
        time_view.changed.connect(self._draw_again)
        self._refresh()

    def sizeHint(self) -> QSize:
        return QSize(1200, ROW)

    def _refresh(self) -> None:
        strip, session = self._selection.strip, self._sessions.session
        shown = (strip.id, tuple((stage, id(lane)) for stage, lane in lanes_of(strip)), session.tempo,
                 session.passages, session.first_beat, session.beats_per_bar)
        if shown == self._shown:
            return
        self._shown = shown
        count = sum(1 for _ in lanes_of(strip))
        self._first_row = min(self._first_row, max(0, count - MOST_ROWS))
        self.setFixedHeight(ROW * min(count, MOST_ROWS))
        self.setVisible(count > 0)
        if self._chosen_point() is None:
            self._chosen = None
        self._draw_again()

    def _draw_again(self) -> None:
        self._still = None
        self.update()

    def resizeEvent(self, event: object) -> None:
        self._still = None

    def _on_frame(self, state: EngineState) -> None:
        if state.position != self._position and self.isVisible():
            for frame in (self._position, state.position):
                self.update(int(self._view.x_of(frame)) - 3, 0, 7, self.height())
        self._position = state.position

    # -- geometry -----------------------------------------------------------------------

    @property
    def rows(self) -> list[_Row]:
        """The lanes that are in sight, from the top."""
        strip, result = self._selection.strip, []
        for number, (stage_id, lane) in enumerate(list(lanes_of(strip))[self._first_row:self._first_row + MOST_ROWS]):
            parameter = lane_parameter(strip, stage_id, lane.parameter)
            whose = strip.stage(stage_id).declaration.label if stage_id else strip.name
            result.append(_Row(stage_id, lane, parameter, f"{whose}: {parameter.label}",
                               QRectF(0, number * ROW, self.width(), ROW)))
        return result

    def x_of(self, seconds: float) -> float:
        """The pixel of a second."""
        return self._view.x_of(seconds * self._sessions.session.rate)

    @staticmethod
    def y_of(row: _Row, position: float) -> float:
        """The pixel of a place on a row's control, 0 to 1."""
        return row.box.bottom() - _MARGIN - position * (row.box.height() - 2 * _MARGIN)

    def point_at(self, row: _Row, number: int) -> QPointF:
        """Where a point of a lane is drawn."""
        point = row.lane.points[number]
        return QPointF(self.x_of(point.seconds), self.y_of(row, lane_position(row.parameter, point.value)))

    def _row_at(self, at: QPointF) -> _Row | None:
        return next((row for row in self.rows if row.box.contains(at)), None)

    def _row_of(self, stage_id: str, name: str) -> _Row | None:
        """The row of a lane, where it is in sight."""
        return next((row for row in self.rows if (row.stage_id, row.lane.parameter) == (stage_id, name)), None)

    def _number_at(self, row: _Row, at: QPointF) -> int | None:
        """The point of a lane under the pointer."""
        for number in range(len(row.lane.points)):
            away = self.point_at(row, number) - at
            if away.x() ** 2 + away.y() ** 2 <= _NEAR**2:
                return number
        return None

    def _seconds_at(self, x: float, event: QMouseEvent) -> float:
        session, frame = self._sessions.session, float(self._view.frame_at(x))
        if not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            frame = snapped(session, frame, self._settings.snap)
        return frame / session.rate

    def _value_at(self, row: _Row, y: float) -> float:
        position = (row.box.bottom() - _MARGIN - y) / (row.box.height() - 2 * _MARGIN)
        value = value_of(row.parameter, min(max(position, 0.0), 1.0))
        number = row.parameter
        return number.clamp(round(value, number.decimals)) if isinstance(number, Number) else round(value, 2)

    def _text(self, row: _Row, value: float) -> str:
        if isinstance(row.parameter, Number):
            return row.parameter.text(value)
        return row.parameter.text(value >= 0.5) if value in (0.0, 1.0) else f"{100 * value:.0f} %"

    # -- drawing ------------------------------------------------------------------------

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        if self._still is None:
            self._still = still(self, theme.GROUND, self._paint_rows)
        painter.drawPixmap(0, 0, self._still)
        x = self._view.x_of(self._position)
        painter.setPen(QPen(theme.TEXT, 1.4))
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for row in self.rows:
            self._paint_reading(painter, row)
        if self.hasFocus():
            painter.setPen(QPen(theme.AFTER, 1.0, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _paint_reading(self, painter: QPainter, row: _Row) -> None:
        """What is chosen of a lane, or what is under the pointer, in figures."""
        number = self._chosen[2] if self._chosen is not None and self._chosen[:2] == (
            row.stage_id, row.lane.parameter) else None
        if number is not None and number < len(row.lane.points):
            point = row.lane.points[number]
            at = self.point_at(row, number)
            painter.setPen(QPen(theme.TEXT, 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, 6.0, 6.0)
            seconds, value = point.seconds, point.value
        elif self._pointer is not None and row.box.contains(self._pointer):
            seconds = self._view.frame_at(self._pointer.x()) / self._sessions.session.rate
            value = value_of(row.parameter, position_at(row.lane, row.parameter, seconds))
        else:
            return
        session = self._sessions.session
        bar, beat = divmod(beats_at(session, seconds * session.rate), session.beats_per_bar)
        words = f"{self._text(row, value)}   {int(bar) + 1}.{int(beat) + 1}   {seconds:.2f} s"
        painter.setFont(theme.font(7.5))
        width = painter.fontMetrics().horizontalAdvance(words) + 8
        label = QRectF(self.width() - width - 4, row.box.top() + 3, width, 13)
        painter.fillRect(label, theme.PANEL)
        painter.setPen(theme.TEXT)
        painter.drawText(label, int(Qt.AlignmentFlag.AlignCenter), words)

    def _paint_rows(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        rows, hidden = self.rows, sum(1 for _ in lanes_of(self._selection.strip)) - MOST_ROWS
        for row in rows:
            painter.setPen(QPen(theme.EDGE, 1.0))
            painter.drawLine(row.box.topLeft(), row.box.topRight())
            for passage in self._sessions.session.passages:
                left, right = self.x_of(passage.start), self.x_of(passage.end)
                painter.fillRect(QRectF(left, row.box.top() + 1, right - left, row.box.height() - 1), theme.PANEL)
            self._paint_line(painter, row)
            painter.setFont(theme.font(7.5))
            words = row.words if row.lane.on else f"{row.words} (off)"
            label = QRectF(4, row.box.top() + 3, painter.fontMetrics().horizontalAdvance(words) + 8, 13)
            painter.fillRect(label, theme.PANEL)
            painter.setPen(theme.TEXT if row.lane.on else theme.DIM)
            painter.drawText(label, int(Qt.AlignmentFlag.AlignCenter), words)
        if hidden > 0 and rows:
            painter.setPen(theme.DIM)
            painter.drawText(QRectF(4, self.height() - 15, 200, 13), int(Qt.AlignmentFlag.AlignVCenter),
                             f"{hidden} more, by the wheel")

    def _paint_line(self, painter: QPainter, row: _Row) -> None:
        """The line a lane takes, as fine as the pixels, and its points."""
        lane, rate = row.lane, self._sessions.session.rate
        corners = {0.0, float(self.width())}
        for point, following in zip(lane.points, (*lane.points[1:], None), strict=True):
            x = self.x_of(point.seconds)
            corners.add(x)
            if following is None:
                continue
            end = self.x_of(following.seconds)
            if point.shape is Shape.HOLD:
                corners.add(end - 0.01)
            elif point.shape is Shape.CURVE or not isinstance(row.parameter, Number):
                corners |= {x + (end - x) * k / 24.0 for k in range(25)}
        inside = sorted(x for x in corners if -2.0 <= x <= self.width() + 2.0)
        line = QPolygonF([QPointF(x, self.y_of(row, position_at(
            lane, row.parameter, (self._view.first + x * self._view.frames_per_pixel) / rate))) for x in inside])
        painter.setPen(QPen(theme.AFTER if lane.on else theme.DIM, 1.6))
        painter.drawPolyline(line)
        painter.setBrush(theme.AFTER if lane.on else theme.DIM)
        painter.setPen(Qt.PenStyle.NoPen)
        for number in range(len(lane.points)):
            at = self.point_at(row, number)
            if -4.0 <= at.x() <= self.width() + 4.0:
                painter.drawEllipse(at, 3.5, 3.5)

    # -- hands --------------------------------------------------------------------------

    def _choose(self, row: _Row, number: int) -> None:
        self._chosen = row.stage_id, row.lane.parameter, number
        self.update()

    def _chosen_point(self) -> tuple[str, Lane, Parameter, int] | None:
        """The chosen point as it is now: its stage, its lane, what that moves, its number."""
        if self._chosen is None:
            return None
        stage_id, name, number = self._chosen
        strip = self._selection.strip
        try:
            lane, parameter = find_lane(strip, stage_id, name), lane_parameter(strip, stage_id, name)
        except (KeyError, ValueError):
            return None
        return None if lane is None or number >= len(lane.points) else (stage_id, lane, parameter, number)

    def _show(self, label: str, stage_id: str, lane: Lane) -> None:
        strip_id = self._selection.strip_id
        self._gesture.show(label, (strip_id, stage_id, lane.parameter),
                           lambda session: put_lane(session, strip_id, stage_id, lane))

    def _commit(self, label: str, stage_id: str, lane: Lane) -> None:
        self._show(label, stage_id, lane)
        self._gesture.keep()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        row = self._row_at(event.position())
        if row is None or event.button() != Qt.MouseButton.LeftButton:
            return
        number = self._number_at(row, event.position())
        if number is None and self._is_on_line(row, event.position()):
            number = self._add(row, event)
        self._dragged = number is not None
        if number is None:
            self._chosen = None
            self.update()
        else:
            self._choose(row, number)

    def _is_on_line(self, row: _Row, at: QPointF) -> bool:
        seconds = self._view.frame_at(at.x()) / self._sessions.session.rate
        return abs(self.y_of(row, position_at(row.lane, row.parameter, seconds)) - at.y()) <= _NEAR

    def _add(self, row: _Row, event: QMouseEvent) -> int | None:
        """A point under the pointer; its number."""
        point = Point(self._seconds_at(event.position().x(), event), self._value_at(row, event.position().y()))
        try:
            lane = with_point(row.lane, point)
        except ValueError as error:
            self._messages.warn(str(error))
            return None
        self._show(f"Point of {row.parameter.label}", row.stage_id, lane)
        return lane.points.index(point)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._pointer = event.position()
        chosen = self._chosen_point()
        if self._dragged and chosen is not None:
            stage_id, lane, _, number = chosen
            row = self._row_of(stage_id, lane.parameter)
            if row is not None:
                point = replace(lane.points[number], seconds=self._seconds_at(event.position().x(), event),
                                value=self._value_at(row, event.position().y()))
                self._show(f"Point of {row.parameter.label}", stage_id, moved_point(lane, number, point))
            return
        row = self._row_at(event.position())
        over = row is not None and (self._number_at(row, event.position()) is not None
                                    or self._is_on_line(row, event.position()))
        self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._gesture.keep()
        self._dragged = False

    def leaveEvent(self, event: QEvent) -> None:
        self._pointer = None
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        row = self._row_at(event.position())
        if row is None:
            return
        number = self._number_at(row, event.position())
        if number is not None:
            self.type_point(row.stage_id, row.lane.parameter, number)
            return
        number = self._add(row, event)
        self._gesture.keep()
        if number is not None:
            self._choose(row, number)

    def type_point(self, stage_id: str, name: str, number: int) -> None:
        """Type a point's time and value."""
        PointDialog(self._sessions, self._selection.strip_id, stage_id, name, number, self).show()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        row = self._row_at(QPointF(event.pos()))
        if row is not None:
            self.menu_for(row, self._number_at(row, QPointF(event.pos()))).popup(event.globalPos())

    def menu_for(self, row: _Row, number: int | None) -> QMenu:
        """What can be done with a lane, and with a point of it."""
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        if number is not None:
            self._choose(row, number)
            menu.addAction("Type it\u2026", lambda: self.type_point(row.stage_id, row.lane.parameter, number))
            for shape, words in SHAPE_WORDS.items():
                action = menu.addAction(words, lambda chosen=shape: self._shape(chosen))
                assert action is not None
                action.setCheckable(True)
                action.setChecked(row.lane.points[number].shape is shape)
            menu.addAction("Delete the point", self.delete_chosen)
            menu.addSeparator()
        strip_id = self._selection.strip_id
        menu.addAction("Copy the lane", lambda: self.copy(row.lane, row.parameter))
        paste = menu.addAction("Paste where playing is", lambda: self.paste(row.stage_id, row.lane, row.parameter))
        assert paste is not None
        paste.setEnabled(bool(self._copied))
        menu.addAction("Switch the lane off" if row.lane.on else "Switch the lane on", lambda: self._commit(
            "Lane on or off", row.stage_id, replace(row.lane, on=not row.lane.on)))
        menu.addAction("Remove the lane", lambda: self._sessions.document.commit(
            f"Remove the lane of {row.parameter.label}",
            lambda session: remove_lane(session, strip_id, row.stage_id, row.lane.parameter)))
        return menu

    def _shape(self, shape: Shape) -> None:
        chosen = self._chosen_point()
        if chosen is not None:
            stage_id, lane, _, number = chosen
            self._commit("Shape of a lane", stage_id, moved_point(
                lane, number, replace(lane.points[number], shape=shape)))

    def delete_chosen(self) -> None:
        """Remove the chosen point; the last one of a lane stays."""
        chosen = self._chosen_point()
        if chosen is not None:
            stage_id, lane, parameter, number = chosen
            self._commit(f"Delete a point of {parameter.label}", stage_id, without_point(lane, number))
            self._chosen = None

    def copy(self, lane: Lane, parameter: Parameter) -> None:
        """Keep a lane's points: those in the loop, where it has any there, else all."""
        session = self._sessions.session
        start, end = session.loop.start / session.rate, session.loop.end / session.rate
        inside = [point for point in lane.points if start <= point.seconds <= end]
        points = inside if session.loop.on and inside else lane.points
        begin = start if points is inside else points[0].seconds
        self._copied = tuple((point.seconds - begin, lane_position(parameter, point.value), point.shape)
                             for point in points)
        self._messages.say(f"{len(points)} point{'s' if len(points) != 1 else ''} of {parameter.label} copied")

    def paste(self, stage_id: str, lane: Lane, parameter: Parameter) -> None:
        """Put what was copied into a lane, where playing is."""
        at = self._position / self._sessions.session.rate
        try:
            for seconds, position, shape in self._copied:
                lane = with_point(lane, Point(at + seconds, value_of(parameter, position), shape))
        except ValueError as error:
            self._messages.warn(str(error))
            return
        self._commit(f"Paste into {parameter.label}", stage_id, lane)

    def wheelEvent(self, event: QWheelEvent) -> None:
        plain = not event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        hidden = sum(1 for _ in lanes_of(self._selection.strip)) - MOST_ROWS
        if plain and hidden > 0:
            turned = round(event.angleDelta().y() / _NOTCH)
            self._first_row = min(max(0, self._first_row - turned), hidden)
            self._draw_again()
            event.accept()
        elif self.on_scroll is not None:
            self.on_scroll(event)

    def event(self, event: QEvent | None) -> bool:
        # Its own copy, paste and Delete go before the window's.
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and self._own_key(event):
            event.accept()
            return True
        return super().event(event)

    @staticmethod
    def _own_key(event: QKeyEvent) -> bool:
        control = event.modifiers() == Qt.KeyboardModifier.ControlModifier
        return (event.key() in (Qt.Key.Key_C, Qt.Key.Key_V) and control) or (
            event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_C) and not event.modifiers())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        chosen = self._chosen_point()
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if chosen is None:
            super().keyPressEvent(event)
            return
        stage_id, lane, parameter, number = chosen
        fine = _FINE_STEP if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else _STEP
        match event.key():
            case Qt.Key.Key_C if control:
                self.copy(lane, parameter)
            case Qt.Key.Key_V if control:
                self.paste(stage_id, lane, parameter)
            case Qt.Key.Key_C:
                shapes = list(SHAPE_WORDS)
                self._shape(shapes[(shapes.index(lane.points[number].shape) + 1) % len(shapes)])
            case Qt.Key.Key_Delete | Qt.Key.Key_Backspace:
                self.delete_chosen()
            case Qt.Key.Key_Up | Qt.Key.Key_Down:
                self._nudge(0.0, fine if event.key() == Qt.Key.Key_Up else -fine)
            case Qt.Key.Key_Left | Qt.Key.Key_Right:
                pixel = self._view.frames_per_pixel / self._sessions.session.rate
                self._nudge(pixel if event.key() == Qt.Key.Key_Right else -pixel, 0.0)
            case _:
                super().keyPressEvent(event)

    def _nudge(self, seconds: float, share: float) -> None:
        chosen = self._chosen_point()
        if chosen is None:
            return
        stage_id, lane, parameter, number = chosen
        point = lane.points[number]
        position = min(max(lane_position(parameter, point.value) + share, 0.0), 1.0)
        value = point.value if share == 0.0 else value_of(parameter, position)
        self._commit(f"Point of {parameter.label}", stage_id, moved_point(
            lane, number, replace(point, seconds=max(0.0, point.seconds + seconds), value=value)))
