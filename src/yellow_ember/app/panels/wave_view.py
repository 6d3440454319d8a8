"""The waves under their ruler, with the loop and the position of playing.

Click or drag to go somewhere; drag in the ruler to draw a loop, or its ends to move them; double-click a bar to loop
it.  Places snap to beats, or to what else is chosen, and to nothing with Shift.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import (
    QColor,
    QContextMenuEvent,
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
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted, still
from yellow_ember.app.widgets.wave_image import line_image, pixel_extremes, wave_image
from yellow_ember.dsp.arrays import gain
from yellow_ember.engine.jobs.measuring import StripMeasurement
from yellow_ember.engine.jobs.wave_sums import COLUMN_FRAMES
from yellow_ember.engine.live.client import EngineState
from yellow_ember.engine.placing import Placed
from yellow_ember.files.overview import FINEST, over_channels
from yellow_ember.session.values.model import Loop, Session, Strip

BARS, MINUTES = 18, 12
"""Heights of the two rows of the ruler."""
TOP = BARS + MINUTES
_GRIP = 6
_LOWEST_LANE = 16
_NOTCH = 120.0
"""What a mouse wheel turns at least, in Qt's units."""
_NEAREST_CROSSING_SECONDS = 0.02
_LABEL_PIXELS = 44
_FILLED, _TALLEST = 0.9, 8.0
"""The loudest of what is shown fills so much of its lane, where it need not be drawn more than so much larger."""
_POINTS_FROM = 0.125
"""Frames a pixel: from here on every sample is a point."""
_LINES_FROM = 36
"""Height of a lane from which lines find room."""
_STEPS_SEEN = 16
"""Pixels: columns that are wider are no wave any more."""

KEYS = (("[ and ]", "loop from here, loop to here"), ("Left, Right", "a beat back, a beat on; with Ctrl a bar"),
        ("+ and -", "zoom in and out"), ("Double-click", "loop a bar"), ("Wheel", "scroll; with Ctrl zoom"))
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
        self._gesture = Gesture(self._sessions)
        self._position = 0
        self._drag = ""
        self._anchor = 0
        self._lanes_above = 0
        self._scale = 1.0
        self._peaks: dict[str, tuple[object, float]] = {}
        """By strip, the greatest magnitude of what enters it, and of which copy or wave that is."""
        self._still: QPixmap | None = None
        self._shown: tuple[object, ...] = ()
        self.menu: QMenu | None = None
        """What a right click opens."""
        self.setMinimumHeight(TOP + 30)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
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

    def draw_again(self) -> None:
        """Show what there is now."""
        self._still = None
        self.update()

    def _refresh(self) -> None:
        """Draw the waves again where anything in them has changed."""
        session, strips = self._sessions.session, self._strips()
        self._view.set_size(self.width(), self._imports.length)
        self._waves.look_at(frozenset(strip.id for strip in strips if strip.chain or not strip.regions))
        shown = (session.loop, session.tempo, session.beats_per_bar, self._imports.length, self._selection.strip_id,
                 self._settings.all_waves, id(self._added.part), *(
                     (strip.id, strip.name, strip.match_db, bool(strip.chain), self._imports.placed(strip),
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

    def _beat(self) -> float:
        return _beat_frames(self._sessions.session)

    def _snapped(self, frame: int, event: QMouseEvent) -> int:
        snap = self._settings.snap
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or snap == "off":
            return frame
        if snap == "crossing":
            return self._crossing(frame)
        step = self._beat() * (self._sessions.session.beats_per_bar if snap == "bar" else 1)
        return min(round(round(frame / step) * step), self._imports.length)

    def _crossing(self, frame: int) -> int:
        """The nearest place where the chosen track's sound goes through zero upwards, or the frame itself."""
        place = next((place for place in self._imports.placed(self._selection.strip)
                      if place.span.first <= frame < place.span.end), None)
        if place is None:
            return frame
        reach, shift = round(_NEAREST_CROSSING_SECONDS * place.sound.rate), place.span.first - place.span.offset
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
        peak = max((self._peak(strip) for strip, _box in boxes), default=0.0)
        self._scale = min(max(1.0, _FILLED / peak), _TALLEST) if peak > 0.0 else 1.0
        for strip, box in boxes:
            if len(boxes) > 1 or self._settings.all_waves:
                self._paint_lane(painter, strip, box)
            else:
                self._paint_strip(painter, strip, box)

    def _peak(self, strip: Strip) -> float:
        """The greatest magnitude of what enters a strip, as far as it is known."""
        places, whole = self._imports.placed(strip), self._waves.wave(strip.id)
        key = places or whole
        if key is None:
            return 0.0
        known = self._peaks.get(strip.id)
        if known is None or known[0] != key:
            columns: NDArray[np.floating] = np.zeros(0) if whole is None else whole.before
            if places:
                columns = np.concatenate([
                    place.sound.stretch(0, place.sound.frames, float(place.sound.frames)).columns.ravel()
                    for place in places])
            known = self._peaks[strip.id] = (key, float(np.abs(columns).max(initial=0.0)))
        return known[1]

    def _paint_bars(self, painter: QPainter, bottom: float) -> None:
        bar = self._beat() * self._sessions.session.beats_per_bar
        every = 1.0
        while bar * every / self._view.frames_per_pixel < _LABEL_PIXELS:
            every *= 2.0
        painter.setFont(theme.font(7.5))
        beats = self._sessions.session.beats_per_bar
        if every == 1.0 and bar / beats / self._view.frames_per_pixel >= 12.0:
            painter.setPen(QPen(theme.EDGE, 0.6))
            for number in self._numbers(bar / beats):
                x = self.x_of(number * bar / beats)
                painter.drawLine(QPointF(x, BARS - 4), QPointF(x, BARS))
        for number in self._numbers(bar * every):
            x = self.x_of(number * bar * every)
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

    def _numbers(self, frames: float) -> range:
        """Multiples of a length that are in sight."""
        end = min(self._view.end, self._imports.length)
        return range(max(0, int(self._view.first // frames)), int(end // frames) + 1)

    def _paint_lane(self, painter: QPainter, strip: Strip, box: QRectF) -> None:
        """One strip among others: its wave, its name, and whether it is chosen."""
        chosen = strip.id == self._selection.strip_id
        self._paint_strip(painter, strip, box.adjusted(0, 1, 0, -1))
        painter.setPen(QPen(theme.EDGE, 1.0))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        painter.setFont(theme.font(7.5))
        name = painter.fontMetrics().elidedText(strip.name, Qt.TextElideMode.ElideRight, 120)
        label = QRectF(4, box.top() + 1, painter.fontMetrics().horizontalAdvance(name) + 8, 13)
        painter.fillRect(label, theme.RAISED if chosen else theme.PANEL)
        painter.setPen(theme.TEXT if chosen else theme.DIM)
        painter.drawText(label, int(Qt.AlignmentFlag.AlignCenter), name)
        if chosen:
            painter.fillRect(QRectF(0, box.top(), 3, box.height()), theme.AFTER)

    def _paint_strip(self, painter: QPainter, strip: Strip, box: QRectF) -> None:
        """What enters a strip and what leaves it; in a low lane, where lines find no room, that lies behind."""
        low = box.height() < _LINES_FROM
        if low:
            self._paint_after(painter, strip, box)
        places, whole, result = self._imports.placed(strip), self._waves.wave(strip.id), self._measurer.latest(
            strip.id)
        if places:
            for place in places:
                self._paint_region(painter, box, place)
        elif whole is not None:
            self._paint_columns(painter, box, whole.before, 0, COLUMN_FRAMES, theme.BEFORE)
        elif result is not None:
            self._paint_columns(painter, box, result.wave_before, *_place(result, result.wave_before), theme.BEFORE)
        if not low:
            self._paint_after(painter, strip, box)

    def _paint_after(self, painter: QPainter, strip: Strip, box: QRectF) -> None:
        """What leaves a strip: of all the session where that is known, else of the loop; or what was added there."""
        whole, result, added = self._waves.wave(strip.id), self._measurer.latest(strip.id), self._added.part
        scale = gain(strip.match_db)
        if added is not None and added.part.strip_id == strip.id and result is not None:
            self._paint_columns(painter, box, added.wave * scale, *_place(result, added.wave),
                                theme.added_colour(added.against_db))
        elif strip.chain and whole is not None:
            self._paint_outline(painter, box, whole.after, 0, COLUMN_FRAMES)
        elif strip.chain and result is not None:
            self._paint_outline(painter, box, result.wave_after * scale, *_place(result, result.wave_after))

    def _paint_region(self, painter: QPainter, box: QRectF, place: Placed) -> None:
        view, span = self._view, place.span
        shift = span.first - span.offset
        begin, end = max(span.first, int(view.first) - 1) - shift, min(span.end, int(view.end) + 2) - shift
        if end <= begin:
            return
        if view.frames_per_pixel >= FINEST:
            part = place.sound.stretch(begin, end, view.frames_per_pixel)
            columns, start, frames = part.columns, part.start, part.frames
        else:
            start, frames = begin, 1
            sound = place.sound.samples(begin, end)
            if view.frames_per_pixel < 1.0:
                self._paint_samples(painter, box, sound, begin + shift)
                return
            columns = np.repeat(sound[:, :, None], 2, axis=2)
        self._paint_columns(painter, box, over_channels(columns), start + shift, frames, theme.BEFORE)

    def _paint_columns(self, painter: QPainter, box: QRectF, columns: NDArray[np.floating], start: int,
                       frames: float, colour: QColor) -> None:
        """A filled wave of columns (columns, 2) of so many frames each."""
        low, high, left = pixel_extremes(columns * self._scale, start, frames, self._view.first,
                                         self._view.frames_per_pixel, self.width())
        if low.size:
            shade = QColor(colour)
            shade.setAlphaF(0.7)
            painter.drawImage(QPointF(left, box.top()), wave_image(low, high, max(1, int(box.height())), shade))

    def _paint_samples(self, painter: QPainter, box: QRectF, sound: NDArray[np.float32], start: int) -> None:
        """So near that there are fewer samples than pixels: a line through them, and nearer still every one a point."""
        if len(sound) == 0:
            return
        values, frames = sound.mean(axis=1) * self._scale, start + np.arange(len(sound))
        left = max(0, int(self.x_of(frames[0])))
        right = min(self.width(), int(self.x_of(frames[-1])))
        edges = np.interp(self._view.first + np.arange(left, right + 1) * self._view.frames_per_pixel, frames, values)
        painter.drawImage(QPointF(left, box.top()), line_image(edges, max(1, int(box.height())), theme.BEFORE))
        if self._view.frames_per_pixel < _POINTS_FROM:
            middle, half = box.center().y(), 0.5 * box.height()
            for frame, value in zip(frames.tolist(), values.tolist(), strict=True):
                painter.fillRect(QRectF(self.x_of(frame) - 1.5, middle - min(max(value, -1.0), 1.0) * half - 1.5, 3, 3),
                                 theme.BEFORE)

    def _paint_outline(self, painter: QPainter, box: QRectF, columns: NDArray[np.floating], start: int,
                       frames: float) -> None:
        """What leaves the strip, as a line above and one below; so near that there is a wave to see it is none."""
        if self._view.frames_per_pixel < frames / _STEPS_SEEN:
            return
        if box.height() < _LINES_FROM:
            self._paint_columns(painter, box, columns, start, frames, theme.AFTER)
            return
        low, high, left = pixel_extremes(columns * self._scale, start, frames, self._view.first,
                                         self._view.frames_per_pixel, self.width())
        for edge in (low, high):
            painter.drawImage(QPointF(left, box.top()), line_image(edge, max(1, int(box.height())), theme.AFTER))

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
        self._drag = self._grip_at(point) or "scrub"
        frame = self._view.frame_at(point.x())
        self._anchor = self._snapped(frame, event)
        if self._drag == "scrub":
            self._playback.locate(frame)
            if self._settings.all_waves:
                strip = next((strip for strip, box in self.lanes if box.contains(point)), None)
                if strip is not None and strip.id != self._selection.strip_id:
                    self._selection.select(strip.id)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if not self._drag:
            grip = self._grip_at(event.position())
            self.setCursor(Qt.CursorShape.SizeHorCursor if grip in ("start", "end") else Qt.CursorShape.ArrowCursor)
            return
        frame = self._view.frame_at(event.position().x())
        if self._drag == "scrub":
            self._playback.locate(frame)
            return
        loop, here = self._sessions.session.loop, self._snapped(frame, event)
        start, end = {"start": (here, loop.end), "end": (loop.start, here),
                      "draw": (self._anchor, here)}[self._drag]
        if start != end:
            self.set_loop(Loop(min(start, end), max(start, end)), commit=False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag in ("start", "end", "draw"):
            self._gesture.keep()
        self._drag = ""

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        bar = self._beat() * self._sessions.session.beats_per_bar
        number = int(self._view.frame_at(event.position().x()) / bar)
        self.set_loop(Loop(round(number * bar), round((number + 1) * bar)), commit=True)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self.menu is not None:
            self.menu.popup(event.globalPos())

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
        loop, beat = self._sessions.session.loop, self._beat()
        step = beat * (self._sessions.session.beats_per_bar
                       if event.modifiers() & Qt.KeyboardModifier.ControlModifier else 1)
        match event.key():
            case Qt.Key.Key_Right:
                self._playback.locate(round((round(self._position / step) + 1) * step))
            case Qt.Key.Key_Left:
                self._playback.locate(max(0, round((round(self._position / step) - 1) * step)))
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


def _place(result: StripMeasurement, columns: NDArray[np.floating]) -> tuple[int, float]:
    """The frame that a measured stretch's columns begin with, and how many frames each stands for."""
    return result.start, (result.end - result.start) / len(columns)


def _beat_frames(session: Session) -> float:
    return 60.0 / session.tempo * session.rate


_SECONDS = (0.0001, 0.0005, 0.001, 0.005, 0.01, 0.05, 0.1, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1800)
"""Distances that the ruler in minutes takes."""


def _time_text(seconds: float, step: float) -> str:
    """A time as minutes and seconds, with as many decimals as a step needs."""
    decimals = 0 if step >= 1 else max(1, int(np.ceil(-np.log10(step))))
    minutes, rest = divmod(round(seconds, 4), 60.0)
    return f"{int(minutes)}:{rest:0{3 + decimals if decimals else 2}.{decimals}f}"


def bars_stretch(session: Session, words: str, length: int) -> Loop:
    """The stretch from one bar to the end of another, "5-8" or "5" alone; ValueError says what is wrong."""
    first, _, last = words.replace("\N{EN DASH}", "-").partition("-")
    try:
        start, end = int(first), int(last or first)
    except ValueError:
        raise ValueError("type bars like 5-8") from None
    if not 1 <= start <= end:
        raise ValueError("bars begin at 1, and the last comes after the first")
    bar = _beat_frames(session) * session.beats_per_bar
    stretch = Loop(round((start - 1) * bar), min(round(end * bar), length))
    if stretch.end <= stretch.start:
        raise ValueError(f"the session ends with bar {int(length / bar) + 1}")
    return stretch
