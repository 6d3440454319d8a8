"""The waves under their ruler, with the loop and the position of playing.

Click or drag to go somewhere; drag in the ruler to draw a loop, or its ends to move them; double-click a bar to loop
it.  Places snap to beats, or to what else is chosen, and to nothing with Shift.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import (
    QColor,
    QContextMenuEvent,
    QDragEnterEvent,
    QDragMoveEvent,
    QDropEvent,
    QKeyEvent,
    QMouseEvent,
    QNativeGestureEvent,
    QPainter,
    QPen,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QMenu, QWidget

from yellow_ember.app.panels.region_hands import MOVE, Grip, RegionHands
from yellow_ember.app.panels.wave_painter import WavePainter
from yellow_ember.app.state.added import AddedListening
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.session_waves import SessionWaves
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.state.time_view import ZOOM_STEP, TimeView
from yellow_ember.app.tools.tool import dropped_files
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted, still
from yellow_ember.engine.live.client import EngineState
from yellow_ember.engine.placing import Placed
from yellow_ember.files.reading import READABLE
from yellow_ember.session.values.bars import at_beat, bar_1, bar_frames, beats_at, snapped
from yellow_ember.session.values.model import Loop, Strip, StripKind

BARS, MINUTES = 18, 12
"""Heights of the two rows of the ruler."""
TOP = BARS + MINUTES
_GRIP = 6
_LOWEST_LANE = 16
_NOTCH = 120.0
"""What a mouse wheel turns at least, in Qt's units."""
_NEAREST_CROSSING_SECONDS = 0.02
_LABEL_PIXELS = 44
KEYS = (("[ and ]", "loop from here, loop to here"), ("Left, Right", "a beat back, a beat on; with Ctrl a bar"),
        ("+ and -", "zoom in and out"), ("Double-click", "loop a bar"), ("Alt+drag in the ruler", "where bar 1 begins"),
        ("Alt+drag of a wave", "move the region"), ("Wheel", "scroll; with Ctrl zoom"))
"""What it answers to, for the sheet of keys."""


class WaveView(QWidget):
    """Ruler and waves of the chosen strip, or of all strips one over the other."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, imports: Imports,
                 measurer: Measurer, added: AddedListening, settings: Settings, time_view: TimeView,
                 session_waves: SessionWaves) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback, self._imports = sessions, selection, playback, imports
        self._measurer, self._added, self._settings, self._view = measurer, added, settings, time_view
        self._waves = session_waves
        self._regions = RegionHands(sessions, imports, time_view)
        self._held: Grip | None = None
        self._waves_of = WavePainter(imports, measurer, added, time_view, session_waves)
        self._gesture = Gesture(self._sessions)
        self._position = 0
        self._drag = ""
        self._anchor = 0
        self._lanes_above = 0
        self._still: QPixmap | None = None
        self._shown: tuple[object, ...] = ()
        self.menu_at: Callable[[QPointF], QMenu] | None = None
        """What a right click at a point opens."""
        self.setMinimumHeight(TOP + 30)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self.setAccessibleName("Waveform and loop")
        self.setAccessibleDescription("Left and right go by a beat, Control with them by a bar, Home to the start, "
                                      "plus and minus zoom, bracket keys set the loop's ends to where playing is.")
        self._sessions.changed.connect(self._refresh)
        self._selection.changed.connect(self._refresh)
        self._measurer.changed.connect(self._refresh)
        self._added.changed.connect(self._refresh)
        self._playback.frame.connect(self._on_frame)
        self._view.changed.connect(self.draw_again)
        self._waves.changed.connect(self.draw_again)

    def sizeHint(self) -> QSize:
        return QSize(1200, 112)

    @property
    def position(self) -> int:
        """The frame at which playing is."""
        return self._position

    def draw_again(self) -> None:
        """Show what there is now."""
        self._still = None
        self.update()

    def _refresh(self) -> None:
        """Draw the waves again where anything in them has changed."""
        session, strips = self._sessions.session, self._strips()
        if self._held is None:
            # What is dragged may make the session longer: the view stays as it is under the hand.
            self._view.set_size(self.width(), self._imports.length)
        self._waves.look_at(frozenset(strip.id for strip in strips if strip.chain or not strip.regions))
        shown = (session.loop, session.tempo, session.beats_per_bar, session.first_beat, self._imports.length,
                 self._selection.strip_id, self._settings.all_waves, id(self._added.part), *(
                     (strip.id, strip.name, strip.tint, strip.match_db, bool(strip.chain), self._imports.placed(strip),
                      id(self._measurer.latest(strip.id))) for strip in strips))
        if shown != self._shown:
            self._shown = shown
            self.draw_again()

    def _strips(self) -> list[Strip]:
        """Whose waves are shown, from the top."""
        return list(self._sessions.session.strips) if self._settings.all_waves else [self._selection.strip]

    def show_all_strips(self, on: bool) -> None:
        """Show a lane for every strip, or the chosen strip's wave alone."""
        self._settings.all_waves = on
        self._lanes_above = 0
        self._refresh()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._view.set_size(self.width(), self._imports.length)
        self.draw_again()

    def _on_frame(self, state: EngineState) -> None:
        if state.position != self._position:
            for x in (self.x_of(self._position), self.x_of(state.position)):
                self.update(int(x) - 3, 0, 7, self.height())
            before, self._position = self._position, state.position
            if state.playing and not self._drag:
                self._view.follow(state.position, before, self._settings.follow)

    # -- geometry -----------------------------------------------------------------------

    def x_of(self, frame: float) -> float:
        """The pixel of a frame."""
        return self._view.x_of(frame)

    def _snapped(self, frame: int, event: QMouseEvent) -> int:
        snap = self._settings.snap
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or snap == "off":
            return frame
        if snap == "crossing":
            return self._crossing(frame)
        return min(round(snapped(self._sessions.session, frame, snap)), self._imports.length)

    def _crossing(self, frame: int) -> int:
        """The nearest place where the chosen track's sound goes through zero upwards, or the frame itself."""
        place = next((place for place in self._imports.placed(self._selection.strip)
                      if place.span.first <= frame < place.span.end), None)
        if place is None:
            return frame
        reach, shift = round(_NEAREST_CROSSING_SECONDS * place.sound.rate), place.span.shift
        begin = max(place.span.first, frame - reach)
        sound = place.sound.samples(begin - shift, frame + reach - shift).mean(axis=1)
        upwards = np.flatnonzero((sound[:-1] < 0.0) & (sound[1:] >= 0.0)) + 1
        return frame if upwards.size == 0 else begin + int(upwards[np.argmin(np.abs(upwards + begin - frame))])

    @property
    def lanes(self) -> list[tuple[Strip, QRectF]]:
        """The strips that are in sight, with their lanes."""
        strips, height = self._strips(), float(self.height() - TOP - 4)
        lane = max(float(_LOWEST_LANE), height / len(strips))
        first = min(self._lanes_above, self._hidden_lanes())
        boxes = []
        for row, strip in enumerate(strips[first:]):
            if row * lane >= height:
                break
            boxes.append((strip, QRectF(0, TOP + row * lane, self.width(), min(lane, height - row * lane))))
        return boxes

    def _hidden_lanes(self) -> int:
        """How many lanes there are more than find room."""
        room = max(1, int((self.height() - TOP - 4) / _LOWEST_LANE))
        return max(0, len(self._strips()) - room)

    # -- drawing ------------------------------------------------------------------------

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        if self._still is None:
            self._still = still(self, theme.PANEL, self._paint_content)
        painter.drawPixmap(0, 0, self._still)
        x = self.x_of(self._position)
        painter.setPen(QPen(theme.TEXT, 1.4))
        painter.drawLine(QPointF(x, 2), QPointF(x, self.height() - 2))
        if self.hasFocus():
            painter.setPen(QPen(theme.AFTER, 1.0, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _paint_content(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bottom = self.height() - 4
        painter.fillRect(QRectF(0, TOP, self.width(), bottom - TOP), theme.GROUND)
        loop = self._sessions.session.loop
        if loop.end > loop.start:
            left, right = self.x_of(loop.start), self.x_of(loop.end)
            painter.fillRect(QRectF(left, TOP, right - left, bottom - TOP), theme.RAISED)
            painter.fillRect(QRectF(left, 2, right - left, 12), theme.AFTER_FILL if loop.on else theme.RAISED)
            painter.setPen(QPen(theme.AFTER if loop.on else theme.DIM, 1.5))
            for x in (left, right):
                painter.drawLine(QPointF(x, 2), QPointF(x, bottom))
        self._paint_bars(painter, bottom)
        self._paint_minutes(painter)
        boxes = self.lanes
        self._waves_of.fit([strip for strip, _box in boxes])
        for strip, box in boxes:
            if len(boxes) > 1 or self._settings.all_waves:
                self._paint_lane(painter, strip, box)
            else:
                self._waves_of.paint(painter, strip, box)
                self._regions.paint(painter, strip, box)

    def _paint_bars(self, painter: QPainter, bottom: float) -> None:
        session = self._sessions.session
        bar, begin = bar_frames(session), bar_1(session)
        every = 1.0
        while bar * every / self._view.frames_per_pixel < _LABEL_PIXELS:
            every *= 2.0
        painter.setFont(theme.font(7.5))
        beats = session.beats_per_bar
        if every == 1.0 and bar / beats / self._view.frames_per_pixel >= 12.0:
            painter.setPen(QPen(theme.EDGE, 0.6))
            for number in self._numbers(bar / beats, begin):
                x = self.x_of(begin + number * bar / beats)
                painter.drawLine(QPointF(x, BARS - 4), QPointF(x, BARS))
        for number in self._numbers(bar * every, begin):
            x = self.x_of(begin + number * bar * every)
            painter.setPen(QPen(theme.EDGE, 1.0))
            painter.drawLine(QPointF(x, BARS - 5), QPointF(x, bottom))
            painter.setPen(theme.DIM)
            painter.drawText(QRectF(x + 3, 1, _LABEL_PIXELS, 14), int(Qt.AlignmentFlag.AlignVCenter),
                             str(round(number * every) + 1))

    def _paint_minutes(self, painter: QPainter) -> None:
        rate = self._sessions.session.rate
        step = next((step for step in _SECONDS if step * rate / self._view.frames_per_pixel >= 1.6 * _LABEL_PIXELS),
                    _SECONDS[-1])
        painter.setFont(theme.font(7))
        painter.setPen(theme.FAINT)
        for number in self._numbers(step * rate):
            x = self.x_of(number * step * rate)
            painter.drawLine(QPointF(x, TOP - 3), QPointF(x, TOP))
            painter.drawText(QRectF(x + 3, BARS, 2 * _LABEL_PIXELS, MINUTES), int(Qt.AlignmentFlag.AlignVCenter),
                             _time_text(number * step, step))

    def _numbers(self, frames: float, begin: float = 0.0) -> range:
        """Multiples of a length from a frame on that are in sight; below zero for those before it."""
        end = min(self._view.end, self._imports.length)
        return range(int((self._view.first - begin) // frames), int((end - begin) // frames) + 1)

    def _paint_lane(self, painter: QPainter, strip: Strip, box: QRectF) -> None:
        """One strip among others: its wave, its name, and whether it is chosen."""
        chosen = strip.id == self._selection.strip_id
        self._waves_of.paint(painter, strip, box.adjusted(0, 1, 0, -1))
        self._regions.paint(painter, strip, box.adjusted(0, 1, 0, -1))
        painter.setPen(QPen(theme.EDGE, 1.0))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        painter.setFont(theme.font(7.5))
        name = painter.fontMetrics().elidedText(strip.name, Qt.TextElideMode.ElideRight, 120)
        if strip.tint:
            painter.fillRect(QRectF(4, box.top() + 1, 4, 13), QColor(strip.tint))
        label = QRectF(8 if strip.tint else 4, box.top() + 1, painter.fontMetrics().horizontalAdvance(name) + 8, 13)
        painter.fillRect(label, theme.RAISED if chosen else theme.PANEL)
        painter.setPen(theme.TEXT if chosen else theme.DIM)
        painter.drawText(label, int(Qt.AlignmentFlag.AlignCenter), name)
        if chosen:
            painter.fillRect(QRectF(0, box.top(), 3, box.height()), theme.AFTER)

    # -- hands --------------------------------------------------------------------------

    def _grip_at(self, point: QPointF) -> str:
        loop = self._sessions.session.loop
        if point.y() > TOP:
            return ""
        for name, frame in (("start", loop.start), ("end", loop.end)):
            if loop.end > loop.start and abs(point.x() - self.x_of(frame)) <= _GRIP:
                return name
        return "draw"

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        point = event.position()
        frame = self._view.frame_at(point.x())
        self._anchor = self._snapped(frame, event)
        strip, self._held = self.strip_at(point), self._grip_on_region(event)
        self._drag = self._grip_at(point) or ("region" if self._held is not None else "scrub")
        if point.y() < TOP and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self._drag = "bars"
        if self._drag == "scrub":
            self._playback.locate(frame)
        if strip is not None and strip.id != self._selection.strip_id:
            self._selection.select(strip.id)

    def strip_at(self, point: QPointF) -> Strip | None:
        """The strip in whose lane a point lies."""
        return next((strip for strip, box in self.lanes if box.contains(point)), None)

    def place_at(self, point: QPointF) -> tuple[Strip | None, Placed | None]:
        """The strip and the region of it at a point."""
        strip = self.strip_at(point)
        return strip, None if strip is None else self._regions.place_at(strip, point.x())

    def _grip_on_region(self, event: QMouseEvent) -> Grip | None:
        """What is under the pointer of a region: with Alt the whole of it, wherever it is touched."""
        point, anywhere = event.position(), bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        return next((self._regions.grip_at(strip, box, point, anywhere=anywhere)
                     for strip, box in self.lanes if box.contains(point)), None)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if not self._drag:
            self.setCursor(self._cursor_for(event))
            return
        frame = self._view.frame_at(event.position().x())
        if self._drag == "scrub":
            self._playback.locate(frame)
            return
        if self._held is not None:
            self._regions.drag(self._held, frame, lambda frame: self._snapped(frame, event))
            return
        if self._drag == "bars":
            self._gesture.show("First beat", "bars", lambda session: session.with_(first_beat=frame / session.rate))
            return
        loop, here = self._sessions.session.loop, self._snapped(frame, event)
        start, end = {"start": (here, loop.end), "end": (loop.start, here),
                      "draw": (self._anchor, here)}[self._drag]
        if start != end:
            self.set_loop(Loop(min(start, end), max(start, end)), commit=False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag in ("start", "end", "draw", "bars"):
            self._gesture.keep()
        if self._held is not None:
            self._regions.keep()
        self._drag, self._held = "", None
        self._refresh()

    def _cursor_for(self, event: QMouseEvent) -> Qt.CursorShape:
        held = self._grip_on_region(event)
        if held is not None and held.part == MOVE:
            return Qt.CursorShape.OpenHandCursor
        if held is not None or self._grip_at(event.position()) in ("start", "end"):
            return Qt.CursorShape.SizeHorCursor
        return Qt.CursorShape.ArrowCursor

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        session = self._sessions.session
        beats = session.beats_per_bar
        number = math.floor(beats_at(session, self._view.frame_at(event.position().x())) / beats)
        self.set_loop(Loop(at_beat(session, number * beats), at_beat(session, (number + 1) * beats)), commit=True)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        self.dragMoveEvent(event)

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:
        strip = self.strip_at(event.position())
        takes = strip is not None and strip.kind is StripKind.TRACK
        if takes and all(path.suffix.lower() in READABLE for path in dropped_files(event.mimeData())):
            event.acceptProposedAction()
        else:
            event.ignore()

    def dropEvent(self, event: QDropEvent) -> None:
        strip, paths = self.strip_at(event.position()), dropped_files(event.mimeData())
        if strip is not None and paths:
            frame: float = self._view.frame_at(event.position().x())
            if self._settings.snap in ("beat", "bar") and not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                frame = snapped(self._sessions.session, frame, self._settings.snap)
            self._sessions.add_files(strip.id, paths, frame / self._sessions.session.rate)
            event.acceptProposedAction()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self.menu_at is not None:
            self.menu_at(QPointF(event.pos())).popup(event.globalPos())

    def wheelEvent(self, event: QWheelEvent) -> None:
        turned, aside = event.angleDelta().y(), event.angleDelta().x()
        modifiers = event.modifiers()
        if modifiers & Qt.KeyboardModifier.ControlModifier:
            self._view.zoom(ZOOM_STEP ** ((turned or aside) / _NOTCH), event.position().x())
        elif aside == 0 and not modifiers & Qt.KeyboardModifier.ShiftModifier and self._hidden_lanes():
            self._lanes_above = min(max(0, self._lanes_above - round(turned / _NOTCH)), self._hidden_lanes())
            self.draw_again()
        else:
            self._view.scroll(-(aside or turned) / _NOTCH * 0.08 * self.width())
        event.accept()

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QNativeGestureEvent) and event.gestureType() == Qt.NativeGestureType.ZoomNativeGesture:
            self._view.zoom(max(0.1, 1.0 + event.value()), event.position().x())
            return True
        return super().event(event)

    def zoom(self, factor: float) -> None:
        """Zoom around the pointer, or around the play position where the pointer is elsewhere."""
        pointer = self.mapFromGlobal(self.cursor().pos())
        x = float(pointer.x()) if self.rect().contains(pointer) else self.x_of(self._position)
        self._view.zoom(factor, min(max(x, 0.0), float(self.width())))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        session = self._sessions.session
        loop = session.loop
        step = session.beats_per_bar if event.modifiers() & Qt.KeyboardModifier.ControlModifier else 1
        number = round(beats_at(session, self._position) / step)
        match event.key():
            case Qt.Key.Key_Right:
                self._playback.locate(at_beat(session, (number + 1) * step))
            case Qt.Key.Key_Left:
                self._playback.locate(at_beat(session, (number - 1) * step))
            case Qt.Key.Key_Plus | Qt.Key.Key_Equal:
                self.zoom(ZOOM_STEP)
            case Qt.Key.Key_Minus:
                self.zoom(1.0 / ZOOM_STEP)
            case Qt.Key.Key_BracketLeft if self._position < loop.end:
                self.set_loop(Loop(self._position, loop.end), commit=True)
            case Qt.Key.Key_BracketRight if self._position > loop.start:
                self.set_loop(Loop(loop.start, self._position), commit=True)
            case _:
                super().keyPressEvent(event)

    def set_loop(self, loop: Loop, *, commit: bool) -> None:
        """Loop a stretch; a step of the history where it is to be kept, else tried until then."""
        self._gesture.show("Loop", "loop", lambda session: session.with_(loop=loop))
        if commit:
            self._gesture.keep()


_SECONDS = (0.0001, 0.0005, 0.001, 0.005, 0.01, 0.05, 0.1, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1800)
"""Distances that the ruler in minutes takes."""


def _time_text(seconds: float, step: float) -> str:
    """A time as minutes and seconds, with as many decimals as a step needs."""
    decimals = 0 if step >= 1 else max(1, int(np.ceil(-np.log10(step))))
    minutes, rest = divmod(round(seconds, 4), 60.0)
    return f"{int(minutes)}:{rest:0{3 + decimals if decimals else 2}.{decimals}f}"
