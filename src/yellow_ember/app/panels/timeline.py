"""The time line: an overview of the session, what the view snaps to and follows, and the waves under their ruler."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

from PyQt6.QtCore import QPointF, QSize, Qt, QTimer
from PyQt6.QtGui import QAction, QActionGroup
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QInputDialog, QMenu, QToolButton, QVBoxLayout, QWidget

from yellow_ember.app.panels.lane_view import LaneView
from yellow_ember.app.panels.overview_bar import OverviewBar
from yellow_ember.app.panels.passage_row import PassageRow
from yellow_ember.app.panels.wave_view import WaveView
from yellow_ember.app.state.added import AddedListening
from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.lane_writer import RIDES, LaneWriter, Ride
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.session_waves import SessionWaves
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.state.time_view import FOLLOWS, SNAPS, ZOOM_STEP, TimeView
from yellow_ember.app.tools.dialogs import AUDIO_FILTER
from yellow_ember.app.tools.time_dialogs import MarkerDialog, PassageDialog, RegionDialog
from yellow_ember.engine.placing import Placed
from yellow_ember.session.document import Edit
from yellow_ember.session.edits.time_edits import (
    add_marker,
    add_passage,
    passages_between_markers,
    remove_passage,
    remove_region,
    replace_marker,
)
from yellow_ember.session.values.bars import bars_stretch
from yellow_ember.session.values.model import StripKind
from yellow_ember.session.values.places import Passage

_SAME_SECONDS, _JUMP_SECONDS = 0.001, 0.5
"""Going back while playing passes over what was begun just now."""


class Timeline(QWidget):
    """Overview, buttons and waves."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, imports: Imports,
                 measurer: Measurer, added: AddedListening, settings: Settings, messages: Messages,
                 time_view: TimeView, session_waves: SessionWaves, lane_writer: LaneWriter) -> None:
        super().__init__()
        self._sessions, self._settings, self._messages, self._view = sessions, settings, messages, time_view
        self._imports, self._playback, self._selection, self._writer = imports, playback, selection, lane_writer
        self.lane_question: QMenu | None = None
        """What was asked last about a lane."""
        self.waves = WaveView(sessions, selection, playback, imports, measurer, added, settings, time_view,
                              session_waves)
        self.overview = OverviewBar(sessions, imports, time_view)
        self.all_strips = self._button("All strips", "A lane for every strip, one over the other")
        self.all_strips.setCheckable(True)
        self.all_strips.setChecked(settings.all_waves)
        self.all_strips.toggled.connect(self.waves.show_all_strips)
        self.snap = self._choice("Snap", "What a loop's ends snap to; Shift sets it aside", SNAPS, "snap")
        self.follow = self._choice("Follow", "How the view goes along while playing", FOLLOWS, "follow")
        self.ride = self._ride_button(lane_writer)
        self.nearer = self._button("+", "Zoom in (+)")
        self.farther = self._button("\N{MINUS SIGN}", "Zoom out (-)")
        self.nearer.clicked.connect(lambda: self.waves.zoom(ZOOM_STEP**2))
        self.farther.clicked.connect(lambda: self.waves.zoom(ZOOM_STEP**-2))
        self.waves.menu_at = self._wave_menu
        self.lanes = LaneView(sessions, selection, playback, settings, messages, time_view)
        self.lanes.on_scroll = self.waves.wheelEvent
        self.passages = PassageRow(sessions, playback, settings, time_view)
        self.passages.menu_at = self._passage_menu
        top = QHBoxLayout()
        top.setContentsMargins(0, 0, 4, 0)
        top.setSpacing(4)
        top.addWidget(self.overview, 1)
        for button in (self.all_strips, self.ride, self.snap, self.follow, self.farther, self.nearer):
            top.addWidget(button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(1)
        layout.addLayout(top)
        layout.addWidget(self.passages)
        layout.addWidget(self.waves, 1)
        layout.addWidget(self.lanes)

    def sizeHint(self) -> QSize:
        return QSize(1200, 148)

    def _button(self, text: str, hint: str) -> QToolButton:
        button = QToolButton()
        button.setText(text)
        button.setToolTip(hint)
        button.setAutoRaise(True)
        return button

    def _choice(self, name: str, hint: str, choices: Mapping[str, str], setting: str) -> QToolButton:
        """A button with a menu of what one of the settings may be; its text says which it is."""
        button, menu = self._button("", hint), QMenu(self)
        button.setAccessibleName(name)
        button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        group = QActionGroup(menu)

        def choose(value: str) -> None:
            setattr(self._settings, setting, value)
            button.setText(f"{name}: {choices[value].lower()} \u25be")

        for value, text in choices.items():
            action = QAction(text, group)
            action.setCheckable(True)
            action.setChecked(value == getattr(self._settings, setting))
            action.triggered.connect(lambda _checked, value=value: choose(value))
            menu.addAction(action)
        button.setMenu(menu)
        choose(getattr(self._settings, setting))
        return button

    def _ride_button(self, writer: LaneWriter) -> QToolButton:
        """Whether moves are recorded while playing, and how."""
        button, menu = self._button("", "Records what you move while playing, as lanes"), QMenu(self)
        button.setAccessibleName("Ride")
        button.setCheckable(True)
        button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        for ride, words in RIDES.items():
            menu.addAction(words, lambda chosen=ride: writer.set_ride(chosen))
        button.setMenu(menu)

        def show() -> None:
            button.setText(f"Ride: {RIDES[writer.ride].lower()} \u25be")
            button.setChecked(writer.ride is not Ride.OFF)

        writer.changed.connect(show)
        writer.asking.connect(self._ask_about_lane)
        show()
        return button

    def _ask_about_lane(self) -> None:
        """A control that has a lane was moved: what is that to mean?"""
        writer = self._writer
        menu = self.lane_question = self._menu([
            (f"Move the whole lane of {writer.offset_words}", writer.keep_offset),
            ("Write a point where playing is", writer.keep_point),
            ("Leave the lane as it was", writer.drop)])
        # Closed without an answer; an answer comes first, and leaves nothing to drop.
        menu.aboutToHide.connect(lambda: QTimer.singleShot(0, writer.drop))
        menu.popup(self.cursor().pos())

    def _menu(self, entries: Iterable[tuple[str, Callable[[], object]]]) -> QMenu:
        """A menu that goes when it closes; an entry without words is a line between others."""
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        for text, run in entries:
            if text:
                menu.addAction(text, run)
            else:
                menu.addSeparator()
        return menu

    def _wave_menu(self, point: QPointF) -> QMenu:
        """What can be done at a point of the waves."""
        strip, place = self.waves.place_at(point)
        entries: list[tuple[str, Callable[[], object]]] = []
        if strip is not None and place is not None:
            entries += [("Place the region\u2026", lambda: self.place_region(strip.id, place)),
                        ("Remove the region", lambda: self._sessions.document.commit(
                            "Remove a region", lambda session: remove_region(session, strip.id, place.region.id)))]
        if strip is not None and strip.kind is StripKind.TRACK:
            seconds = self._view.frame_at(point.x()) / self._sessions.session.rate
            entries.append(("Add a file here\u2026", lambda: self.ask_for_file(strip.id, seconds)))
        if entries:
            entries.append(("", lambda: None))
        frame = self._view.frame_at(point.x())
        return self._menu([*entries, ("Bar 1 begins here", lambda: self.begin_bars(frame)),
                           ("Marker here", lambda: self.drop_marker(frame)), ("", lambda: None),
                           ("Show all of it", self._view.show_all), ("Show the loop", self.show_loop),
                           ("Loop bars\u2026", self.ask_for_bars)])

    def _passage_menu(self, point: QPointF) -> QMenu:
        """What can be done at a point of the row of passages."""
        passage, marker = self.passages.passage_at(point.x()), self.passages.marker_at(point.x())
        commit, frame = self._sessions.document.commit, self._view.frame_at(point.x())
        entries: list[tuple[str, Callable[[], object]]] = []
        if passage is not None:
            entries += [("Edit the passage\u2026", lambda: PassageDialog(self._sessions, passage, self).show()),
                        ("Loop it", lambda: self.passages.loop_passage(passage)),
                        ("Remove the passage", lambda: commit(
                            "Remove a passage", lambda session: remove_passage(session, passage.id))),
                        ("", lambda: None)]
        if marker is not None:
            entries += [("Edit the marker\u2026", lambda: MarkerDialog(self._sessions, marker, self).show()),
                        ("Remove the marker", lambda: commit(
                            "Remove a marker", lambda session: replace_marker(session, marker, None))),
                        ("", lambda: None)]
        return self._menu([*entries, ("Passage from the loop", self.passage_from_loop),
                           ("Passages between markers", self.passages_from_markers),
                           ("Marker here", lambda: self.drop_marker(frame))])

    def place_region(self, strip_id: str, place: Placed) -> None:
        """Type where a region lies."""
        RegionDialog(self._sessions, strip_id, place, self).show()

    def ask_for_file(self, strip_id: str, seconds: float) -> None:
        """Choose a file that is put on a track, from a second on."""
        name, _ = QFileDialog.getOpenFileName(self, "Add a file", "", f"{AUDIO_FILTER};;All files (*)")
        if name:
            self._sessions.add_files(strip_id, [Path(name)], seconds)

    def begin_bars(self, frame: int) -> None:
        """Let bar 1 begin at a frame."""
        self._sessions.document.commit("First beat", lambda session: session.with_(first_beat=frame / session.rate))

    def drop_marker(self, frame: int | None = None) -> None:
        """A marker at a frame, or where playing is."""
        at = (self.waves.position if frame is None else frame) / self._sessions.session.rate
        self._try("Marker", lambda session: add_marker(session, at))

    def passage_from_loop(self) -> None:
        """A passage where the loop is."""
        session = self._sessions.session
        loop = session.loop
        if loop.end <= loop.start:
            self._messages.warn("No passage: there is no loop yet; drag one in the ruler")
            return
        passage = Passage(name=f"Passage {len(session.passages) + 1}", start=loop.start / session.rate,
                          end=loop.end / session.rate)
        self._try("Add a passage", lambda session: add_passage(session, passage))

    def passages_from_markers(self) -> None:
        """A passage from each marker to the next."""
        session = self._sessions.session
        if not session.markers:
            self._messages.warn("No passages: there are no markers yet; M drops one where playing is")
            return
        end = self._imports.length / session.rate
        self._try("Passages between markers", lambda session: passages_between_markers(session, end))

    def _try(self, label: str, edit: Edit) -> None:
        """An edit that may be refused."""
        try:
            self._sessions.document.commit(label, edit)
        except ValueError as error:
            self._messages.warn(f"{label}: {error}")

    def jump(self, *, back: bool) -> None:
        """Go to the beginning of the passage, or the marker, before the play position or behind it."""
        session, here = self._sessions.session, self.waves.position / self._sessions.session.rate
        places = sorted({0.0, *(passage.start for passage in session.passages),
                         *(marker.at for marker in session.markers)})
        room = _JUMP_SECONDS if back and self._playback.state.playing else _SAME_SECONDS
        others = [at for at in places if at < here - room] if back else [at for at in places if at > here + room]
        if others:
            self._playback.locate(round((others[-1] if back else others[0]) * session.rate))

    def show_loop(self) -> None:
        """Let the loop fill the view."""
        loop = self._sessions.session.loop
        self._view.show_stretch(loop.start, loop.end)

    def ask_for_bars(self) -> None:
        """Loop bars that are typed, 5-8."""
        words, given = QInputDialog.getText(self, "Loop bars", "From bar to bar, like 5-8:")
        if not given:
            return
        try:
            loop = bars_stretch(self._sessions.session, words, self._imports.length)
        except ValueError as error:
            self._messages.warn(f"No loop: {error}")
            return
        self.waves.set_loop(loop, commit=True)
