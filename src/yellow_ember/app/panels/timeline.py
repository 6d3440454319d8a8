"""The waveform, before and after, with the loop and the position of playing.

Click or drag to go somewhere; drag in the ruler to draw a loop, or its ends to move them;
double-click a bar to loop it.  Positions snap to beats, to nothing with Shift.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import (
    QColor,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
)
from PyQt6.QtWidgets import QWidget

from yellow_ember.app.state.added import AddedListening
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted, painting
from yellow_ember.engine.live.client import EngineState
from yellow_ember.files.conformed import OVERVIEW_FRAMES
from yellow_ember.session.values.model import Loop

_RULER = 20
_GRIP = 6


KEYS = (("[ and ]", "loop from here, loop to here"), ("Left, Right", "a beat back, a beat on; with Ctrl a bar"),
        ("Double-click", "loop a bar"))
"""What it answers to, for the sheet of keys."""


class Timeline(QWidget):
    """The time line of the chosen strip."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, imports: Imports,
                 measurer: Measurer, added: AddedListening) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback, self._imports = sessions, selection, playback, imports
        self._measurer, self._added = measurer, added
        self._gesture = Gesture(self._sessions)
        self._position = 0
        self._drag = ""
        self._anchor = 0
        self._still: QPixmap | None = None
        self._shown: tuple[object, ...] = ()
        self.setMinimumHeight(80)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Waveform and loop")
        self.setAccessibleDescription("Left and right go by a beat, Control with them by a bar, Home to the start, "
                                      "bracket keys set the loop's ends to where playing is.")
        self._sessions.changed.connect(self._refresh)
        self._selection.changed.connect(self._refresh)
        self._measurer.changed.connect(self._refresh)
        self._added.changed.connect(self._refresh)
        self._playback.frame.connect(self._on_frame)

    def sizeHint(self) -> QSize:
        return QSize(1200, 112)

    @property
    def length(self) -> int:
        """Frames from start to end of what is shown."""
        imports = self._imports
        frames = [ready.frames for strip in self._sessions.session.strips
                  if (ready := imports.ready(strip.audio)) is not None]
        return max([*frames, self._sessions.session.rate * 10])

    def _refresh(self) -> None:
        """Draw the wave again where anything in it has changed."""
        session, strip = self._sessions.session, self._selection.strip
        shown = (session.loop, session.tempo, session.beats_per_bar, self.length, strip.id, strip.match_db,
                 bool(strip.chain), self._imports.ready(strip.audio), id(self._measurer.latest(strip.id)),
                 id(self._added.part))
        if shown != self._shown:
            self._shown, self._still = shown, None
            self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._still = None

    def _on_frame(self, state: EngineState) -> None:
        if state.position != self._position:
            for x in (self.x_of(self._position), self.x_of(state.position)):
                self.update(int(x) - 3, 0, 7, self.height())
            self._position = state.position

    # -- geometry -----------------------------------------------------------------------

    def x_of(self, frame: float) -> float:
        return 8 + frame / self.length * (self.width() - 16)

    def _frame(self, x: float) -> int:
        return round(min(max((x - 8) / (self.width() - 16), 0.0), 1.0) * self.length)

    def _beat(self) -> float:
        session = self._sessions.session
        return 60.0 / session.tempo * session.rate

    def _snapped(self, frame: int, event: QMouseEvent) -> int:
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            return frame
        return min(round(round(frame / self._beat()) * self._beat()), self.length)

    # -- drawing ------------------------------------------------------------------------

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        if self._still is None:
            ratio = self.devicePixelRatioF()
            self._still = QPixmap(self.size() * ratio)
            self._still.setDevicePixelRatio(ratio)
            self._paint_still(self._still)
        painter.drawPixmap(0, 0, self._still)
        x = self.x_of(self._position)
        painter.setPen(QPen(theme.TEXT, 1.4))
        painter.drawLine(QPointF(x, 2), QPointF(x, self.height() - 2))
        if self.hasFocus():
            painter.setPen(QPen(theme.AFTER, 1.0, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _paint_still(self, pixmap: QPixmap) -> None:
        pixmap.fill(theme.PANEL)
        with painting(pixmap) as painter:
            self._paint_content(painter)

    def _paint_content(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        wave = QRectF(8, _RULER, self.width() - 16, self.height() - _RULER - 6)
        painter.fillRect(wave, theme.GROUND)
        session = self._sessions.session
        loop = session.loop
        if loop.end > loop.start:
            left, right = self.x_of(loop.start), self.x_of(loop.end)
            painter.fillRect(QRectF(left, _RULER, right - left, wave.height()), theme.RAISED)
            painter.fillRect(QRectF(left, 3, right - left, 12), theme.AFTER_FILL if loop.on else theme.RAISED)
            painter.setPen(QPen(theme.AFTER if loop.on else theme.DIM, 1.5))
            for x in (left, right):
                painter.drawLine(QPointF(x, 3), QPointF(x, wave.bottom()))
        self._paint_ruler(painter, wave)
        overview = self._overview()
        if overview is not None:
            self._paint_wave(painter, wave, overview, 0, len(overview) * OVERVIEW_FRAMES, filled=True)
        result = self._measurer.latest(self._selection.strip_id)
        if result is not None:
            if overview is None:
                self._paint_wave(painter, wave, result.wave_before, result.start, result.end, filled=True)
            added = self._added.part
            if added is not None and added.part.strip_id == self._selection.strip_id:
                scale = 10.0 ** (self._selection.strip.match_db / 20.0)
                self._paint_wave(painter, wave, added.wave * scale, result.start, result.end, filled=True,
                                 colour=theme.added_colour(added.against_db))
            elif self._selection.strip.chain:
                scale = 10.0 ** (self._selection.strip.match_db / 20.0)
                self._paint_wave(painter, wave, result.wave_after * scale, result.start, result.end, filled=False)

    def _paint_ruler(self, painter: QPainter, wave: QRectF) -> None:
        session = self._sessions.session
        bar = self._beat() * session.beats_per_bar
        bars = int(self.length / bar) + 1
        every = 1
        while self.x_of(bar * every) - self.x_of(0) < 34:
            every *= 2
        painter.setFont(theme.font(7.5))
        for number in range(0, bars, every):
            x = self.x_of(number * bar)
            painter.setPen(QPen(theme.EDGE, 1.0))
            painter.drawLine(QPointF(x, 14), QPointF(x, wave.bottom()))
            painter.setPen(theme.DIM)
            painter.drawText(QRectF(x + 3, 2, 40, 14), int(Qt.AlignmentFlag.AlignVCenter), str(number + 1))

    def _overview(self) -> NDArray[np.float32] | None:
        """Least and greatest per column over the channels of the chosen track."""
        ready = self._imports.ready(self._selection.strip.audio)
        if ready is None:
            return None
        overview = ready.read_overview()
        return np.stack((overview[:, :, 0].min(axis=1), overview[:, :, 1].max(axis=1)), axis=1)

    def _paint_wave(self, painter: QPainter, box: QRectF, columns: NDArray[np.floating], start: int, end: int,
                    *, filled: bool, colour: QColor = theme.BEFORE) -> None:
        left, right = self.x_of(start), self.x_of(end)
        width = max(2, int(right - left))
        if len(columns) > width:
            edges = np.linspace(0, len(columns), width + 1).astype(int)[:-1]
            low, high = np.minimum.reduceat(columns[:, 0], edges), np.maximum.reduceat(columns[:, 1], edges)
        else:
            low, high = columns[:, 0], columns[:, 1]
        xs = np.linspace(left, right, len(low))
        middle, half = box.center().y(), box.height() / 2.0
        top = [QPointF(x, middle - min(float(y), 1.0) * half) for x, y in zip(xs, high, strict=True)]
        bottom = [QPointF(x, middle - max(float(y), -1.0) * half) for x, y in zip(xs, low, strict=True)]
        if filled:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            painter.setOpacity(0.65)
            painter.drawPolygon(QPolygonF([*top, *reversed(bottom)]))
            painter.setOpacity(1.0)
        else:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.AFTER, 1.1))
            painter.drawPolyline(QPolygonF(top))
            painter.drawPolyline(QPolygonF(bottom))

    # -- hands --------------------------------------------------------------------------

    def _grip_at(self, point: QPointF) -> str:
        loop = self._sessions.session.loop
        if point.y() > _RULER:
            return ""
        for name, frame in (("start", loop.start), ("end", loop.end)):
            if loop.end > loop.start and abs(point.x() - self.x_of(frame)) <= _GRIP:
                return name
        return "draw"

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._drag = self._grip_at(event.position()) or "scrub"
        frame = self._frame(event.position().x())
        self._anchor = self._snapped(frame, event)
        if self._drag == "scrub":
            self._playback.locate(frame)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if not self._drag:
            grip = self._grip_at(event.position())
            self.setCursor(Qt.CursorShape.SizeHorCursor if grip in ("start", "end") else Qt.CursorShape.ArrowCursor)
            return
        frame = self._frame(event.position().x())
        if self._drag == "scrub":
            self._playback.locate(frame)
            return
        loop, here = self._sessions.session.loop, self._snapped(frame, event)
        start, end = {"start": (here, loop.end), "end": (loop.start, here),
                      "draw": (self._anchor, here)}[self._drag]
        if start != end:
            self._set_loop(Loop(min(start, end), max(start, end)), commit=False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag in ("start", "end", "draw"):
            self._gesture.keep()
        self._drag = ""

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        bar = self._beat() * self._sessions.session.beats_per_bar
        number = int(self._frame(event.position().x()) / bar)
        self._set_loop(Loop(round(number * bar), round((number + 1) * bar)), commit=True)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        loop, beat = self._sessions.session.loop, self._beat()
        step = beat * (self._sessions.session.beats_per_bar
                       if event.modifiers() & Qt.KeyboardModifier.ControlModifier else 1)
        match event.key():
            case Qt.Key.Key_Right:
                self._playback.locate(round((round(self._position / step) + 1) * step))
            case Qt.Key.Key_Left:
                self._playback.locate(max(0, round((round(self._position / step) - 1) * step)))
            case Qt.Key.Key_BracketLeft if self._position < loop.end:
                self._set_loop(Loop(self._position, loop.end), commit=True)
            case Qt.Key.Key_BracketRight if self._position > loop.start:
                self._set_loop(Loop(loop.start, self._position), commit=True)
            case _:
                super().keyPressEvent(event)

    def _set_loop(self, loop: Loop, *, commit: bool) -> None:
        self._gesture.show("Loop", "loop", lambda session: session.with_(loop=loop))
        if commit:
            self._gesture.keep()
