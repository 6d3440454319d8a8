"""The spread: where every coloured strip adds, and how it changes the tone, on one axis, so that parts keep apart.

A strip's mark stands where the middle of its additions lies.  Dragging it up or down leans the strip's
drive towards highs or lows, or moves the bias of its tape.
"""

from __future__ import annotations

import functools
import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.layouts import clear
from yellow_ember.app.widgets.painting import painted
from yellow_ember.app.widgets.plot import Axes, draw_frame, draw_frequency_grid, draw_line, draw_y_grid
from yellow_ember.app.widgets.text import TextLabel, escaped
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Value, as_number, as_pair
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.measure.comparison import Comparison
from yellow_ember.session.edits.edits import set_parameter
from yellow_ember.session.values.model import Strip

_VIEWS = ("what is added", "change of tone")
_DB_PER_PIXEL = 0.05
_REACH = 9.0


def leaning(strip: Strip) -> tuple[StageSettings, str] | None:
    """The stage and parameter by which a strip is leaned; None where it has none such."""
    stages = [stage for stage in strip.chain if stage.on and stage.declaration.lean is not None]
    # What adds is leaned rather than what only shapes.
    stages.sort(key=lambda stage: not stage.declaration.nonlinear)
    for stage in stages:
        assert stage.declaration.lean is not None
        return stage, stage.declaration.lean
    return None


def middle_hz(comparison: Comparison) -> float:
    """Where the middle of what was added lies, by ear."""
    power = 10.0 ** (comparison.added_bands_db / 10.0)
    return float(2.0 ** (np.sum(power * np.log2(comparison.bands)) / max(float(power.sum()), 1e-30)))


class SpreadPicture(QWidget):
    """A line and a mark for each strip."""

    leaned = pyqtSignal(str, float)
    let_go = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[tuple[str, str, QColor, Comparison]] = []
        self.view = 0
        self._taken = ""
        self._last = QPointF()
        self.setMinimumSize(420, 300)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Spread of all strips")

    def sizeHint(self) -> QSize:
        return QSize(620, 420)

    def show_lines(self, lines: list[tuple[str, str, QColor, Comparison]]) -> None:
        """Id, mark, colour and measurement of each strip."""
        self.lines = lines
        self.setAccessibleDescription(", ".join(
            f"{mark}: added {comparison.added_db:.0f} dB around {middle_hz(comparison):.0f} Hz"
            for _, mark, _, comparison in lines))
        self.update()

    def _axes(self) -> Axes:
        frame = QRectF(38, 12, self.width() - 50, self.height() - 36)
        low, high = (-72.0, 0.0) if self.view == 0 else (-12.0, 12.0)
        return Axes(frame, 20.0, 20000.0, low, high, log_x=True)

    def _curve(self, comparison: Comparison) -> np.ndarray:
        if self.view == 0:
            total = 10.0 * math.log10(max(float(np.sum(10.0 ** (comparison.after_db / 10.0))), 1e-12))
            return comparison.added_bands_db - total
        heard = comparison.before_db > comparison.before_db.max() - 60.0
        return np.where(heard, comparison.tone_db - np.nanmean(comparison.tone_db[heard]), np.nan)

    def mark_at(self, strip_id: str) -> QPointF | None:
        """Where a strip's mark stands."""
        axes = self._axes()
        for one, _, _, result in self.lines:
            if one == strip_id:
                hz = min(max(middle_hz(result), 25.0), 16000.0)
                curve = np.nan_to_num(self._curve(result), nan=axes.y_low)
                level = float(np.interp(math.log(hz), np.log(result.bands), curve))
                return QPointF(axes.x(hz), axes.y(min(max(level, axes.y_low + 2.0), axes.y_high - 2.0)))
        return None

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.PANEL)
        axes = self._axes()
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, 12.0 if self.view == 0 else 3.0)
        draw_frequency_grid(painter, axes)
        painter.save()
        painter.setClipRect(axes.frame)
        for _, _, colour, result in self.lines:
            draw_line(painter, axes, result.bands, self._curve(result), colour)
        painter.restore()
        for strip_id, mark, colour, _found in self.lines:
            at = self.mark_at(strip_id)
            assert at is not None
            painter.setPen(QPen(theme.TEXT if strip_id == self._taken else theme.GROUND, 1.5))
            painter.setBrush(colour)
            painter.drawEllipse(at, _REACH, _REACH)
            painter.setPen(theme.GROUND)
            painter.setFont(theme.font(8, bold=True))
            painter.drawText(QRectF(at.x() - 12, at.y() - 8, 24, 16), int(Qt.AlignmentFlag.AlignCenter), mark)
        if not self.lines:
            painter.setPen(theme.DIM)
            painter.drawText(axes.frame, int(Qt.AlignmentFlag.AlignCenter), "No strip is coloured yet.")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for strip_id, *_ in reversed(self.lines):
            at = self.mark_at(strip_id)
            if at is not None and (at - event.position()).manhattanLength() <= 1.6 * _REACH:
                self._taken, self._last = strip_id, event.position()
                self.update()
                return

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._taken:
            fine = 0.2 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            self.leaned.emit(self._taken, (self._last.y() - event.position().y()) * _DB_PER_PIXEL * fine)
            self._last = event.position()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._taken:
            taken, self._taken = self._taken, ""
            self.let_go.emit(taken)
            self.update()


class Spread(Tool):
    """The picture, and a control for each strip."""

    title = "Spread"
    first_size = QSize(960, 520)

    def __init__(self, sessions: SessionKeeper, playback: Playback, measurer: Measurer) -> None:
        super().__init__(sessions, playback)
        self._measurer = measurer
        self._gesture = Gesture(self._sessions)
        self.setWindowTitle("Spread")
        self._shown: object = None
        self.bars: dict[str, ValueBar] = {}
        self.picture = SpreadPicture()
        self.picture.leaned.connect(self._lean)
        self.picture.let_go.connect(self._commit)
        self.view = QComboBox()
        self.view.setAccessibleName("What is shown")
        self.view.addItems(list(_VIEWS))
        self.view.currentIndexChanged.connect(self._set_view)
        self._rows = QVBoxLayout()
        self._rows.setAlignment(Qt.AlignmentFlag.AlignTop)
        inside = QWidget()
        inside.setLayout(self._rows)
        scroll = QScrollArea()
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(inside)
        scroll.setWidgetResizable(True)
        scroll.setMinimumWidth(280)
        right = QVBoxLayout()
        right.addWidget(self.view)
        right.addWidget(scroll, 1)
        note = TextLabel("Every mark stands in the middle of what its strip adds. Drag it up to lean towards highs, "
                         "down towards lows.")
        note.setWordWrap(True)
        note.setStyleSheet(f"color: {theme.DIM.name()}")
        right.addWidget(note)
        layout = QHBoxLayout(self)
        layout.addWidget(self.picture, 3)
        layout.addLayout(right, 2)
        self._measurer.changed.connect(self.refresh)
        self._sessions.changed.connect(self.refresh)
        self.refresh()

    def _set_view(self, index: int) -> None:
        self.picture.view = index
        self.picture.update()

    def _strips(self) -> list[Strip]:
        return [strip for strip, _ in self._sessions.session.depth_first()
                if any(stage.on for stage in strip.chain) and not strip.bypass]

    def refresh(self) -> None:
        """Show the strips as they were last measured."""
        strips = self._strips()
        colours = dict(zip((strip.id for strip in strips), theme.shades(max(len(strips), 1)), strict=False))
        marks = {strip.id: str(number) for number, strip in enumerate(strips, 1)}
        requested = [(strip.id, strip.name, None if (result := leaning(strip)) is None else (result[0].id, result[1]))
                     for strip in strips]
        if requested != self._shown:
            self._shown = requested
            self._build(strips, colours, marks)
        for strip in strips:
            result = leaning(strip)
            if result is not None:
                self.bars[strip.id].show_value(result[0].params[result[1]])
        measurer = self._measurer
        self.picture.show_lines([(strip.id, marks[strip.id], colours[strip.id], known.comparison) for strip in strips
                                 if (known := measurer.latest(strip.id)) is not None])

    def _build(self, strips: list[Strip], colours: dict[str, QColor], marks: dict[str, str]) -> None:
        clear(self._rows)
        self.bars = {}
        for strip in strips:
            mark = f"<b style='color:{colours[strip.id].name()}'>{marks[strip.id]}</b>"
            label = TextLabel(f"{mark}  {escaped(strip.name)}", markup=True)
            self._rows.addWidget(label)
            result = leaning(strip)
            if result is None:
                continue
            stage, name = result
            bar = ValueBar(stage.declaration.number(name))
            bar.changing.connect(functools.partial(self._set, strip.id))
            bar.committed.connect(functools.partial(self._committed, strip.id))
            self.bars[strip.id] = bar
            self._rows.addWidget(bar)

    def _set(self, strip_id: str, value: Value) -> None:
        result = leaning(self._sessions.session.strip(strip_id))
        if result is not None:
            stage, name = result
            label = f"{stage.declaration.parameter(name).label} of {self._sessions.session.strip(strip_id).name}"
            self._gesture.show(label, strip_id, lambda session: set_parameter(session, strip_id, stage.id, name, value))

    def _committed(self, strip_id: str, _value: object) -> None:
        self._commit(strip_id)

    def _lean(self, strip_id: str, by_db: float) -> None:
        result = leaning(self._sessions.session.strip(strip_id))
        if result is not None:
            stage, name = result
            number = stage.declaration.number(name)
            now = stage.params[name]
            level = as_pair(now)[0] if isinstance(now, tuple) else as_number(now)
            self._set(strip_id, number.clamp(round(level + by_db, 3)))

    def _commit(self, strip_id: str) -> None:
        self._gesture.keep()
