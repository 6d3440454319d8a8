"""The drawing of a level as the desk and the top line show it."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from yellow_ember.app.widgets import theme

LOWEST, HIGHEST = -36.0, 18.0
"""What a level drawing spans, in dB against 0 VU."""


def against_vu(amplitude: float, reference_dbfs: float) -> float:
    """dB over 0 VU of an amplitude."""
    return 20.0 * math.log10(max(amplitude, 1e-9)) - reference_dbfs


def draw_level(painter: QPainter, box: QRectF, vu: float, peak: float, reference_dbfs: float) -> None:
    """A bar for the needle, a stroke for the peak, a tick at 0 VU."""

    def at(amplitude: float) -> float:
        share = (against_vu(amplitude, reference_dbfs) - LOWEST) / (HIGHEST - LOWEST)
        return box.left() + min(max(share, 0.0), 1.0) * box.width()

    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.GROUND)
    painter.drawRect(box)
    painter.setBrush(theme.DIM)
    painter.drawRect(QRectF(box.left(), box.top(), at(vu) - box.left(), box.height()))
    zero = box.left() + (0.0 - LOWEST) / (HIGHEST - LOWEST) * box.width()
    painter.setPen(QPen(theme.TEXT, 1.0))
    painter.drawLine(QPointF(zero, box.top() - 1), QPointF(zero, box.bottom() + 1))
    if peak > 1e-4:
        painter.setPen(QPen(theme.TEXT, 1.5))
        painter.drawLine(QPointF(at(peak), box.top()), QPointF(at(peak), box.bottom()))
