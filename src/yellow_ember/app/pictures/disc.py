"""A record that turns, drawn flat, with what lies in its groove and the stylus where it plays."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from yellow_ember.app.widgets import theme
from yellow_ember.dsp.stage import Disc

_EDGE_MM, _LABEL_MM, _FIRST_MM, _LAST_MM = 151.0, 50.0, 146.0, 55.0
_ARM_DEGREES = -28.0
"""Where the stylus stands, from the right."""


def draw_disc(painter: QPainter, box: QRectF, disc: Disc, seconds: float) -> None:
    """The record at a session second; damage comes round under the stylus."""
    radius = min(box.height(), box.width()) / 2.0 - 2.0
    middle = QPointF(box.left() + box.width() / 2.0, box.center().y())
    scale = radius / _EDGE_MM
    turn = 2.0 * math.pi * disc.turns * seconds
    painter.setPen(QPen(theme.EDGE, 1.0))
    painter.setBrush(theme.GROUND)
    painter.drawEllipse(middle, radius, radius)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for ring in range(8):
        along = (_LAST_MM + ring / 7.0 * (_FIRST_MM - _LAST_MM)) * scale
        painter.drawEllipse(middle, along, along)
    painter.setBrush(theme.AFTER_FILL)
    painter.setPen(QPen(theme.DIM, 1.0))
    painter.drawEllipse(middle, _LABEL_MM * scale, _LABEL_MM * scale)
    painter.setPen(QPen(theme.TEXT, 2.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
    for spoke in range(2):
        way = QPointF(math.cos(turn + spoke * math.pi), math.sin(turn + spoke * math.pi))
        painter.drawLine(middle + way * (0.5 * _LABEL_MM * scale), middle + way * (0.85 * _LABEL_MM * scale))
    here = disc.radius_mm * scale
    painter.setPen(QPen(theme.AFTER, 1.2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawEllipse(middle, here, here)
    arm = math.radians(_ARM_DEGREES)
    places, sizes = disc.marks(seconds)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.TEXT)
    for share, size in zip(places, sizes, strict=True):
        # What lies ahead comes to the stylus as the record turns.
        angle = arm - 2.0 * math.pi * share + turn
        painter.drawEllipse(middle + QPointF(math.cos(angle), math.sin(angle)) * here, size, size)
    point = middle + QPointF(math.cos(arm), math.sin(arm)) * here
    painter.setPen(QPen(theme.AFTER, 2.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
    painter.drawLine(point, middle + QPointF(math.cos(arm), math.sin(arm)) * (radius * 1.04) + QPointF(12, -18))
    painter.setBrush(theme.AFTER)
    painter.drawEllipse(point, 3.0, 3.0)
