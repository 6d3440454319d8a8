"""The window: its panels, menus and keys, and what is remembered of them."""

from __future__ import annotations

import functools
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent
from PyQt6.QtWidgets import (
    QFileDialog,
    QMainWindow,
    QMenu,
    QMessageBox,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.panels import copying, lane_view, passage_row, path_view, strip_commands, strip_row, wave_view
from yellow_ember.app.panels.balance import Balance
from yellow_ember.app.panels.bench import Bench
from yellow_ember.app.panels.desk import Desk
from yellow_ember.app.panels.dropping import audio_only
from yellow_ember.app.panels.first_card import FirstCard
from yellow_ember.app.panels.guide import Guide
from yellow_ember.app.panels.message_line import MessageLine
from yellow_ember.app.panels.path_view import PathView
from yellow_ember.app.panels.start_page import StartPage
from yellow_ember.app.panels.timeline import Timeline
from yellow_ember.app.panels.top_line import TopLine
from yellow_ember.app.panels.work_area import WorkArea
from yellow_ember.app.pictures import handles
from yellow_ember.app.state.recording import ALL, LOOP, PRE_ROLLS
from yellow_ember.app.tools import audition
from yellow_ember.app.tools.batch import BatchTool
from yellow_ember.app.tools.blind_test import BlindTool
from yellow_ember.app.tools.controllers_tool import ControllersTool
from yellow_ember.app.tools.dialogs import AUDIO_FILTER, PrintDialog, SettingsDialog
from yellow_ember.app.tools.help_tool import FIRST, HelpTool
from yellow_ember.app.tools.history import HistoryTool
from yellow_ember.app.tools.keys import Keys, KeysTool
from yellow_ember.app.tools.links import LinksTool
from yellow_ember.app.tools.meters import MetersTool
from yellow_ember.app.tools.palette import Choice, Palette
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.tools.reference_tool import ReferenceTool
from yellow_ember.app.tools.set_browser import SetBrowser
from yellow_ember.app.tools.spread import Spread
from yellow_ember.app.tools.tempo import TempoTool
from yellow_ember.app.tools.tool import dropped_files
from yellow_ember.app.widgets import step_lane, value_bar
from yellow_ember.app.widgets.layouts import state_as_text, state_from_text
from yellow_ember.app.widgets.saving import ask_where_to_save
from yellow_ember.app.widgets.text import as_text, menu_text
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.stages import FAMILIES
from yellow_ember.files.atomic import free_name
from yellow_ember.plain_text import plain_file_name, plain_line
from yellow_ember.session.io.autosave import Card, versions, work_set_aside
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.session_file import SUFFIX
from yellow_ember.session.values.model import StripKind
from yellow_ember.session.values.snapshots import PLACES, SCOPES

_SESSION_FILTER = f"Sessions (*{SUFFIX})"


class MainWindow(QMainWindow):
    """Everything the user sees."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.closes_quietly: Callable[[], bool] = lambda: False
        """Whether the desktop closes the window, not its user: then the work is kept, and no question asked."""
        self.setAcceptDrops(True)
        self.top_line = workspace.give(TopLine)
        self.desk = workspace.give(Desk)
        self.path_view = workspace.give(PathView)
        self.bench = workspace.give(Bench)
        self.balance = workspace.give(Balance)
        self.timeline = workspace.give(Timeline)
        self.message_line = workspace.give(MessageLine)
        self.card = workspace.give(FirstCard)
        self.start_page = workspace.give(StartPage)
        self.start_page.chosen.connect(lambda path: self._open_paths([path]))
        self._bench_place = QStackedWidget()
        self._bench_place.addWidget(self.bench)
        self._bench_place.addWidget(self.start_page)
        self.work_area = WorkArea(self._bench_place, workspace.selection, workspace.settings)
        workspace.tools.place = self.work_area.show_tool
        self._splitters = {
            "middle": _splitter(Qt.Orientation.Vertical, (self.path_view, self.work_area), (210, 390)),
            "drawer": self.work_area.splitter,
        }
        self._splitters["across"] = _splitter(
            Qt.Orientation.Horizontal, (self.desk, self._splitters["middle"], self.balance), (236, 760, 276))
        self._splitters["down"] = _splitter(
            Qt.Orientation.Vertical, (self._splitters["across"], self.timeline), (566, 136))
        self._splitters["across"].setStretchFactor(1, 1)
        self._splitters["middle"].setStretchFactor(0, 1)
        self._splitters["middle"].setStretchFactor(1, 3)
        self._splitters["down"].setStretchFactor(0, 1)
        inside = QWidget()
        layout = QVBoxLayout(inside)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addWidget(self.top_line)
        layout.addWidget(self.card)
        layout.addWidget(self._splitters["down"], 1)
        layout.addWidget(self.message_line)
        self.setCentralWidget(inside)
        self._panels: tuple[tuple[str, QWidget], ...] = (
            ("Desk", self.desk), ("Path", self.path_view), ("Bench", self.work_area), ("Balance", self.balance),
            ("Waveform", self.timeline))
        self._covered: list[QWidget] = []
        self.guide = workspace.give(Guide)
        self._fill_card()
        self._make_menus()
        workspace.sessions.changed.connect(lambda _session: self._refresh())
        workspace.sessions.opened.connect(self._refresh)
        workspace.sessions.time_stamps_found.connect(self.offer_time_stamps)
        workspace.playback.pictures_hidden.connect(self._hide_pictures)
        workspace.closing.connect(self.work_area.close_all)
        self.resize(1280, 800)
        self.setMinimumSize(900, 620)
        self._restore_layout()
        self._refresh()

    # -- menus --------------------------------------------------------------------------

    def _make_menus(self) -> None:
        bar = self.menuBar()
        assert bar is not None
        for name, fill in (("&Session", self._fill_session_menu), ("&Edit", self._fill_edit_menu),
                           ("S&trip", self._fill_strip_menu),
                           ("&View", self._fill_view_menu), ("&Help", self._fill_help_menu)):
            menu = bar.addMenu(name)
            assert menu is not None
            self._menu_name = name.replace("&", "")
            fill(menu)

    def _fill_session_menu(self, session: QMenu) -> None:
        workspace = self.workspace
        self._action(session, "New from audio files\u2026", "Ctrl+N", self.new_from_audio)
        self._action(session, "Open\u2026", "Ctrl+O", self.open)
        recent = session.addMenu("Open recent")
        assert recent is not None
        self._recent = recent
        recent.aboutToShow.connect(self._fill_recent)
        self._action(session, "Add tracks\u2026", "", self.add_tracks)
        self._action(session, "Place by time stamp", "", workspace.sessions.place_by_time_stamp)
        session.addSeparator()
        self._action(session, "Save", "Ctrl+S", self.save)
        self._action(session, "Save as\u2026", "Ctrl+Shift+S", self.save_as)
        earlier, aside = session.addMenu("Earlier versions"), session.addMenu("Work set aside")
        assert earlier is not None
        assert aside is not None
        earlier.aboutToShow.connect(lambda: self._fill_cards(
            earlier, () if workspace.sessions.document.path is None else versions(workspace.sessions.document.path)))
        aside.aboutToShow.connect(lambda: self._fill_cards(aside, work_set_aside()))
        self._action(session, "Find missing audio\u2026", "", self.find_missing)
        session.addSeparator()
        self._action(session, "Print to files\u2026", "Ctrl+P", lambda: workspace.give(PrintDialog, self).show())
        self._action(session, "Batch\u2026", "Ctrl+Shift+P", lambda: workspace.tools.open(BatchTool))
        self._action(session, "Settings\u2026", "Ctrl+,", lambda: workspace.give(SettingsDialog, self).show())
        self._action(session, "Quit", "Ctrl+Q", self.close)

    def _fill_edit_menu(self, edit: QMenu) -> None:
        workspace = self.workspace
        self._undo = self._action(edit, "Undo", "Ctrl+Z", self.undo)
        self._redo = self._action(edit, "Redo", "Ctrl+Shift+Z", self.redo)
        self._action(edit, "History\u2026", "Ctrl+Y", lambda: workspace.tools.open(HistoryTool))
        edit.addSeparator()
        self._action(edit, "Copy the stage", "Ctrl+C", lambda: workspace.give(copying.copy_stage))
        self._action(edit, "Copy the path", "Ctrl+Shift+C", lambda: workspace.give(copying.copy_chain))
        self._action(edit, "Paste", "Ctrl+V", lambda: workspace.give(copying.paste))
        self._action(edit, "Paste settings", "Ctrl+Shift+V", lambda: workspace.give(copying.paste_settings))
        edit.addSeparator()
        self._action(edit, "Add a stage\u2026", "Ctrl+Return", self.path_view.open_chooser)
        self._action(edit, "Commands\u2026", "Ctrl+K", self.open_palette)
        self._action(edit, "Find a control\u2026", "Ctrl+F", self.bench.find_control)
        self._action(edit, "Presets\u2026", "P", self.path_view.open_presets)
        self._action(edit, "Sets\u2026", "Shift+P", lambda: workspace.tools.open(SetBrowser))
        self._action(edit, "Sound like a reference\u2026", "Shift+L", lambda: workspace.tools.open(ReferenceTool))
        self._action(edit, "Macros\u2026", "", self.bench.open_macros)
        self._action(edit, "Links\u2026", "Ctrl+L", lambda: workspace.tools.open(LinksTool))
        self._action(edit, "Balance field of the stage\u2026", "F", self.bench.open_field)
        self._action(edit, "Variations of the stage\u2026", "V", self.bench.open_variations)
        self._action(edit, "Line-up of the machine\u2026", "", self.bench.open_line_up)
        self._action(edit, "Bypass the stage", "Ctrl+B", self.path_view.switch_chosen)
        self._action(edit, "Level into the zone", "", self.path_view.level_chosen)
        self._action(edit, "Level every stage into its zone", "", self.path_view.level_all)
        self._action(edit, "Solo the stage", "", self.path_view.solo_chosen)
        self._action(edit, "Match loudness now", "Ctrl+M", workspace.matcher.match_chosen)

    def _fill_strip_menu(self, strip: QMenu) -> None:
        workspace = self.workspace
        self._action(strip, "New bus for the chosen strips", "Ctrl+G",
                     lambda: workspace.give(strip_commands.new_bus))
        self._action(strip, "Insert a track", "Ctrl+Shift+T", lambda: workspace.give(strip_commands.new_track))
        self._action(strip, "Insert an input track", "Ctrl+Shift+I",
                     lambda: workspace.give(strip_commands.new_input_track))
        self._action(strip, "Arm the track", "Shift+R", workspace.recording.arm_chosen)
        self._action(strip, "Duplicate the strip", "Ctrl+Shift+D", lambda: workspace.give(strip_commands.duplicate))
        self._action(strip, "Choose all strips", "Ctrl+A", lambda: workspace.selection.choose_all(
            [strip.id for strip, _ in workspace.sessions.session.depth_first() if strip.kind is not StripKind.MASTER]))
        self._action(strip, "Rename the strip\u2026", "F2", self.rename_strip)
        self._action(strip, "Clear the path", "", lambda: workspace.give(strip_commands.clear_path))
        self._action(strip, "Reset the strip", "", lambda: workspace.give(strip_commands.reset))
        self._action(strip, "Bypass the path", "Ctrl+Shift+B", self.bypass_path)

    def _fill_view_menu(self, view: QMenu) -> None:
        workspace = self.workspace
        self._action(view, "Play or stop", "Space", workspace.playback.toggle_play)
        self._action(view, "Record", "R", workspace.recording.toggle)
        recording = view.addMenu("Recording")
        assert recording is not None
        self._recording_menu = recording
        recording.aboutToShow.connect(self._fill_recording)
        self._action(view, "Measure the round trip", "", workspace.recording.measure_round_trip)
        self._action(view, "To the start", "Home", self.top_line.to_start.click)
        self._action(view, "Loop", "L", self.top_line.toggle_loop)
        self._action(view, "Marker where playing is", "M", self.timeline.drop_marker)
        self._action(view, "To the passage before", ",", lambda: self.timeline.jump(back=True))
        self._action(view, "To the passage after", ".", lambda: self.timeline.jump(back=False))
        self._action(view, "Passage from the loop", "Ctrl+Shift+K", self.timeline.passage_from_loop)
        self._action(view, "Tap the tempo", "T", workspace.tempo_tap.tap)
        self._action(view, "Tempo\u2026", "Shift+T", lambda: workspace.tools.open(TempoTool))
        self._action(view, "Before or after", "B", self.top_line.compare.toggle)
        self._action(view, "Controllers\u2026", "", lambda: workspace.tools.open(ControllersTool))
        self._action(view, "Spread of all strips\u2026", "Ctrl+D", lambda: workspace.tools.open(Spread))
        self._action(view, "Meters\u2026", "Ctrl+Shift+M", lambda: workspace.tools.open(MetersTool))
        self._action(view, "Blind test\u2026", "Ctrl+T", self.open_blind_test)
        self._action(view, "What was added, alone", "D", self.top_line.compare.toggle_added)
        snapshots = view.addMenu("Snapshots")
        assert snapshots is not None
        for index in range(PLACES):
            number = index + 1
            self._action(snapshots, f"Hear snapshot {number}", f"Alt+{number}",
                         functools.partial(self.balance.snapshots.use, index))
            self._action(snapshots, f"Take snapshot {number}", f"Alt+Shift+{number}",
                         functools.partial(self.balance.snapshots.take, index))
        view.addSeparator()
        self._action(view, "Show all of the session", "Ctrl+0", workspace.time_view.show_all)
        self._action(view, "Show the loop", "Ctrl+Shift+L", self.timeline.show_loop)
        self._action(view, "Loop bars\u2026", "", self.timeline.ask_for_bars)
        self._action(view, "Waves of all strips", "W", self.timeline.all_strips.toggle)
        compact = self._action(view, "Compact desk", "Ctrl+Shift+G", self._toggle_compact)
        compact.setCheckable(True)
        compact.setChecked(workspace.settings.compact_desk)
        view.addSeparator()
        self._panel_actions: dict[str, QAction] = {}
        for number, (name, panel) in enumerate(self._panels, 1):
            action = self._action(view, name, f"Ctrl+{number}", functools.partial(_show_or_hide, panel))
            action.setCheckable(True)
            self._panel_actions[name] = action
        view.aboutToShow.connect(self._show_panel_states)

    def _fill_recording(self) -> None:
        """Where recording begins and ends, and what is written."""
        menu, recording, session = self._recording_menu, self.workspace.recording, self.workspace.sessions.session
        menu.clear()
        choices: list[tuple[str, Callable[[], object], bool]] = [
            ("All of it" if where == ALL else "Within the loop" if where == LOOP else f"Within {name}",
             functools.partial(setattr, recording, "inside", where), recording.inside == where)
            for where, name in ((ALL, ""), (LOOP, ""), *((passage.id, passage.name) for passage in session.passages))]
        choices += [(f"Play {seconds:g} s before" if seconds else "Play nothing before",
                     functools.partial(recording.set_pre_roll, seconds), recording.pre_roll == seconds)
                    for seconds in PRE_ROLLS]
        choices.append(("Write what leaves the path as well",
                        functools.partial(recording.set_path_too, not recording.path_too), recording.path_too))
        for words, run, chosen in choices:
            action = menu.addAction(menu_text(words), run)
            assert action is not None
            action.setCheckable(True)
            action.setChecked(chosen)

    def _fill_help_menu(self, aid: QMenu) -> None:
        self._action(aid, "Guides and stages", "F1", self.help)
        self._action(aid, "Keys\u2026", "Shift+F1", self.show_keys)

    def _action(self, menu: QMenu, text: str, keys: str, run: Callable[[], object]) -> QAction:
        action = QAction(text, self)
        self.workspace.commands.add(text.rstrip("\u2026"), self._menu_name, keys, action)
        action.triggered.connect(lambda _checked: run())
        menu.addAction(action)
        return action

    def _toggle_compact(self) -> None:
        """Make the desk's rows low or high."""
        self.workspace.settings.compact_desk = not self.workspace.settings.compact_desk
        self.desk.refresh(self.workspace.sessions.session)

    def _show_panel_states(self) -> None:
        for name, panel in self._panels:
            self._panel_actions[name].setChecked(not panel.isHidden())

    def _fill_recent(self) -> None:
        _fill(self._recent, [(name, functools.partial(self._open_paths, [Path(name)]))
                             for name in self.workspace.settings.recent])

    def _fill_card(self) -> None:
        workspace = self.workspace
        self.card.add("play", "Play (Space)", workspace.playback.toggle_play)
        self.card.add("drive", "Drag a stage up to drive it", self._show_driving)
        self.card.add("compare", "Before and after (B)", self.top_line.compare.toggle)
        self.card.add("presets", "Presets (P)", self.path_view.open_presets)
        self.path_view.driven.connect(lambda: self.card.tick("drive"))
        self.work_area.opened.connect(
            lambda tool: self.card.tick("presets") if isinstance(tool, PresetBrowser) else None)

    def _show_driving(self) -> None:
        """Bring the path to the eye, and say what to do there."""
        self.path_view.setFocus()
        self.workspace.messages.say("Drag the stage in the path upwards: it is driven harder, and what follows is "
                                    "taken back by as many decibels")

    def _refresh(self) -> None:
        empty = not any(strip.kind is StripKind.TRACK for strip in self.workspace.sessions.session.strips)
        if empty and self._bench_place.currentWidget() is not self.start_page:
            self.start_page.refresh()
        self._bench_place.setCurrentWidget(self.start_page if empty else self.bench)
        document = self.workspace.sessions.document
        name = plain_line(self.workspace.sessions.session.name).replace("[*]", "[ *]")
        self.setWindowTitle(f"{name}{' (unsaved)' if document.modified else ''} - Yellow Ember")
        self._undo.setEnabled(document.undo_label is not None)
        self._undo.setText(menu_text(f"Undo: {document.undo_label}") if document.undo_label else "Undo")
        self._redo.setEnabled(document.redo_label is not None)
        self._redo.setText(menu_text(f"Redo: {document.redo_label}") if document.redo_label else "Redo")

    # -- commands -----------------------------------------------------------------------

    def undo(self) -> None:
        label = self.workspace.sessions.document.undo()
        if label:
            self.workspace.messages.say(f"Undone: {label}")
            self._refresh()

    def redo(self) -> None:
        label = self.workspace.sessions.document.redo()
        if label:
            self.workspace.messages.say(f"Done again: {label}")
            self._refresh()

    def show_keys(self) -> None:
        """Show every key: of commands, and of what panels and controls answer to."""
        sections: list[tuple[str, Keys]] = [
            ("Desk", strip_row.KEYS), ("Path", path_view.KEYS), ("Waveform", wave_view.KEYS),
            ("Passages", passage_row.KEYS), ("Lanes", lane_view.KEYS), ("Controls", value_bar.KEYS),
            ("Handles in a picture", handles.KEYS), ("Lane of steps", step_lane.KEYS),
            ("Lists of things to hear", audition.KEYS)]
        self.workspace.tools.open(KeysTool, sections)

    def open_palette(self) -> None:
        """Let a command be found by typing: of the menus, a strip to go to, a stage to add."""
        workspace = self.workspace
        choices = [Choice(command.name, command.menu, command.keys, command.action.trigger)
                   for command in workspace.commands.all if command.action.isEnabled()]
        choices += [Choice(f"Go to {strip.name}", "Strips", "", functools.partial(
            workspace.selection.choose_only, strip.id)) for strip, _ in workspace.sessions.session.depth_first()]
        choices += [Choice(f"Add {kind.label}", family, "", functools.partial(self.path_view.add, kind.kind))
                    for family, kinds in FAMILIES.items() for kind in kinds]
        Palette(choices, self).open()

    def open_blind_test(self) -> None:
        """A, B and X, of the snapshots whose scope is chosen."""
        self.workspace.tools.open(BlindTool, SCOPES[self.balance.snapshots.scope.currentIndex()])

    def help(self) -> None:
        """Help: on the control that has the focus, or at the page of the chosen stage, or at the first page."""
        selection, focused = self.workspace.selection, self.focusWidget()
        stage = selection.strip.stage(selection.stage_id) if selection.stage_id else None
        page = FIRST if stage is None else f"stage:{stage.kind}"
        for name, bar in self.bench.bars.items() if stage is not None else ():
            if bar is focused and stage is not None and name in stage.params:
                page = f"control:{stage.kind}/{name}"
        self.workspace.tools.open(HelpTool, self.path_view.open_presets, self.guide.do).show_page(page)

    def bypass_path(self) -> None:
        """The whole path of the chosen strips, and of all linked with them, out or in."""
        self.desk.rows[self.workspace.selection.strip_id].switch("bypass")

    def rename_strip(self) -> None:
        """Ask for another name of the chosen strip."""
        self.desk.rows[self.workspace.selection.strip_id].rename()

    def _audio_files(self, title: str) -> list[Path]:
        names, _ = QFileDialog.getOpenFileNames(self, title, "", f"{AUDIO_FILTER};;All files (*)")
        return [Path(name) for name in names]

    def new_from_audio(self) -> None:
        paths = self._audio_files("New session from audio files")
        if paths and self._may_leave():
            self.workspace.sessions.open_audio(paths)

    def add_tracks(self) -> None:
        self.workspace.sessions.add_audio(self._audio_files("Add tracks"))

    def offer_time_stamps(self) -> None:
        """Ask whether files that came in are to lie where their time stamps put them."""
        box = QMessageBox(QMessageBox.Icon.Question, "Time stamps",
                          "These files say at what time of day they begin. Place them by that?", parent=self)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.setWindowModality(Qt.WindowModality.NonModal)
        place = box.addButton("Place by time stamp", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Leave at the start", QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(place)
        assert place is not None
        place.clicked.connect(self.workspace.sessions.place_by_time_stamp)
        box.show()

    def open(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open", "", f"{_SESSION_FILTER};;{AUDIO_FILTER};;All files (*)")
        if name:
            self._open_paths([Path(name)])

    def _open_paths(self, paths: list[Path]) -> None:
        if self._may_leave():
            self.workspace.sessions.open_any(paths)

    def take_over(self, paths: list[Path]) -> None:
        """What a second start brings: come to the front, and open its files."""
        self.setWindowState(self.windowState() & ~Qt.WindowState.WindowMinimized)
        self.show()
        self.raise_()
        self.activateWindow()
        if paths:
            self._open_paths(paths)

    def save(self) -> bool:
        """Save where the session lives; ask where it has no file of its own yet, or another has written it."""
        path = self.workspace.sessions.document.path
        if path is None or self.workspace.sessions.is_shipped:
            return self.save_as()
        if self.workspace.sessions.changed_on_disk:
            return self._save_beside(path)
        return self._save_to(path)

    def _save_to(self, path: Path) -> bool:
        return self.workspace.sessions.save(path, self.workspace.selection.strip_id)

    def _save_beside(self, path: Path) -> bool:
        """The file holds what somebody else wrote: ask what is to stay."""
        box = QMessageBox(QMessageBox.Icon.Question, "The file has changed", plain_line(
            f"{path.name} was changed on disk since you opened it."), parent=self)
        box.setTextFormat(Qt.TextFormat.PlainText)
        beside = free_name(path)
        box.setInformativeText(plain_line(f"Keep both saves your session as {beside.name}."))
        both = box.addButton("Keep both", QMessageBox.ButtonRole.AcceptRole)
        over = box.addButton("Replace", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setDefaultButton(both)
        box.exec()
        if box.clickedButton() is both:
            return self._save_to(beside)
        return box.clickedButton() is over and self._save_to(path)

    def save_as(self) -> bool:
        sessions = self.workspace.sessions
        proposed = sessions.own_folder / f"{plain_file_name(sessions.session.name)}{SUFFIX}"
        path = ask_where_to_save(self, "Save as", proposed, _SESSION_FILTER, SUFFIX)
        return path is not None and self._save_to(path)

    def open_card(self, card: Card) -> None:
        """Open a session that was kept."""
        if self._may_leave():
            try:
                self.workspace.sessions.open_card(card)
            except SessionFileError as error:
                self.workspace.messages.warn(str(error))

    def _fill_cards(self, menu: QMenu, cards: Sequence[Card]) -> None:
        _fill(menu, [(f"{time.strftime('%d %b %Y, %H:%M:%S', time.localtime(card.kept_at))}   {card.name}",
                      functools.partial(self.open_card, card)) for card in cards])

    def find_missing(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Look for missing audio in")
        if folder:
            self.workspace.sessions.find_missing(Path(folder))

    def _may_leave(self) -> bool:
        """True when the present session may go: it is saved, or the user gives it up."""
        if not self.workspace.sessions.document.modified:
            return True
        button = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self, "Unsaved changes", as_text(f"Save the changes to {self.workspace.sessions.session.name}?"),
            button.Save | button.Discard | button.Cancel, button.Save)
        return self.save() if answer == button.Save else answer == button.Discard

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() != Qt.Key.Key_Escape or not self.work_area.go_back():
            super().keyPressEvent(event)

    # -- drop, close, layout ------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if dropped_files(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        event.acceptProposedAction()
        self.take_in(dropped_files(event.mimeData()))

    def take_in(self, paths: list[Path]) -> None:
        """Make tracks of audio files, of this session or of a new one where it has none; open a session file."""
        if audio_only(paths) and any(strip.kind is StripKind.TRACK for strip in self.workspace.sessions.session.strips):
            self.workspace.sessions.add_audio(paths)
        else:
            self._open_paths(paths)

    def closeEvent(self, event: QCloseEvent) -> None:
        quietly = self.closes_quietly()
        if not quietly and not self._may_leave():
            event.ignore()
            return
        self.end(keep_unsaved=quietly)
        event.accept()

    def end(self, *, keep_unsaved: bool = False) -> None:
        """Put everything away, without a question; unsaved edits are given up unless they are to be kept."""
        self._keep_layout()
        self.workspace.close(keep_unsaved=keep_unsaved)

    def _keep_layout(self) -> None:
        layout = {**self.workspace.settings.layout, "window": state_as_text(self.saveGeometry())}
        layout |= {name: state_as_text(splitter.saveState()) for name, splitter in self._splitters.items()}
        layout["hidden"] = ",".join(name for name, panel in self._panels
                                    if panel.isHidden() and panel not in self._covered)
        self.workspace.settings.layout = layout

    def _hide_pictures(self, hidden: bool) -> None:
        """Cover what would tell the eye what the ear is asked for."""
        self.work_area.cover(hidden)
        if hidden:
            self._covered = [panel for _, panel in self._panels
                             if panel is not self.work_area and not panel.isHidden()]
        for panel in self._covered:
            panel.setVisible(not hidden)
        if not hidden:
            self._covered = []

    def _restore_layout(self) -> None:
        layout = self.workspace.settings.layout
        if "window" in layout:
            self.restoreGeometry(state_from_text(layout["window"]))
        for name, splitter in self._splitters.items():
            if name in layout:
                splitter.restoreState(state_from_text(layout[name]))
        for name, panel in self._panels:
            if name in layout.get("hidden", "").split(","):
                panel.hide()


def _fill(menu: QMenu, entries: Sequence[tuple[str, Callable[[], object]]]) -> None:
    """Put entries into a menu in place of what it held, or a word where there are none."""
    menu.clear()
    for words, run in entries:
        menu.addAction(menu_text(words), lambda chosen=run: chosen())
    if not entries:
        action = menu.addAction("None yet")
        assert action is not None
        action.setEnabled(False)


def _show_or_hide(panel: QWidget) -> None:
    panel.setVisible(panel.isHidden())


def _splitter(direction: Qt.Orientation, parts: tuple[QWidget, ...], sizes: tuple[int, ...]) -> QSplitter:
    splitter = QSplitter(direction)
    splitter.setHandleWidth(4)
    splitter.setChildrenCollapsible(False)
    for part in parts:
        splitter.addWidget(part)
    splitter.setSizes(list(sizes))
    return splitter
