"""The named stretches and places of the session in a row.  Drag to make a passage, or to move it, its ends, fades."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QContextMenuEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QMenu, QWidget

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.state.time_view import TimeView
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted
from yellow_ember.session.edits.time_edits import add_passage, edit_passage
from yellow_ember.session.values.bars import snapped
from yellow_ember.session.values.model import Loop
from yellow_ember.session.values.places import Marker, Passage

HEIGHT = 15
_EDGE = 5.0
_SHORTEST_DRAG = 4.0
"""Pixels: less is a click."""
NEW, MOVE, START, END, FADE_IN, FADE_OUT = "new", "move", "start", "end", "fade in", "fade out"
_LABELS = {NEW: "Add a passage", MOVE: "Move a passage", START: "Start of a passage", END: "End of a passage",
           FADE_IN: "Fade into a passage", FADE_OUT: "Fade out of a passage"}

KEYS = (("Drag", "make a passage, move it"), ("Drag of an edge", "its end; with Alt its fade"),
        ("Double-click", "loop it"))
"""What it answers to, for the sheet of keys."""


class PassageRow(QWidget):
    """Passages as bars with their names, markers as small flags."""

    def __init__(self, sessions: SessionKeeper, playback: Playback, settings: Settings, time_view: TimeView) -> None:
        super().__init__()
        self._sessions, self._playback, self._settings, self._view = sessions, playback, settings, time_view
        self._gesture = Gesture(sessions)
        self._part = ""
        self._held: Passage | None = None
        self._taken = 0.0
        self._taken_x = 0.0
        self._shown: tuple[object, ...] = ()
        self.menu_at: Callable[[QPointF], QMenu] | None = None
        """What a right click at a point opens."""
        self.setFixedHeight(HEIGHT)
        self.setMouseTracking(True)
        self.setToolTip("Passages: drag to name a stretch, double-click to loop it")
        self.setAccessibleName("Passages and markers")
        time_view.changed.connect(self.update)
        sessions.changed.connect(lambda session: self._refresh((session.passages, session.markers, session.rate)))

    def sizeHint(self) -> QSize:
        return QSize(1200, HEIGHT)

    def _refresh(self, shown: tuple[object, ...]) -> None:
        if shown != self._shown:
            self._shown = shown
            self.update()

    # -- geometry -----------------------------------------------------------------------

    def x_of(self, seconds: float) -> float:
        """The pixel of a second."""
        return self._view.x_of(seconds * self._sessions.session.rate)

    def second_at(self, x: float) -> float:
        """The second of a pixel."""
        return self._view.frame_at(x) / self._sessions.session.rate

    def _snapped(self, seconds: float, event: QMouseEvent) -> float:
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            return seconds
        session = self._sessions.session
        return snapped(session, seconds * session.rate, self._settings.snap) / session.rate

    def passage_at(self, x: float) -> Passage | None:
        """The passage at a pixel, the shortest where several lie over each other."""
        here = [passage for passage in self._sessions.session.passages
                if self.x_of(passage.start) - _EDGE <= x <= self.x_of(passage.end) + _EDGE]
        return min(here, key=lambda passage: passage.end - passage.start, default=None)

    def marker_at(self, x: float) -> Marker | None:
        """The marker at a pixel."""
        return next((marker for marker in self._sessions.session.markers
                     if abs(self.x_of(marker.at) - x) <= _EDGE), None)

    def _part_at(self, passage: Passage, x: float, *, fades: bool) -> str:
        left, right = self.x_of(passage.start), self.x_of(passage.end)
        if abs(x - left) <= _EDGE and right - left > 2 * _EDGE:
            return FADE_IN if fades else START
        if abs(x - right) <= _EDGE and right - left > 2 * _EDGE:
            return FADE_OUT if fades else END
        return MOVE

    # -- drawing ------------------------------------------------------------------------

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), theme.PANEL)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(7.5))
        session = self._sessions.session
        for passage in session.passages:
            self._paint_passage(painter, passage)
        painter.setPen(theme.DIM)
        for marker in session.markers:
            x = self.x_of(marker.at)
            painter.setBrush(theme.DIM)
            painter.drawPolygon(QPolygonF([QPointF(x, 1), QPointF(x + 6, 4), QPointF(x, 7)]))
            painter.drawLine(QPointF(x, 1), QPointF(x, HEIGHT))
            if self.passage_at(x + 9) is None:
                painter.drawText(QRectF(x + 8, 0, 110, HEIGHT), int(Qt.AlignmentFlag.AlignVCenter), marker.name)
        if not session.passages and not session.markers:
            painter.setPen(theme.FAINT)
            painter.drawText(QRectF(6, 0, 400, HEIGHT), int(Qt.AlignmentFlag.AlignVCenter),
                             "Drag here to name a passage")

    def _paint_passage(self, painter: QPainter, passage: Passage) -> None:
        left, right = self.x_of(passage.start), self.x_of(passage.end)
        if right < 0 or left > self.width():
            return
        pixel = self._sessions.session.rate / self._view.frames_per_pixel
        top, bottom = 1.5, HEIGHT - 1.5
        # What acts in it comes in behind its start, and goes out behind its end.
        shape = QPolygonF([QPointF(left, bottom), QPointF(left + passage.fade_in * pixel, top), QPointF(right, top),
                           QPointF(right + passage.fade_out * pixel, bottom)])
        painter.setPen(QPen(theme.DIM, 1.0))
        painter.setBrush(theme.RAISED)
        painter.drawPolygon(shape)
        inside = QRectF(max(left, 0.0) + 6, 0, min(right, self.width()) - max(left, 0.0) - 10, HEIGHT)
        name = painter.fontMetrics().elidedText(passage.name, Qt.TextElideMode.ElideRight, max(0, int(inside.width())))
        painter.setPen(theme.TEXT)
        painter.drawText(inside, int(Qt.AlignmentFlag.AlignVCenter), name)

    # -- hands --------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        x = event.position().x()
        self._held = self.passage_at(x)
        fades = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        self._part = NEW if self._held is None else self._part_at(self._held, x, fades=fades)
        self._taken, self._taken_x = self.second_at(x), x

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        if not self._part:
            passage = self.passage_at(x)
            part = "" if passage is None else self._part_at(passage, x, fades=False)
            self.setCursor(Qt.CursorShape.SizeHorCursor if part in (START, END) else
                           Qt.CursorShape.OpenHandCursor if part == MOVE else Qt.CursorShape.ArrowCursor)
            return
        if not self._gesture.under_way and abs(x - self._taken_x) < _SHORTEST_DRAG:
            return
        here = self.second_at(x)
        if self._held is None:
            start = self._snapped(self._taken, event)
            number = len(self._sessions.session.passages) + 1
            self._held = Passage(name=f"Passage {number}", start=start, end=start)
        moved = self._moved(self._held, here, event)
        change = add_passage if self._part == NEW else edit_passage
        self._gesture.show(_LABELS[self._part], (self._part, moved.id), lambda session: change(session, moved))

    def _moved(self, passage: Passage, here: float, event: QMouseEvent) -> Passage:
        at = self._snapped(here, event)
        if self._part == MOVE:
            start = max(0.0, self._snapped(passage.start + here - self._taken, event))
            return replace(passage, start=start, end=start + passage.end - passage.start)
        if self._part == START:
            return replace(passage, start=min(at, passage.end))
        if self._part == FADE_IN:
            return replace(passage, fade_in=here - passage.start)
        if self._part == FADE_OUT:
            return replace(passage, fade_out=here - passage.end)
        return replace(passage, end=at if self._part == NEW else max(at, passage.start))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._gesture.under_way:
            self._gesture.keep()
        elif self._part:
            self._playback.locate(round(self.second_at(event.position().x()) * self._sessions.session.rate))
        self._part, self._held = "", None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        passage = self.passage_at(event.position().x())
        if passage is not None:
            self.loop_passage(passage)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self.menu_at is not None:
            self.menu_at(QPointF(event.pos())).popup(event.globalPos())

    def loop_passage(self, passage: Passage) -> None:
        """Loop a passage."""
        rate = self._sessions.session.rate
        loop = Loop(round(passage.start * rate), round(passage.end * rate))
        self._sessions.document.commit("Loop", lambda session: session.with_(loop=loop))
