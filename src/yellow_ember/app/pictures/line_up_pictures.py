"""What the line-up bench shows: VU meters, phase scope, bias curves, response before and after."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QWidget

from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted
from yellow_ember.app.widgets.plot import (
    Axes,
    draw_frame,
    draw_frequency_grid,
    draw_legend,
    draw_line,
    draw_x_grid,
    draw_y_grid,
)
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.tape.line_up import BiasCurves, MeterReading
from yellow_ember.plain_text import with_minus

SHOWN_HZ: Samples = np.geomspace(25.0, 20000.0, 120)
"""Where responses are drawn."""


class Meters(QWidget):
    """Two VUs with their third harmonic, and the phase scope."""

    def __init__(self) -> None:
        super().__init__()
        self._reading: MeterReading | None = None
        self.setMinimumHeight(132)
        self.setAccessibleName("VU meters, third harmonic, phase scope")

    def sizeHint(self) -> QSize:
        return QSize(500, 140)

    def show_reading(self, reading: MeterReading) -> None:
        self._reading = reading
        left, right = reading.vu
        self.setAccessibleDescription(
            f"{reading.hz:.0f} Hz: left {left:+.1f}, right {right:+.1f} VU; third harmonic {reading.third_pct[0]:.2f} "
            f"and {reading.third_pct[1]:.2f} %; left leads by {reading.phase_deg:.0f} degrees")
        self.update()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.PANEL)
        side = float(self.height()) - 30.0
        scope = QRectF(self.width() - side - 12.0, 22.0, side, side)
        for row, name in enumerate(("left", "right")):
            self._paint_vu(painter, QRectF(12.0, 8.0 + row * 60.0, scope.left() - 40.0, 52.0), name, row)
        self._paint_scope(painter, scope)

    def _paint_vu(self, painter: QPainter, box: QRectF, name: str, side: int) -> None:
        low, high = -12.0, 4.0

        def at(vu: float) -> float:
            return box.left() + (min(max(vu, low), high) - low) / (high - low) * box.width()

        scale = QRectF(box.left(), box.top() + 24, box.width(), 12)
        painter.setPen(QPen(theme.EDGE, 1.0))
        painter.setBrush(theme.GROUND)
        painter.drawRect(scale)
        painter.setFont(theme.font(7.5))
        for mark in (-10, -7, -5, -3, -2, -1, 0, 1, 2, 3):
            painter.setPen(QPen(theme.TEXT if mark == 0 else theme.DIM, 1.0))
            painter.drawLine(QPointF(at(mark), scale.top()), QPointF(at(mark), scale.bottom()))
            painter.drawText(QRectF(at(mark) - 14, scale.bottom() + 1, 28, 12), int(Qt.AlignmentFlag.AlignCenter),
                             f"{mark:+d}" if mark else "0")
        painter.setFont(theme.font(9, bold=True))
        painter.setPen(theme.TEXT)
        text = f"{name}    \u2013"
        if self._reading is not None:
            third = self._reading.third_pct[side]
            text = with_minus(f"{name}    {self._reading.vu[side]:+.2f} VU")
            text += f"    third harmonic {third:.2f} %" if third else ""
            x = at(self._reading.vu[side])
            painter.fillRect(QRectF(x - 1.5, scale.top() - 3, 3, scale.height() + 6), theme.AFTER)
        painter.drawText(QRectF(box.left(), box.top(), box.width(), 20), int(Qt.AlignmentFlag.AlignVCenter), text)

    def _paint_scope(self, painter: QPainter, frame: QRectF) -> None:
        axes = Axes(frame, -1.5, 1.5, -1.5, 1.5)
        draw_frame(painter, axes)
        painter.setPen(QPen(theme.EDGE, 1.0, Qt.PenStyle.DotLine))
        painter.drawLine(frame.bottomLeft(), frame.topRight())
        painter.setFont(theme.font(8))
        painter.setPen(theme.DIM)
        label = "phase" if self._reading is None else with_minus(
            f"left leads {self._reading.phase_deg:+.0f}\u00b0")
        painter.drawText(QRectF(frame.left() - 30, 4, frame.width() + 30, 16), int(Qt.AlignmentFlag.AlignRight), label)
        if self._reading is not None:
            left, right = self._reading.scope
            top = max(float(np.abs(self._reading.scope).max()), 1e-6)
            draw_line(painter, axes, left / top * 1.2, right / top * 1.2, theme.AFTER, 1.4)


class BiasPicture(QWidget):
    """The stock's bias curves with the present points on them, and the response before and after."""

    def __init__(self) -> None:
        super().__init__()
        self._curves: BiasCurves | None = None
        self._bias = (0.0, 0.0)
        self._responses: list[tuple[str, Samples]] = []
        self._swept: list[tuple[float, float]] = []
        self.setMinimumHeight(200)
        self.setAccessibleName("Bias curves and response")

    def sizeHint(self) -> QSize:
        return QSize(600, 230)

    def show_machine(self, curves: BiasCurves, bias: tuple[float, float], responses: list[tuple[str, Samples]]) -> None:
        """curves of the stock; bias left and right; named responses in dB over `SHOWN_HZ`, before first"""
        self._curves, self._bias, self._responses = curves, bias, responses
        self.update()

    def show_swept(self, points: list[tuple[float, float]]) -> None:
        """Frequencies and levels that a sweep has measured so far."""
        self._swept = points
        self.update()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.PANEL)
        half = self.width() / 2.0
        for x, title in ((0.0, "Against bias"), (half, "Response, dB")):
            painter.setFont(theme.font(8.5, bold=True))
            painter.setPen(theme.TEXT)
            painter.drawText(QRectF(x + 12, 4, half, 16), int(Qt.AlignmentFlag.AlignVCenter), title)
        self._paint_bias(painter, QRectF(42, 24, half - 56, self.height() - 60))
        self._paint_response(painter, QRectF(half + 42, 24, half - 56, self.height() - 60))

    def _paint_bias(self, painter: QPainter, frame: QRectF) -> None:
        axes = Axes(frame, -6.0, 6.0, -8.0, 4.0)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, 2.0)
        draw_x_grid(painter, axes, 2.0)
        if self._curves is None:
            return
        curves = self._curves
        third = 10.0 * np.log10(np.maximum(curves.third_pct, 1e-3)) - 2.0
        for values, colour in ((third, theme.DIM), (curves.at_1k_db, theme.BEFORE), (curves.at_10k_db, theme.AFTER)):
            draw_line(painter, axes, curves.bias_db, values, colour, 1.6)
        for index, bias in enumerate(self._bias):
            painter.setPen(QPen(theme.TEXT, 1.0, Qt.PenStyle.SolidLine if index == 0 else Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(axes.x(bias), frame.top()), QPointF(axes.x(bias), frame.bottom()))
            for values, colour in ((curves.at_1k_db, theme.BEFORE), (curves.at_10k_db, theme.AFTER)):
                y = float(np.interp(bias, curves.bias_db, values))
                painter.setBrush(colour)
                painter.setPen(QPen(theme.GROUND, 1.0))
                painter.drawEllipse(QPointF(axes.x(bias), axes.y(y)), 4.5, 4.5)
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 17, frame.width(), 12),
                    [("10 kHz, dB", theme.AFTER), ("1 kHz, dB", theme.BEFORE), ("third harmonic", theme.DIM)])

    def _paint_response(self, painter: QPainter, frame: QRectF) -> None:
        axes = Axes(frame, 25.0, 20000.0, -6.0, 6.0, log_x=True)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, 2.0)
        draw_frequency_grid(painter, axes)
        colours = (theme.BEFORE, theme.DIM, theme.AFTER)[-len(self._responses):] if self._responses else ()
        for (_, level), colour in zip(self._responses, colours, strict=True):
            draw_line(painter, axes, SHOWN_HZ, level, colour, 1.6)
        if self._swept:
            hz, level = np.array(self._swept).T
            painter.setPen(QPen(theme.TEXT, 4.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            painter.drawPoints(axes.polygon(hz, level))
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 17, frame.width(), 12),
                    [(name, colour) for (name, _), colour in zip(self._responses, colours, strict=True)])
