"""Line-up bench: a tape machine aligned by hand, or step by step by itself.

The tones are not played: they go through the same recording process here, and only the
meters see them.
"""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import Future

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QListWidget,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app import theme
from yellow_ember.app.plot import (
    Axes,
    draw_frame,
    draw_frequency_grid,
    draw_legend,
    draw_line,
    draw_x_grid,
    draw_y_grid,
)
from yellow_ember.app.value_bar import ValueBar
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.parameters import Choice, Group, Option, Switch, Value, Values, as_pair
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.measure.line_up import (
    BiasCurves,
    MeterReading,
    Step,
    bias_curves,
    from_alignment_tape,
    from_oscillator,
    line_up,
    playback_response,
    whole_response,
)
from yellow_ember.session.alignments import drop_alignment, keep_alignment, read_alignments
from yellow_ember.session.edits import edit_stage, replace_stage, set_parameter
from yellow_ember.session.reading import SessionFileError

SOURCE = Option(id="source", label="Tone from", group=Group.MACHINE, default="tape",
                choices=(Choice("tape", "alignment tape"), Choice("oscillator", "oscillator")),
                help="The alignment tape tests the replay side alone, the oscillator is recorded first.")
TONE = Option(id="tone", label="Tone", group=Group.MACHINE, default="1000", unit="Hz",
              choices=(Choice("100", "100 Hz"), Choice("1000", "1 kHz"), Choice("10000", "10 kHz"),
                       Choice("sweep", "sweep")),
              help="1 kHz stands at 0 VU, the others 10 dB below, as on alignment tapes.")
LINKED = Switch(id="linked", label="Left and right linked", group=Group.MACHINE, default=True,
                help="One hand moves both channels; apart, each has its own half of a control.")
_STEPS = (("1  Playback", ("play_db", "azimuth_arcmin", "play_high_db", "play_low_db")),
          ("2  Bias", ("bias_db",)), ("3  Record", ("record_db", "record_high_db", "record_low_db")))
_SET = tuple(name for _, names in _STEPS for name in names)
_SWEEP = tuple(np.geomspace(30.0, 18000.0, 28).tolist())
_STEP_MS, _SWEEP_MS = 420, 160
_HZ: Samples = np.geomspace(25.0, 20000.0, 120)


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

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
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
            text = f"{name}    {self._reading.vu[side]:+.2f} VU"
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
        label = "phase" if self._reading is None else f"left leads {self._reading.phase_deg:+.0f}\u00b0"
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
        """curves of the stock; bias left and right; named responses in dB over `_HZ`, before first"""
        self._curves, self._bias, self._responses = curves, bias, responses
        self.update()

    def show_swept(self, points: list[tuple[float, float]]) -> None:
        """Frequencies and levels that a sweep has measured so far."""
        self._swept = points
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
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
        for place, bias in enumerate(self._bias):
            painter.setPen(QPen(theme.TEXT, 1.0, Qt.PenStyle.SolidLine if place == 0 else Qt.PenStyle.DashLine))
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
            draw_line(painter, axes, _HZ, level, colour, 1.6)
        if self._swept:
            hz, level = np.array(self._swept).T
            painter.setPen(QPen(theme.TEXT, 4.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            painter.drawPoints(axes.polygon(hz, level))
        draw_legend(painter, QRectF(frame.left(), frame.bottom() + 17, frame.width(), 12),
                    [(name, colour) for (name, _), colour in zip(self._responses, colours, strict=True)])


class LineUpWindow(QWidget):
    """One machine on the line-up bench.  Every change is the session's and can be undone there."""

    _read = pyqtSignal(object)
    _stepped = pyqtSignal(object)

    def __init__(self, workspace: Workspace, strip_id: str, stage_id: str, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._workspace, self._strip_id, self._stage_id = workspace, strip_id, stage_id
        self.setWindowTitle(f"Line-up: {workspace.session.strip(strip_id).name}")
        self.resize(960, 640)
        self._opened_with: Values = self.values
        self._source, self._tone = "tape", "1000"
        self._sweep: list[tuple[float, float]] = []
        self._sweep_tones: Iterator[float] = iter(())
        self._busy = self._again = False
        self._steps: Iterator[Step] | None = None
        self.reading: MeterReading | None = None
        self.meters, self.picture = Meters(), BiasPicture()
        self.bars: dict[str, ValueBar] = {}
        self.log = QListWidget()
        self.log.setAccessibleName("Steps of the line-up")
        self.kept = QComboBox()
        self.kept.setAccessibleName("Kept alignments")
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._tick)
        self._lay_out()
        self._read.connect(self._show)
        self._stepped.connect(self._take_step)
        workspace.closing.connect(self.close)
        self._connection = workspace.session_changed.connect(self.refresh)
        self._fill_kept()
        self.refresh()

    # -- layout -------------------------------------------------------------------------

    def _lay_out(self) -> None:
        left = QVBoxLayout()
        left.setSpacing(2)
        for parameter in (SOURCE, TONE, LINKED):
            bar = ValueBar(parameter)
            bar.changing.connect(lambda value, name=parameter.id: self._choose(name, value))
            self.bars[parameter.id] = bar
            left.addWidget(bar)
        kind = stage_kind("tape")
        for title, names in _STEPS:
            label = QLabel(title)
            label.setFont(theme.font(8.5, bold=True))
            left.addSpacing(6)
            left.addWidget(label)
            for name in names:
                bar = ValueBar(kind.parameter(name))
                bar.changing.connect(lambda value, chosen=name: self._set(chosen, value))
                bar.committed.connect(lambda _value, text=bar.parameter.label: self._commit(text))
                self.bars[name] = bar
                left.addWidget(bar)
        left.addStretch(1)
        self.run = QPushButton("Line up, step by step")
        self.run.setToolTip("Do all of it in order and show what each step reads")
        self.run.clicked.connect(self.start_alignment)
        left.addWidget(self.run)
        keeping = QGridLayout()
        for column, (text, slot) in enumerate((("Recall", self.recall), ("Keep\u2026", self.keep),
                                               ("Drop", self.drop))):
            button = QPushButton(text)
            button.clicked.connect(lambda _checked, chosen=slot: chosen())
            keeping.addWidget(button, 1, column)
        keeping.addWidget(self.kept, 0, 0, 1, 3)
        left.addLayout(keeping)
        right = QVBoxLayout()
        right.setSpacing(4)
        right.addWidget(self.meters)
        right.addWidget(self.picture, 1)
        self.log.setMaximumHeight(150)
        right.addWidget(self.log)
        across = QHBoxLayout(self)
        across.setContentsMargins(8, 8, 8, 8)
        side = QWidget()
        side.setLayout(left)
        side.setFixedWidth(250)
        across.addWidget(side)
        across.addLayout(right, 1)

    # -- model --------------------------------------------------------------------------

    @property
    def values(self) -> Values:
        """The machine's settings as they are now."""
        return self._workspace.session.strip(self._strip_id).stage(self._stage_id).params

    def _still_there(self) -> bool:
        session = self._workspace.session
        return any(stage.id == self._stage_id for strip in session.strips if strip.id == self._strip_id
                   for stage in strip.chain)

    def refresh(self) -> None:
        """Show the machine as it is now, and read it again."""
        if not self._still_there():
            self.close()
            return
        values = self.values
        for name in _SET:
            self.bars[name].show_value(values[name])
        apart = isinstance(values["bias_db"], tuple)
        self.bars["linked"].show_value(not apart)
        curves = bias_curves(values)
        before = whole_response(self._opened_with, 0, _HZ)
        self.picture.show_machine(curves, as_pair(values["bias_db"]), [
            ("before", before), ("playback alone", playback_response(values, 0, _HZ)),
            ("now", whole_response(values, 0, _HZ))])
        if self._tone != "sweep":
            self._ask(float(self._tone))

    def _set(self, name: str, value: Value) -> None:
        workspace = self._workspace
        workspace.document.change(set_parameter(workspace.session, self._strip_id, self._stage_id, name, value))

    def _commit(self, label: str) -> None:
        """Make what was changed here a step of the session's history."""
        self._workspace.document.commit(f"Line-up: {label}")

    def _put(self, label: str, values: Values) -> None:
        workspace = self._workspace
        workspace.document.commit(label, edit_stage(
            workspace.session, self._strip_id, self._stage_id,
            lambda stage: replace_stage(stage, params={**stage.params, **values})))

    def _choose(self, name: str, value: Value) -> None:
        if name == "linked":
            self._link(bool(value))
            return
        if name == "source":
            self._source = str(value)
        else:
            self._tone = str(value)
        self._sweep = []
        self.picture.show_swept([])
        if self._tone == "sweep":
            self._sweep_tones = iter(_SWEEP)
            self._timer.start(_SWEEP_MS)
        else:
            self._ask(float(self._tone))

    def _link(self, linked: bool) -> None:
        """Bring both channels to their middle, or take every control apart that can be."""
        found: dict[str, Value] = {}
        for name in _SET:
            if name != "azimuth_arcmin":
                left, right = as_pair(self.values[name])
                found[name] = 0.5 * (left + right) if linked else (left, right)
        self._put("Link left and right" if linked else "Left and right apart", found)

    # -- reading ------------------------------------------------------------------------

    def _ask(self, hz: float) -> None:
        """Read a tone in the background; the newest question wins."""
        if self._busy:
            self._again = True
            return
        self._busy = True
        read = from_alignment_tape if self._source == "tape" else from_oscillator
        asked = self._workspace.thinker.submit(read, self.values, hz, self._workspace.session.reference_dbfs)
        asked.add_done_callback(self._answered)

    def _answered(self, outcome: Future[MeterReading]) -> None:
        """In the worker's thread: the signal brings the reading to the window's."""
        if not outcome.cancelled() and outcome.exception() is None:
            self._read.emit(outcome.result())

    def _show(self, reading: MeterReading) -> None:
        self._busy = False
        self.reading = reading
        self.meters.show_reading(reading)
        if self._tone == "sweep":
            self._sweep.append((reading.hz, float(np.mean(reading.vu))))
            self.picture.show_swept(self._sweep)
        elif self._again:
            self._again = False
            self._ask(float(self._tone))

    def _tick(self) -> None:
        """The next tone of a sweep, or the next step of a line-up."""
        if self._steps is not None:
            self._next_step()
        elif self._tone == "sweep":
            hz = next(self._sweep_tones, None)
            if hz is None:
                self._sweep_tones = iter(_SWEEP)
                self._sweep = []
                hz = next(self._sweep_tones)
            self._ask(hz)
            self._timer.start(_SWEEP_MS)

    # -- alignment ----------------------------------------------------------------------

    def start_alignment(self) -> None:
        """Line the machine up, one step after the other; a second press stops after the present one."""
        if self._steps is not None:
            self._end_alignment("stopped")
            return
        self.log.clear()
        self._opened_with = self.values
        self.run.setText("Stop")
        self._steps = line_up(self.values, self._workspace.session.reference_dbfs)
        self._next_step()

    def _next_step(self) -> None:
        steps = self._steps
        if steps is not None:
            asked = self._workspace.thinker.submit(next, steps, None)
            asked.add_done_callback(self._step_done)

    def _step_done(self, outcome: Future[Step | None]) -> None:
        """In the worker's thread."""
        if not outcome.cancelled() and outcome.exception() is None:
            self._stepped.emit(outcome.result())

    def _take_step(self, step: Step | None) -> None:
        if self._steps is None:
            return
        if step is None:
            self._end_alignment("lined up")
            return
        self.log.addItem(f"{step.name}: {step.sentence}")
        self.log.scrollToBottom()
        self._workspace.document.change(edit_stage(
            self._workspace.session, self._strip_id, self._stage_id,
            lambda stage: replace_stage(stage, params={**stage.params, **{name: step.values[name] for name in _SET}})))
        self._timer.start(_STEP_MS)

    def _end_alignment(self, word: str) -> None:
        self._steps = None
        self.run.setText("Line up, step by step")
        self.log.addItem(f"The machine is {word}.")
        self.log.scrollToBottom()
        self._workspace.document.commit("Line-up")

    # -- keeping ------------------------------------------------------------------------

    def _fill_kept(self) -> None:
        self.kept.clear()
        try:
            self.kept.addItems(sorted(read_alignments()))
        except SessionFileError as error:
            self._workspace.messages.warn(str(error))

    def keep(self) -> None:
        """Keep the present alignment under a name."""
        name, accepted = QInputDialog.getText(self, "Keep the alignment", "Name")
        if accepted and name.strip():
            try:
                keep_alignment(name.strip(), self.values)
            except SessionFileError as error:
                self._workspace.messages.warn(str(error))
            self._fill_kept()
            self.kept.setCurrentText(name.strip())

    def recall(self) -> None:
        """Set the machine as it was kept."""
        name = self.kept.currentText()
        kept = read_alignments().get(name)
        if kept is not None:
            self._put(f"Recall {name}", kept)

    def drop(self) -> None:
        """Forget the chosen alignment."""
        if self.kept.currentText():
            drop_alignment(self.kept.currentText())
            self._fill_kept()

    def closeEvent(self, event: QCloseEvent) -> None:
        self._timer.stop()
        self._steps = None
        self._workspace.session_changed.disconnect(self._connection)
        event.accept()
