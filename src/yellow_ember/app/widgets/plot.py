"""Drawing of curves over frequency or of one level against another."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import cast

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from yellow_ember.app.widgets import theme
from yellow_ember.dsp.arrays import Samples
from yellow_ember.plain_text import with_minus

_DENSE = 3.0
"""Points a pixel of width from which on a line is thinned."""


@dataclass(frozen=True, slots=True)
class Axes:
    """A frame with two scales.  x may be logarithmic."""

    frame: QRectF
    x_low: float
    x_high: float
    y_low: float
    y_high: float
    log_x: bool = False

    def x(self, value: float) -> float:
        if self.log_x:
            share = math.log(max(value, 1e-9) / self.x_low) / math.log(self.x_high / self.x_low)
        else:
            share = (value - self.x_low) / (self.x_high - self.x_low)
        return self.frame.left() + share * self.frame.width()

    def y(self, value: float) -> float:
        share = (value - self.y_low) / (self.y_high - self.y_low)
        return self.frame.bottom() - min(max(share, -0.02), 1.02) * self.frame.height()

    def value_at_x(self, x: float) -> float:
        share = (x - self.frame.left()) / self.frame.width()
        if self.log_x:
            return float(self.x_low * (self.x_high / self.x_low) ** share)
        return self.x_low + share * (self.x_high - self.x_low)

    def value_at_y(self, y: float) -> float:
        return self.y_low + (self.frame.bottom() - y) / self.frame.height() * (self.y_high - self.y_low)

    def polygon(self, xs: Samples, ys: Samples) -> QPolygonF:
        """Points of a line; where a value is not finite there is none."""
        good = np.isfinite(xs) & np.isfinite(ys)
        if self.log_x:
            across = np.log(np.maximum(xs[good], 1e-9) / self.x_low) / math.log(self.x_high / self.x_low)
        else:
            across = (xs[good] - self.x_low) / (self.x_high - self.x_low)
        up = np.clip((ys[good] - self.y_low) / (self.y_high - self.y_low), -0.02, 1.02)
        if up.size > _DENSE * self.frame.width() and bool(np.all(np.diff(across) >= 0.0)):
            across, up = _one_a_column(across, up, self.frame.width())
        points = QPolygonF()
        if up.size == 0:
            return points
        # The polygon's own memory, pairs of doubles, filled at once.
        points.fill(QPointF(), up.size)
        memory = points.data()
        assert memory is not None
        memory.setsize(16 * up.size)
        pairs = np.frombuffer(cast(bytes, memory), np.float64).reshape(-1, 2)
        pairs[:, 0] = self.frame.left() + across * self.frame.width()
        pairs[:, 1] = self.frame.bottom() - up * self.frame.height()
        return points


def _one_a_column(across: Samples, up: Samples, width: float) -> tuple[Samples, Samples]:
    """The lowest and the highest point of each column of pixels: more can't be seen, and takes long to draw.

    across : rising, from 0 to 1 over the width
    """
    begins = np.flatnonzero(np.diff(np.floor(across * width), prepend=-1.0))
    ends = np.stack([np.minimum.reduceat(up, begins), np.maximum.reduceat(up, begins)], axis=1)
    # From the end that is nearer to where the line comes from, so that it does not turn back.
    falls = np.append(True, up[begins[1:]] < up[begins[:-1]])
    ends[falls] = ends[falls, ::-1]
    return np.repeat(across[begins], 2), ends.ravel()


def draw_frame(painter: QPainter, axes: Axes) -> None:
    painter.setPen(QPen(theme.EDGE, 1.0))
    painter.setBrush(theme.GROUND)
    painter.drawRect(axes.frame)


def draw_y_grid(painter: QPainter, axes: Axes, step: float, unit: str = "") -> None:
    """Lines and figures at multiples of a step, the zero line stronger."""
    painter.setFont(theme.font(7.5))
    for index in range(math.ceil(axes.y_low / step), math.floor(axes.y_high / step + 1e-9) + 1):
        value = index * step
        y = axes.y(value)
        painter.setPen(QPen(theme.EDGE if abs(value) > 1e-9 else theme.DIM, 1.0,
                            Qt.PenStyle.SolidLine if abs(value) < 1e-9 else Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(axes.frame.left(), y), QPointF(axes.frame.right(), y))
        painter.setPen(theme.DIM)
        text = with_minus(f"{value:g}{unit}")
        painter.drawText(QRectF(axes.frame.left() - 34, y - 7, 30, 14),
                         int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter), text)


def round_step(span: float, lines: float) -> float:
    """1, 2 or 5 of a power of ten, so that about so many lines fit in a span."""
    rough = span / lines
    power = 10.0 ** math.floor(math.log10(rough))
    return next(step * power for step in (1.0, 2.0, 5.0, 10.0) if step * power >= rough * (1.0 - 1e-9))


def draw_x_grid(painter: QPainter, axes: Axes, step: float) -> None:
    """Lines and figures at multiples of a step along the bottom."""
    painter.setFont(theme.font(7.5))
    for index in range(math.ceil(axes.x_low / step), math.floor(axes.x_high / step + 1e-9) + 1):
        value = index * step
        x = axes.x(value)
        painter.setPen(QPen(theme.EDGE, 1.0, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, axes.frame.top()), QPointF(x, axes.frame.bottom()))
        painter.setPen(theme.DIM)
        below = QRectF(x - 20, axes.frame.bottom() + 1, 40, 13)
        painter.drawText(below, int(Qt.AlignmentFlag.AlignCenter), with_minus(f"{value:g}"))


AUDIBLE = {50.0: "50", 200.0: "200", 1000.0: "1k", 5000.0: "5k", 15000.0: "15k"}


def draw_frequency_grid(painter: QPainter, axes: Axes, rates: tuple[float, ...] = ()) -> None:
    """Lines at the decades' 1, 2 and 5, figures where there is room; or at the given rates, all with figures."""
    painter.setFont(theme.font(7.5))
    named = {hz: f"{hz:g}" for hz in rates} or AUDIBLE
    for hz in rates or (20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 15000, 20000):
        if not axes.x_low <= hz <= axes.x_high:
            continue
        x = axes.x(hz)
        painter.setPen(QPen(theme.EDGE, 1.0, Qt.PenStyle.DotLine))
        if hz != 15000:
            painter.drawLine(QPointF(x, axes.frame.top()), QPointF(x, axes.frame.bottom()))
        if hz in named:
            painter.setPen(theme.DIM)
            painter.drawText(QRectF(x - 20, axes.frame.bottom() + 1, 40, 13),
                             int(Qt.AlignmentFlag.AlignCenter), named[hz])


def draw_line(painter: QPainter, axes: Axes, xs: Samples, ys: Samples, colour: QColor, width: float = 1.6) -> None:
    painter.save()
    painter.setClipRect(axes.frame)
    painter.setPen(QPen(colour, width))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPolyline(axes.polygon(xs, ys))
    painter.restore()


def draw_legend(painter: QPainter, where: QRectF, entries: list[tuple[str, QColor]]) -> None:
    """Coloured strokes with their names, side by side."""
    painter.setFont(theme.font(7.5))
    widths = [painter.fontMetrics().horizontalAdvance(text) for text, _ in entries]
    spare = where.width() - sum(widths) - 14.0 * len(entries)
    gap = min(max(spare / max(1, len(entries) - 1), 2.0), 10.0)
    x = where.left()
    for (text, colour), width in zip(entries, widths, strict=True):
        painter.setPen(QPen(colour, 2.0))
        painter.drawLine(QPointF(x, where.center().y()), QPointF(x + 10, where.center().y()))
        painter.setPen(theme.DIM)
        painter.drawText(QRectF(x + 13, where.top(), width + 4, where.height()),
                         int(Qt.AlignmentFlag.AlignVCenter), text)
        x += width + 14.0 + gap
