"""Line-up bench: a tape machine aligned by hand, or step by step by itself.

The tones are not played: they go through the same recording process here, and only the
meters see them.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from PyQt6.QtCore import QSize, QTimer
from PyQt6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QListWidget,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.pictures.line_up_pictures import SHOWN_HZ, BiasPicture, Meters
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.text import TextLabel, menu_text
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Choice, Group, Option, Switch, Value, Values, as_pair
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.dsp.tape.line_up import (
    ALIGNED,
    AZIMUTH,
    BIAS,
    LINE_UP_ORDER,
    MeterReading,
    Step,
    bias_curves,
    from_alignment_tape,
    from_oscillator,
    line_up,
    playback_response,
    whole_response,
)
from yellow_ember.session.edits.edits import edit_stage, replace_stage, set_parameter
from yellow_ember.session.io.alignments import drop_alignment, keep_alignment, read_alignments
from yellow_ember.session.io.file_format import SessionFileError

SOURCE = Option(id="source", label="Tone from", group=Group.MACHINE, default="tape",
                choices=(Choice("tape", "alignment tape"), Choice("oscillator", "oscillator")),
                help="The alignment tape tests the replay side alone, the oscillator is recorded first.")
TONE = Option(id="tone", label="Tone", group=Group.MACHINE, default="1000", unit="Hz",
              choices=(Choice("100", "100 Hz"), Choice("1000", "1 kHz"), Choice("10000", "10 kHz"),
                       Choice("sweep", "sweep")),
              help="1 kHz stands at 0 VU, the others 10 dB below, as on alignment tapes.")
LINKED = Switch(id="linked", label="Left and right linked", group=Group.MACHINE, default=True,
                help="One hand moves both channels; apart, each has its own half of a control.")
_SWEEP = tuple(np.geomspace(30.0, 18000.0, 28).tolist())
_STEP_MS, _SWEEP_MS = 420, 160


class LineUpTool(Tool):
    """One machine on the line-up bench.  Every change is the session's and can be undone there."""

    title = "Line-up"
    first_size = QSize(960, 640)
    of_the_stage = True

    def __init__(self, sessions: SessionKeeper, playback: Playback, messages: Messages, jobs: JobKeeper,
                 strip_id: str, stage_id: str) -> None:
        super().__init__(sessions, playback)
        self._messages, self._jobs = messages, jobs
        self._gesture = Gesture(self._sessions)
        self._strip_id, self._stage_id = strip_id, stage_id
        self.setWindowTitle(f"Line-up: {self._sessions.session.strip(strip_id).name}")
        self._opened_with: Values = self.values
        self._source, self._tone = "tape", "1000"
        self._sweep: list[tuple[float, float]] = []
        self._sweep_tones: Iterator[float] = iter(())
        self._question: float | None = None
        """The tone that is to be read next."""
        self._steps: Iterator[Step] | None = None
        self.reading: MeterReading | None = None
        self.meters, self.picture = Meters(), BiasPicture()
        self.bars: dict[str, ValueBar] = {}
        self.log = QListWidget()
        self.log.setAccessibleName("Steps of the line-up")
        self.kept = QComboBox()
        self.kept.setAccessibleName("Kept alignments")
        self._lost: tuple[str, Values] | None = None
        """The alignment that was dropped or kept over last."""
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._tick)
        self._lay_out()
        self._connection = self._sessions.changed.connect(self.refresh)
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
        for title, names in LINE_UP_ORDER:
            label = TextLabel(title)
            label.setFont(theme.font(8.5, bold=True))
            left.addSpacing(6)
            left.addWidget(label)
            for name in names:
                bar = ValueBar(kind.parameter(name))
                bar.changing.connect(lambda value, chosen=name: self._set(chosen, value))
                bar.committed.connect(lambda _value: self._gesture.keep())
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
            keeping.addWidget(action_button(text, slot), 1, column)
        keeping.addWidget(self.kept, 0, 0, 1, 3)
        self.restoring = action_button("", self.restore)
        self.restoring.hide()
        keeping.addWidget(self.restoring, 2, 0, 1, 3)
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
        return self._sessions.session.strip(self._strip_id).stage(self._stage_id).params

    def _still_there(self) -> bool:
        session = self._sessions.session
        return any(stage.id == self._stage_id for strip in session.strips if strip.id == self._strip_id
                   for stage in strip.chain)

    def refresh(self) -> None:
        """Show the machine as it is now, and read it again."""
        if not self._still_there():
            self.close()
            return
        values = self.values
        for name in ALIGNED:
            self.bars[name].show_value(values[name])
        apart = isinstance(values[BIAS], tuple)
        self.bars["linked"].show_value(not apart)
        curves = bias_curves(values)
        before = whole_response(self._opened_with, 0, SHOWN_HZ)
        self.picture.show_machine(curves, as_pair(values[BIAS]), [
            ("before", before), ("playback alone", playback_response(values, 0, SHOWN_HZ)),
            ("now", whole_response(values, 0, SHOWN_HZ))])
        if self._tone != "sweep":
            self._ask(float(self._tone))

    def _set(self, name: str, value: Value) -> None:
        self._gesture.show(f"Line-up: {self.bars[name].parameter.label}", name, lambda session: set_parameter(
            session, self._strip_id, self._stage_id, name, value))

    def _put(self, label: str, values: Values) -> None:
        self._sessions.document.commit(label, lambda session: edit_stage(
            session, self._strip_id, self._stage_id,
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
        result: dict[str, Value] = {}
        for name in ALIGNED:
            if name != AZIMUTH:
                left, right = as_pair(self.values[name])
                result[name] = 0.5 * (left + right) if linked else (left, right)
        self._put("Link left and right" if linked else "Left and right apart", result)

    # -- reading ------------------------------------------------------------------------

    def _ask(self, hz: float) -> None:
        """Read a tone in the background; while one is read only the newest question waits."""
        self._question = hz
        if not self._jobs.is_running(self, "tone"):
            self._answer_next()

    def _answer_next(self) -> None:
        hz, self._question = self._question, None
        if hz is not None:
            read = from_alignment_tape if self._source == "tape" else from_oscillator
            self._jobs.think(self, read, self.values, hz, self._sessions.session.reference_dbfs,
                             name="tone", done=self._show, failed=self._fail)

    def _fail(self, reason: str) -> None:
        self._messages.warn(f"The meters can't be read: {reason}")
        self._answer_next()

    def _show(self, reading: MeterReading) -> None:
        self.reading = reading
        self.meters.show_reading(reading)
        if self._tone == "sweep":
            self._sweep.append((reading.hz, float(np.mean(reading.vu))))
            self.picture.show_swept(self._sweep)
        self._answer_next()

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
        self._steps = line_up(self.values, self._sessions.session.reference_dbfs)
        self._next_step()

    def _next_step(self) -> None:
        if self._steps is not None:
            self._jobs.think(self, next, self._steps, None, name="step", done=self._take_step,
                             failed=lambda reason: self._end_alignment(f"left as it is: {reason}"))

    def _take_step(self, step: Step | None) -> None:
        if self._steps is None:
            return
        if step is None:
            self._end_alignment("lined up")
            return
        self.log.addItem(f"{step.name}: {step.sentence}")
        self.log.scrollToBottom()
        aligned = {name: step.values[name] for name in ALIGNED}
        self._gesture.show("Line-up", "all", lambda session: edit_stage(
            session, self._strip_id, self._stage_id,
            lambda stage: replace_stage(stage, params={**stage.params, **aligned})))
        self._timer.start(_STEP_MS)

    def _end_alignment(self, word: str) -> None:
        self._steps = None
        self.run.setText("Line up, step by step")
        self.log.addItem(f"The machine is {word}.")
        self.log.scrollToBottom()
        self._gesture.keep()

    # -- keeping ------------------------------------------------------------------------

    def _fill_kept(self) -> None:
        self.kept.clear()
        try:
            self.kept.addItems(sorted(read_alignments()))
        except SessionFileError as error:
            self._messages.warn(str(error))

    def keep(self) -> None:
        """Keep the present alignment under a name."""
        name, accepted = QInputDialog.getText(self, "Keep the alignment", "Name")
        if accepted and name.strip():
            self._change_kept(name.strip(), self.values)

    def _change_kept(self, name: str, values: Values | None) -> None:
        """Keep an alignment under a name, or none; what was there can be brought back."""
        try:
            before = read_alignments().get(name)
            if values is None:
                drop_alignment(name)
            else:
                keep_alignment(name, values)
        except SessionFileError as error:
            self._messages.warn(str(error))
            return
        self._lost = (name, before) if before is not None else None
        self.restoring.setText(menu_text(f"Bring {name} back"))
        self.restoring.setVisible(before is not None)
        self._fill_kept()
        self.kept.setCurrentText(name)

    def recall(self) -> None:
        """Set the machine as it was kept."""
        name = self.kept.currentText()
        try:
            kept = read_alignments().get(name)
        except SessionFileError as error:
            self._messages.warn(str(error))
            return
        if kept is not None:
            self._put(f"Recall {name}", kept)

    def drop(self) -> None:
        """Forget the chosen alignment."""
        if self.kept.currentText():
            self._change_kept(self.kept.currentText(), None)

    def restore(self) -> None:
        """Bring back what was dropped or kept over last."""
        if self._lost is not None:
            self._change_kept(*self._lost)

    def let_go(self) -> None:
        self._timer.stop()
        self._steps = None
        self._gesture.keep()
        self._sessions.changed.disconnect(self._connection)
