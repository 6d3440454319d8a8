"""What can be taken hold of in a picture: points and edges on a response, by mouse and by keys.

Drag; wheel for the width; double-click for the default, or for one edge more where none is; Delete
takes an edge away.  With keys: arrows move, Page Up and Down choose, Plus and Minus change the width,
Insert adds an edge, Backspace brings the default.  A drag or a burst of keys is one step.
"""

from __future__ import annotations

import math

from PyQt6.QtCore import QObject, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPen

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.plot import Axes
from yellow_ember.dsp.parameters import Edges, Number, Value, as_edges
from yellow_ember.dsp.stage import Handle
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.plain_text import with_minus
from yellow_ember.session.edits.edits import moved, set_parameter
from yellow_ember.session.values.model import Session

_NEAR = 14.0
_SETTLE_MS = 400
_KEY_OCTAVES, _KEY_DB, _WIDTH_STEP = 1.0 / 24.0, 0.5, 1.08
_FINE = 0.2


KEYS = (("Drag, arrows", "move; with Shift finer"), ("Page Up, Page Down", "another handle"), ("Wheel, +, -", "width"),
        ("Double-click, Insert, Delete", "edges come and go"))
"""What they answer to, for the sheet of keys."""


class Handles(QObject):
    """The handles of the one plot that has any.

    `moving` says that the picture is to be drawn again
    """

    moving = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, selection: Selection, messages: Messages, parent: QObject) -> None:
        super().__init__(parent)
        self._sessions, self._selection, self._messages = sessions, selection, messages
        self.handles: tuple[Handle, ...] = ()
        self.axes: Axes | None = None
        self._gesture = Gesture(self._sessions)
        self.chosen = 0
        self.dragging = False
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(_SETTLE_MS)
        self._settle.timeout.connect(self._commit)

    def show(self, handles: tuple[Handle, ...], axes: Axes | None) -> None:
        """These are drawn from now on, on those axes."""
        self.handles, self.axes = handles, axes
        self.chosen = min(self.chosen, max(len(handles) - 1, 0))

    def __bool__(self) -> bool:
        return bool(self.handles)

    @property
    def held(self) -> bool:
        """True while a hand or a burst of keys is at work, when scales must stay as they are."""
        return self.dragging or self._settle.isActive()

    def text(self) -> str:
        """The chosen handle in words."""
        if not self.handles:
            return ""
        handle = self.handles[self.chosen]
        level = f", {handle.level_db:+.1f} dB" if handle.up else ""
        return with_minus(f"{handle.label}: {handle.hz:.0f} Hz{level}")

    def _stage(self) -> StageSettings:
        return self._selection.strip.stage(self._selection.stage_id)

    # -- changes ------------------------------------------------------------------------

    def _set(self, changes: dict[str, Value], label: str) -> None:
        strip_id, stage_id = self._selection.strip_id, self._selection.stage_id

        def edit(session: Session) -> Session:
            for name, value in changes.items():
                session = set_parameter(session, strip_id, stage_id, name, value)
            return session

        self._gesture.show(label, (stage_id, tuple(changes)), edit)

    def _commit(self) -> None:
        self._settle.stop()
        self._gesture.keep()

    def _move_to(self, handle: Handle, hz: float, level_db: float) -> None:
        """A handle elsewhere, as far as its parameters go."""
        stage = self._stage()
        kind = stage.declaration
        along = kind.parameter(handle.along)
        changes: dict[str, Value] = {}
        if isinstance(along, Edges):
            changes[along.id] = along.moved(as_edges(stage.params[along.id]), handle.place, round(hz, 1))
        elif isinstance(along, Number):
            changes[along.id] = along.clamp(round(hz, 1))
        if handle.up:
            changes[handle.up] = kind.number(handle.up).clamp(round(handle.up_sign * level_db, 2))
        self._set(changes, along.label if isinstance(along, Edges) else handle.label)

    def _widen(self, steps: float) -> None:
        handle = self.handles[self.chosen]
        if handle.width:
            width = self._stage().declaration.number(handle.width)
            now = self._stage().params[handle.width]
            assert isinstance(now, float)
            self._set({width.id: moved(width, now, now * (_WIDTH_STEP**steps - 1.0))}, width.label)
            self._settle.start()

    def _edges(self) -> Edges | None:
        result = self._stage().declaration.parameter(self.handles[0].along) if self.handles else None
        return result if isinstance(result, Edges) else None

    def _add(self, hz: float) -> None:
        """One edge more, where there is room."""
        edges = self._edges()
        if edges is None:
            return
        more = edges.added(as_edges(self._stage().params[edges.id]), hz)
        if more is None:
            self._messages.say(f"No room for another edge: there are at most {edges.most}, "
                               f"each {edges.apart:g} times the one before or more")
            return
        self._set({edges.id: more}, "Add an edge")
        self.chosen = min(range(len(more)), key=lambda index: abs(math.log(more[index] / hz)))
        self._commit()

    def _remove(self) -> None:
        edges = self._edges()
        if edges is None:
            return
        now = as_edges(self._stage().params[edges.id])
        if len(now) > 1:
            self._set({edges.id: now[:self.chosen] + now[self.chosen + 1:]}, "Remove an edge")
            self._commit()

    def _to_default(self) -> None:
        """The chosen one to where it was at first; an edge goes away."""
        handle = self.handles[self.chosen]
        if handle.place >= 0:
            self._remove()
            return
        kind = self._stage().declaration
        self._set({name: kind.parameter(name).default_value for name in (handle.along, handle.up, handle.width)
                   if name}, handle.label)
        self._commit()

    # -- mouse --------------------------------------------------------------------------

    def _under(self, at: QPointF) -> int | None:
        """The nearest handle within reach of a point; an edge is a line from top to bottom."""
        axes = self.axes
        if axes is None or not axes.frame.adjusted(-_NEAR, -_NEAR, _NEAR, _NEAR).contains(at):
            return None
        result = []
        for index, handle in enumerate(self.handles):
            across = axes.x(handle.hz) - at.x()
            up = axes.y(handle.level_db) - at.y() if handle.up else 0.0
            result.append((math.hypot(across, up), index))
        distance, index = min(result, default=(_NEAR, 0))
        return index if distance < _NEAR else None

    def over(self, at: QPointF) -> bool:
        return self._under(at) is not None

    def press(self, at: QPointF) -> bool:
        """True where a handle is taken hold of."""
        index = self._under(at)
        if index is None:
            return False
        self.chosen, self.dragging = index, True
        self.moving.emit()
        return True

    def drag(self, at: QPointF) -> None:
        if self.dragging and self.axes is not None:
            self._move_to(self.handles[self.chosen], self.axes.value_at_x(at.x()), self.axes.value_at_y(at.y()))

    def release(self) -> None:
        if self.dragging:
            self.dragging = False
            self._commit()
            self.moving.emit()

    def double_click(self, at: QPointF) -> None:
        self.dragging = False
        index = self._under(at)
        if index is not None:
            self.chosen = index
            self._to_default()
        elif self.axes is not None and self.axes.frame.contains(at):
            self._add(self.axes.value_at_x(at.x()))

    def wheel(self, at: QPointF, steps: float) -> bool:
        index = self._under(at)
        if index is None:
            return False
        self.chosen = index
        self._widen(-steps)
        return True

    # -- keys ---------------------------------------------------------------------------

    def key(self, event: QKeyEvent) -> bool:
        """True for a key that means something here."""
        if not self.handles:
            return False
        fine = _FINE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        handle = self.handles[self.chosen]
        match event.key():
            case Qt.Key.Key_Left | Qt.Key.Key_Right as key:
                octaves = _KEY_OCTAVES * fine * (1.0 if key == Qt.Key.Key_Right else -1.0)
                self._move_to(handle, handle.hz * 2.0**octaves, handle.level_db)
                self._settle.start()
            case Qt.Key.Key_Up | Qt.Key.Key_Down as key if handle.up:
                by = _KEY_DB * fine * (1.0 if key == Qt.Key.Key_Up else -1.0)
                self._move_to(handle, handle.hz, handle.level_db + by)
                self._settle.start()
            case Qt.Key.Key_PageUp | Qt.Key.Key_PageDown as key:
                self.chosen = (self.chosen + (1 if key == Qt.Key.Key_PageUp else -1)) % len(self.handles)
            case Qt.Key.Key_Plus | Qt.Key.Key_Minus as key:
                self._widen(1.0 if key == Qt.Key.Key_Minus else -1.0)
            case Qt.Key.Key_Insert:
                above = self.handles[self.chosen + 1].hz if self.chosen + 1 < len(self.handles) else 16000.0
                self._add(math.sqrt(handle.hz * above))
            case Qt.Key.Key_Delete:
                self._remove()
            case Qt.Key.Key_Backspace:
                self._to_default()
            case _:
                return False
        self.moving.emit()
        return True

    # -- drawing ------------------------------------------------------------------------

    def paint(self, painter: QPainter, focused: bool) -> None:
        axes = self.axes
        if axes is None:
            return
        painter.setFont(theme.font(7.5))
        for index, handle in enumerate(self.handles):
            mine = index == self.chosen and (focused or self.dragging)
            x = axes.x(handle.hz)
            colour = theme.TEXT if mine else theme.DIM
            if handle.up:
                y = axes.y(handle.level_db)
                painter.setPen(QPen(colour, 2.0 if mine else 1.2))
                painter.setBrush(theme.AFTER_FILL if mine else theme.RAISED)
                painter.drawEllipse(QPointF(x, y), 7.0, 7.0)
                painter.drawText(QRectF(x - 7, y - 7, 14, 14), int(Qt.AlignmentFlag.AlignCenter), str(index + 1))
                continue
            painter.setPen(QPen(colour, 2.0 if mine else 1.2))
            painter.drawLine(QPointF(x, axes.frame.top()), QPointF(x, axes.frame.bottom()))
            grip = QRectF(x - 22, axes.frame.top() + 2, 44, 14)
            painter.setBrush(theme.AFTER_FILL if mine else theme.RAISED)
            painter.drawRoundedRect(grip, 3, 3)
            painter.setPen(theme.TEXT)
            painter.drawText(grip, int(Qt.AlignmentFlag.AlignCenter),
                             f"{handle.hz / 1000:.2f}k" if handle.hz >= 1000 else f"{handle.hz:.0f}")
