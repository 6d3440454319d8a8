"""The chosen strip's live input: its level and whether it clipped, its gain and polarity, and how late it is heard."""

from __future__ import annotations

import functools

from PyQt6.QtCore import QRectF, QSize
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.recording import Recording
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.level import draw_level
from yellow_ember.app.widgets.painting import painted
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.engine.live.client import EngineState
from yellow_ember.session.edits.live_edits import listen, set_input_value, use_own_ports
from yellow_ember.session.edits.take_edits import is_heard
from yellow_ember.session.values.live_input import (
    INPUT_GAIN,
    INPUT_VALUES,
    INVERTED,
    LISTENS,
    InputKind,
    LiveInput,
)
from yellow_ember.session.values.model import Session, Strip, StripKind

CARD_CHOICES = ((1,), (2,), (1, 2), (3,), (4,), (3, 4))
"""Channels of the card that the menu offers."""


def delay_words(state: EngineState, live_latency: int, rate: int) -> str:
    """How late a live input is heard, with the card's own delay."""
    return f"{state.heard_after_ms(live_latency, rate):.1f} ms"


def add_input_menu(menu: QMenu, sessions: SessionKeeper, messages: Messages, strip: Strip) -> None:
    """What a track can listen to, and whether a strip leaves by ports of its own."""
    def commit(label: str, edit: functools.partial[Session]) -> None:
        try:
            sessions.document.commit(label, lambda session: edit(session, strip.id))
        except ValueError as reason:
            messages.warn(str(reason))

    if strip.kind is StripKind.TRACK:
        below = menu.addMenu("Input")
        assert below is not None
        choices: list[tuple[str, LiveInput | None]] = [("None, its files", None)]
        choices += [(f"Card {live.words}", live) for live in (LiveInput(channels=which) for which in CARD_CHOICES)]
        choices += [("A port, mono", LiveInput(kind=InputKind.PORTS)),
                    ("Ports, stereo", LiveInput(kind=InputKind.PORTS, channels=(1, 2)))]
        now = strip.live and (strip.live.kind, strip.live.channels)
        for words, live in choices:
            action = below.addAction(words, functools.partial(
                commit, f"Input of {strip.name}", functools.partial(listen, live=live)))
            assert action is not None
            action.setCheckable(True)
            action.setChecked((live and (live.kind, live.channels)) == now)
    if strip.kind is not StripKind.MASTER:
        action = menu.addAction("Leave by ports of its own", functools.partial(
            commit, f"Ports of {strip.name}", functools.partial(use_own_ports, on=not strip.own_ports)))
        assert action is not None
        action.setCheckable(True)
        action.setChecked(strip.own_ports)


class InputMeter(QWidget):
    """What comes in, before the gain."""

    def __init__(self, sessions: SessionKeeper) -> None:
        super().__init__()
        self._sessions = sessions
        self._peak = 0.0
        self.setFixedHeight(10)
        self.setAccessibleName("Level of the input")

    def sizeHint(self) -> QSize:
        return QSize(160, 10)

    def show_peak(self, peak: float) -> None:
        if peak != self._peak:
            self._peak = peak
            self.setAccessibleDescription(f"{peak:.2f} of full scale")
            self.update()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        draw_level(painter, QRectF(1, 2, self.width() - 2, 6), self._peak, self._peak,
                   self._sessions.session.reference_dbfs)


class InputPanel(QWidget):
    """There while the chosen strip has an input."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, recording: Recording
                 ) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback = sessions, selection, playback
        self._recording = recording
        self._gesture = Gesture(sessions)
        self.text = TextLabel()
        self.text.setFont(theme.font(8.5))
        self.text.setToolTip("From the input to the ear: the path's stages, and the card")
        self.meter = InputMeter(sessions)
        self.clip = QPushButton("clipped")
        self.clip.setToolTip("What came in was at its end; click to forget it")
        self.clip.setStyleSheet(f"color: {theme.AFTER.name()}; padding: 0px 4px")
        self.clip.clicked.connect(self._forget)
        self.arm = QPushButton("Arm")
        self.arm.setCheckable(True)
        self.arm.setToolTip("The next recording is of this track (Shift+R)")
        self.arm.clicked.connect(lambda on: recording.arm(self._selection.strip_id, on=on))
        self.takes = QPushButton("Takes")
        self.takes.setToolTip("What was recorded for this track; the one that is heard is marked")
        self._takes_menu = QMenu(self.takes)
        self._takes_menu.aboutToShow.connect(self._fill_takes)
        self.takes.setMenu(self._takes_menu)
        self.bars = {parameter.id: ValueBar(parameter) for parameter in INPUT_VALUES}
        for name, bar in self.bars.items():
            bar.changing.connect(functools.partial(self._set, name))
            bar.committed.connect(lambda _value: self._gesture.keep())
        head = QHBoxLayout()
        head.addWidget(self.text, 1)
        head.addWidget(self.clip)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(3)
        layout.addLayout(head)
        layout.addWidget(self.meter)
        layout.addWidget(self.bars[INPUT_GAIN.id])
        switches = QHBoxLayout()
        for switch in (INVERTED, LISTENS):
            switches.addWidget(self.bars[switch.id])
        layout.addLayout(switches)
        buttons = QHBoxLayout()
        buttons.addWidget(self.arm)
        buttons.addWidget(self.takes)
        layout.addLayout(buttons)
        self.clip.hide()
        recording.changed.connect(self.refresh)
        playback.frame.connect(self._on_frame)
        self.refresh()

    def refresh(self) -> None:
        """Show the chosen strip's input as it is now."""
        live = self._selection.strip.live
        self.setVisible(live is not None)
        if live is not None:
            for name, bar in self.bars.items():
                bar.show_value(getattr(live, name))
            takes = self._selection.strip.takes
            self.arm.setChecked(self._selection.strip_id in self._recording.armed)
            self.takes.setText(f"Takes ({len(takes)})" if takes else "Takes")
            self.takes.setEnabled(bool(takes))
            self._on_frame(self._playback.state)

    def _on_frame(self, state: EngineState) -> None:
        strip = self._selection.strip
        if strip.live is None:
            return
        engine = self._playback.engine
        reading = engine.reading(strip.id) if engine is not None else None
        late = ""
        if reading is not None and reading.live_latency >= 0 and strip.listens:
            late = ", heard after " + delay_words(state, reading.live_latency, self._sessions.session.rate)
        self.text.setText(f"{strip.live.words[:1].upper()}{strip.live.words[1:]}{late}")
        self.meter.show_peak(reading.input_peak if reading is not None else 0.0)
        self.clip.setVisible(reading is not None and strip.listens and reading.clipped)

    def _fill_takes(self) -> None:
        """Every take, with where it lies and how long it is; then what can be forgotten."""
        self._takes_menu.clear()
        strip = self._selection.strip
        for number, take in enumerate(strip.takes, 1):
            at, length = take.start, (take.end or take.begin) - take.begin
            action = self._takes_menu.addAction(
                f"Take {number}: {int(at // 60)}:{at % 60:04.1f}, {length:.1f} s",
                functools.partial(self._recording.choose_take, strip.id, take.id))
            assert action is not None
            action.setCheckable(True)
            action.setChecked(is_heard(strip.regions, take))
        forget = self._takes_menu.addMenu("Forget")
        assert forget is not None
        for number, take in enumerate(strip.takes, 1):
            forget.addAction(f"Take {number}", functools.partial(self._recording.forget_take, strip.id, take.id))

    def _forget(self) -> None:
        if self._playback.engine is not None:
            self._playback.engine.forget_clips()

    def _set(self, name: str, value: float | bool) -> None:
        strip = self._selection.strip
        self._gesture.show(f"Input of {strip.name}", (strip.id, name), lambda session: set_input_value(
            session, strip.id, name, value))
