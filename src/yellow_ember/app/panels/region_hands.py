"""What a hand takes hold of in a track's regions, and what it does to them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPen

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.time_view import TimeView
from yellow_ember.app.widgets import theme
from yellow_ember.engine.placing import Placed
from yellow_ember.plain_text import plain_line
from yellow_ember.session.edits.time_edits import edit_region
from yellow_ember.session.values.model import Strip
from yellow_ember.session.values.regions import Region

NAME_BAR = 12
"""Height of the bar with a region's name, by which it is moved."""
LOWEST = 36
"""Height of a lane from which its regions have one."""
_EDGE = 5.0
MOVE, IN, OUT, FADE_IN, FADE_OUT = "move", "in", "out", "fade in", "fade out"
_LABELS = {MOVE: "Move a region", IN: "In of a region", OUT: "Out of a region", FADE_IN: "Fade in",
           FADE_OUT: "Fade out"}


@dataclass(frozen=True, slots=True)
class Grip:
    """What is held: which region of which strip, by which part, and the frame at which it was taken."""

    strip_id: str
    place: Placed
    part: str
    taken: int


class RegionHands:
    """Draws what can be taken hold of, finds it under a pointer, and moves it."""

    def __init__(self, sessions: SessionKeeper, imports: Imports, view: TimeView) -> None:
        self._sessions, self._imports, self._view = sessions, imports, view
        self._gesture = Gesture(sessions)

    def place_at(self, strip: Strip, x: float) -> Placed | None:
        """The strip's region at a pixel, the last that was added where several lie over each other."""
        return next((place for place in reversed(self._imports.placed(strip)) if
                     self._view.x_of(place.span.first) - _EDGE <= x <= self._view.x_of(place.span.end) + _EDGE), None)

    def grip_at(self, strip: Strip, box: QRectF, point: QPointF, *, anywhere: bool) -> Grip | None:
        """What a press takes hold of.

        Parameters
        ----------
        box : QRectF
            The strip's lane.
        anywhere : bool
            The region is moved wherever it is touched.
        """
        place = self.place_at(strip, point.x())
        if place is None:
            return None
        part = self._part_at(place, box, point) or (MOVE if anywhere else "")
        return Grip(strip.id, place, part, self._view.frame_at(point.x())) if part else None

    def _part_at(self, place: Placed, box: QRectF, point: QPointF) -> str:
        span, x = place.span, point.x()
        in_bar = box.height() >= LOWEST and point.y() - box.top() <= NAME_BAR
        left, right = self._view.x_of(span.first), self._view.x_of(span.end)
        if right - left < 4 * _EDGE:
            return MOVE if in_bar else ""
        if in_bar:
            # Of a fade that is none yet the end is taken hold of a little inside the corner.
            for part, at, corner, inside in ((FADE_IN, self._view.x_of(span.first + span.fade_in), left, 1.0),
                                             (FADE_OUT, self._view.x_of(span.end - span.fade_out), right, -1.0)):
                held = corner + inside * _EDGE if abs(at - corner) < _EDGE else at
                if abs(x - held) <= _EDGE:
                    return part
            return MOVE
        if abs(x - left) <= _EDGE and span.first > 0:
            return IN
        return OUT if abs(x - right) <= _EDGE else IN if abs(x - left) <= 0.6 * _EDGE else ""

    def drag(self, grip: Grip, frame: int, snapped: Callable[[int], int]) -> None:
        """Bring what is held to a frame, snapped as places are."""
        rate = self._sessions.session.rate
        place, moved = grip.place, _moved(grip, frame, snapped, rate)
        self._gesture.show(_LABELS[grip.part], (grip.part, place.region.id), lambda session: edit_region(
            session, grip.strip_id, moved, place.sound.frames / rate))

    def keep(self) -> None:
        """The hand has let go."""
        self._gesture.keep()

    def paint(self, painter: QPainter, strip: Strip, box: QRectF) -> None:
        """Draw the names, edges and fades of a strip's regions into its lane."""
        for place in self._imports.placed(strip):
            left, right = self._view.x_of(place.span.first), self._view.x_of(place.span.end)
            if right < 0 or left > box.width():
                continue
            painter.setPen(QPen(theme.EDGE, 1.0))
            for x in (left, right):
                painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            if box.height() >= LOWEST:
                self._paint_bar(painter, place, QRectF(left, box.top(), right - left, NAME_BAR), box)

    def _paint_bar(self, painter: QPainter, place: Placed, bar: QRectF, box: QRectF) -> None:
        span = place.span
        painter.fillRect(bar, theme.COMFORT)
        shown = bar.intersected(QRectF(0, bar.top(), box.width(), bar.height())).adjusted(14, 0, -14, 0)
        painter.setFont(theme.font(7))
        painter.setPen(theme.DIM)
        name = painter.fontMetrics().elidedText(plain_line(place.region.audio.name), Qt.TextElideMode.ElideRight,
                                                max(0, int(shown.width())))
        painter.drawText(shown, int(Qt.AlignmentFlag.AlignVCenter), name)
        painter.setPen(QPen(theme.TEXT, 1.0))
        for frames, corner, inside in ((span.fade_in, bar.left(), 1.0), (span.fade_out, bar.right(), -1.0)):
            length = frames / self._view.frames_per_pixel
            if length >= 1.0:
                path = QPainterPath(QPointF(corner, box.bottom()))
                path.cubicTo(QPointF(corner + inside * 0.5 * length, box.bottom()),
                             QPointF(corner + inside * 0.5 * length, bar.bottom()),
                             QPointF(corner + inside * length, bar.bottom()))
                painter.drawPath(path)
            at = corner + inside * max(length, _EDGE)
            painter.fillRect(QRectF(at - 2, bar.top() + 3, 4, bar.height() - 6), theme.DIM)


def _moved(grip: Grip, frame: int, snapped: Callable[[int], int], rate: float) -> Region:
    """The region as it is when what is held of it is at a frame."""
    region, span = grip.place.region, grip.place.span
    if grip.part == MOVE:
        return replace(region, start=snapped(max(0, span.first + frame - grip.taken)) / rate)
    at = snapped(frame)
    if grip.part == FADE_IN:
        return replace(region, fade_in=max(0, at - span.first) / rate)
    if grip.part == FADE_OUT:
        return replace(region, fade_out=max(0, span.end - at) / rate)
    if grip.part == OUT:
        return replace(region, end=(span.offset + max(1, at - span.first)) / rate)
    # What is heard stays where it is: the beginning moves in the file as it does in the session.
    offset = min(max(0, span.offset + at - span.first), span.offset + span.frames - 1)
    return replace(region, begin=offset / rate, start=(span.first + offset - span.offset) / rate,
                   end=region.end if region.end is not None else (span.offset + span.frames) / rate)
