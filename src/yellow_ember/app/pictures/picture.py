"""The chosen stage's picture: its parts from the declaration, with the live signal on them."""

from __future__ import annotations

import math
import time
from collections import deque

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import (
    QColor,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from yellow_ember.app.pictures.disc import draw_disc
from yellow_ember.app.pictures.handles import Handles
from yellow_ember.app.pictures.reels import draw_reels
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.state.speed_reader import SpeedReader
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.level import draw_level
from yellow_ember.app.widgets.painting import painted, still
from yellow_ember.app.widgets.plot import (
    Axes,
    draw_frame,
    draw_frequency_grid,
    draw_legend,
    draw_line,
    draw_x_grid,
    draw_y_grid,
    round_step,
)
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.stage import Damage, Disc, Part, Plot, Reels
from yellow_ember.dsp.stage import Picture as Parts
from yellow_ember.files.impulses import find_impulse

_LIVE_POINTS = 256
_QUIET = 1e-5
_HANDLES_HINT = ("Drag the handles, wheel for their width, double-click for the default or for one more.<br>"
                 "Keys: arrows move, Page Up and Down choose, Plus and Minus the width, Insert and Delete an edge.")
_SHARES: dict[type[Part], float] = {Reels: 0.8, Disc: 1.3}
"""How high a part is against a diagram."""
_TALL = 60.0
_LOW_FRAME = 90.0
_APART_SECONDS = 0.1
_GAIN_FRAMES, _GAIN_SPAN = 180, 480
"""Readings of the gain that are kept, some six seconds, and frames of sound that each is taken from."""
_COLOURS = (theme.DIM, theme.TEXT, theme.BEFORE, theme.AFTER)


class Picture(QWidget):
    """Draws the parts one below the other."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, jobs: JobKeeper) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback, self._settings = sessions, selection, playback, settings
        self._messages, self._jobs = messages, jobs
        self._parts: Parts = ()
        self._live = np.zeros(0)
        self._shown: object = None
        self._wavers = False
        self._kind = ""
        self._vu = (0.0, 0.0)
        self._gains: deque[tuple[float, ...]] = deque(maxlen=_GAIN_FRAMES)
        self._spectra: tuple[Samples, Samples] | None = None
        self._still = QPixmap()
        self._stale = True
        self.drawn_at = 0.0
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(round(1000 * _APART_SECONDS))
        self._later.timeout.connect(self.update)
        self.speed_reader = SpeedReader(self._sessions, self._selection, self._jobs)
        self.speed_reader.changed.connect(self._redraw)
        self.handles = Handles(self._sessions, self._selection, self._messages, self)
        self.handles.moving.connect(self.update)
        self._reach = 12.0
        self.setMinimumSize(220, 200)
        self.setMouseTracking(True)
        self._sessions.changed.connect(self.refresh)
        self._selection.changed.connect(self.refresh)
        self._playback.frame.connect(self._on_frame)
        self.refresh()

    def sizeHint(self) -> QSize:
        return QSize(330, 360)

    def _redraw(self) -> None:
        """Draw what stands still again as well."""
        self._stale = True
        self.update()

    # -- hands --------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or not self.handles.press(event.position()):
            super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.handles.drag(event.position())
        over = self.handles.dragging or self.handles.over(event.position())
        self.setCursor(Qt.CursorShape.SizeAllCursor if over else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.handles.release()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.handles.double_click(event.position())

    def wheelEvent(self, event: QWheelEvent) -> None:
        if not self.handles.wheel(event.position(), event.angleDelta().y() / 120.0):
            super().wheelEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.handles.key(event):
            self.setAccessibleDescription(self.handles.text())
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._stale = True

    def refresh(self) -> None:
        """The stage may look different now; it is looked at when next drawn."""
        self.speed_reader.want()
        self._stale = True
        self.update()

    def _compute(self) -> None:
        """Compute the parts again where what they show has changed."""
        if not self._selection.stage_id:
            self._parts, self._shown = (), None
            return
        stage, session = self._selection.strip.stage(self._selection.stage_id), self._sessions.session
        shown = (stage.kind, stage.params, session.rate, session.reference_dbfs)
        if shown == self._shown:
            return
        if self._shown is None or stage.kind != self._kind:
            self._kind, self._spectra = stage.kind, None
            self._gains.clear()
        self._shown = shown
        self._wavers = stage.declaration.wavers
        kind = stage.declaration
        path = kind.impulse(stage.params)
        own = find_impulse(path, session.rate) if path else None
        if own is not None and kind.impulse_picture is not None:
            self._parts = kind.impulse_picture(own, session.rate)
        else:
            self._parts = kind.picture(stage.params, session.rate, session.reference_dbfs)
        self.setAccessibleName(f"Picture of {kind.label}: "
                               + ", ".join(part.title for part in self._parts))

    def _on_frame(self, _state: object) -> None:
        if not self._settings.animation or self._playback.engine is None or not self.isVisible():
            return
        moving = self._playback.state.playing and any(isinstance(part, Reels | Damage | Disc) for part in self._parts)
        if moving and self._selection.stage_id:
            reading = self._playback.engine.reading(self._selection.strip_id)
            if reading is not None:
                index = self._selection.strip.index_of(self._selection.stage_id)
                self._vu = float(reading.point_vu[index]), float(reading.point_vu[index + 1])
        plots = [part for part in self._parts if isinstance(part, Plot)]
        if self._playback.state.runs and any(plot.axes == "gain" or plot.spectra for plot in plots):
            self._take_scope(*self._playback.engine.scope())
            moving = True
        if any(plot.live for plot in plots):
            before, _after = self._playback.engine.scope()
            live = before[0, -_LIVE_POINTS * 4::4]
            silent = np.abs(live).max() < _QUIET or not self._playback.state.runs
            moving = moving or not silent or self._live.size > 0
            self._live = np.zeros(0) if silent else live
        if moving:
            self.update()

    def _take_scope(self, before: Samples, after: Samples) -> None:
        """What the stage makes of the level just now, and of the spectrum."""
        edges = next((part.edges for part in self._parts if isinstance(part, Plot) and part.axes == "gain"), ())
        rate = self._sessions.session.rate
        levels = [_band_levels(signal[:, -_GAIN_SPAN:], edges, rate) for signal in (before, after)]
        self._gains.append(tuple(20.0 * math.log10(now / was) if min(was, now) > _QUIET else 0.0
                                 for was, now in zip(*levels, strict=True)))
        window = np.hanning(before.shape[1])
        result = [np.mean(np.abs(np.fft.rfft(signal * window)) ** 2, axis=0) for signal in (before, after)]
        if self._spectra is None:
            self._spectra = result[0], result[1]
        else:
            self._spectra = (0.75 * self._spectra[0] + 0.25 * result[0], 0.75 * self._spectra[1] + 0.25 * result[1])

    # -- drawing ------------------------------------------------------------------------

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        if self._stale:
            # While a control or the window's edge moves, what stands still is drawn again now and
            # then, and in between stretched to fit.
            if time.monotonic() - self.drawn_at > _APART_SECONDS or self._still.isNull():
                self._compute()
                self._place_handles()
                self._still = still(self, theme.PANEL, self._paint_still)
                self._stale, self.drawn_at = False, time.monotonic()
            elif not self._later.isActive():
                self._later.start()
        painter.drawPixmap(self.rect(), self._still)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for part, box in self._boxes():
            self._paint_moving(painter, part, box)
        self.handles.paint(painter, self.hasFocus())

    def _boxes(self) -> list[tuple[Part, QRectF]]:
        """The parts and where they are drawn, from the top down."""
        shares = [_SHARES.get(type(part), 1.0) for part in self._parts]
        result, top = [], 0.0
        for part, share in zip(self._parts, shares, strict=True):
            height = self.height() * share / sum(shares)
            result.append((part, QRectF(0, top, self.width(), height)))
            top += height
        return result

    def _place_handles(self) -> None:
        for part, box in self._boxes():
            if isinstance(part, Plot) and part.handles:
                self.handles.show(part.handles, self._response_axes(part, _frame(part, box)))
                break
        else:
            self.handles.show((), None)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus if self.handles else Qt.FocusPolicy.NoFocus)
        self.setToolTip(_HANDLES_HINT if self.handles else "")

    def _paint_still(self, painter: QPainter) -> None:
        """Frames, curves and words: what does not move with the signal."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for part, box in self._boxes():
            self._paint_part(painter, part, box)

    def _paint_part(self, painter: QPainter, part: Part, box: QRectF) -> None:
        painter.setFont(theme.font(8.5, bold=True))
        painter.setPen(theme.TEXT)
        painter.drawText(box.adjusted(10, 4, -10, 0), int(Qt.AlignmentFlag.AlignLeft), part.title)
        if self._wavers and isinstance(part, Plot) and part.axes == "time":
            title = painter.fontMetrics().horizontalAdvance(part.title)
            painter.setFont(theme.font(8))
            painter.setPen(theme.DIM)
            where = box.adjusted(title + 18, 5, -10, 0)
            room = int(where.width())
            text = painter.fontMetrics().elidedText(self.speed_reader.text, Qt.TextElideMode.ElideRight, room)
            painter.drawText(where, int(Qt.AlignmentFlag.AlignRight), text)
        if isinstance(part, Reels | Disc):
            return
        if isinstance(part, Damage):
            self._paint_damage(painter, part, _frame(part, box))
            return
        paint = {"response": self._paint_response, "transfer": self._paint_transfer, "levels": self._paint_levels,
                 "gain": self._paint_gain_frame, "wave": self._paint_wave, "harmonics": self._paint_harmonics}
        paint.get(part.axes, self._paint_variation)(painter, part, _frame(part, box))

    def _paint_moving(self, painter: QPainter, part: Part, box: QRectF) -> None:
        """What moves with the signal or the position, over what stands still."""
        frame = _frame(part, box)
        if isinstance(part, Reels):
            self._paint_reels(painter, part, box.adjusted(10, 20, -10, -4))
        elif isinstance(part, Disc):
            draw_disc(painter, box.adjusted(10, 20, -10, -4), part,
                      self._playback.state.position / self._sessions.session.rate)
        elif isinstance(part, Damage):
            start, end = self._loop()
            here = self._playback.state.position / self._sessions.session.rate
            if self._playback.state.playing and start <= here <= end:
                x = frame.left() + (here - start) / (end - start) * frame.width()
                painter.setPen(QPen(theme.TEXT, 1.5))
                painter.drawLine(QPointF(x, frame.top()), QPointF(x, frame.bottom()))
        elif part.axes == "gain":
            self._paint_gain(painter, frame)
        elif part.spectra:
            self._paint_spectra(painter, frame)
        elif part.live is not None and self._live.size:
            self._paint_live(painter, part, frame)

    def _loop(self) -> tuple[float, float]:
        """What damage is shown of, in seconds."""
        session = self._sessions.session
        loop = session.loop
        start = loop.start / session.rate if loop.end > loop.start else 0.0
        return start, loop.end / session.rate if loop.end > loop.start else start + 20.0

    def _paint_reels(self, painter: QPainter, reels: Reels, box: QRectF) -> None:
        session, state = self._sessions.session, self._playback.state
        room = min(92.0, 0.36 * box.width())
        meters = QRectF(box.right() - room, box.top(), room, box.height() - 12)
        draw_reels(painter, QRectF(box.left(), box.top(), box.width() - room - 12, box.height()), reels,
                   state.position / session.rate, session.loop.start / session.rate)
        for row, (name, level) in enumerate(zip(("record", "play"), self._vu, strict=True)):
            y = meters.top() + row * 26
            painter.setFont(theme.font(7.5))
            painter.setPen(theme.DIM)
            label = QRectF(meters.left(), y, meters.width(), 12)
            painter.drawText(label, int(Qt.AlignmentFlag.AlignLeft), f"VU {name}")
            draw_level(painter, QRectF(meters.left(), y + 14, meters.width(), 7), level if state.runs else 0.0, 0.0,
                       session.reference_dbfs)
        if box.height() <= _TALL:
            return
        painter.setFont(theme.font(7.5))
        painter.setPen(theme.DIM)
        painter.drawText(QRectF(meters.left() - 40, meters.top() + 51, meters.width() + 40, 13),
                         int(Qt.AlignmentFlag.AlignRight), self.speed_reader.text)

    def _paint_damage(self, painter: QPainter, damage: Damage, frame: QRectF) -> None:
        session = self._sessions.session
        start, end = self._loop()
        axes = Axes(frame, start, end, -30.0, 1.5)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, 10.0)
        seconds = np.linspace(start, end, max(2, int(frame.width())))
        loss, highs = damage.at(seconds, session.tempo, session.first_beat)
        draw_line(painter, axes, seconds, -30.0 * highs, theme.BEFORE, 1.2)
        draw_line(painter, axes, seconds, -loss, theme.AFTER, 1.6)
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 3, frame.width(), 12),
                    [("level, dB", theme.AFTER), ("highs lost", theme.BEFORE)])

    def _paint_variation(self, painter: QPainter, plot: Plot, frame: QRectF) -> None:
        curve = plot.curves[0]
        reach = max(float(np.abs(curve.y).max()) * 1.15, 0.02)
        step = 10.0 ** np.floor(np.log10(reach))
        step = step if reach / step < 4 else 2.0 * step
        if plot.axes == "time":
            axes = Axes(frame, float(curve.x[0]), float(curve.x[-1]), -reach, reach)
            draw_frame(painter, axes)
            draw_x_grid(painter, axes, round_step(axes.x_high - axes.x_low, 5.0))
        else:
            axes = Axes(frame, float(curve.x[0]), float(curve.x[-1]), 0.0, reach, log_x=True)
            draw_frame(painter, axes)
            draw_frequency_grid(painter, axes, (0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0))
        draw_y_grid(painter, axes, float(step))
        draw_line(painter, axes, curve.x, curve.y, theme.AFTER, 1.6)
        painter.setFont(theme.font(7.5))
        painter.setPen(theme.DIM)
        painter.drawText(QRectF(frame.left(), frame.top() + 1, frame.width() - 4, 13),
                         int(Qt.AlignmentFlag.AlignRight), f"{plot.y_label} over {plot.x_label}")

    def _paint_levels(self, painter: QPainter, plot: Plot, frame: QRectF) -> None:
        x = plot.curves[0].x
        axes = Axes(frame, float(x[0]), float(x[-1]), float(x[0]), float(x[-1]) + 6.0)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, 12.0)
        draw_x_grid(painter, axes, 12.0)
        colours = (theme.BEFORE, *_band_colours(len(plot.curves) - 1))
        for curve, colour in zip(plot.curves, colours, strict=True):
            draw_line(painter, axes, curve.x, curve.y, colour, 1.8)
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 15, frame.width(), 12),
                    [(curve.label, colour) for curve, colour in zip(plot.curves, colours, strict=True)])

    def _paint_gain_frame(self, painter: QPainter, _plot: Plot, frame: QRectF) -> None:
        axes = _gain_axes(frame)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, 6.0)

    def _paint_gain(self, painter: QPainter, frame: QRectF) -> None:
        axes = _gain_axes(frame)
        if len(self._gains) > 1:
            gains = np.array([entry for entry in self._gains if len(entry) == len(self._gains[-1])])
            frames = np.arange(_GAIN_FRAMES - len(gains), _GAIN_FRAMES, dtype=float)
            for band, colour in zip(gains.T, _band_colours(gains.shape[1]), strict=True):
                draw_line(painter, axes, frames, band, colour)

    def _paint_spectra(self, painter: QPainter, frame: QRectF) -> None:
        """Spectra before and after, 90 dB from the frame's bottom to its top."""
        if self._spectra is None:
            return
        size = 2 * (self._spectra[0].size - 1)
        hz: Samples = np.fft.rfftfreq(size, 1.0 / self._sessions.session.rate)[1:].astype(np.float64)
        axes = Axes(frame, 20.0, 20000.0, -90.0, 0.0, log_x=True)
        # A sixth of an octave for each point, or a single line where lines are wider apart.
        edges = np.unique(np.searchsorted(hz, np.geomspace(hz[0], 20000.0, 60)))[:-1]
        for power, colour in zip(self._spectra, (theme.BEFORE_FILL, theme.AFTER_FILL), strict=True):
            parts = np.add.reduceat(power[1:], edges) / np.diff(np.append(edges, hz.size))
            level = 10.0 * np.log10(np.maximum(parts * (4.0 / size) ** 2, 1e-12))
            draw_line(painter, axes, hz[edges], level, colour, 2.0)

    def _paint_wave(self, painter: QPainter, plot: Plot, frame: QRectF) -> None:
        reach = 1.1 * max(float(np.abs(curve.y).max()) for curve in plot.curves)
        axes = Axes(frame, 0.0, 1.0, -reach, reach)
        draw_frame(painter, axes)
        painter.setPen(QPen(theme.DIM, 1.0))
        painter.drawLine(QPointF(frame.left(), axes.y(0.0)), QPointF(frame.right(), axes.y(0.0)))
        colours = (theme.BEFORE, theme.AFTER)
        for curve, colour in zip(plot.curves, colours, strict=True):
            draw_line(painter, axes, curve.x, curve.y, colour, 1.6)
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 2, frame.width(), 12),
                    [(curve.label, colour) for curve, colour in zip(plot.curves, colours, strict=True)])

    def _paint_harmonics(self, painter: QPainter, plot: Plot, frame: QRectF) -> None:
        curve = plot.curves[0]
        axes = Axes(frame, 0.4, float(curve.x[-1]) + 0.6, -90.0, 3.0)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, 30.0)
        painter.setFont(theme.font(7.5))
        width = 0.5 * frame.width() / curve.x.size
        for order, level in zip(curve.x, curve.y, strict=True):
            x = axes.x(float(order))
            # Relative to the fundamental, which was there; all others were added.
            colour = theme.BEFORE if order == 1 else theme.added_colour(float(level))
            painter.fillRect(QRectF(QPointF(x - width / 2, axes.y(float(level))),
                                    QPointF(x + width / 2, frame.bottom())), colour)
            painter.setPen(theme.DIM)
            below = QRectF(x - 14, frame.bottom() + 1, 28, 13)
            painter.drawText(below, int(Qt.AlignmentFlag.AlignCenter), f"{order:g}")

    def _paint_response(self, painter: QPainter, plot: Plot, frame: QRectF) -> None:
        axes = self._response_axes(plot, frame)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, axes.y_high / (3.0 if frame.height() > _LOW_FRAME else 1.0))
        draw_frequency_grid(painter, axes)
        self._paint_curves(painter, plot, axes)

    def _response_axes(self, plot: Plot, frame: QRectF) -> Axes:
        """Scales of a response; they stay while something in it is moved."""
        if not (plot.handles and self.handles.held):
            # The last curve is what counts; what it is made of may leave the frame.
            spread = float(np.quantile(np.abs(plot.curves[-1].y), 0.9))
            spread = max([spread, *(abs(handle.level_db) + 0.5 for handle in plot.handles)])
            small = spread < 5.0 and len(plot.curves) < 4 and not plot.handles
            self._reach = 6.0 if small else 12.0 if spread < 11.0 and not plot.alike else 24.0
        return Axes(frame, 20.0, 20000.0, -self._reach, self._reach, log_x=True)

    def _paint_curves(self, painter: QPainter, plot: Plot, axes: Axes) -> None:
        """Curves in their colours, and their legend under the figures of the axis."""
        count = len(plot.curves)
        colours = theme.shades(count) if plot.alike else _COLOURS[-count:]
        for curve, colour in zip(plot.curves, colours, strict=True):
            strong = plot.alike or colour is theme.AFTER
            draw_line(painter, axes, curve.x, curve.y, colour, 2.0 if strong else 1.2)
        frame = axes.frame
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 15, frame.width(), 12),
                    [(curve.label, colour) for curve, colour in zip(plot.curves, colours, strict=True)])

    def _paint_transfer(self, painter: QPainter, plot: Plot, frame: QRectF) -> None:
        axes = _transfer_axes(plot, frame)
        draw_frame(painter, axes)
        painter.setPen(QPen(theme.EDGE, 1.0))
        painter.drawLine(QPointF(axes.x(0), frame.top()), QPointF(axes.x(0), frame.bottom()))
        draw_y_grid(painter, axes, 0.5)
        self._paint_curves(painter, plot, axes)
        painter.setFont(theme.font(7.5))
        painter.setPen(theme.DIM)
        painter.drawText(QRectF(frame.left(), frame.bottom() + 1, frame.width(), 13),
                         int(Qt.AlignmentFlag.AlignRight), plot.x_label)

    def _paint_live(self, painter: QPainter, plot: Plot, frame: QRectF) -> None:
        """The signal on its curve, and along the bottom how often it is where."""
        assert plot.live is not None
        axes = _transfer_axes(plot, frame)
        x, y = plot.live(self._live)
        counts, edges = np.histogram(x, 48, (axes.x_low, axes.x_high))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.HISTOGRAM)
        tallest = frame.height() * 0.4
        for count, left, right in zip(counts / max(1, counts.max()), edges, edges[1:], strict=False):
            if count > 0:
                painter.drawRect(QRectF(QPointF(axes.x(left), frame.bottom() - count * tallest),
                                        QPointF(axes.x(right), frame.bottom())))
        painter.setPen(QPen(theme.TEXT, 2.4, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        painter.save()
        painter.setClipRect(frame)
        painter.drawPoints(axes.polygon(x, y))
        painter.restore()


def _transfer_axes(plot: Plot, frame: QRectF) -> Axes:
    reach = float(np.abs(plot.curves[-1].x).max())
    return Axes(frame, -reach, reach, -1.15, 1.15)


def _band_levels(signal: Samples, edges: tuple[float, ...], rate: float) -> list[float]:
    """Root mean square of a signal (channels, frames), of the whole or between edges in Hz."""
    if not edges:
        return [float(np.sqrt(np.mean(signal**2)))]
    spectrum = np.abs(np.fft.rfft(signal * np.hanning(signal.shape[1]))) ** 2
    hz = np.fft.rfftfreq(signal.shape[1], 1.0 / rate)
    scale = signal.shape[0] * signal.shape[1]
    return [float(np.sqrt(spectrum[:, (hz >= low) & (hz < high)].sum())) / scale
            for low, high in zip((0.0, *edges), (*edges, rate), strict=True)]


def _band_colours(count: int) -> tuple[QColor, ...]:
    """One for what a stage does to the whole, or one for each of three bands from the lowest."""
    return (theme.AFTER,) if count == 1 else (theme.DIM, theme.TEXT, theme.AFTER)[:count]


def _gain_axes(frame: QRectF) -> Axes:
    return Axes(frame, 0.0, float(_GAIN_FRAMES - 1), -18.0, 6.0)


def _frame(part: Part, box: QRectF) -> QRectF:
    """Where a part's diagram is in its box; more room below where words stand there."""
    if isinstance(part, Reels | Damage | Disc):
        return box.adjusted(40, 22, -10, -18)
    below = {"response": 32, "transfer": 32, "levels": 32, "gain": 8, "wave": 16}
    return box.adjusted(40, 22, -10, -below.get(part.axes, 18))
