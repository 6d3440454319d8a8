"""Draws a stage's glyph."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from yellow_ember.dsp.glyphs import Glyph


def draw_glyph(painter: QPainter, box: QRectF, glyph: Glyph, colour: QColor, width: float = 1.3) -> None:
    """Draw strokes into the largest square in the middle of a box."""
    side = min(box.width(), box.height())
    left, top = box.center().x() - side / 2.0, box.center().y() - side / 2.0
    pen = QPen(colour, width)
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for stroke in glyph:
        painter.drawPolyline(QPolygonF([QPointF(left + x * side, top + y * side) for x, y in stroke]))
    painter.restore()
