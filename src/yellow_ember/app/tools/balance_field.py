"""The balance field: drive along, tone up, and on it how much and how bright the stage would be, equally loud.

A coarse map appears first and is refined.  The point that is dragged is the stage itself.
"""

from __future__ import annotations

import time

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from yellow_ember.app.pictures.contours import Line, bilinear, contour
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.layouts import let_shrink
from yellow_ember.app.widgets.painting import painted
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.tone_words import tone_words
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.parameters import Number, Value, Values, as_pair
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.jobs.variations import Variation, VariationOrder, dealt, render_variations
from yellow_ember.plain_text import with_minus
from yellow_ember.session.edits.edits import edit_strip, set_parameter
from yellow_ember.session.values.model import Session

_ROUNDS = ((5, 4), (9, 7), (17, 13))
"""Columns and rows of each map; every one holds the points of the one before."""
_SECONDS = 1.0
_FACTOR = 2
_SETTLE_SECONDS = 0.3
_ADDED_STEP_DB = 6.0
_STEP = 0.02
_IMAGE = (96, 72)


class FieldPicture(QWidget):
    """The map, the point, and the snapshots."""

    moving = pyqtSignal(float, float)
    moved = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.added: Samples | None = None
        self.brightness: Samples | None = None
        self.point = (0.5, 0.5)
        self.marks: list[tuple[float, float, str]] = []
        self.labels = ("", "")
        self._image: QImage | None = None
        self._lines: list[tuple[float, list[Line]]] = []
        self._kept_tone: list[Line] = []
        self.setMinimumSize(360, 260)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Balance field")
        self.setCursor(Qt.CursorShape.CrossCursor)

    def sizeHint(self) -> QSize:
        return QSize(560, 420)

    def show_map(self, added: Samples | None, brightness: Samples | None) -> None:
        """Maps (rows, columns), the first row at the bottom."""
        self.added, self.brightness = added, brightness
        self._image, self._lines, self._kept_tone = None, [], []
        if added is not None and brightness is not None and np.all(np.isfinite(added)):
            self._image = self._painted(added)
            low, high = float(added.min()), float(added.max())
            first = np.ceil(low / _ADDED_STEP_DB) * _ADDED_STEP_DB
            self._lines = [(level, contour(added, level)) for level in np.arange(first, high, _ADDED_STEP_DB)]
            self._kept_tone = contour(brightness, 0.0)
        self.update()

    def _painted(self, added: Samples) -> QImage:
        width, height = _IMAGE
        image = QImage(width, height, QImage.Format.Format_RGB32)
        for row in range(height):
            for column in range(width):
                level = bilinear(added, column / (width - 1), 1.0 - row / (height - 1))
                image.setPixel(column, row, theme.added_colour(level).rgb())
        return image

    def _frame(self) -> QRectF:
        return QRectF(34, 8, self.width() - 44, self.height() - 36)

    def _at(self, x: float, y: float) -> QPointF:
        frame = self._frame()
        return QPointF(frame.left() + x * frame.width(), frame.bottom() - y * frame.height())

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        frame = self._frame()
        painter.fillRect(self.rect(), theme.PANEL)
        painter.fillRect(frame, theme.GROUND)
        if self._image is not None:
            painter.setOpacity(0.85)
            painter.drawImage(frame, self._image)
            painter.setOpacity(1.0)
        for level, lines in self._lines:
            painter.setPen(QPen(theme.GROUND, 1.2))
            for x0, y0, x1, y1 in lines:
                painter.drawLine(self._at(x0, y0), self._at(x1, y1))
            if lines:
                x0, y0, _, _ = lines[len(lines) // 2]
                self._label(painter, self._at(x0, y0), with_minus(f"{level:.0f}"))
        painter.setPen(QPen(theme.TEXT, 1.4, Qt.PenStyle.DashLine))
        for x0, y0, x1, y1 in self._kept_tone:
            painter.drawLine(self._at(x0, y0), self._at(x1, y1))
        painter.setPen(QPen(theme.AFTER if self.hasFocus() else theme.EDGE, 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(frame)
        painter.setFont(theme.font(8.5))
        painter.setPen(theme.DIM)
        painter.drawText(QRectF(frame.left(), frame.bottom() + 6, frame.width(), 18),
                         int(Qt.AlignmentFlag.AlignCenter), f"{self.labels[0]} \u2192")
        painter.save()
        painter.translate(16, frame.center().y())
        painter.rotate(-90)
        painter.drawText(QRectF(-frame.height() / 2, -10, frame.height(), 18), int(Qt.AlignmentFlag.AlignCenter),
                         f"{self.labels[1]} \u2192")
        painter.restore()
        for x, y, name in self.marks:
            self._label(painter, self._at(x, y), name, framed=True)
        at = self._at(*self.point)
        painter.setPen(QPen(theme.GROUND, 4.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, 8.0, 8.0)
        painter.setPen(QPen(theme.TEXT, 2.0))
        painter.drawEllipse(at, 8.0, 8.0)

    def _label(self, painter: QPainter, at: QPointF, text: str, *, framed: bool = False) -> None:
        painter.setFont(theme.font(7.5, bold=True))
        box = QRectF(at.x() - 11, at.y() - 7, 22, 14)
        painter.setPen(QPen(theme.AFTER, 1.5) if framed else Qt.PenStyle.NoPen)
        painter.setBrush(theme.GROUND)
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(theme.TEXT)
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), text)

    # -- hands --------------------------------------------------------------------------

    def _ask(self, at: QPointF) -> None:
        frame = self._frame()
        self.moving.emit(min(max((at.x() - frame.left()) / frame.width(), 0.0), 1.0),
                         min(max((frame.bottom() - at.y()) / frame.height(), 0.0), 1.0))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._ask(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._ask(event.position())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.moved.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = _STEP * (0.2 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0)
        by = {Qt.Key.Key_Left: (-step, 0.0), Qt.Key.Key_Right: (step, 0.0), Qt.Key.Key_Up: (0.0, step),
              Qt.Key.Key_Down: (0.0, -step)}.get(Qt.Key(event.key()))
        if by is None:
            super().keyPressEvent(event)
            return
        self.moving.emit(*(min(max(at + change, 0.0), 1.0) for at, change in zip(self.point, by, strict=True)))
        self.moved.emit()


def _plain(value: Value) -> float:
    return as_pair(value)[0] if isinstance(value, tuple) else float(value) if isinstance(value, int | float) else 0.0


class BalanceField(Tool):
    """The picture, what goes along and up, and what is under the point."""

    title = "Field"
    first_size = QSize(640, 520)
    of_the_stage = True

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, jobs: JobKeeper) -> None:
        super().__init__(sessions, playback)
        self._selection, self._jobs = selection, jobs
        self._gesture = Gesture(self._sessions)
        self._strip_id, self._stage_id = self._selection.strip_id, self._selection.stage_id
        kind = self._stage().declaration
        self.setWindowTitle(f"Balance field of {kind.label} on {self._selection.strip.name}")
        self._round = 0
        self._asked: list[tuple[int, int]] = []
        self._maps: dict[str, Samples] = {}
        self._requested: object = None
        self._since = self._settle = 0.0
        self.rounds = 0
        """How many maps have been made since the last change."""
        self.along, self.up = QComboBox(), QComboBox()
        numbers = [p for p in kind.parameters if isinstance(p, Number)]
        for box, name, first in ((self.along, "Along", kind.drive or numbers[0].id),
                                 (self.up, "Up", kind.tone or numbers[min(1, len(numbers) - 1)].id)):
            box.setAccessibleName(name)
            let_shrink(box)
            for number in numbers:
                box.addItem(f"{number.label} ({number.group.value})", number.id)
            box.setCurrentIndex(box.findData(first))
        self.picture = FieldPicture()
        self.picture.moving.connect(self._move)
        self.picture.moved.connect(self._commit)
        self.state = TextLabel()
        self.state.setAccessibleName("Under the point")
        top = QHBoxLayout()
        for text, box in (("Along", self.along), ("Up", self.up)):
            top.addWidget(TextLabel(text))
            top.addWidget(box, 1)
        layout = QVBoxLayout(self)
        layout.addLayout(top)
        layout.addWidget(self.picture, 1)
        layout.addWidget(self.state)
        hint = TextLabel("Colour and lines: what is added in dB, equally loud. Dashed: the tone is kept. "
                         "Framed: snapshots. "
                      "Drag the point, or use the arrow keys.")
        hint.setStyleSheet(f"color: {theme.DIM.name()}")
        hint.setWordWrap(True)
        layout.addWidget(hint)
        self._playback.frame.connect(self._poll)
        self._sessions.changed.connect(self._refresh)
        for box in (self.along, self.up):
            box.currentIndexChanged.connect(lambda _index: self._refresh())
        self._refresh()

    def _stage(self) -> StageSettings:
        return self._sessions.session.strip(self._strip_id).stage(self._stage_id)

    @property
    def _here(self) -> bool:
        """False once the stage is gone."""
        return any(strip.id == self._strip_id and any(stage.id == self._stage_id for stage in strip.chain)
                   for strip in self._sessions.session.strips)

    @property
    def _numbers(self) -> tuple[Number, Number]:
        kind = self._stage().declaration
        return kind.number(self.along.currentData()), kind.number(self.up.currentData())

    def _place(self, values: Values) -> tuple[float, float]:
        """Where values lie on the field."""
        x, y = self._numbers
        return x.position(_plain(values[x.id])), y.position(_plain(values[y.id]))

    def _refresh(self) -> None:
        """Show where the stage is, and make the map again where something else has changed."""
        if not self._here:
            self.close()
            return
        stage, session, picture = self._stage(), self._sessions.session, self.picture
        x, y = self._numbers
        picture.labels = (x.label, y.label)
        picture.point = self._place(stage.params)
        picture.marks = [
            (*self._place(old.params), str(snapshot.place + 1)) for snapshot in session.snapshots
            if (state := snapshot.state(self._strip_id)) is not None
            for old in state.chain if old.id == self._stage_id]
        picture.update()
        self._show_state()
        others = {name: value for name, value in stage.params.items() if name not in (x.id, y.id)}
        strip = session.strip(self._strip_id)
        rest = tuple(other for other in strip.chain if other.id != self._stage_id)
        reaching = session.upstream(self._strip_id) - {self._strip_id}
        requested = (x.id, y.id, others, rest, strip.regions, session.loop, session.reference_dbfs,
                     tuple(one for one in session.strips if one.id in reaching))
        if requested != self._requested:
            self._requested, self._since = requested, time.monotonic()
            self._cancel()
            self._maps, self.rounds, self._round = {}, 0, 0
            picture.show_map(None, None)

    def _show_state(self) -> None:
        x, y = self._numbers
        values = self._stage().params
        words = f"{x.label} {x.text(values[x.id])}, {y.label} {y.text(values[y.id])}"
        if self._maps:
            added, brightness = (bilinear(self._maps[name], *self.picture.point) for name in ("added", "brightness"))
            words += with_minus(f":  added {added:.0f} dB, {tone_words(brightness)}")
        self.state.setText(words)

    # -- the map ------------------------------------------------------------------------

    def _poll(self) -> None:
        """With the clock: make the next, finer map."""
        if not self.isVisible() or not self._here:
            return
        settled = time.monotonic() - self._since >= self._settle
        if self._round < len(_ROUNDS) and settled and not self._jobs.is_running_several(self):
            self._begin()

    def _take(self, variation: Variation) -> None:
        row, column = self._asked[variation.number]
        for name, value in (("added", variation.added_db), ("brightness", variation.brightness),
                            ("offset", variation.offset_db)):
            self._coming[name][row, column] = value

    def _fail(self, reason: str) -> None:
        self.state.setText(reason)
        self._round = len(_ROUNDS)

    def _end_round(self) -> None:
        self._round += 1
        self._maps = self._coming
        self.rounds += 1
        self.picture.show_map(self._maps["added"], self._maps["brightness"])
        self._show_state()

    def _begin(self) -> None:
        columns, rows = _ROUNDS[self._round]
        self._settle = _SETTLE_SECONDS
        x, y = self._numbers
        stage = self._stage()
        coming = {name: np.full((rows, columns), np.nan) for name in ("added", "brightness", "offset")}
        for name, old in self._maps.items():
            coming[name][::2, ::2] = old
        self._asked, asked = [], []
        for row in range(rows):
            for column in range(columns):
                if np.isnan(coming["added"][row, column]):
                    self._asked.append((row, column))
                    asked.append({**stage.params, x.id: x.clamp(x.at(column / (columns - 1))),
                                  y.id: y.clamp(y.at(row / (rows - 1)))})
        self._coming = coming
        order = VariationOrder(self._strip_id, self._stage_id, _SECONDS, _FACTOR)
        session = self._sessions.session
        self._jobs.start_several(
            self, render_variations, [(session, order, share) for share in dealt(asked)],
            part=self._take, done=lambda _: self._end_round(), failed=self._fail)

    def _cancel(self) -> None:
        self._jobs.cancel_several(self)

    # -- hands --------------------------------------------------------------------------

    def _moved(self, session: Session, x_share: float, y_share: float) -> Session:
        for number, share in zip(self._numbers, (x_share, y_share), strict=True):
            value = number.clamp(round(number.at(share), number.decimals + 1))
            session = set_parameter(session, self._strip_id, self._stage_id, number.id, value)
        if self._maps:
            offset = bilinear(self._maps["offset"], x_share, y_share)
            session = edit_strip(session, self._strip_id, lambda strip: strip.with_(match_db=offset))
        return session

    def _move(self, x_share: float, y_share: float) -> None:
        if self._here:
            x, y = self._numbers
            self._gesture.show(f"{x.label} and {y.label}", self._stage_id,
                               lambda session: self._moved(session, x_share, y_share))

    def _commit(self) -> None:
        self._gesture.keep()

    def let_go(self) -> None:
        self._gesture.keep()
        self._cancel()
