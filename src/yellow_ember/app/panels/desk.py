"""Desk: the strips as a tree, tracks under the bus they feed, the master last."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from yellow_ember.app.panels.input_panel import InputPanel
from yellow_ember.app.panels.lane_menu import add_lane_menu, follow_lane
from yellow_ember.app.panels.learning import add_learning
from yellow_ember.app.panels.sends import Sends
from yellow_ember.app.panels.strip_row import StripRow
from yellow_ember.app.state.background import BackgroundPrints
from yellow_ember.app.state.controllers import STRIP, Controllers
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.lane_writer import Control, LaneWriter
from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.recording import Recording
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.layouts import clear
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.engine.live.client import EngineState
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import Session, StripKind
from yellow_ember.session.values.strip_values import PAN, VOLUME

_MANY = 12
"""So many strips and more are searched."""


class Desk(QWidget):
    """The rows, and below them the chosen strip's fader, pan and sends."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 measurer: Measurer, matcher: Matcher, prints: BackgroundPrints, lane_writer: LaneWriter,
                 settings: Settings, recording: Recording, controllers: Controllers) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._sessions, self._selection, self._playback, self._messages = sessions, selection, playback, messages
        self._measurer, self._matcher, self._prints, self._writer = measurer, matcher, prints, lane_writer
        self._gesture, self._settings, self._recording = Gesture(self._sessions), settings, recording
        self.rows: dict[str, StripRow] = {}
        self._shape: object = None
        self._moving = True
        """Whether a level has not fallen yet."""
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a strip")
        self.search.setAccessibleName("Find a strip")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _text: self._filter())
        self._inside = QWidget()
        self._inside.setObjectName("panel")
        self._list = QVBoxLayout(self._inside)
        self._list.setContentsMargins(0, 4, 0, 4)
        self._list.setSpacing(0)
        scroll = QScrollArea()
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
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
            add_learning(bar, controllers, f"{STRIP} {name}")
            bar.refused.connect(self._messages.warn)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 6)
        layout.setSpacing(4)
        finding = QHBoxLayout()
        finding.setContentsMargins(6, 4, 6, 0)
        finding.addWidget(self.search)
        layout.addLayout(finding)
        layout.addWidget(scroll)
        faders = QVBoxLayout()
        faders.setContentsMargins(6, 0, 6, 0)
        faders.setSpacing(3)
        self.several = TextLabel()
        self.several.setStyleSheet(f"color: {theme.AFTER.name()}")
        self.several.setWordWrap(True)
        self.sends = Sends(self._sessions, self._selection)
        self.input = InputPanel(self._sessions, self._selection, self._playback, self._recording)
        faders.addWidget(self.several)
        faders.addWidget(self.input)
        faders.addWidget(self.volume)
        faders.addWidget(self.pan)
        faders.addWidget(self.sends)
        layout.addLayout(faders)
        self._sessions.changed.connect(self.refresh)
        self._selection.changed.connect(self._on_selected)
        self._measurer.changed.connect(self._refresh_rows)
        self._matcher.changed.connect(self._refresh_rows)
        self._prints.changed.connect(self._refresh_rows)
        self._recording.changed.connect(self._refresh_rows)
        self._playback.frame.connect(self._on_frame)
        self.refresh(self._sessions.session)

    def sizeHint(self) -> QSize:
        return QSize(236, 400)

    def refresh(self, session: Session) -> None:
        """Show the session's strips."""
        strips = [(strip.id, depth) for strip, depth in session.depth_first()]
        shape = strips, frozenset(strip.out for strip in session.strips), self._settings.compact_desk, self.folded
        if shape != self._shape:
            had_focus = any(row.hasFocus() for row in self.rows.values())
            self._build(session, strips)
            self._shape = shape
            if had_focus:
                self.rows[self._selection.strip_id].setFocus()
        self._refresh_rows()
        count = len(self._selection.chosen)
        self.several.setText(f"{count} strips are edited at once" if count > 1 else "")
        self.several.setVisible(count > 1)
        self.sends.refresh()
        self.input.refresh()
        self._show_faders()

    def _refresh_rows(self) -> None:
        for row in self.rows.values():
            row.refresh()

    @property
    def folded(self) -> frozenset[str]:
        """Ids of the buses whose strips are folded away."""
        return frozenset(filter(None, self._settings.layout.get("folded", "").split(",")))

    def fold(self, strip_id: str, fold: bool) -> None:
        """Fold what feeds a bus away, or show it."""
        folded = self.folded | {strip_id} if fold else self.folded - {strip_id}
        self._settings.layout = {**self._settings.layout, "folded": ",".join(sorted(folded))}
        self.refresh(self._sessions.session)

    def _build(self, session: Session, strips: list[tuple[str, int]]) -> None:
        clear(self._list)
        self.rows = {}
        fed = {strip.out for strip in session.strips}
        for strip_id, depth in strips:
            strip = session.strip(strip_id)
            folded = strip_id in self.folded if strip_id in fed and strip.kind is StripKind.BUS else None
            row = StripRow(self._sessions, self._selection, self._playback, self._messages, self._measurer,
                           self._matcher, self._prints, self._recording, strip, depth,
                           compact=self._settings.compact_desk, folded=folded)
            row.folding.connect(lambda fold, bus=strip_id: self.fold(bus, fold))
            self.rows[strip_id] = row
            self._list.addWidget(row)
        self._list.addStretch(1)
        self.search.setVisible(len(strips) > _MANY)
        self._filter()

    def _filter(self) -> None:
        """Show the rows that the search finds; without one, those that are not folded away."""
        words, session = self.search.text().lower().split(), self._sessions.session
        hidden = set().union(*(session.below(bus) for bus in self.folded if bus in self.rows))
        for strip_id, row in self.rows.items():
            name = session.strip(strip_id).name.lower()
            row.setHidden(not all(word in name for word in words) if words else strip_id in hidden)

    def _on_selected(self) -> None:
        self._open_up_to(self._selection.strip_id)
        chosen = self.rows.get(self._selection.strip_id)
        if chosen is not None and any(row.hasFocus() for row in self.rows.values()):
            chosen.setFocus()
        self.refresh(self._sessions.session)

    def _open_up_to(self, strip_id: str) -> None:
        """Open the buses that hide a strip which was chosen elsewhere."""
        session = self._sessions.session
        for bus in self.folded:
            if bus in self.rows and strip_id in session.below(bus):
                self.fold(bus, False)

    def _on_frame(self, state: EngineState) -> None:
        if state.runs or self._moving:
            self._moving = any([row.show_levels() for row in self.rows.values()])
        if self._selection.strip.lanes:
            self._show_faders()

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
