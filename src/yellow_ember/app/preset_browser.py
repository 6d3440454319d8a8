"""Presets to hear: arrow keys go through them while the loop plays, each as loud as what was there.

Enter keeps the one that is heard, Escape goes back to where one was.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QCloseEvent, QKeyEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app import theme
from yellow_ember.app.workspace import Workspace
from yellow_ember.engine.jobs import Job, JobError
from yellow_ember.engine.measuring import StripMeasurement, measure_strip
from yellow_ember.session.edits import edit_strip, use_chain
from yellow_ember.session.model import Session, Strip
from yellow_ember.session.presets import (
    INTENTIONS,
    SOURCES,
    Preset,
    all_presets,
    delete_preset,
    import_preset,
    keep_preset,
    own_presets,
    rename_preset,
    write_preset,
)
from yellow_ember.session.reading import SessionFileError

_ANY = "all"


class PresetBrowser(QWidget):
    """Tries presets on one strip.  The document holds the tried one as a change that is no step yet."""

    def __init__(self, workspace: Workspace, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._workspace = workspace
        self._strip_id = workspace.strip_id
        self._before: Strip = workspace.strip
        self._offsets: dict[str, float] = {}
        self._job: tuple[str, Job[StripMeasurement]] | None = None
        self._shown: list[Preset] = []
        self.heard: str | None = None
        self.setWindowTitle(f"Presets for {workspace.strip.name}")
        self.resize(560, 520)
        self.source, self.intention = QComboBox(), QComboBox()
        for box, name, words in ((self.source, "Source", SOURCES), (self.intention, "Intention", INTENTIONS)):
            box.setAccessibleName(name)
            box.addItems([_ANY, *words])
            box.currentTextChanged.connect(lambda _text: self._fill())
        self.list = QListWidget()
        self.list.setAccessibleName("Presets")
        self.list.currentRowChanged.connect(self._try_row)
        self.list.itemActivated.connect(lambda _item: self.keep())
        self.note = QLabel()
        self.note.setWordWrap(True)
        self.state = QLabel("Arrow keys: hear    Enter: keep    Escape: back to what was there")
        self.state.setStyleSheet(f"color: {theme.DIM.name()}")
        self._lay_out()
        workspace.closing.connect(self.close)
        self._connection = workspace.frame.connect(lambda _state: self._poll())
        self._fill()
        self.list.setFocus()

    def _lay_out(self) -> None:
        filters = QHBoxLayout()
        for text, box in (("Source", self.source), ("Intention", self.intention)):
            label = QLabel(text)
            label.setBuddy(box)
            filters.addWidget(label)
            filters.addWidget(box, 1)
        own = QHBoxLayout()
        self.buttons: dict[str, QPushButton] = {}
        for text, slot, hint in (
                ("Save own\u2026", self.save_own, "The strip's chain as it was when this window opened, or as tried"),
                ("Rename\u2026", self.rename, "Your own presets only"),
                ("Delete", self.delete, "Your own presets only"),
                ("Import\u2026", self.import_file, "Take in a preset file"),
                ("Export\u2026", self.export, "Write the chosen preset to a file")):
            button = QPushButton(text)
            button.setToolTip(hint)
            button.clicked.connect(lambda _checked, chosen=slot: self._guarded(chosen))
            own.addWidget(button)
            self.buttons[text.rstrip("\u2026")] = button
        closing = QHBoxLayout()
        for text, slot in (("Keep", self.keep), ("Back to what was there", self.go_back)):
            button = QPushButton(text)
            button.clicked.connect(lambda _checked, chosen=slot: chosen())
            closing.addWidget(button)
            self.buttons[text] = button
        layout = QVBoxLayout(self)
        layout.addLayout(filters)
        layout.addWidget(self.list, 1)
        layout.addWidget(self.note)
        layout.addWidget(self.state)
        layout.addLayout(own)
        layout.addLayout(closing)

    def _guarded(self, work: Callable[[], None]) -> None:
        try:
            work()
        except (SessionFileError, ValueError) as error:
            self._workspace.messages.warn(str(error))
            self.state.setText(str(error))

    # -- list ---------------------------------------------------------------------------

    def _fill(self, choose: str | None = None) -> None:
        for trouble in own_presets()[1]:
            self._workspace.messages.warn(trouble)
        source, intention = self.source.currentText(), self.intention.currentText()
        self._shown = [preset for preset in all_presets()
                       if source in (_ANY, preset.source) and intention in (_ANY, preset.intention)]
        self.list.blockSignals(True)
        self.list.clear()
        for preset in self._shown:
            mine = "  (yours)" if preset.path is not None else ""
            item = QListWidgetItem(f"{preset.name}{mine}    {preset.source}, {preset.intention}")
            item.setToolTip(preset.note)
            self.list.addItem(item)
        self.list.setCurrentRow(-1)
        self.list.blockSignals(False)
        for row, preset in enumerate(self._shown):
            if preset.name == choose:
                self.list.setCurrentRow(row)

    @property
    def chosen(self) -> Preset | None:
        row = self.list.currentRow()
        return self._shown[row] if 0 <= row < len(self._shown) else None

    # -- hearing ------------------------------------------------------------------------

    def _with(self, preset: Preset, match_db: float = 0.0) -> Session:
        """The session with the preset on the strip."""
        session = use_chain(self._workspace.session, self._strip_id, preset.stages)
        return edit_strip(session, self._strip_id, lambda strip: strip.with_(match_db=match_db))

    def _try_row(self, _row: int) -> None:
        preset = self.chosen
        if preset is None:
            return
        self.note.setText(f"<b>{preset.name}</b>: {preset.note}")
        if preset.name in self._offsets:
            self._hear(preset)
        else:
            # It is heard once it is known how loud it is, never before.
            self.state.setText("measuring\u2026")
            self._measure(preset)

    def _measure(self, preset: Preset) -> None:
        self._cancel()
        self._job = (preset.name, Job(measure_strip, self._with(preset), self._strip_id))

    def _hear(self, preset: Preset) -> None:
        offset = self._offsets[preset.name]
        self._workspace.document.change(self._with(preset, offset))
        self.heard = preset.name
        self.state.setText(f"heard, matched by {offset:+.2f} dB    Enter: keep    Escape: back")

    def _poll(self) -> None:
        """With the clock: take measurements in, and use the time for the presets beside the chosen one."""
        if self._job is not None:
            name, job = self._job
            if not job.poll():
                return
            self._job = None
            try:
                self._offsets[name] = job.result().offset_db
            except JobError as error:
                self._offsets[name] = 0.0
                self.state.setText(str(error))
            chosen = self.chosen
            if chosen is not None and chosen.name == name:
                self._hear(chosen)
            return
        row = self.list.currentRow()
        if row < 0:
            return
        for beside in (row + 1, row - 1):
            if 0 <= beside < len(self._shown) and self._shown[beside].name not in self._offsets:
                self._measure(self._shown[beside])
                return

    def _cancel(self) -> None:
        if self._job is not None:
            self._job[1].cancel()
            self._job = None

    def keep(self) -> None:
        """Make the preset that is heard a step of the history, and close."""
        if self.heard is not None:
            self._workspace.document.commit(f"Preset {self.heard}")
            self._workspace.messages.say(f"Preset {self.heard} is on {self._before.name}")
            self.heard = None
        self.close()

    def go_back(self) -> None:
        """Leave the strip as it was, and close."""
        if self.heard is not None:
            self._workspace.document.revert()
            self.heard = None
        self.close()

    # -- one's own ----------------------------------------------------------------------

    def save_own(self) -> None:
        """Keep the strip's present chain as a preset of one's own."""
        strip = self._workspace.session.strip(self._strip_id)
        if not strip.chain:
            raise ValueError(f"{strip.name} has no stages to save")
        name, accepted = QInputDialog.getText(self, "Save a preset", "Name")
        if not accepted or not name.strip():
            return
        note, accepted = QInputDialog.getText(self, "Save a preset", "What it does, in a sentence")
        if not accepted:
            return
        source, intention = self.source.currentText(), self.intention.currentText()
        kept = keep_preset(Preset(name.strip(), source if source != _ANY else "effect",
                                  intention if intention != _ANY else "glue", note.strip(), strip.chain))
        self._fill()
        self.state.setText(f"{kept.name} is saved")

    def rename(self) -> None:
        preset = self.chosen
        if preset is None:
            return
        name, accepted = QInputDialog.getText(self, "Rename", "Name", text=preset.name)
        if accepted and name.strip():
            renamed = rename_preset(preset, name.strip())
            if preset.name in self._offsets:
                self._offsets[renamed.name] = self._offsets[preset.name]
            self._fill(renamed.name)

    def delete(self) -> None:
        if self.chosen is not None:
            delete_preset(self.chosen)
            self._fill()

    def import_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import a preset", "", "Presets (*.json)")
        if name:
            self._fill(import_preset(Path(name)).name)

    def export(self) -> None:
        preset = self.chosen
        if preset is None:
            return
        name, _ = QFileDialog.getSaveFileName(self, "Export a preset", f"{preset.name}.json", "Presets (*.json)")
        if name:
            write_preset(preset, Path(name))

    # -- window -------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_Escape:
                self.go_back()
            case Qt.Key.Key_Space:
                self._workspace.toggle_play()
            case _:
                super().keyPressEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        self._cancel()
        self._workspace.frame.disconnect(self._connection)
        if self.heard is not None:
            self._workspace.document.revert()
        event.accept()
