"""Presets to hear, one's own among them."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QListWidgetItem,
    QMessageBox,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.tools.audition import Audition
from yellow_ember.app.tools.dialogs import lanes_are_kept
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.saving import ask_where_to_save
from yellow_ember.app.widgets.text import TextLabel, as_text, escaped
from yellow_ember.app.widgets.tone_words import tone_words
from yellow_ember.plain_text import plain_file_name
from yellow_ember.session.edits.edits import use_chain
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.presets import (
    Preset,
    by_source,
    delete_preset,
    import_preset,
    keep_preset,
    own_presets,
    rename_preset,
    shipped_presets,
    write_preset,
)
from yellow_ember.session.values.drawn import lanes_in_beats, lanes_in_seconds, without_lanes
from yellow_ember.session.values.model import Session
from yellow_ember.session.values.purposes import INTENTIONS, SOURCES

_ANY = "all"
_FAVOURITES, _RECENT, _OWN = "favourites", "kept lately", "your own"
_SORTS: dict[str, Callable[[Preset], float]] = {
    "source": lambda preset: 0.0,
    "least added first": lambda preset: _or_last(preset.added_db),
    "most added first": lambda preset: -_or_last(preset.added_db, -1.0),
    "darkest first": lambda preset: _or_last(preset.brightness),
    "brightest first": lambda preset: -_or_last(preset.brightness, -1.0)}


def _or_last(value: float | None, side: float = 1.0) -> float:
    """A figure, or what sorts behind all of them."""
    return side * 1e9 if value is None else value


class PresetBrowser(Audition):
    """Tries presets on one strip."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, jobs: JobKeeper, matcher: Matcher, parent: QWidget) -> None:
        super().__init__(sessions, selection, playback, messages, jobs, parent, "Presets")
        self._settings, self._matcher = settings, matcher
        self.shown: list[Preset] = []
        self._own: tuple[Preset, ...] = ()
        self._told: set[str] = set()
        self._strips = self._selection.chosen
        others = len(self._strips) - 1
        self.setWindowTitle(f"Presets for {self._selection.strip.name}{f' and {others} more' if others else ''}")
        self.resize(620, 560)
        self.source, self.intention = QComboBox(), QComboBox()
        for box, name, words in ((self.source, "Source", SOURCES), (self.intention, "Intention", INTENTIONS)):
            box.setAccessibleName(name)
            box.addItems([_ANY, *words])
            box.currentTextChanged.connect(lambda _text: self.fill())
        self.which, self.order = QComboBox(), QComboBox()
        for box, name, entries in ((self.which, "Which", (_ANY, _FAVOURITES, _RECENT, _OWN)),
                                   (self.order, "Order", tuple(_SORTS))):
            box.setAccessibleName(name)
            box.addItems(list(entries))
            box.currentTextChanged.connect(lambda _text: self.fill())
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search in names and notes")
        self.search.setAccessibleName("Search")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _text: self.fill())
        self.note = TextLabel(markup=True)
        self.note.setWordWrap(True)
        self.own_note = QLineEdit()
        self.own_note.setPlaceholderText("Your own words on the chosen preset")
        self.own_note.setAccessibleName("Your note")
        self.own_note.setEnabled(False)
        self.own_note.editingFinished.connect(self._keep_note)
        self._lay_out()
        self._changed_own()
        self.list.setFocus()

    def _lay_out(self) -> None:
        filters = QHBoxLayout()
        for text, box in (("Source", self.source), ("Intention", self.intention)):
            label = TextLabel(text)
            label.setBuddy(box)
            filters.addWidget(label)
            filters.addWidget(box, 1)
        more = QHBoxLayout()
        more.addWidget(self.search, 3)
        more.addWidget(self.which, 1)
        more.addWidget(self.order, 1)
        own = QHBoxLayout()
        for text, slot, hint in (
                ("Favourite", self.mark, "Mark the chosen preset, or unmark it"),
                ("Save own\u2026", self.save_own, "The strip's chain as it was when this window opened, or as tried"),
                ("Rename\u2026", self.rename, "Your own presets only"),
                ("Delete", self.delete, "Your own presets only"),
                ("Import\u2026", self.import_file, "Take in a preset file"),
                ("Export\u2026", self.export, "Write the chosen preset to a file")):
            button = action_button(text, functools.partial(self._guarded, slot), hint)
            own.addWidget(button)
            self.buttons[text.rstrip("\u2026")] = button
        layout = QVBoxLayout(self)
        layout.addLayout(filters)
        layout.addLayout(more)
        layout.addWidget(self.list, 1)
        layout.addWidget(self.note)
        layout.addWidget(self.own_note)
        layout.addWidget(self.state)
        layout.addLayout(own)
        layout.addLayout(self.closing_row)

    def _guarded(self, work: Callable[[], None]) -> None:
        try:
            work()
        except (SessionFileError, ValueError) as error:
            self._messages.warn(str(error))
            self.state.setText(str(error))

    # -- list ---------------------------------------------------------------------------

    def _read_own(self) -> None:
        """Read one's own presets; what can't be used is told once, not at every key of a search."""
        self._own, troubles = own_presets()
        for trouble in troubles:
            if trouble not in self._told:
                self._told.add(trouble)
                self._messages.warn(trouble)

    def _changed_own(self, choose: str | None = None) -> None:
        """A file of one's own has come, gone or got another name."""
        self._read_own()
        self.fill(choose)

    def fill(self, choose: str | None = None) -> None:
        """List what the filters let through."""
        source, intention = self.source.currentText(), self.intention.currentText()
        settings, words = self._settings, self.search.text().lower().split()
        among = {_FAVOURITES: settings.favourites, _RECENT: settings.heard}.get(self.which.currentText())
        own_only = self.which.currentText() == _OWN
        result = [preset for preset in by_source((*shipped_presets(), *self._own))
                  if source in (_ANY, preset.source) and intention in (_ANY, preset.intention)
                  and (among is None or preset.name in among) and (preset.path is not None or not own_only)
                  and all(word in f"{preset.name} {preset.note} {settings.notes.get(preset.name, '')}".lower()
                          for word in words)]
        self.shown = sorted(result, key=_SORTS[self.order.currentText()])
        if among is settings.heard:
            self.shown.sort(key=lambda preset: settings.heard.index(preset.name))
        self.list.blockSignals(True)
        self.list.clear()
        for preset in self.shown:
            mine = "  (yours)" if preset.path is not None else ""
            star = "\u2605 " if preset.name in settings.favourites else ""
            item = QListWidgetItem(f"{star}{preset.name}{mine}    {preset.source}, {preset.intention}")
            if preset.added_db is not None:
                item.setForeground(theme.added_text_colour(preset.added_db))
            item.setToolTip("\n".join(filter(None, (preset.note, settings.notes.get(preset.name)))))
            self.list.addItem(item)
        self.list.setCurrentRow(-1)
        self.list.blockSignals(False)
        for row, preset in enumerate(self.shown):
            if preset.name == choose:
                self.list.setCurrentRow(row)

    @property
    def chosen(self) -> Preset | None:
        row = self.list.currentRow()
        return self.shown[row] if 0 <= row < len(self.shown) else None

    # -- hearing ------------------------------------------------------------------------

    def keys(self) -> Sequence[str]:
        return [preset.name for preset in self.shown]

    def tried(self, session: Session, key: str) -> Session:
        preset = next(preset for preset in self.shown if preset.name == key)
        for strip_id in self._strips:
            session = use_chain(session, strip_id, lanes_in_seconds(preset.stages, session), preset.macros,
                                preset.match_db)
        return session

    def needed(self) -> set[str]:
        return {self._strip_id, *self._strips}

    def step(self, key: str) -> str:
        return f"Preset {key}"

    def describe(self, key: str) -> None:
        chosen = self.chosen
        if chosen is None:
            return
        figures = "" if chosen.added_db is None or chosen.brightness is None else (
            f"  <i>added {chosen.added_db:.0f} dB, {tone_words(chosen.brightness)}</i>")
        self.note.setText(f"<b>{escaped(key)}</b>: {escaped(chosen.note)}{figures}")
        self.own_note.setEnabled(True)
        self.own_note.setText(self._settings.notes.get(key, ""))

    def _keep_note(self) -> None:
        """What was written on the chosen preset."""
        if self.chosen_key:
            self._settings.write_note(self.chosen_key, self.own_note.text().strip())

    def keep(self) -> None:
        if self.heard is not None:
            self._settings.keep_heard(self.heard)
            self._matcher.match_all(
                strip_id for strip_id in self._strips if strip_id != self._strip_id)
        super().keep()

    def mark(self) -> None:
        """Make the chosen preset a favourite, or not any more."""
        chosen, settings = self.chosen, self._settings
        if chosen is not None:
            settings.mark(chosen.name, favourite=chosen.name not in settings.favourites)
            row = self.list.currentRow()
            self.fill()
            self.list.blockSignals(True)
            self.list.setCurrentRow(min(row, self.list.count() - 1))
            self.list.blockSignals(False)

    # -- one's own ----------------------------------------------------------------------

    def save_own(self) -> None:
        """Keep the strip's present chain as a preset of one's own."""
        strip = self._sessions.session.strip(self._strip_id)
        if not strip.chain:
            raise ValueError(f"{strip.name} has no stages to save")
        name, accepted = QInputDialog.getText(self, "Save a preset", "Name")
        if not accepted or not name.strip():
            return
        note, accepted = QInputDialog.getText(self, "Save a preset", "What it does, in a sentence")
        if not accepted:
            return
        stages = lanes_in_beats(strip.chain, self._sessions.session) if lanes_are_kept(
            self, strip.chain) else without_lanes(strip.chain)
        source, intention = self.source.currentText(), self.intention.currentText()
        kept = keep_preset(Preset(name.strip(), source if source != _ANY else "effect",
                                  intention if intention != _ANY else "glue", note.strip(), stages,
                                  strip.macros, strip.match_db))
        self._changed_own()
        self.state.setText(f"{kept.name} is saved")

    def rename(self) -> None:
        preset = self.chosen
        if preset is None:
            return
        name, accepted = QInputDialog.getText(self, "Rename", "Name", text=preset.name)
        if accepted and name.strip():
            renamed = rename_preset(preset, name.strip())
            self._settings.rename_preset(preset.name, renamed.name)
            if preset.name in self._offsets:
                self._offsets[renamed.name] = self._offsets[preset.name]
            self._changed_own(renamed.name)

    def delete(self) -> None:
        preset, button = self.chosen, QMessageBox.StandardButton
        if preset is None:
            return
        if preset.path is not None and QMessageBox.question(
                self, "Delete the preset", as_text(f"Delete {preset.name}? This can't be undone."),
                button.Yes | button.No, button.No) != button.Yes:
            return
        delete_preset(preset)
        self._settings.mark(preset.name, favourite=False)
        self._changed_own()

    def import_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import a preset", "", "Presets (*.json)")
        if name:
            self._changed_own(import_preset(Path(name)).name)

    def export(self) -> None:
        preset = self.chosen
        if preset is None:
            return
        path = ask_where_to_save(self, "Export a preset", Path(f"{plain_file_name(preset.name)}.json"),
                                 "Presets (*.json)", ".json")
        if path is not None:
            write_preset(preset, path)
