"""Two moving reels, drawn flat: pack sizes follow the position, and they turn as fast as the tape runs."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from yellow_ember.app.widgets import theme
from yellow_ember.dsp.stage import Reels

_HUB = 0.3
"""Radius of the empty hub over that of a full pack."""


def pack_radii(reels: Reels, seconds: float) -> tuple[float, float]:
    """Radii in m of the pack that is let off and of the one that is wound up, after some time of play.

    What one reel loses in area the other one gains: area is length times thickness.
    """
    length = reels.speed * 60.0 * reels.minutes
    full = math.sqrt(length * reels.thickness / math.pi / (1.0 - _HUB**2))
    hub = _HUB * full
    wound = min(max(seconds * reels.speed, 0.0), length) * reels.thickness / math.pi
    return math.sqrt(max(full**2 - wound, hub**2)), math.sqrt(hub**2 + wound)


def turned(reels: Reels, seconds: float) -> tuple[float, float]:
    """Angles in radians that both reels have turned since the start: tape speed over pack radius, summed up."""
    supply, take_up = pack_radii(reels, 0.0)
    growth = reels.speed * reels.thickness / math.pi
    # The integral of v / sqrt(r^2 -+ g t).
    let_off = 2.0 * reels.speed / growth * (supply - math.sqrt(max(supply**2 - growth * seconds, 0.0)))
    wound = 2.0 * reels.speed / growth * (math.sqrt(take_up**2 + growth * seconds) - take_up)
    return let_off, wound


def draw_reels(painter: QPainter, box: QRectF, reels: Reels, seconds: float, loop_start: float) -> None:
    """Both reels with the tape between them; a mark on the tape's path shows where the loop begins."""
    largest = pack_radii(reels, 0.0)[0]
    radius = min(box.height() / 2.0 - 3.0, (box.width() - 10.0) / 4.3)
    scale = radius / largest
    middles = (QPointF(box.left() + radius + 4, box.center().y()), QPointF(box.right() - radius - 4, box.center().y()))
    radii = [pack * scale for pack in pack_radii(reels, seconds)]
    head = QPointF(box.center().x(), box.bottom() - 4)
    painter.setPen(QPen(theme.DIM, 1.2))
    for middle, pack, side in zip(middles, radii, (-1.0, 1.0), strict=True):
        painter.drawLine(QPointF(middle.x() + side * pack * 0.5, middle.y() + pack * 0.86), head)
    painter.setBrush(theme.AFTER)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.drawRect(QRectF(head.x() - 7, head.y() - 3, 14, 5))
    for middle, pack, angle, marked in zip(middles, radii, turned(reels, seconds), (False, True), strict=True):
        painter.setPen(QPen(theme.EDGE, 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(middle, radius, radius)
        painter.setBrush(theme.BEFORE_FILL)
        painter.setPen(QPen(theme.DIM, 1.0))
        painter.drawEllipse(middle, pack, pack)
        hub = _HUB * radius
        painter.setBrush(theme.PANEL)
        painter.drawEllipse(middle, hub, hub)
        painter.setPen(QPen(theme.TEXT, 2.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        for spoke in range(3):
            turn = angle + spoke * 2.0 * math.pi / 3.0
            painter.drawLine(middle + QPointF(math.cos(turn), math.sin(turn)) * (0.35 * hub),
                             middle + QPointF(math.cos(turn), math.sin(turn)) * (0.85 * hub))
        if marked and seconds > loop_start:
            here = pack_radii(reels, loop_start)[1] * scale
            painter.setPen(QPen(theme.AFTER, 1.0, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(middle, here, here)
