"""The chosen stage's picture: its diagrams from the declaration, with the live signal on them."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from yellow_ember.app import theme
from yellow_ember.app.plot import (
    Axes,
    draw_frame,
    draw_frequency_grid,
    draw_legend,
    draw_line,
    draw_y_grid,
)
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.stage import Picture as Diagrams
from yellow_ember.dsp.stage import Plot

_LIVE_POINTS = 256
_QUIET = 1e-5


class Picture(QWidget):
    """Draws the plots one below the other."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._plots: Diagrams = ()
        self._live = np.zeros(0)
        self._shown: object = None
        self.setMinimumSize(220, 200)
        workspace.session_changed.connect(self.refresh)
        workspace.selected.connect(self.refresh)
        workspace.frame.connect(self._on_frame)
        self.refresh()

    def sizeHint(self) -> QSize:
        return QSize(330, 360)

    def refresh(self) -> None:
        """The stage may look different now; it is looked at when next drawn."""
        self.update()

    def _compute(self) -> None:
        """Compute the diagrams anew where what they show has changed."""
        workspace = self._workspace
        if not workspace.stage_id:
            self._plots, self._shown = (), None
        else:
            stage, session = workspace.strip.stage(workspace.stage_id), workspace.session
            shown = (stage.kind, stage.params, session.rate, session.reference_dbfs)
            if shown == self._shown:
                return
            self._shown = shown
            self._plots = stage.declaration.picture(stage.params, session.rate, session.reference_dbfs)
            self.setAccessibleName(f"Picture of {stage.declaration.label}: "
                                   + ", ".join(plot.title for plot in self._plots))

    def _on_frame(self, _state: object) -> None:
        if not self._workspace.settings.animation or self._workspace.engine is None:
            return
        if not any(plot.live for plot in self._plots):
            return
        before, _after = self._workspace.engine.scope()
        live = before[0, -_LIVE_POINTS * 4::4]
        silent = np.abs(live).max() < _QUIET or not self._workspace.state.playing
        if silent and self._live.size == 0:
            return
        self._live = np.zeros(0) if silent else live
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.PANEL)
        self._compute()
        if not self._plots:
            return
        height = self.height() / len(self._plots)
        for place, plot in enumerate(self._plots):
            box = QRectF(0, place * height, self.width(), height)
            painter.setFont(theme.font(8.5, bold=True))
            painter.setPen(theme.TEXT)
            painter.drawText(box.adjusted(10, 4, -10, 0), int(Qt.AlignmentFlag.AlignLeft), plot.title)
            frame = box.adjusted(40, 22, -10, -32)
            if plot.axes == "response":
                self._paint_response(painter, plot, frame)
            else:
                self._paint_transfer(painter, plot, frame)

    def _paint_response(self, painter: QPainter, plot: Plot, frame: QRectF) -> None:
        spread = max(float(np.abs(curve.y).max()) for curve in plot.curves)
        reach = 6.0 if spread < 5.0 else 12.0 if spread < 11.0 else 24.0
        axes = Axes(frame, 20.0, 20000.0, -reach, reach, log_x=True)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, reach / 3.0)
        draw_frequency_grid(painter, axes)
        colours = [theme.DIM, theme.BEFORE, theme.AFTER][-len(plot.curves):]
        for curve, colour in zip(plot.curves, colours, strict=True):
            draw_line(painter, axes, curve.x, curve.y, colour, 2.0 if colour is theme.AFTER else 1.2)
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 15, frame.width(), 12),
                    [(curve.label, colour) for curve, colour in zip(plot.curves, colours, strict=True)])

    def _paint_transfer(self, painter: QPainter, plot: Plot, frame: QRectF) -> None:
        reach = float(np.abs(plot.curves[-1].x).max())
        axes = Axes(frame, -reach, reach, -1.15, 1.15)
        draw_frame(painter, axes)
        painter.setPen(QPen(theme.EDGE, 1.0))
        painter.drawLine(QPointF(axes.x(0), frame.top()), QPointF(axes.x(0), frame.bottom()))
        draw_y_grid(painter, axes, 0.5)
        self._paint_histogram(painter, plot, axes)
        colours = [theme.BEFORE, theme.AFTER][-len(plot.curves):]
        for curve, colour in zip(plot.curves, colours, strict=True):
            draw_line(painter, axes, curve.x, curve.y, colour, 2.0 if colour is theme.AFTER else 1.2)
        if plot.live is not None and self._live.size:
            x, y = plot.live(self._live)
            painter.setPen(QPen(theme.TEXT, 2.4, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            painter.save()
            painter.setClipRect(frame)
            painter.drawPoints(axes.polygon(x, y))
            painter.restore()
        legend = [(curve.label, colour) for curve, colour in zip(plot.curves, colours, strict=True)]
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 15, frame.width(), 12), legend)
        painter.setFont(theme.font(7.5))
        painter.setPen(theme.DIM)
        painter.drawText(QRectF(frame.left(), frame.bottom() + 1, frame.width(), 13),
                         int(Qt.AlignmentFlag.AlignRight), plot.x_label)

    def _paint_histogram(self, painter: QPainter, plot: Plot, axes: Axes) -> None:
        """How often the signal is where, along the bottom of a transfer curve."""
        if plot.live is None or not self._live.size:
            return
        x, _ = plot.live(self._live)
        counts, edges = np.histogram(x, 48, (axes.x_low, axes.x_high))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.BEFORE_FILL)
        tallest = axes.frame.height() * 0.4
        for count, left, right in zip(counts / max(1, counts.max()), edges, edges[1:], strict=False):
            if count > 0:
                painter.drawRect(QRectF(QPointF(axes.x(left), axes.frame.bottom() - count * tallest),
                                        QPointF(axes.x(right), axes.frame.bottom())))
