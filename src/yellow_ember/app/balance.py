"""Balance: tone change and added heat of the chosen strip, before against after, at equal loudness."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from yellow_ember.app import theme
from yellow_ember.app.plot import Axes, draw_frame, draw_frequency_grid, draw_legend, draw_line, draw_y_grid
from yellow_ember.app.snapshot_row import SnapshotRow
from yellow_ember.app.value_bar import ValueBar
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.parameters import Group, Number, as_number
from yellow_ember.engine.difference import LOUDER_MOST_DB
from yellow_ember.engine.measuring import StripMeasurement
from yellow_ember.session.model import Strip

LOUDER = Number(id="louder_db", label="Louder by", unit="dB", minimum=0.0, maximum=LOUDER_MOST_DB, default=0.0,
                group=Group.OUTPUT, help="Lifts what was added, so that little of it can be heard.")


class BandPicture(QWidget):
    """Spectra before and after with what was added, and the tone change below them."""

    def __init__(self) -> None:
        super().__init__()
        self._found: StripMeasurement | None = None
        self._match_db = 0.0
        self._fresh = False
        self.setMinimumHeight(220)
        self.setAccessibleName("Spectra before and after, added heat, tone change")

    def sizeHint(self) -> QSize:
        return QSize(260, 330)

    def show_measurement(self, found: StripMeasurement | None, match_db: float, fresh: bool) -> None:
        if (found, match_db, fresh) != (self._found, self._match_db, self._fresh):
            self._found, self._match_db, self._fresh = found, match_db, fresh
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.PANEL)
        middle = self.height() * 0.56
        upper = QRectF(36, 18, self.width() - 44, middle - 48)
        lower = QRectF(36, middle + 18, self.width() - 44, self.height() - middle - 36)
        painter.setOpacity(1.0 if self._fresh or self._found is None else 0.55)
        self._paint_spectra(painter, upper)
        self._paint_tone(painter, lower)

    def _title(self, painter: QPainter, frame: QRectF, text: str) -> None:
        painter.setFont(theme.font(8.5, bold=True))
        painter.setPen(theme.TEXT)
        painter.drawText(QRectF(frame.left() - 28, frame.top() - 17, 260, 15), int(Qt.AlignmentFlag.AlignVCenter), text)

    def _paint_spectra(self, painter: QPainter, frame: QRectF) -> None:
        self._title(painter, frame, "Spectra of the loop, dBFS")
        axes = Axes(frame, 20.0, 20000.0, -96.0, 0.0, log_x=True)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, 24.0)
        draw_frequency_grid(painter, axes)
        if self._found is not None:
            comparison = self._found.comparison
            painter.save()
            painter.setClipRect(frame)
            painter.setPen(Qt.PenStyle.NoPen)
            for hz, added, after in zip(comparison.bands, comparison.added_db, comparison.after_db, strict=True):
                if added > axes.y_low:
                    painter.setBrush(theme.heat_colour(added - after))
                    left, right = axes.x(hz * 10**-0.045), axes.x(hz * 10**0.045)
                    painter.drawRect(QRectF(QPointF(left, axes.y(added + self._match_db)),
                                            QPointF(right, frame.bottom())))
            painter.restore()
            draw_line(painter, axes, comparison.bands, comparison.before_db, theme.BEFORE)
            draw_line(painter, axes, comparison.bands, comparison.after_db + self._match_db, theme.AFTER)
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 14, frame.width(), 12),
                    [("before", theme.BEFORE), ("after", theme.AFTER),
                     ("added", theme.heat_colour(-25.0))])

    def _paint_tone(self, painter: QPainter, frame: QRectF) -> None:
        self._title(painter, frame, "Tone change in third octaves, dB")
        tone = np.full(31, np.nan)
        if self._found is not None:
            tone = self._found.comparison.tone_db + self._match_db
            present = self._found.comparison.before_db > self._found.comparison.before_db.max() - 60.0
            tone = np.where(present, tone, np.nan)
        reach = 6.0 if not np.any(np.abs(tone) > 6.0) else 12.0
        axes = Axes(frame, 20.0, 20000.0, -reach, reach, log_x=True)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, reach / 2.0)
        draw_frequency_grid(painter, axes)
        if self._found is None:
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.AFTER)
        for hz, change in zip(self._found.comparison.bands, tone, strict=True):
            if math.isfinite(change):
                left, right = axes.x(hz * 10**-0.04), axes.x(hz * 10**0.04)
                top, bottom = sorted((axes.y(0.0), axes.y(float(change))))
                painter.drawRect(QRectF(QPointF(left, top), QPointF(right, max(bottom, top + 1.0))))


class HeatBar(QWidget):
    """The one number of a strip's heat, on the ramp."""

    def __init__(self) -> None:
        super().__init__()
        self._heat_db = -math.inf
        self.setFixedHeight(16)
        self.setAccessibleName("Heat")
        self.setToolTip("Heat: the energy added that no tone change explains, in dB below the signal")

    def show_heat(self, heat_db: float) -> None:
        if heat_db != self._heat_db:
            self._heat_db = heat_db
            self.setAccessibleDescription(heat_text(heat_db))
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        box = QRectF(self.rect()).adjusted(0.5, 3.5, -0.5, -3.5)
        steps = 48
        painter.setPen(Qt.PenStyle.NoPen)
        for step in range(steps):
            level = theme.COLDEST_DB + step / (steps - 1) * (theme.HOTTEST_DB - theme.COLDEST_DB)
            colour = theme.heat_colour(level)
            if level > self._heat_db:
                colour.setAlphaF(0.16)
            painter.setBrush(colour)
            painter.drawRect(QRectF(box.left() + step / steps * box.width(), box.top(),
                                    box.width() / steps + 0.6, box.height()))
        if self._heat_db > theme.COLDEST_DB:
            share = min((self._heat_db - theme.COLDEST_DB) / (theme.HOTTEST_DB - theme.COLDEST_DB), 1.0)
            x = box.left() + share * box.width()
            painter.setPen(QPen(theme.TEXT, 2.0))
            painter.drawLine(QPointF(x, box.top() - 3), QPointF(x, box.bottom() + 3))


def heat_text(heat_db: float) -> str:
    return f"{heat_db:.1f} dB" if heat_db > -120.0 else "none"


def _lufs(value: float) -> str:
    return f"{value:.1f} LUFS" if math.isfinite(value) else "silent"


class Balance(QWidget):
    """The panel at the right."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._workspace = workspace
        self.bands = BandPicture()
        self.heat = HeatBar()
        self.state = QLabel()
        self.state.setStyleSheet(f"color: {theme.DIM.name()}")
        self.numbers: dict[str, QLabel] = {}
        title = QLabel("Balance")
        title.setFont(theme.font(10.5, bold=True))
        head = QHBoxLayout()
        head.addWidget(title)
        head.addWidget(self.state, 1, Qt.AlignmentFlag.AlignRight)
        grid = QGridLayout()
        grid.setVerticalSpacing(2)
        for row, name in enumerate(("Heat", "Loudness before", "Loudness after", "Match offset", "Crest change",
                                  "Added, alone")):
            label, number = QLabel(name), QLabel()
            label.setStyleSheet(f"color: {theme.DIM.name()}")
            number.setFont(theme.font(9.5, bold=True))
            number.setAccessibleName(name)
            grid.addWidget(label, row, 0)
            grid.addWidget(number, row, 1, Qt.AlignmentFlag.AlignRight)
            self.numbers[name] = number
        self.match_button = QPushButton("Match now")
        self.match_button.setToolTip("Make after as loud as before over the loop (BS.1770)")
        self.match_button.clicked.connect(workspace.measurer.match)
        self.lock = QPushButton("Keep matched")
        self.lock.setCheckable(True)
        self.lock.setChecked(workspace.settings.match_lock)
        self.lock.setToolTip("Match again whenever a change has settled")
        self.lock.toggled.connect(self._set_lock)
        self.snapshots = SnapshotRow(workspace)
        self.keep_tone = QCheckBox("with the change of tone")
        self.keep_tone.setToolTip("Leaves in what the chain does to the tone; else only what no tone change explains")
        self.keep_tone.toggled.connect(lambda on: workspace.added.set(keep_tone=on))
        self.louder = ValueBar(LOUDER)
        self.louder.changing.connect(lambda value: self._set_louder(as_number(value)))
        self._added_row = QWidget()
        added = QVBoxLayout(self._added_row)
        added.setContentsMargins(0, 0, 0, 0)
        added.setSpacing(3)
        added.addWidget(self.keep_tone)
        added.addWidget(self.louder)
        workspace.added.changed.connect(self.refresh)
        buttons = QHBoxLayout()
        buttons.addWidget(self.match_button)
        buttons.addWidget(self.lock)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 6, 10, 8)
        layout.setSpacing(5)
        layout.addLayout(head)
        layout.addWidget(self.bands, 1)
        layout.addWidget(self.heat)
        layout.addLayout(grid)
        layout.addLayout(buttons)
        layout.addWidget(self._added_row)
        layout.addWidget(self.snapshots)
        workspace.measurer.changed.connect(self.refresh)
        workspace.session_changed.connect(self.refresh)
        workspace.selected.connect(self.refresh)
        self.refresh()

    def sizeHint(self) -> QSize:
        return QSize(274, 500)

    def _set_louder(self, louder_db: float) -> None:
        self._workspace.added.set(louder_db=louder_db)
        self.louder.show_value(louder_db)

    def _set_lock(self, on: bool) -> None:
        self._workspace.settings.match_lock = on
        if on:
            self._workspace.measurer.match()

    def refresh(self) -> None:
        """Show the newest measurement of the chosen strip."""
        workspace = self._workspace
        strip, measurer = workspace.strip, workspace.measurer
        found = measurer.latest(strip.id)
        fresh = measurer.fresh(strip.id)
        self.bands.show_measurement(found, strip.match_db, fresh)
        self.match_button.setEnabled(found is not None)
        added = workspace.added
        self._added_row.setVisible(added.on)
        self.louder.show_value(added.louder_db)
        if measurer.trouble:
            self.state.setText(measurer.trouble)
        else:
            self.state.setText("" if fresh else "measuring\u2026" if measurer.busy else "not measured")
        self._show_numbers(strip, found)
        self.numbers["Added, alone"].setText(
            f"{added.found.against_db:.1f} dB" if added.found is not None and added.on else "\u2013")

    def _show_numbers(self, strip: Strip, found: StripMeasurement | None) -> None:
        if found is None:
            self.heat.show_heat(-math.inf)
            for number in self.numbers.values():
                number.setText("\u2013")
            return
        after = found.after.integrated_lufs + strip.match_db
        heat = found.comparison.heat_db
        self.heat.show_heat(heat)
        self.numbers["Heat"].setText(heat_text(heat))
        self.numbers["Loudness before"].setText(_lufs(found.before.integrated_lufs))
        self.numbers["Loudness after"].setText(_lufs(after))
        self.numbers["Match offset"].setText(f"{strip.match_db:+.2f} dB")
        crest = found.after.crest_db - found.before.crest_db
        self.numbers["Crest change"].setText(f"{crest:+.1f} dB")
