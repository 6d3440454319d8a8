"""The session's tempo: typed, tapped, or found in a track; and how many beats make a bar."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFormLayout, QPushButton, QSpinBox, QVBoxLayout

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.tempo_tap import TEMPO, TempoTap
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.engine.jobs.tempo_finding import find_tempo
from yellow_ember.measure.tempo import TempoReading
from yellow_ember.session.values.model import Session, StripKind

MOST_BEATS = 16
_SURE, _LIKELY = 0.4, 0.15


class TempoTool(Tool):
    """A bar to drag or type in, a button to tap, and what is found in the chosen track."""

    title = "Tempo"
    shows_pictures = False

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, jobs: JobKeeper,
                 tempo_tap: TempoTap) -> None:
        super().__init__(sessions, playback)
        self._selection, self._jobs, self._tap = selection, jobs, tempo_tap
        self._gesture = Gesture(sessions)
        self.setWindowTitle("Tempo")
        self.tempo = ValueBar(TEMPO)
        self.tempo.changing.connect(lambda value: self._gesture.show(
            "Tempo", "tempo", lambda session: session.with_(tempo=value)))
        self.tempo.committed.connect(lambda _value: self._gesture.keep())
        self.beats = QSpinBox()
        self.beats.setRange(1, MOST_BEATS)
        self.beats.setAccessibleName("Beats a bar")
        self.beats.valueChanged.connect(self._set_beats)
        self.said = TextLabel()
        self.said.setWordWrap(True)
        form = QFormLayout()
        form.addRow("Beats a minute", self.tempo)
        form.addRow("Beats a bar", self.beats)
        layout = QVBoxLayout(self)
        layout.addLayout(form)
        layout.addLayout(self.button_row((
            ("Tap", tempo_tap.tap, "Tap the beat here, or with the key T"),
            ("Find", self.find, "Find the tempo and the first beat of the chosen track"))))
        layout.addLayout(self.button_row((
            ("Half", lambda: self._take(sessions.session.tempo / 2.0), "Half the tempo"),
            ("Double", lambda: self._take(sessions.session.tempo * 2.0), "Double the tempo"))))
        layout.addWidget(self.said)
        self.setMinimumWidth(300)
        sessions.changed.connect(self._refresh)
        tempo_tap.tapped.connect(self._count)
        self._refresh(sessions.session)

    def _refresh(self, session: Session) -> None:
        self.tempo.show_value(session.tempo)
        self.beats.blockSignals(True)
        self.beats.setValue(session.beats_per_bar)
        self.beats.blockSignals(False)
        self.buttons["Half"].setEnabled(session.tempo / 2.0 >= TEMPO.minimum)
        self.buttons["Double"].setEnabled(session.tempo * 2.0 <= TEMPO.maximum)

    def _set_beats(self, beats: int) -> None:
        self._sessions.document.commit("Beats a bar", lambda session: session.with_(beats_per_bar=beats))

    def _count(self, taps: int) -> None:
        if taps:
            self.said.setText(f"{taps} tap{'s' if taps > 1 else ''}" + (", go on" if taps < 3 else ""))

    def find(self) -> None:
        """Look for the tempo of the chosen track, in a worker."""
        strip, session = self._selection.strip, self._sessions.session
        if strip.kind is not StripKind.TRACK:
            self.said.setText("Choose a track: a bus has no sound of its own")
            return
        self.said.setText(f"Listening to {strip.name}\N{HORIZONTAL ELLIPSIS}")
        find: QPushButton = self.buttons["Find"]
        find.setEnabled(False)
        self._jobs.start(self, find_tempo, strip, session.rate, done=self._found, failed=self._failed)

    def _found(self, reading: TempoReading) -> None:
        self.buttons["Find"].setEnabled(True)
        sure = "sure" if reading.confidence >= _SURE else "likely" if reading.confidence >= _LIKELY else "a guess"
        others = " or ".join(f"{other:.1f}" for other in reading.others)
        self.said.setText(f"{reading.bpm:.1f} bpm, {sure} ({100 * reading.confidence:.0f} %)"
                          + (f"; or {others}" if others else ""))
        self._sessions.document.commit("Tempo", lambda session: session.with_(
            tempo=round(reading.bpm, 1), first_beat=reading.first_beat))

    def _failed(self, reason: str) -> None:
        self.buttons["Find"].setEnabled(True)
        self.said.setText(f"No tempo was found: {reason}")

    def _take(self, tempo: float) -> None:
        self._sessions.document.commit("Tempo", lambda session: session.with_(
            tempo=min(max(tempo, TEMPO.minimum), TEMPO.maximum)))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_T:
            self._tap.tap()
        else:
            super().keyPressEvent(event)
