"""Balance: tone change and what was added by the chosen strip, before against after, at equal loudness."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from yellow_ember.app.panels.snapshot_row import SnapshotRow
from yellow_ember.app.state.added import AddedListening
from yellow_ember.app.state.asked_match import AskedMatch
from yellow_ember.app.state.dissector import Dissector
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.painting import painted
from yellow_ember.app.widgets.plot import Axes, draw_frame, draw_frequency_grid, draw_legend, draw_line, draw_y_grid
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Group, Number, as_number
from yellow_ember.engine.jobs.difference import LOUDER_MOST_DB
from yellow_ember.engine.jobs.measuring import StripMeasurement
from yellow_ember.measure.anatomy import Anatomy
from yellow_ember.measure.character import character_of
from yellow_ember.measure.crowding import crowding
from yellow_ember.plain_text import with_minus
from yellow_ember.session.edits.remedies import WHERE, Remedy, remedy
from yellow_ember.session.values.model import Strip
from yellow_ember.session.values.snapshots import Snapshot

LOUDER = Number(id="louder_db", label="Louder by", unit="dB", minimum=0.0, maximum=LOUDER_MOST_DB, default=0.0,
                group=Group.OUTPUT, help="Lifts what was added, so that little of it can be heard.")

_ROOM_FOR_BOTH = 190


class BandPicture(QWidget):
    """Spectra before and after with what was added, and the tone change below them."""

    def __init__(self) -> None:
        super().__init__()
        self._measurement: StripMeasurement | None = None
        self._match_db = 0.0
        self._fresh = False
        self.setMinimumHeight(96)
        self.setAccessibleName("Spectra before and after, what was added, tone change")

    def sizeHint(self) -> QSize:
        return QSize(260, 330)

    def show_measurement(self, measurement: StripMeasurement | None, match_db: float, fresh: bool) -> None:
        if (measurement, match_db, fresh) != (self._measurement, self._match_db, self._fresh):
            self._measurement, self._match_db, self._fresh = measurement, match_db, fresh
            self.update()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.PANEL)
        # Where there is little room, one picture that can be read is better than two that can't.
        both = self.height() >= _ROOM_FOR_BOTH
        middle = self.height() * 0.56 if both else float(self.height())
        upper = QRectF(36, 18, self.width() - 44, middle - 48)
        lower = QRectF(36, middle + 18, self.width() - 44, self.height() - middle - 36)
        painter.setOpacity(1.0 if self._fresh or self._measurement is None else 0.55)
        self._paint_spectra(painter, upper)
        if both:
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
        if self._measurement is not None:
            comparison = self._measurement.comparison
            painter.save()
            painter.setClipRect(frame)
            painter.setPen(Qt.PenStyle.NoPen)
            for hz, added, after in zip(comparison.bands, comparison.added_bands_db, comparison.after_db, strict=True):
                if added > axes.y_low:
                    painter.setBrush(theme.added_colour(added - after))
                    left, right = axes.x(hz * 10**-0.045), axes.x(hz * 10**0.045)
                    painter.drawRect(QRectF(QPointF(left, axes.y(added + self._match_db)),
                                            QPointF(right, frame.bottom())))
            painter.restore()
            draw_line(painter, axes, comparison.bands, comparison.before_db, theme.BEFORE)
            draw_line(painter, axes, comparison.bands, comparison.after_db + self._match_db, theme.AFTER)
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 14, frame.width(), 12),
                    [("before", theme.BEFORE), ("after", theme.AFTER),
                     ("added", theme.added_colour(-25.0))])

    def _paint_tone(self, painter: QPainter, frame: QRectF) -> None:
        self._title(painter, frame, "Tone change in third octaves, dB")
        tone = np.full(31, np.nan)
        if self._measurement is not None:
            tone = self._measurement.comparison.tone_db + self._match_db
            present = self._measurement.comparison.before_db > self._measurement.comparison.before_db.max() - 60.0
            tone = np.where(present, tone, np.nan)
        reach = 6.0 if not np.any(np.abs(tone) > 6.0) else 12.0
        axes = Axes(frame, 20.0, 20000.0, -reach, reach, log_x=True)
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, reach / 2.0)
        draw_frequency_grid(painter, axes)
        if self._measurement is None:
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.AFTER)
        for hz, change in zip(self._measurement.comparison.bands, tone, strict=True):
            if math.isfinite(change):
                left, right = axes.x(hz * 10**-0.04), axes.x(hz * 10**0.04)
                top, bottom = sorted((axes.y(0.0), axes.y(float(change))))
                painter.drawRect(QRectF(QPointF(left, top), QPointF(right, max(bottom, top + 1.0))))


class KindBars(QWidget):
    """What was added, told apart: odd and even harmonics, noise, moved pitch; a bar on the ramp and a figure each."""

    _NAMES = ("odd", "even", "noise", "motion")
    _ROW = 15

    def __init__(self) -> None:
        super().__init__()
        self._levels: tuple[float, ...] | None = None
        self.setFixedHeight(len(self._NAMES) * self._ROW)
        self.setAccessibleName("Kinds of what was added")
        self.setToolTip("From probe tones and silence through the path: odd and even harmonics, noise, and pitch that "
                        "moves, in dB below what comes out")

    def show_anatomy(self, anatomy: Anatomy | None) -> None:
        levels = None if anatomy is None else (anatomy.odd_db, anatomy.even_db, anatomy.noise_db, anatomy.motion_db)
        if levels != self._levels:
            self._levels = levels
            self.setAccessibleDescription("" if levels is None else ", ".join(
                f"{name} {added_text(level)}" for name, level in zip(self._NAMES, levels, strict=True)))
            self.update()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.setFont(theme.font(8))
        for index, name in enumerate(self._NAMES):
            row = QRectF(0.0, index * self._ROW, self.width(), self._ROW)
            level = -math.inf if self._levels is None else self._levels[index]
            painter.setPen(theme.DIM)
            painter.drawText(row, int(Qt.AlignmentFlag.AlignLeft | middle), name)
            words = "\u2013" if self._levels is None or level < -99.5 else with_minus(f"{level:.0f} dB")
            painter.setPen(theme.TEXT)
            painter.drawText(row, int(Qt.AlignmentFlag.AlignRight | middle), words)
            bar = row.adjusted(48, 4, -48, -5)
            share = (max(level, theme.FAINTEST_DB - 20.0) - theme.FAINTEST_DB + 20.0) / 75.0
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.GROUND)
            painter.drawRect(bar)
            painter.setBrush(theme.added_colour(level))
            painter.drawRect(QRectF(bar.left(), bar.top(), min(max(share, 0.0), 1.0) * bar.width(), bar.height()))


class AddedBar(QWidget):
    """The one number of what a strip adds, on the ramp."""

    def __init__(self) -> None:
        super().__init__()
        self._added_db = -math.inf
        self.setFixedHeight(16)
        self.setAccessibleName("Added")
        self.setToolTip("Added: the energy that no tone change explains, in dB below the signal")

    def show_added(self, added_db: float) -> None:
        if added_db != self._added_db:
            self._added_db = added_db
            self.setAccessibleDescription(added_text(added_db))
            self.update()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        box = QRectF(self.rect()).adjusted(0.5, 3.5, -0.5, -3.5)
        steps = 48
        painter.setPen(Qt.PenStyle.NoPen)
        for step in range(steps):
            level = theme.FAINTEST_DB + step / (steps - 1) * (theme.STRONGEST_DB - theme.FAINTEST_DB)
            colour = theme.added_colour(level)
            if level > self._added_db:
                colour.setAlphaF(0.16)
            painter.setBrush(colour)
            painter.drawRect(QRectF(box.left() + step / steps * box.width(), box.top(),
                                    box.width() / steps + 0.6, box.height()))
        if self._added_db > theme.FAINTEST_DB:
            share = min((self._added_db - theme.FAINTEST_DB) / (theme.STRONGEST_DB - theme.FAINTEST_DB), 1.0)
            x = box.left() + share * box.width()
            painter.setPen(QPen(theme.TEXT, 2.0))
            painter.drawLine(QPointF(x, box.top() - 3), QPointF(x, box.bottom() + 3))


def added_text(added_db: float) -> str:
    return with_minus(f"{added_db:.1f} dB") if added_db > -120.0 else "none"


def _lufs(value: float) -> str:
    return with_minus(f"{value:.1f} LUFS") if math.isfinite(value) else "silent"


class Balance(QWidget):
    """The panel at the right."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, settings: Settings, messages: Messages,
                 jobs: JobKeeper, measurer: Measurer, matcher: Matcher, added: AddedListening,
                 dissector: Dissector) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._sessions, self._selection, self._settings, self._messages = sessions, selection, settings, messages
        self._jobs, self._measurer, self._matcher, self._added = jobs, measurer, matcher, added
        self._dissector = dissector
        self.bands = BandPicture()
        self.added_bar, self.kinds = AddedBar(), KindBars()
        self.warning = TextLabel()
        self.warning.setWordWrap(True)
        self.warning.setStyleSheet(f"color: {theme.AFTER.name()}")
        self.warning.setAccessibleName("Warning")
        self.remedy_button = action_button("Do it", self.apply_remedy, "Do what is proposed, as one step")
        self._remedy: Remedy | None = None
        self._told = QWidget()
        told = QHBoxLayout(self._told)
        told.setContentsMargins(0, 0, 0, 0)
        told.addWidget(self.warning, 1)
        told.addWidget(self.remedy_button, 0, Qt.AlignmentFlag.AlignTop)
        self.since = TextLabel()
        self.since.setObjectName("dim")
        self.since.setAccessibleName("Difference to the last snapshot")
        self._snapshots_heard: dict[str, tuple[Snapshot, StripMeasurement]] = {}
        """The snapshot that each strip stood as last, as it was measured then."""
        self.state = TextLabel()
        self.state.setStyleSheet(f"color: {theme.DIM.name()}")
        self.numbers: dict[str, TextLabel] = {}
        self.snapshots = SnapshotRow(self._sessions, self._selection, self._messages)
        self._added_row = QWidget()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 6, 10, 8)
        layout.setSpacing(5)
        layout.addLayout(self._head())
        layout.addWidget(self.bands, 1)
        layout.addLayout(self._added_line())
        layout.addWidget(self.added_bar)
        layout.addWidget(self.kinds)
        layout.addWidget(self._told)
        layout.addLayout(self._numbers())
        layout.addWidget(self.since)
        layout.addLayout(self._buttons())
        self._fill_added_row()
        layout.addWidget(self._added_row)
        layout.addWidget(self.snapshots)
        for changed in (self._added.changed, self._measurer.changed, self._dissector.changed, self._sessions.changed,
                        self._selection.changed):
            changed.connect(self.refresh)
        self.refresh()

    def _head(self) -> QHBoxLayout:
        title = TextLabel("Balance")
        title.setFont(theme.font(10.5, bold=True))
        head = QHBoxLayout()
        head.addWidget(title)
        head.addWidget(self.state, 1, Qt.AlignmentFlag.AlignRight)
        return head

    def _added_line(self) -> QHBoxLayout:
        """The one figure that counts, large."""
        label, number = TextLabel("Added"), TextLabel()
        label.setFont(theme.font(10.5, bold=True))
        number.setFont(theme.font(15, bold=True))
        number.setAccessibleName("Added")
        self.numbers["Added"] = number
        line = QHBoxLayout()
        line.addWidget(label)
        line.addStretch(1)
        line.addWidget(number)
        return line

    def _numbers(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setVerticalSpacing(2)
        for row, name in enumerate(("Loudness before", "Loudness after", "Match offset", "Crest change")):
            label, number = TextLabel(name), TextLabel()
            label.setStyleSheet(f"color: {theme.DIM.name()}")
            number.setFont(theme.font(9.5, bold=True))
            number.setAccessibleName(name)
            grid.addWidget(label, row, 0)
            grid.addWidget(number, row, 1, Qt.AlignmentFlag.AlignRight)
            self.numbers[name] = number
        return grid

    def _buttons(self) -> QHBoxLayout:
        self.match_button = action_button("Match", self._matcher.match_chosen,
                                          "Make after as loud as before over the loop (BS.1770)")
        self._matches = AskedMatch(self._sessions, self._settings, self._messages, self._jobs)
        self.mix_button = action_button(
            "In mix", lambda: self._matches.match_in_mix(self._selection.strip_id),
            "Make the mix as loud with this strip's chain as without it, as it is heard now")
        self.lock = QPushButton("Keep matched")
        self.lock.setCheckable(True)
        self.lock.setChecked(self._settings.match_lock)
        self.lock.setToolTip("Match again whenever a change has settled")
        self.lock.toggled.connect(self._set_lock)
        buttons = QHBoxLayout()
        for button in (self.match_button, self.mix_button, self.lock):
            buttons.addWidget(button)
        return buttons

    def _fill_added_row(self) -> None:
        """What is shown while the added part is heard alone."""
        self.keep_tone = QCheckBox("with the change of tone")
        self.keep_tone.setToolTip("Leaves in what the chain does to the tone; else only what no tone change explains")
        self.keep_tone.toggled.connect(lambda on: self._added.set(keep_tone=on))
        self.alone = TextLabel()
        self.alone.setAccessibleName("Level of what was added")
        self.louder = ValueBar(LOUDER)
        self.louder.changing.connect(lambda value: self._set_louder(as_number(value)))
        head = QHBoxLayout()
        head.addWidget(self.keep_tone)
        head.addWidget(self.alone, 1, Qt.AlignmentFlag.AlignRight)
        rows = QVBoxLayout(self._added_row)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(3)
        rows.addLayout(head)
        rows.addWidget(self.louder)

    def sizeHint(self) -> QSize:
        return QSize(274, 500)

    def _set_louder(self, louder_db: float) -> None:
        self._added.set(louder_db=louder_db)
        self.louder.show_value(louder_db)

    def _set_lock(self, on: bool) -> None:
        self._settings.match_lock = on
        if on:
            self._matcher.match_chosen()
            self._matcher.want()

    def refresh(self) -> None:
        """Show the newest measurement of the chosen strip."""
        strip, measurer = self._selection.strip, self._measurer
        result = measurer.latest(strip.id)
        fresh = measurer.fresh(strip.id)
        self.bands.show_measurement(result, strip.match_db, fresh)
        self.match_button.setEnabled(result is not None)
        self.mix_button.setEnabled(bool(strip.chain))
        self.lock.setChecked(self._settings.match_lock)
        dissection = self._dissector.of(strip.id)
        self.kinds.show_anatomy(dissection.kinds if dissection is not None and strip.chain else None)
        self._show_warning(strip, result)
        self._show_since(strip, result, fresh)
        added = self._added
        self._added_row.setVisible(added.on)
        self.louder.show_value(added.louder_db)
        if measurer.trouble:
            self.state.setText(measurer.trouble)
        else:
            self.state.setText("" if fresh else "measuring\u2026" if measurer.busy else "not measured")
        self._show_numbers(strip, result)
        self.alone.setText("is measured\u2026" if added.part is None else f"alone {added.part.against_db:.1f} dB")

    def _show_warning(self, strip: Strip, measurement: StripMeasurement | None) -> None:
        """Where what was added stands out more than the source, and what helps."""
        told = crowding(measurement.comparison) if measurement is not None and strip.chain else []
        self._told.setVisible(bool(told))
        self._remedy = remedy(strip.chain, told[0].what) if told else None
        if self._remedy is not None:
            self.warning.setText(f"What was added would {WHERE[told[0].what]}: {self._remedy.words}")

    def apply_remedy(self) -> None:
        """Do what the warning proposes."""
        strip, chosen = self._selection.strip, self._remedy
        if chosen is not None:
            self._sessions.document.commit(
                f"{chosen.words[0].upper()}{chosen.words[1:]}", lambda session: chosen.apply(session, strip.id))

    def _show_since(self, strip: Strip, measurement: StripMeasurement | None, fresh: bool) -> None:
        """Say what has changed against the snapshot that the strip stood as last."""
        if measurement is None:
            self.since.hide()
            return
        if fresh:
            for snapshot in self._sessions.session.snapshots:
                state = snapshot.state(strip.id)
                if state is not None and state.chain == strip.chain and state.bypass == strip.bypass:
                    self._snapshots_heard[strip.id] = snapshot, measurement
        known = self._snapshots_heard.get(strip.id)
        self.since.setVisible(known is not None and known[1] is not measurement)
        if known is not None:
            snapshot, then = known
            added = measurement.comparison.added_db - then.comparison.added_db
            brighter = character_of(measurement.comparison).brightness - character_of(then.comparison).brightness
            crest = measurement.after.crest_db - then.after.crest_db
            self.since.setText(f"Against {snapshot.title}: " + (
                f"added {added:+.1f} dB, " if math.isfinite(added) else "") + (
                f"tone {brighter:+.1f} dB/oct, crest {crest:+.1f}"))

    def _show_numbers(self, strip: Strip, measurement: StripMeasurement | None) -> None:
        if measurement is None:
            self.added_bar.show_added(-math.inf)
            for number in self.numbers.values():
                number.setText("\u2013")
            return
        after = measurement.after.integrated_lufs + strip.match_db
        level = measurement.comparison.added_db
        self.added_bar.show_added(level)
        self.numbers["Added"].setText(added_text(level))
        self.numbers["Loudness before"].setText(_lufs(measurement.before.integrated_lufs))
        self.numbers["Loudness after"].setText(_lufs(after))
        sides = (("Loudness before", measurement.before, 0.0), ("Loudness after", measurement.after, strip.match_db))
        for name, loud, offset in sides:
            self.numbers[name].setToolTip(f"Integrated over the loop; short-term at most "
                                          f"{_lufs(loud.short_term_max_lufs + offset)}, momentary at most "
                                          f"{_lufs(loud.momentary_max_lufs + offset)}")
        self.numbers["Match offset"].setText(f"{strip.match_db:+.2f} dB")
        crest = measurement.after.crest_db - measurement.before.crest_db
        self.numbers["Crest change"].setText(f"{crest:+.1f} dB")
