"""Meters of the chosen strip and of the master: VU, peak programme, true peak, loudness against a zone."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Group, Number, Value, as_number
from yellow_ember.engine.live.board import StripReading
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import LOUDEST_LUFS, MASTER, QUIETEST_LUFS

_FIRST_ZONE = (-26.0, -20.0)
_NARROWEST = 0.5
_ENDS = tuple(Number(id=name, label=label, unit="LUFS", minimum=QUIETEST_LUFS, maximum=LOUDEST_LUFS, default=default,
                     group=Group.OUTPUT, help=f"The {word} end of the strip's loudness target.")
              for name, label, default, word in (("low", "From", _FIRST_ZONE[0], "lower"),
                                                 ("high", "To", _FIRST_ZONE[1], "upper")))
_ROWS = ("VU", "Peak programme", "True peak", "Momentary", "Short-term", "Integrated")
_SPANS = {"VU": (-20.0, 3.0, "VU"), "Peak programme": (-50.0, 0.0, "dBFS"), "True peak": (-50.0, 3.0, "dBTP"),
          "Momentary": (-60.0, 0.0, "LUFS"), "Short-term": (-60.0, 0.0, "LUFS"), "Integrated": (-60.0, 0.0, "LUFS")}


def _db(amplitude: float) -> float:
    return 20.0 * math.log10(amplitude) if amplitude > 1e-6 else -math.inf


class MeterColumn(QWidget):
    """One strip's meters, a row each."""

    def __init__(self, sessions: SessionKeeper) -> None:
        super().__init__()
        self._sessions = sessions
        self.strip_id = MASTER
        self.levels: dict[str, tuple[float, ...]] = {}
        self.setMinimumSize(300, 210)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(360, 230)

    def show_reading(self, strip_id: str, reading: StripReading | None) -> None:
        """Take the newest levels."""
        self.strip_id = strip_id
        if reading is None:
            levels: dict[str, tuple[float, ...]] = dict.fromkeys(_ROWS, (-math.inf,))
        else:
            reference = self._sessions.session.reference_dbfs
            levels = {"VU": tuple(_db(x) - reference for x in reading.vu),
                      "Peak programme": tuple(_db(x) for x in reading.programme),
                      "True peak": tuple(_db(x) for x in reading.true_peak), "Momentary": (reading.momentary,),
                      "Short-term": (reading.short_term,), "Integrated": (reading.integrated,)}
        if levels != self.levels:
            self.levels = levels
            name = self._sessions.session.strip(strip_id).name
            self.setAccessibleName(f"Meters of {name}")
            self.setAccessibleDescription(", ".join(f"{row} {self.words(row)}" for row in _ROWS))
            self.update()

    def words(self, row: str) -> str:
        """A row's figure with its unit."""
        level = max(self.levels.get(row, (-math.inf,)))
        sign = "+" if row == "VU" else ""
        return f"{level:{sign}.1f} {_SPANS[row][2]}" if math.isfinite(level) and level > -90.0 else "\u2013"

    def in_zone(self) -> bool | None:
        """Whether the short-term loudness is within its target; None without a target or sound."""
        zone = self._sessions.session.strip(self.strip_id).zone_lufs
        level = self.levels.get("Short-term", (-math.inf,))[0]
        return None if zone is None or not math.isfinite(level) else zone[0] <= level <= zone[1]

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        strip = self._sessions.session.strip(self.strip_id)
        painter.setFont(theme.font(10.5, bold=True))
        painter.setPen(theme.TEXT)
        painter.drawText(QRectF(0, 0, self.width(), 22), int(Qt.AlignmentFlag.AlignVCenter), strip.name)
        height = (self.height() - 26) / len(_ROWS)
        for index, row in enumerate(_ROWS):
            self._paint_row(painter, QRectF(0, 26 + index * height, self.width(), height), row)

    def _paint_row(self, painter: QPainter, box: QRectF, row: str) -> None:
        low, high, _unit = _SPANS[row]
        painter.setFont(theme.font(8.5))
        painter.setPen(theme.DIM)
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(box.left(), box.top(), 96, box.height()), int(middle), row)
        bar = QRectF(box.left() + 100, box.top() + 5, box.width() - 190, box.height() - 12)

        def at(level: float) -> float:
            return bar.left() + min(max((level - low) / (high - low), 0.0), 1.0) * bar.width()

        painter.fillRect(bar, theme.RAISED)
        zone = self._sessions.session.strip(self.strip_id).zone_lufs
        loudness = row in ("Momentary", "Short-term", "Integrated")
        if zone is not None and loudness:
            painter.fillRect(QRectF(at(zone[0]), bar.top() - 3, at(zone[1]) - at(zone[0]), bar.height() + 6),
                             theme.AFTER_FILL)
        levels = self.levels.get(row, (-math.inf,))
        part = bar.height() / len(levels)
        over = row == "True peak" and max(levels) > -1.0
        for index, level in enumerate(levels):
            if level > low:
                painter.fillRect(QRectF(bar.left(), bar.top() + index * part, at(level) - bar.left(), part - 0.8),
                                 theme.AFTER if over else theme.DIM)
        if row == "VU":
            painter.setPen(QPen(theme.TEXT, 1.2))
            painter.drawLine(QPointF(at(0.0), bar.top() - 2), QPointF(at(0.0), bar.bottom() + 2))
        outside = loudness and zone is not None and row == "Short-term" and self.in_zone() is False
        painter.setPen(theme.AFTER if over or outside else theme.TEXT)
        painter.setFont(theme.font(9, bold=True))
        painter.drawText(QRectF(bar.right() + 4, box.top(), 86, box.height()),
                         int(Qt.AlignmentFlag.AlignRight | middle), self.words(row))


class MetersTool(Tool):
    """Two columns, and the zone of the chosen strip."""

    title = "Meters"
    first_size = QSize(780, 330)

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback) -> None:
        super().__init__(sessions, playback)
        self._selection = selection
        self._gesture = Gesture(self._sessions)
        self.setWindowTitle("Meters")
        self.strip, self.master = MeterColumn(self._sessions), MeterColumn(self._sessions)
        columns = QHBoxLayout()
        columns.setSpacing(20)
        columns.addWidget(self.strip)
        columns.addWidget(self.master)
        self.wants_zone = QCheckBox("Loudness target")
        self.wants_zone.setToolTip("A range for the strip's loudness; it is saved with the session")
        self.wants_zone.toggled.connect(self._switch_zone)
        self.ends = {number.id: ValueBar(number) for number in _ENDS}
        zone = QHBoxLayout()
        zone.addWidget(self.wants_zone)
        for name, bar in self.ends.items():
            bar.changing.connect(lambda value, end=name: self._set_end(end, value))
            bar.committed.connect(lambda _value: self._gesture.keep())
            zone.addWidget(bar, 1)
        note = TextLabel("VU by IEC 60268-17, peak programme by IEC 60268-10 type I, true peak and loudness by "
                      "ITU-R BS.1770 and EBU R 128, since playing began.")
        note.setWordWrap(True)
        note.setStyleSheet(f"color: {theme.DIM.name()}")
        layout = QVBoxLayout(self)
        layout.addLayout(columns, 1)
        layout.addLayout(zone)
        layout.addWidget(note)
        self._playback.frame.connect(self._on_frame)
        self._sessions.changed.connect(self._refresh)
        self._selection.changed.connect(self._refresh)
        self._refresh()

    def _on_frame(self) -> None:
        engine = self._playback.engine
        for column, strip_id in ((self.strip, self._selection.strip_id), (self.master, MASTER)):
            column.show_reading(strip_id, engine.reading(strip_id) if engine is not None else None)

    def _refresh(self) -> None:
        zone = self._selection.strip.zone_lufs
        self.wants_zone.blockSignals(True)
        self.wants_zone.setChecked(zone is not None)
        self.wants_zone.blockSignals(False)
        for bar, end in zip(self.ends.values(), zone or _FIRST_ZONE, strict=True):
            bar.show_value(end)
            bar.setEnabled(zone is not None)
        self._on_frame()
        self.strip.update()

    def _put(self, zone: tuple[float, float] | None) -> None:
        strip_id = self._selection.strip_id
        self._gesture.show("Loudness zone", strip_id, lambda session: edit_strip(
            session, strip_id, lambda strip: strip.with_(zone_lufs=zone)))

    def _switch_zone(self, on: bool) -> None:
        self._put(_FIRST_ZONE if on else None)
        self._gesture.keep()

    def _set_end(self, name: str, value: Value) -> None:
        low, high = self._selection.strip.zone_lufs or _FIRST_ZONE
        level = as_number(value)
        if name == "low":
            self._put((min(level, LOUDEST_LUFS - _NARROWEST), max(high, min(level, LOUDEST_LUFS - _NARROWEST)
                                                                  + _NARROWEST)))
        else:
            self._put((min(low, max(level, QUIETEST_LUFS + _NARROWEST) - _NARROWEST),
                       max(level, QUIETEST_LUFS + _NARROWEST)))
