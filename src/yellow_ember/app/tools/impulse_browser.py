"""The user's impulse responses, a folder at a time, heard in the loop."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QListWidget, QPushButton, QVBoxLayout, QWidget

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.tools.audition import Audition
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.files.impulses import read_impulse
from yellow_ember.files.kinds import is_file
from yellow_ember.files.reading import READABLE, AudioFileError
from yellow_ember.session.edits.edits import use_impulse
from yellow_ember.session.values.model import Session


class ImpulseBrowser(Audition):
    """Tries the files of a folder in one stage.  Folders are entered with Enter, left with Left."""

    title = "Impulse responses"
    first_size = QSize(560, 480)
    of_the_stage = True

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, jobs: JobKeeper, stage_id: str) -> None:
        super().__init__(sessions, selection, playback, messages, jobs)
        self.list = QListWidget()
        self.list.setAccessibleName("Impulse responses")
        self.list.currentRowChanged.connect(lambda _row: self.try_row())
        self.list.itemActivated.connect(lambda _item: self.activate())
        self._settings = settings
        self._stage_id = stage_id
        self._places: list[Path] = []
        self.setWindowTitle(f"Impulse responses for {self._selection.strip.name}")
        self.where = TextLabel()
        self.where.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.up = QPushButton("Up")
        self.up.setToolTip("The folder above (Left)")
        self.up.clicked.connect(lambda: self.enter(self._folder.parent))
        other = QPushButton("Other folder\u2026")
        other.clicked.connect(self._ask_folder)
        none = QPushButton("No file")
        none.setToolTip("Use the speaker's model again")
        none.clicked.connect(self.use_none)
        self.closing_row.insertWidget(1, none)
        top = QHBoxLayout()
        top.addWidget(self.where, 1)
        top.addWidget(self.up)
        top.addWidget(other)
        self.about = TextLabel()
        layout = QVBoxLayout(self)
        layout.addLayout(top)
        layout.addWidget(self.list, 1)
        layout.addWidget(self.about)
        layout.addWidget(self.state)
        layout.addLayout(self.closing_row)
        stage = self._selection.strip.stage(stage_id)
        now = stage.declaration.impulse(stage.params)
        self.enter(Path(now).parent if now else Path(self._settings.impulses or self._sessions.own_folder),
                   Path(now) if now else None)

    def first_focus(self) -> QWidget:
        return self.list

    @property
    def row(self) -> int:
        return self.list.currentRow()

    def enter(self, folder: Path, choose: Path | None = None) -> None:
        """List a folder: its folders, then its sound files."""
        try:
            inside = sorted(folder.iterdir(), key=lambda path: path.name.lower())
        except OSError as error:
            self.state.setText(f"{folder} can't be looked into: {error.strerror}")
            inside = []
        self._folder = folder
        self._settings.impulses = str(folder)
        self._places = [path for path in inside if os.path.isdir(path) and not path.name.startswith(".")]
        self._places += [path for path in inside if path.suffix.lower() in READABLE and is_file(path)]
        self.list.blockSignals(True)
        self.list.clear()
        self.list.addItems([f"{path.name}/" if os.path.isdir(path) else path.name for path in self._places])
        self.list.setCurrentRow(self._places.index(choose) if choose in self._places else -1)
        self.list.blockSignals(False)
        self.where.setText(str(folder))
        self.about.setText("" if self._places else "No sound files here")

    def _ask_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Impulse responses in", str(self._folder))
        if name:
            self.enter(Path(name))

    def keys(self) -> Sequence[str]:
        return ["" if os.path.isdir(path) else str(path) for path in self._places]

    def tried(self, session: Session, key: str) -> Session:
        try:
            read_impulse(Path(key), session.rate)
        except AudioFileError as reason:
            raise ValueError(str(reason)) from None
        return use_impulse(session, self._strip_id, self._stage_id, Path(key))

    def needed(self) -> set[str]:
        return {self._strip_id, self._stage_id}

    def step(self, key: str) -> str:
        return f"Impulse response {Path(key).name}"

    def describe(self, key: str) -> None:
        try:
            result = read_impulse(Path(key), self._sessions.session.rate)
        except AudioFileError:
            self.about.setText(Path(key).name)
            return
        sides = "stereo" if result.shape[0] == 2 else "mono"
        self.about.setText(f"{Path(key).name}: {sides}, {result.shape[1] / self._sessions.session.rate:.2f} s")

    def activate(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._places) and os.path.isdir(self._places[row]):
            self.enter(self._places[row])
        else:
            self.keep()

    def use_none(self) -> None:
        """Back to the model, as a step."""
        self.drop()
        self._sessions.document.commit("No impulse response", lambda session: use_impulse(
            session, self._strip_id, self._stage_id, None))
        self.close()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Left:
            self.enter(self._folder.parent, self._folder)
        else:
            super().keyPressEvent(event)
