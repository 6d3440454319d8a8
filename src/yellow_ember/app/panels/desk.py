"""Desk: the strips as a tree, tracks under the bus they feed, the master last."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from yellow_ember.app.panels.lane_menu import add_lane_menu, follow_lane
from yellow_ember.app.panels.sends import Sends
from yellow_ember.app.panels.strip_row import StripRow
from yellow_ember.app.state.background import BackgroundPrints
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.lane_writer import Control, LaneWriter
from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.layouts import clear
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import Session
from yellow_ember.session.values.strip_values import PAN, VOLUME


class Desk(QWidget):
    """The rows, and below them the chosen strip's fader, pan and sends."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 measurer: Measurer, matcher: Matcher, prints: BackgroundPrints, lane_writer: LaneWriter) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._sessions, self._selection, self._playback, self._messages = sessions, selection, playback, messages
        self._measurer, self._matcher, self._prints, self._writer = measurer, matcher, prints, lane_writer
        self._gesture = Gesture(self._sessions)
        self.rows: dict[str, StripRow] = {}
        self._shape: list[tuple[str, int]] = []
        self._inside = QWidget()
        self._inside.setObjectName("panel")
        self._list = QVBoxLayout(self._inside)
        self._list.setContentsMargins(0, 4, 0, 4)
        self._list.setSpacing(0)
        scroll = QScrollArea()
        scroll.setWidget(self._inside)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.volume, self.pan = ValueBar(VOLUME), ValueBar(PAN)
        for bar in (self.volume, self.pan):
            name = bar.parameter.id
            bar.changing.connect(lambda value, field=name: self._set(field, value))
            bar.committed.connect(lambda _value, field=name: self._commit(field))
            bar.menu_opening.connect(lambda menu, field=name: add_lane_menu(
                menu, self._sessions, self._control(field)))
            bar.refused.connect(self._messages.warn)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 6)
        layout.setSpacing(4)
        layout.addWidget(scroll)
        faders = QVBoxLayout()
        faders.setContentsMargins(6, 0, 6, 0)
        faders.setSpacing(3)
        self.several = TextLabel()
        self.several.setStyleSheet(f"color: {theme.AFTER.name()}")
        self.several.setWordWrap(True)
        self.sends = Sends(self._sessions, self._selection)
        faders.addWidget(self.several)
        faders.addWidget(self.volume)
        faders.addWidget(self.pan)
        faders.addWidget(self.sends)
        layout.addLayout(faders)
        self._sessions.changed.connect(self.refresh)
        self._selection.changed.connect(self._on_selected)
        self._measurer.changed.connect(self._repaint_rows)
        self._matcher.changed.connect(self._repaint_rows)
        self._prints.changed.connect(self._refresh_rows)
        self._playback.frame.connect(self._on_frame)
        self.refresh(self._sessions.session)

    def sizeHint(self) -> QSize:
        return QSize(236, 400)

    def refresh(self, session: Session) -> None:
        """Show the session's strips."""
        shape = [(strip.id, depth) for strip, depth in session.depth_first()]
        if shape != self._shape:
            had_focus = any(row.hasFocus() for row in self.rows.values())
            self._build(shape)
            if had_focus:
                self.rows[self._selection.strip_id].setFocus()
        self._refresh_rows()
        count = len(self._selection.chosen)
        self.several.setText(f"{count} strips are edited at once" if count > 1 else "")
        self.several.setVisible(count > 1)
        self.sends.refresh()
        self._show_faders()

    def _refresh_rows(self) -> None:
        for row in self.rows.values():
            row.refresh()

    def _build(self, shape: list[tuple[str, int]]) -> None:
        clear(self._list)
        self.rows = {}
        for strip_id, depth in shape:
            row = StripRow(self._sessions, self._selection, self._playback, self._messages, self._measurer,
                           self._matcher, self._prints, self._sessions.session.strip(strip_id), depth)
            self.rows[strip_id] = row
            self._list.addWidget(row)
        self._list.addStretch(1)
        self._shape = shape

    def _on_selected(self) -> None:
        chosen = self.rows.get(self._selection.strip_id)
        if chosen is not None and any(row.hasFocus() for row in self.rows.values()):
            chosen.setFocus()
        self.refresh(self._sessions.session)

    def _on_frame(self, _state: object) -> None:
        for row in self.rows.values():
            row.show_levels()
        if self._selection.strip.lanes:
            self._show_faders()

    def _repaint_rows(self) -> None:
        for row in self.rows.values():
            row.refresh()
            row.draw_again()

    def _control(self, field: str) -> Control:
        return self._selection.strip_id, "", field

    def _show_faders(self) -> None:
        strip = self._selection.strip
        for bar, value in ((self.volume, strip.volume_db), (self.pan, strip.pan)):
            follow_lane(bar, self._writer, self._control(bar.parameter.id), value)

    def _commit(self, field: str) -> None:
        if not self._writer.let_go(self._control(field)):
            self._gesture.keep()

    def _set(self, field: str, value: float) -> None:
        strip, label = self._selection.strip, {value.id: value.label for value in (VOLUME, PAN)}[field]

        def edit(session: Session) -> Session:
            return edit_strip(session, strip.id, lambda old: old.with_(**{field: value}))

        if not self._writer.move(self._control(field), value, edit):
            self._gesture.show(f"{label} of {strip.name}", (strip.id, field), edit)
