"""Top line: session, transport, position, tempo, comparison, quality, load, ceiling."""

from __future__ import annotations

import math

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from yellow_ember.app.panels.input_panel import delay_words
from yellow_ember.app.state.added import AddedListening
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.recording import Recording
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.tempo_tap import TEMPO
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painted, painting
from yellow_ember.app.widgets.text import TextLabel, as_text
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.choices import FACTORS
from yellow_ember.dsp.parameters import Choice, Group, Option
from yellow_ember.engine.live.client import EngineState
from yellow_ember.session.values.bars import beats_at
from yellow_ember.session.values.model import Loop, Session

_QUALITIES = tuple(Choice(str(factor), f"{factor}x") for factor in FACTORS)
LIVE = Option(id="live", label="Live", choices=_QUALITIES, default="4", unit="x", numeric=True, group=Group.OUTPUT,
              help="Oversampling while playing: more is cleaner on top and costs more of the processor.")
PRINTING = Option(id="printing", label="Print", choices=_QUALITIES, default="8", unit="x", numeric=True,
                  group=Group.OUTPUT, help="Oversampling when printing to files.")
_CEILING_HOLD_FRAMES = 45
_WIDE = 1120
"""From so many pixels on there is room for the match, which stands in the balance as well."""


class TransportButton(QPushButton):
    """A drawn sign: to start, play, stop, loop."""

    def __init__(self, sign: str, name: str, shortcut: str) -> None:
        super().__init__()
        self._sign = sign
        self.setFixedSize(34, 28)
        self.setAccessibleName(name)
        self.setToolTip(f"{name} ({shortcut})")

    def set_sign(self, sign: str, name: str) -> None:
        if sign != self._sign:
            self._sign = sign
            self.setAccessibleName(name)
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        with painting(self) as painter:
            self._paint_sign(painter)

    def _paint_sign(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        colour = theme.AFTER if self.isChecked() or self._sign == "stop" else theme.TEXT
        painter.setPen(QPen(colour, 1.6))
        x, y = self.width() / 2, self.height() / 2
        path = QPainterPath()
        if self._sign == "play":
            path.moveTo(x - 4, y - 6)
            path.lineTo(x + 6, y)
            path.lineTo(x - 4, y + 6)
            path.closeSubpath()
            painter.fillPath(path, colour)
        elif self._sign == "record":
            painter.setBrush(theme.RECORD if self.isChecked() else Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.RECORD, 1.6))
            painter.drawEllipse(QRectF(x - 6, y - 6, 12, 12))
        elif self._sign == "stop":
            painter.fillRect(QRectF(x - 5, y - 5, 10, 10), colour)
        elif self._sign == "start":
            painter.fillRect(QRectF(x - 6, y - 6, 2, 12), colour)
            path.moveTo(x + 6, y - 6)
            path.lineTo(x - 3, y)
            path.lineTo(x + 6, y + 6)
            path.closeSubpath()
            painter.fillPath(path, colour)
        else:
            painter.drawArc(QRectF(x - 8, y - 5, 16, 10), 40 * 16, 280 * 16)
            path.moveTo(x + 4, y - 7)
            path.lineTo(x + 10, y - 3)
            path.lineTo(x + 4, y)
            path.closeSubpath()
            painter.fillPath(path, colour)


class CompareSwitch(QWidget):
    """Before | After | Added: the lit one is heard."""

    _NAMES = ("Before", "After", "Added")

    def __init__(self, playback: Playback, added: AddedListening) -> None:
        super().__init__()
        self._playback, self._added = playback, added
        self.setFixedSize(192, 28)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Before, after or added")
        self.setToolTip("Hear the chosen strip before its chain or after it, at equal loudness (B), "
                        "or what the chain added, alone (D)")
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._playback.comparing.connect(self._refresh)
        self._added.changed.connect(self._refresh)
        self._refresh()

    @property
    def lit(self) -> int:
        """Which of the three is heard."""
        return 2 if self._added.on else 0 if self._playback.before else 1

    def _refresh(self) -> None:
        self.setAccessibleDescription(f"{self._NAMES[self.lit].lower()} is heard")
        self.update()

    def choose(self, index: int) -> None:
        """Hear one of the three."""
        if index == 2:
            self._added.listen()
        else:
            self._playback.hear_before(index == 0)
        self._refresh()

    def toggle(self) -> None:
        """From before to after, and from anything else to before."""
        self.choose(1 if self.lit == 0 else 0)

    def toggle_added(self) -> None:
        """To what was added, and back to after."""
        self.choose(1 if self.lit == 2 else 2)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = min(int(3 * event.position().x() / self.width()), 2)
        if index == self.lit and index < 2:
            self.toggle()
        else:
            self.choose(index)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_Return | Qt.Key.Key_Enter:
                self.toggle()
            case Qt.Key.Key_Left:
                self.choose(max(self.lit - 1, 0))
            case Qt.Key.Key_Right:
                self.choose(min(self.lit + 1, 2))
            case _:
                super().keyPressEvent(event)

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        part = self.width() / 3
        colours = (theme.BEFORE, theme.AFTER, theme.added_colour(-18.0))
        for index, (text, colour) in enumerate(zip(self._NAMES, colours, strict=True)):
            lit = index == self.lit
            box = QRectF(index * part + 0.5, 0.5, part - 1, self.height() - 1)
            painter.setPen(QPen(colour if lit else theme.EDGE, 1.0))
            painter.setBrush(colour if lit else theme.RAISED)
            painter.drawRect(box)
            painter.setPen(theme.GROUND if lit else theme.DIM)
            painter.setFont(theme.font(9.5, bold=lit))
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), text)
        if self.hasFocus():
            painter.setPen(QPen(theme.TEXT, 1.0, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(2, 2, -3, -3))


class TopLine(QWidget):
    """The strip across the top of the window."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback,
                 added: AddedListening, imports: Imports, recording: Recording) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._sessions, self._selection, self._playback, self._added = sessions, selection, playback, added
        self._imports, self._recording = imports, recording
        self._gesture = Gesture(self._sessions)
        self._ceiling_left = 0
        self.session_name = TextLabel()
        self.session_name.setFont(theme.font(11, bold=True))
        self.session_name.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.to_start = TransportButton("start", "To the start", "Home")
        self.play = TransportButton("play", "Play", "Space")
        self.loop = TransportButton("loop", "Loop", "L")
        self.loop.setCheckable(True)
        self.record = TransportButton("record", "Record", "R")
        self.record.setCheckable(True)
        self.position = TextLabel()
        self.position.setFont(theme.font(12, bold=True))
        self.position.setMinimumWidth(122)
        self.position.setAccessibleName("Position in bars, beats and seconds")
        self.tempo, self.live, self.printing = ValueBar(TEMPO), ValueBar(LIVE), ValueBar(PRINTING)
        self.compare = CompareSwitch(self._playback, self._added)
        self.offset = TextLabel()
        self.offset.setToolTip("What the chosen strip's output is moved by, so that after is as loud as before")
        self.engine = TextLabel()
        self.engine.setToolTip("How much of its time the engine works, how often it or the sound server was too late "
                               "(dropouts), and after what time a live input is heard")
        self.ceiling = TextLabel()
        self.ceiling.setToolTip("The output never passes the ceiling; this says when it holds peaks down")
        self._lay_out()
        self._connect()
        self.refresh(self._sessions.session)

    def _lay_out(self) -> None:
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 6, 10, 6)
        layout.setSpacing(6)
        layout.addWidget(self.session_name, 1)
        for button in (self.to_start, self.play, self.record, self.loop):
            layout.addWidget(button)
        layout.addWidget(self.position)
        for bar, width in ((self.tempo, 116), (self.live, 80), (self.printing, 80)):
            bar.setMinimumWidth(width)
            bar.setMaximumWidth(width)
        layout.addWidget(self.tempo)
        layout.addSpacing(8)
        layout.addWidget(self.compare)
        layout.addWidget(self.offset)
        layout.addSpacing(8)
        layout.addWidget(self.live)
        layout.addWidget(self.printing)
        meters = QVBoxLayout()
        meters.setSpacing(0)
        meters.addWidget(self.engine)
        meters.addWidget(self.ceiling)
        for label, width in ((self.offset, 92), (self.engine, 158), (self.ceiling, 158)):
            label.setFont(theme.font(8.5))
            label.setFixedWidth(width)
        layout.addLayout(meters)

    def _connect(self) -> None:
        self.to_start.clicked.connect(lambda: self._playback.locate(self._playback.start_position))
        self.play.clicked.connect(self._playback.toggle_play)
        self.loop.clicked.connect(self.toggle_loop)
        self.record.clicked.connect(self._toggle_record)
        self._recording.changed.connect(self._show_recording)
        self.tempo.changing.connect(lambda value: self._gesture.show(
            "Tempo", "tempo", lambda session: session.with_(tempo=value)))
        for bar in (self.tempo, self.live, self.printing):
            bar.committed.connect(lambda _value: self._gesture.keep())
        for bar in (self.live, self.printing):
            bar.changing.connect(lambda value, name=bar.parameter.id: self._set_quality(name, value))
        self._sessions.changed.connect(self.refresh)
        self._selection.changed.connect(lambda: self.refresh(self._sessions.session))
        self._playback.frame.connect(self._on_frame)

    def sizeHint(self) -> QSize:
        return QSize(1280, 44)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.offset.setVisible(self.width() >= _WIDE)
        self._show_name()

    def _show_name(self) -> None:
        name = self._sessions.session.name + (" \u2022" if self._sessions.document.modified else "")
        room = self.session_name.width()
        self.session_name.setText(self.session_name.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, room))
        self.session_name.setToolTip(as_text(name))

    def toggle_loop(self) -> None:
        """Go round the loop, or no more; where none was set, all of the session is one."""
        length = self._imports.length
        self._sessions.document.commit("Loop", lambda session: session.with_(
            loop=session.loop.with_(on=not session.loop.on) if session.loop.end > session.loop.start
            else Loop(0, length)))

    def _toggle_record(self) -> None:
        self._recording.toggle()
        self._show_recording()

    def _show_recording(self) -> None:
        self.record.setChecked(self._recording.running)

    def _set_quality(self, name: str, value: float) -> None:
        self._gesture.show("Quality", name, lambda session: session.with_(
            quality=session.quality.with_(**{name: int(value)})))

    def refresh(self, session: Session) -> None:
        self._show_name()
        self.loop.setChecked(session.loop.on)
        self.tempo.show_value(session.tempo)
        self.live.show_value(float(session.quality.live))
        self.printing.show_value(float(session.quality.printing))
        strip = self._selection.strip
        self.offset.setText(f"match {strip.match_db:+.2f} dB" if strip.chain else "nothing to match")

    def _on_frame(self, state: EngineState) -> None:
        session = self._sessions.session
        self.play.set_sign("stop" if state.playing else "play", "Stop" if state.playing else "Play")
        seconds = state.position / session.rate
        bar, beat = divmod(math.floor(beats_at(session, state.position)), session.beats_per_bar)
        self.position.setText(f"{bar + 1:3d}.{beat + 1}   {int(seconds // 60)}:{seconds % 60:04.1f}")
        load = f"{100 * state.load:.0f} %"
        running = f"{load}, dropouts: {state.missed}" if state.missed else f"engine {load}"
        if state.live_latency is not None:
            running += f", live {delay_words(state, state.live_latency, session.rate)}"
        self.engine.setText(running if state.blocks else "engine starting")
        if state.ceiling_gain < 0.999:
            self._ceiling_left = _CEILING_HOLD_FRAMES
            self.ceiling.setText(f"ceiling holds {-20 * math.log10(state.ceiling_gain):.1f} dB")
            self._colour_ceiling(theme.AFTER)
        elif self._ceiling_left > 0:
            self._ceiling_left -= 1
        else:
            self.ceiling.setText(f"ceiling {session.ceiling_dbfs:g} dBFS")
            self._colour_ceiling(theme.DIM)

    def _colour_ceiling(self, colour: QColor) -> None:
        """Colour the ceiling's words; a style sheet costs more than all else of a frame."""
        sheet = f"color: {colour.name()}"
        if self.ceiling.styleSheet() != sheet:
            self.ceiling.setStyleSheet(sheet)
