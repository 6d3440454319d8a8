"""The time line: an overview of the session, what the view snaps to and follows, and the waves under their ruler."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QAction, QActionGroup
from PyQt6.QtWidgets import QHBoxLayout, QInputDialog, QMenu, QToolButton, QVBoxLayout, QWidget

from yellow_ember.app.panels.overview_bar import OverviewBar
from yellow_ember.app.panels.wave_view import WaveView, bars_stretch
from yellow_ember.app.state.added import AddedListening
from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.session_waves import SessionWaves
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.state.time_view import FOLLOWS, SNAPS, ZOOM_STEP, TimeView


class Timeline(QWidget):
    """Overview, buttons and waves."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, imports: Imports,
                 measurer: Measurer, added: AddedListening, settings: Settings, messages: Messages,
                 time_view: TimeView, session_waves: SessionWaves) -> None:
        super().__init__()
        self._sessions, self._settings, self._messages, self._view = sessions, settings, messages, time_view
        self._imports = imports
        self.waves = WaveView(sessions, selection, playback, imports, measurer, added, settings, time_view,
                              session_waves)
        self.overview = OverviewBar(sessions, imports, time_view)
        self.all_strips = self._button("All strips", "A lane for every strip, one over the other")
        self.all_strips.setCheckable(True)
        self.all_strips.setChecked(settings.all_waves)
        self.all_strips.toggled.connect(self.waves.show_all_strips)
        self.snap = self._choice("Snap", "What a loop's ends snap to; Shift sets it aside", SNAPS, "snap")
        self.follow = self._choice("Follow", "How the view goes along while playing", FOLLOWS, "follow")
        self.nearer = self._button("+", "Zoom in (+)")
        self.farther = self._button("\N{MINUS SIGN}", "Zoom out (-)")
        self.nearer.clicked.connect(lambda: self.waves.zoom(ZOOM_STEP**2))
        self.farther.clicked.connect(lambda: self.waves.zoom(ZOOM_STEP**-2))
        self.waves.menu = self._make_menu()
        top = QHBoxLayout()
        top.setContentsMargins(0, 0, 4, 0)
        top.setSpacing(4)
        top.addWidget(self.overview, 1)
        for button in (self.all_strips, self.snap, self.follow, self.farther, self.nearer):
            top.addWidget(button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(1)
        layout.addLayout(top)
        layout.addWidget(self.waves, 1)

    def sizeHint(self) -> QSize:
        return QSize(1200, 132)

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

    def _make_menu(self) -> QMenu:
        menu = QMenu(self)
        for text, run in (("Show all of it", self._view.show_all), ("Show the loop", self.show_loop),
                          ("Loop bars\u2026", self.ask_for_bars)):
            menu.addAction(text, run)
        return menu

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
