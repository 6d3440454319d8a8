"""The whole session in a narrow bar, with what the time line shows of it: drag to go there."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPen, QPixmap, QResizeEvent
from PyQt6.QtWidgets import QWidget

from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.time_view import TimeView
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted, still
from yellow_ember.app.widgets.wave_image import pixel_extremes, wave_image
from yellow_ember.files.overview import over_channels
from yellow_ember.session.values.model import Strip


class OverviewBar(QWidget):
    """The tracks' waves laid over each other from the first frame to the last."""

    def __init__(self, sessions: SessionKeeper, imports: Imports, time_view: TimeView) -> None:
        super().__init__()
        self._sessions, self._imports = sessions, imports
        self._view = time_view
        self._still: QPixmap | None = None
        self._shown: tuple[object, ...] = ()
        self._held = 0.0
        self.setFixedHeight(20)
        self.setToolTip("The whole session: drag to go somewhere, double-click to show all of it")
        self.setAccessibleName("Overview of the session")
        time_view.changed.connect(self.update)
        sessions.changed.connect(self._refresh)
        imports.made_ready.connect(self._refresh)

    def sizeHint(self) -> QSize:
        return QSize(700, 20)

    def _refresh(self) -> None:
        strips = self._sessions.session.strips
        shown = (self._imports.length, tuple(map(self._imports.placed, strips)))
        if shown != self._shown:
            self._shown, self._still = shown, None
            self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._still = None

    def _x_of(self, frame: float) -> float:
        return frame / self._imports.length * self.width()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        if self._still is None:
            self._still = still(self, theme.GROUND, self._paint_waves)
        painter.drawPixmap(0, 0, self._still)
        left, right = self._x_of(self._view.first), self._x_of(self._view.end)
        window = QRectF(left, 0.5, max(4.0, right - left), self.height() - 1.0)
        if window.width() < self.width() - 1:
            painter.fillRect(window, theme.COMFORT)
            painter.setPen(QPen(theme.DIM, 1.2))
            painter.drawRoundedRect(window, 3, 3)

    def _paint_waves(self, painter: QPainter) -> None:
        frames = self._imports.length / max(1, self.width())
        low, high = np.zeros(self.width()), np.zeros(self.width())
        for strip in self._sessions.session.strips:
            self._add_regions(strip, frames, low, high)
        painter.drawImage(0, 0, wave_image(low, high, self.height(), theme.BEFORE_FILL))

    def _add_regions(self, strip: Strip, frames: float, low: NDArray[np.float64], high: NDArray[np.float64]) -> None:
        """Widen what is drawn by a strip's regions; frames : that a pixel stands for"""
        for place in self._imports.placed(strip):
            span = place.span
            part = place.sound.stretch(span.offset, span.offset + span.frames, frames)
            if len(part.columns) == 0:
                continue
            both, shift = over_channels(part.columns), span.shift
            least, most, left = pixel_extremes(both, part.start + shift, part.frames, 0.0, frames, self.width())
            reach = slice(left, left + least.size)
            low[reach], high[reach] = np.minimum(low[reach], least), np.maximum(high[reach], most)

    # -- hands --------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        x, left, right = event.position().x(), self._x_of(self._view.first), self._x_of(self._view.end)
        # Taken hold of where it is; elsewhere its middle comes to the pointer.
        self._held = x - left if left <= x <= right else 0.5 * (right - left)
        self._go(x)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._go(event.position().x())

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._view.show_all()

    def _go(self, x: float) -> None:
        self._view.go_to((x - self._held) / max(1, self.width()) * self._imports.length)
