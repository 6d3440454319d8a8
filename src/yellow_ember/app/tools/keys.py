"""Every key on one table: those of the menus can be changed, exported and imported."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QKeySequenceEdit,
    QLineEdit,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.state.commands import Commands
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.saving import ask_where_to_save
from yellow_ember.app.widgets.tables import plain_table
from yellow_ember.app.widgets.text import TextLabel

Keys = Sequence[tuple[str, str]]
"""Keys and gestures with what they do."""


class KeysTool(Tool):
    """Commands with their keys, then what panels and controls answer to.

    sections : titles and keys of what is no command
    """

    title = "Keys"
    first_size = QSize(560, 560)
    of_the_session = False
    shows_pictures = False

    def __init__(self, sessions: SessionKeeper, playback: Playback, commands: Commands,
                 sections: Sequence[tuple[str, Keys]]) -> None:
        super().__init__(sessions, playback)
        self.setWindowTitle("Keys")
        self._commands, self._sections = commands, sections
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search in what keys do")
        self.search.setAccessibleName("Search")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _text: self.fill())
        self.table = plain_table("Keys", ("Keys", "What they do", "Where"), (190, 0, 100))
        self.table.currentCellChanged.connect(lambda *_: self._show_chosen())
        self.edit = QKeySequenceEdit()
        self.edit.setAccessibleName("Keys of the chosen command")
        self.edit.setMaximumSequenceLength(1)
        self.edit.setClearButtonEnabled(True)
        self.edit.editingFinished.connect(self.assign)
        self.state = TextLabel()
        self.state.setObjectName("dim")
        self.state.setWordWrap(True)
        row = QHBoxLayout()
        row.addWidget(TextLabel("Press new keys"))
        row.addWidget(self.edit, 1)
        row.addLayout(self.button_row((
            ("Reset", self.reset, "The chosen command's own keys again"),
            ("Reset all", self.reset_all, "Every command's own keys again"),
            ("Export\u2026", self.export, "Write the keys to a file"),
            ("Import\u2026", self.import_file, "Take keys from a file"))))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 4, 8, 6)
        layout.addWidget(self.search)
        layout.addWidget(self.table, 1)
        layout.addLayout(row)
        layout.addWidget(self.state)
        self.fill()

    def first_focus(self) -> QWidget:
        return self.search

    def fill(self) -> None:
        """Show what the search lets through; the chosen command stays so."""
        words, chosen = self.search.text().lower().split(), self.chosen
        rows = [(command.keys, command.name, command.menu) for command in self._commands.all]
        rows += [(keys, meaning, title) for title, entries in self._sections for keys, meaning in entries]
        rows = [row for row in rows if all(word in " ".join(row).lower() for word in words)]
        own = {command.name for command in self._commands.all}
        self.table.blockSignals(True)
        self.table.setRowCount(len(rows))
        for number, row in enumerate(rows):
            for column, text in enumerate(row):
                item = QTableWidgetItem(text)
                item.setForeground(theme.AFTER if column == 0 else theme.TEXT if column == 1 else theme.DIM)
                if row[1] not in own:
                    item.setToolTip("These keys belong to the place and stay as they are")
                self.table.setItem(number, column, item)
            if row[1] == chosen:
                self.table.setCurrentCell(number, 1)
        self.table.blockSignals(False)
        self._show_chosen()

    @property
    def chosen(self) -> str:
        """Name of the chosen command, "" where none is, or its keys stay."""
        item = self.table.item(self.table.currentRow(), 1)
        name = "" if item is None else item.text()
        return name if any(command.name == name for command in self._commands.all) else ""

    def choose(self, name: str) -> None:
        """Choose the row of a command."""
        for row in range(self.table.rowCount()):
            item = self.table.item(row, 1)
            if item is not None and item.text() == name:
                self.table.setCurrentCell(row, 1)

    def _show_chosen(self) -> None:
        name = self.chosen
        self.edit.setEnabled(bool(name))
        self.edit.blockSignals(True)
        self.edit.setKeySequence(QKeySequence(self._commands.find(name).keys if name else ""))
        self.edit.blockSignals(False)

    def assign(self) -> None:
        """Give the chosen command the keys that were pressed."""
        if self.chosen:
            name, keys = self.chosen, self.edit.keySequence().toString()
            if keys != self._commands.find(name).keys:
                losing = self._commands.change(name, keys)
                self.state.setText(f"{name}: {keys or 'no keys'}" + (
                    f". {' and '.join(losing)} had these keys and has none now" if losing else ""))
                self.fill()

    def reset(self) -> None:
        if self.chosen:
            self._commands.change(self.chosen, self._commands.find(self.chosen).default)
            self.fill()

    def reset_all(self) -> None:
        self._commands.to_defaults()
        self.fill()

    def export(self) -> None:
        path = ask_where_to_save(self, "Export keys", Path("keys.json"), "Keys (*.json)", ".json")
        if path is not None:
            try:
                self._commands.export(path)
                self.state.setText(f"Written to {path}")
            except OSError as error:
                self.state.setText(f"{path} can't be written: {error.strerror}")

    def import_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import keys", "", "Keys (*.json)")
        if name:
            try:
                self._commands.take_in(Path(name))
            except ValueError as error:
                self.state.setText(str(error))
            self.fill()
