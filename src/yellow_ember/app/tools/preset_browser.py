"""Presets to hear, one's own among them: for a whole path, or for a place in it."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QPoint, QSize, Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.tools.audition import Audition
from yellow_ember.app.tools.dialogs import lanes_are_kept
from yellow_ember.app.tools.preset_table import PresetTable
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.layouts import let_shrink
from yellow_ember.app.widgets.saving import ask_where_to_save
from yellow_ember.app.widgets.text import TextLabel, escaped, menu_text
from yellow_ember.app.widgets.tone_words import tone_words
from yellow_ember.engine.jobs.preset_figures import measure_chains
from yellow_ember.measure.character import character_of
from yellow_ember.plain_text import plain_file_name
from yellow_ember.session.edits.edits import put_stages, use_chain
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.presets import (
    Figures,
    Preset,
    change_preset,
    delete_preset,
    deleted_presets,
    figures_key,
    import_preset,
    keep_figures,
    keep_preset,
    kept_figures,
    own_presets,
    restore_preset,
    shipped_presets,
    write_preset,
)
from yellow_ember.session.values.drawn import lanes_in_beats, lanes_in_seconds, without_lanes
from yellow_ember.session.values.model import Session
from yellow_ember.session.values.purposes import INTENTIONS, SOURCES, proposed_intention

_ANY = "all"
_FAVOURITES, _RECENT, _OWN, _PATHS, _SINGLE = "favourites", "kept lately", "your own", "whole paths", "single stages"
_ROUND_TO = ("In place of the path", "Behind the stage", "In place of the stage")
_AT_LEAST = {"brightness": 0.25, "added_db": 1.5}
_WEIGHTS = {"brightness": (1.0, 0.06), "added_db": (1.0, 3.0)}
"""What a step in one figure counts, and a step aside in the other."""


class PresetBrowser(Audition):
    """Tries presets on the chosen strips, or behind or in place of the chosen stage."""

    title = "Presets"
    first_size = QSize(720, 560)

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, jobs: JobKeeper, matcher: Matcher, measurer: Measurer) -> None:
        super().__init__(sessions, selection, playback, messages, jobs)
        self._settings, self._matcher, self._measurer = settings, matcher, measurer
        self._own: tuple[Preset, ...] = ()
        self._told: set[str] = set()
        self._filling = False
        self.table = PresetTable(settings)
        self.table.row_chosen.connect(self._on_row)
        self.table.starred.connect(lambda _row: self.mark())
        self.table.doubleClicked.connect(lambda _index: self.keep())
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self._open_menu)
        self.source, self.intention, self.which, self.place = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        for box, name, words in ((self.source, "Source", (_ANY, *SOURCES)),
                                 (self.intention, "Intention", (_ANY, *INTENTIONS)),
                                 (self.which, "Which", (_ANY, _FAVOURITES, _RECENT, _OWN, _PATHS, _SINGLE)),
                                 (self.place, "Where to", _ROUND_TO)):
            box.setAccessibleName(name)
            box.setToolTip(name)
            box.addItems(list(words))
            let_shrink(box)
        for box in (self.source, self.intention, self.which):
            box.currentTextChanged.connect(lambda _text: self._filter())
        self.place.currentIndexChanged.connect(lambda _index: self._on_place())
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search in names and notes")
        self.search.setAccessibleName("Search")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _text: self.fill())
        self.note = TextLabel(markup=True)
        self.note.setWordWrap(True)
        self.note.setMinimumHeight(32)
        self.own_note = QLineEdit()
        self.own_note.setPlaceholderText("Your words on it")
        self.own_note.setAccessibleName("Your note")
        self.own_note.setMaximumWidth(170)
        self.own_note.setEnabled(False)
        self.own_note.editingFinished.connect(self._keep_note)
        self.name = QLineEdit()
        self.name.setPlaceholderText("Save this path: name, Enter")
        self.name.setAccessibleName("Name for a preset of your own")
        self.name.setMaximumWidth(200)
        self.name.returnPressed.connect(functools.partial(self._guarded, self.save_own))
        self._lay_out()
        self._read_own()
        self._aim()
        self._selection.changed.connect(self._follow_selection)

    def _lay_out(self) -> None:
        filters = QHBoxLayout()
        filters.setSpacing(4)
        filters.addWidget(self.search, 3)
        for box in (self.source, self.intention, self.which):
            filters.addWidget(box, 1)
        words = QHBoxLayout()
        words.addWidget(self.note, 1)
        words.addWidget(self.own_note)
        steps = QHBoxLayout()
        steps.setSpacing(4)
        for text, figure, up in (("Darker", "brightness", False), ("Brighter", "brightness", True),
                                 ("Less", "added_db", False), ("More", "added_db", True)):
            button = action_button(text, functools.partial(self.step_to, figure, up=up),
                                   f"The nearest preset of these that is {text.lower()} than what you hear")
            steps.addWidget(button)
            self.buttons[text] = button
        steps.addWidget(self.place, 1)
        manage = QPushButton("Manage")
        manage.setToolTip("Rename, change, delete, restore, import and export presets")
        menu = QMenu(manage)
        menu.aboutToShow.connect(lambda: self._fill_menu(menu))
        manage.setMenu(menu)
        steps.addWidget(manage)
        bottom = QHBoxLayout()
        bottom.addWidget(self.state, 1)
        bottom.addWidget(self.name)
        bottom.addLayout(self.closing_row)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 4, 8, 6)
        layout.setSpacing(4)
        layout.addLayout(filters)
        layout.addWidget(self.table, 1)
        layout.addLayout(words)
        layout.addLayout(steps)
        layout.addLayout(bottom)

    def first_focus(self) -> QWidget:
        return self.table

    # -- what it is for -----------------------------------------------------------------

    def _aim(self) -> None:
        """Take on the chosen strips, and what suits them."""
        self._strip_id, self._strips = self._selection.strip_id, self._selection.chosen
        self._stage_id = self._selection.stage_id
        self._offsets = {}
        others = len(self._strips) - 1
        self.setWindowTitle(f"Presets for {self._selection.strip.name}{f' and {others} more' if others else ''}")
        self._filling = True
        kept = self._settings.preset_filters
        self._proposed = self._measurer.probable_source(self._selection.strip)
        self.source.setCurrentText(kept.get(f"source {self._proposed}", self._proposed or _ANY))
        self.intention.setCurrentText(kept.get("intention", _ANY))
        self.which.setCurrentText(kept.get("which", _ANY))
        self._filling = False
        self._enable_places()
        self.fill()

    def look_for(self, words: str) -> None:
        """Search among all presets, whatever the filters were."""
        self._filling = True
        for box in (self.source, self.intention, self.which):
            box.setCurrentText(_ANY)
        self._filling = False
        self.search.setText(words)

    def _enable_places(self) -> None:
        """Without a stage there is only the path to be replaced."""
        if not self._stage_id:
            self.place.setCurrentIndex(0)
        self.place.setEnabled(bool(self._stage_id))

    def _follow_selection(self) -> None:
        """Turn to another strip; what is heard on the one before is left."""
        chosen = self._selection.chosen
        if self._selection.strip_id != self._strip_id or chosen != self._strips:
            self.drop()
            self._jobs.cancel(self)
            self._aim()
        elif self.heard is None and self._selection.stage_id != self._stage_id:
            self._stage_id = self._selection.stage_id
            self._offsets = {}
            self._enable_places()

    def _on_place(self) -> None:
        self.drop()
        self._offsets = {}
        self.try_row()

    def _guarded(self, work: Callable[[], None]) -> None:
        try:
            work()
        except (SessionFileError, ValueError, OSError) as error:
            self._messages.warn(str(error))
            self.state.setText(str(error))

    # -- list ---------------------------------------------------------------------------

    @property
    def shown(self) -> list[Preset]:
        """The presets in the table, in its order."""
        return self.table.rows.shown

    def _read_own(self) -> None:
        """Read one's own presets; what can't be used is told once, not at every key of a search."""
        self._own, troubles = own_presets()
        for trouble in troubles:
            if trouble not in self._told:
                self._told.add(trouble)
                self._messages.warn(trouble)
        known = kept_figures()
        self.table.rows.figures = {preset.name: known[figures_key(preset)] for preset in self._own
                                   if figures_key(preset) in known}
        missing = [preset for preset in self._own if preset.name not in self.table.rows.figures]
        if missing:
            self._jobs.start(self, measure_chains, [(preset.name, preset.stages) for preset in missing],
                             name="figures", part=self._take_figures)

    def _take_figures(self, measured: tuple[str, Figures]) -> None:
        """Keep what was measured of a preset of one's own, and show it."""
        name, figures = measured
        self.table.rows.figures[name] = figures
        viewport = self.table.viewport()
        if viewport is not None:
            viewport.update()
        for preset in self._own:
            if preset.name == name:
                keep_figures(figures_key(preset), figures)

    def _changed_own(self, choose: str | None = None) -> None:
        """Show that a file of one's own has come, gone or changed."""
        self._read_own()
        self.fill(choose)

    def _filter(self) -> None:
        """Keep the filters for the next time, and show what they let through."""
        if not self._filling:
            self._settings.preset_filters = {
                **self._settings.preset_filters, f"source {self._proposed}": self.source.currentText(),
                "intention": self.intention.currentText(), "which": self.which.currentText()}
            self.fill()

    def fill(self, choose: str | None = None) -> None:
        """List what the filters let through; what is chosen stays so where it is among it."""
        source, intention, which = (box.currentText() for box in (self.source, self.intention, self.which))
        settings, words = self._settings, self.search.text().lower().split()
        lets_through: dict[str, Callable[[Preset], bool]] = {
            _ANY: lambda _preset: True,
            _FAVOURITES: lambda preset: preset.name in settings.favourites,
            _RECENT: lambda preset: preset.name in settings.heard,
            _OWN: lambda preset: preset.path is not None,
            _PATHS: lambda preset: len(preset.stages) > 1,
            _SINGLE: lambda preset: len(preset.stages) == 1}
        among = lets_through[which]
        chosen = choose or (self.chosen.name if self.chosen else None)
        presets = [preset for preset in (*shipped_presets(), *self._own)
                   if source in (_ANY, preset.source) and intention in (_ANY, preset.intention) and among(preset)
                   and all(word in f"{preset.name} {preset.note} {settings.notes.get(preset.name, '')}".lower()
                           for word in words)]
        self._filling = True
        self.table.rows.show(presets)
        self._choose(chosen)
        self._filling = False
        if choose:
            self._on_row()

    def _choose(self, name: str | None) -> None:
        for row, preset in enumerate(self.shown):
            if preset.name == name:
                self.table.choose(row)

    @property
    def row(self) -> int:
        return self.table.row

    @property
    def chosen(self) -> Preset | None:
        return self.shown[self.row] if 0 <= self.row < len(self.shown) else None

    def _on_row(self) -> None:
        if not self._filling:
            self.try_row()

    # -- hearing ------------------------------------------------------------------------

    def keys(self) -> Sequence[str]:
        return [preset.name for preset in self.shown]

    def tried(self, session: Session, key: str) -> Session:
        preset = next(preset for preset in self.shown if preset.name == key)
        stages = lanes_in_seconds(preset.stages, session)
        if self.place.currentIndex() > 0:
            return put_stages(session, self._strip_id, stages, self._stage_id,
                              replace=self.place.currentIndex() == 2)
        for strip_id in self._strips:
            session = use_chain(session, strip_id, stages, preset.macros, preset.match_db)
        return session

    def needed(self) -> set[str]:
        return {self._strip_id, *self._strips}

    def step(self, key: str) -> str:
        return f"Preset {key}"

    def describe(self, key: str) -> None:
        chosen = self.chosen
        if chosen is None:
            return
        figures = self.table.rows.figures_of(chosen)
        words = "" if figures is None else (
            f"  <i>added {figures.added_db:.0f} dB, {tone_words(figures.brightness)}</i>")
        self.note.setText(f"<b>{escaped(key)}</b>: {escaped(chosen.note)}{words}")
        self.own_note.setEnabled(True)
        self.own_note.setText(self._settings.notes.get(key, ""))

    def step_to(self, figure: str, *, up: bool) -> None:
        """Hear the nearest of the presets shown that has more, or less, of a figure than what is heard now."""
        now = self._figures_now()
        if now is None:
            self.state.setText("The strip is still being measured")
            return
        side, (ahead, aside) = (1.0 if up else -1.0), _WEIGHTS[figure]
        other = "added_db" if figure == "brightness" else "brightness"
        ahead_of: list[tuple[float, str]] = []
        for preset in self.shown:
            figures = self.table.rows.figures_of(preset)
            if figures is None:
                continue
            step = side * (getattr(figures, figure) - now[figure])
            if step >= _AT_LEAST[figure]:
                cost = ahead * step + aside * abs(getattr(figures, other) - now[other])
                ahead_of.append((cost, preset.name))
        if ahead_of:
            self._choose(min(ahead_of)[1])
        else:
            self.state.setText("None of these is; choose another source or intention")

    def _figures_now(self) -> dict[str, float] | None:
        """Figures of what is heard: of the chosen preset, or as the strip was measured."""
        chosen = self.chosen
        figures = self.table.rows.figures_of(chosen) if chosen is not None else None
        if figures is not None:
            return {"added_db": figures.added_db, "brightness": figures.brightness}
        strip, measurement = self._selection.strip, self._measurer.latest(self._strip_id)
        if not strip.chain:
            return {"added_db": -80.0, "brightness": 0.0}
        if measurement is None:
            return None
        result = character_of(measurement.comparison)
        return {"added_db": result.added_db, "brightness": result.brightness}

    def _keep_note(self) -> None:
        """Keep what was written on the chosen preset."""
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
            self.fill()

    # -- one's own ----------------------------------------------------------------------

    def _open_menu(self, at: QPoint) -> None:
        menu = QMenu(self)
        self._fill_menu(menu)
        viewport = self.table.viewport()
        assert viewport is not None
        menu.popup(viewport.mapToGlobal(at))

    def _fill_menu(self, menu: QMenu) -> None:
        """Offer what can be done with the chosen preset, and with files of presets."""
        menu.clear()
        chosen = self.chosen
        if chosen is not None:
            marked = chosen.name in self._settings.favourites
            menu.addAction("Not a favourite" if marked else "Favourite", self.mark)
            menu.addAction("Export\u2026", functools.partial(self._guarded, self.export))
        if chosen is not None and chosen.path is not None:
            menu.addAction("Rename\u2026", functools.partial(self._guarded, self.rename))
            for title, words, now in (("Source", SOURCES, chosen.source), ("Intention", INTENTIONS, chosen.intention)):
                below = menu.addMenu(title)
                assert below is not None
                for word in words:
                    action = below.addAction(word, functools.partial(self.file_under, **{title.lower(): word}))
                    assert action is not None
                    action.setCheckable(True)
                    action.setChecked(word == now)
            menu.addAction("Describe\u2026", functools.partial(self._guarded, self.describe_own))
            menu.addAction("Delete", functools.partial(self._guarded, self.delete))
        menu.addSeparator()
        menu.addAction("Import\u2026", functools.partial(self._guarded, self.import_file))
        gone = deleted_presets()
        if gone:
            below = menu.addMenu("Restore")
            assert below is not None
            for preset in gone:
                below.addAction(menu_text(preset.name), functools.partial(self.restore, preset))

    def save_own(self) -> None:
        """Keep the strip's present chain as a preset of one's own, filed as is likely."""
        name, strip = self.name.text().strip(), self._sessions.session.strip(self._strip_id)
        if not strip.chain:
            raise ValueError(f"{strip.name} has no stages to save")
        if not name:
            raise ValueError("Type a name for the preset")
        stages = lanes_in_beats(strip.chain, self._sessions.session) if lanes_are_kept(
            self, strip.chain) else without_lanes(strip.chain)
        measurement = self._measurer.latest(strip.id)
        intention = self.intention.currentText()
        if intention == _ANY:
            result = None if measurement is None else character_of(measurement.comparison)
            intention = "glue" if result is None else proposed_intention(result.added_db, result.brightness)
        kept = keep_preset(Preset(name, self._measurer.probable_source(strip) or "effect", intention, "", stages,
                                  strip.macros, strip.match_db))
        self.name.clear()
        self._changed_own()
        self.state.setText(f"{kept.name} is saved under {kept.source}, {kept.intention}")

    def rename(self) -> None:
        preset = self.chosen
        if preset is None:
            return
        name, accepted = QInputDialog.getText(self, "Rename", "Name", text=preset.name)
        if accepted and name.strip():
            renamed = change_preset(preset, replace(preset, name=name.strip()))
            self._settings.rename_preset(preset.name, renamed.name)
            if preset.name in self._offsets:
                self._offsets[renamed.name] = self._offsets[preset.name]
            self._changed_own(renamed.name)

    def describe_own(self) -> None:
        """Let the sentence of a preset of one's own be written."""
        preset = self.chosen
        if preset is not None:
            note, accepted = QInputDialog.getText(self, "Describe", "What it does, in a sentence", text=preset.note)
            if accepted:
                change_preset(preset, replace(preset, note=note.strip()))
                self._changed_own(preset.name)

    def file_under(self, **words: str) -> None:
        """File the chosen preset of one's own under another source or intention."""
        preset = self.chosen
        if preset is not None:
            self._guarded(lambda: self._file(preset, words))

    def _file(self, preset: Preset, words: dict[str, str]) -> None:
        change_preset(preset, replace(preset, **words))  # type: ignore[arg-type]
        self._changed_own(preset.name)

    def delete(self) -> None:
        """Put the chosen preset of one's own away; it can be restored."""
        preset = self.chosen
        if preset is not None:
            delete_preset(preset)
            self._changed_own()
            self.state.setText(f"{preset.name} is deleted; Manage, Restore brings it back")

    def restore(self, preset: Preset) -> None:
        """Bring a deleted preset back."""
        self._guarded(lambda: self._changed_own(restore_preset(preset).name))

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
