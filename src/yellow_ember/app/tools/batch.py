"""Many files through one chain, in a window: what, how, where to, and what became of each."""

from __future__ import annotations

import queue
import threading
from pathlib import Path

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QListWidget,
    QProgressBar,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.dialogs import AUDIO_FILTER
from yellow_ember.app.tools.tool import Tool, dropped_files
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.saving import ask_where_to_save
from yellow_ember.app.widgets.text import TextLabel, as_text
from yellow_ember.choices import FACTORS
from yellow_ember.engine.cores import cores
from yellow_ember.engine.jobs.batch import counted, report_text, run_batch
from yellow_ember.engine.jobs.batch_order import FAILED, BatchEntry, BatchOrder
from yellow_ember.engine.jobs.file_processing import FileOrder
from yellow_ember.files.atomic import cannot_write, write_text
from yellow_ember.files.reading import AudioFileError
from yellow_ember.files.writing import KINDS
from yellow_ember.session.io.presets import all_presets, find_preset
from yellow_ember.session.values.drawn import without_lanes

_AS_IT_COMES, _MATCH, _PEAK = "as it comes", "as loud as the source", "highest peak at"


class _Run:
    """A batch that runs in a thread of its own; its files in worker processes."""

    def __init__(self, inputs: list[Path], order: BatchOrder) -> None:
        self.news: queue.SimpleQueue[BatchEntry | str | None] = queue.SimpleQueue()
        """Entries as they are done, a sentence where nothing can be begun, and None at the end."""
        self.share = 0.0
        self.stopped = False
        self._inputs, self._order = inputs, order
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def _progress(self, share: float) -> None:
        self.share = share

    def _work(self) -> None:
        try:
            for entry in run_batch(self._inputs, self._order, self._progress, lambda: self.stopped):
                self.news.put(entry)
        except (AudioFileError, ValueError, OSError) as error:
            self.news.put(str(error))
        self.news.put(None)

    def stop(self) -> None:
        """End within a moment; of files that are being worked on nothing is left."""
        self.stopped = True


class BatchTool(Tool):
    """Files at the left, how and where to at the right, results below."""

    title = "Batch"
    first_size = QSize(860, 620)
    shows_pictures = False

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback) -> None:
        super().__init__(sessions, playback)
        self._selection = selection
        self.setWindowTitle("Batch")
        self.setAcceptDrops(True)
        self._stages = self._selection.strip.chain
        self._run: _Run | None = None
        self.entries: list[BatchEntry] = []
        self.inputs = QListWidget()
        self.inputs.setAccessibleName("Files and folders")
        self.inputs.setSelectionMode(QListWidget.SelectionMode.ExtendedSelection)
        self._make_controls()
        self.results = QTableWidget(0, 3)
        self.results.setAccessibleName("Results")
        self.results.setHorizontalHeaderLabels(["File", "State", "Message"])
        header = self.results.horizontalHeader()
        assert header is not None
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Interactive)
        header.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        header.resizeSection(0, 320)
        self.results.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.progress = QProgressBar()
        self.progress.setAccessibleName("Progress")
        self.state = TextLabel("Drop files and folders here. Files that are there are never overwritten.")
        self.state.setStyleSheet(f"color: {theme.DIM.name()}")
        self.state.setWordWrap(True)
        self._lay_out()
        self._show_running()
        self._playback.frame.connect(self._poll)

    @property
    def stays(self) -> bool:
        return self._run is not None

    def _make_controls(self) -> None:
        self.chain, self.level, self.kind, self.factor = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        if self._stages:
            self.chain.addItem(f"The path of {self._selection.strip.name}")
        self.chain.addItems([preset.name for preset in all_presets()])
        self.level.addItems([_AS_IT_COMES, _MATCH, _PEAK])
        self.peak = QDoubleSpinBox()
        self.peak.setRange(-60.0, 0.0)
        self.peak.setDecimals(1)
        self.peak.setSuffix(" dBFS")
        self.peak.setValue(-1.0)
        self.peak.setEnabled(False)
        self.level.currentTextChanged.connect(lambda text: self.peak.setEnabled(text == _PEAK))
        self.kind.addItems([text for text, _, _ in KINDS])
        self.factor.addItems([f"{factor}x" for factor in FACTORS])
        self.factor.setCurrentText("8x")
        self.names, self.folder = QLineEdit("{name}"), QLineEdit(str(self._sessions.own_folder / "batch"))
        self.names.setToolTip("{name}, {folder}, {preset} and {number} stand for what they say")
        self.resume = QCheckBox("Skip files that exist")
        for box, name in ((self.chain, "Through"), (self.level, "Level"), (self.peak, "Peak"), (self.kind, "As"),
                          (self.factor, "Oversampling"), (self.names, "Names"), (self.folder, "Into folder")):
            box.setAccessibleName(name)

    def _lay_out(self) -> None:
        left = QVBoxLayout()
        left.addWidget(self.inputs, 1)
        left.addLayout(self.button_row((
            ("Add files\u2026", self.add_files, "Sound files to go through"),
            ("Add a folder\u2026", self.add_folder, "All sound files in it and below"),
            ("Remove", self.take_out, "Remove the selected entries from the list"))))
        level = QHBoxLayout()
        level.addWidget(self.level, 2)
        level.addWidget(self.peak, 1)
        folder = QHBoxLayout()
        folder.addWidget(self.folder, 1)
        folder.addLayout(self.button_row((("Choose\u2026", self.choose_folder, "Where the results go"),)))
        form = QFormLayout()
        for text, part in (("Through", self.chain), ("Level", level), ("As", self.kind), ("Oversampling", self.factor),
                           ("Names", self.names), ("Into folder", folder), ("", self.resume)):
            form.addRow(text, part)
        top = QHBoxLayout()
        top.addLayout(left, 1)
        top.addLayout(form, 1)
        layout = QVBoxLayout(self)
        layout.addLayout(top, 2)
        layout.addWidget(self.results, 3)
        layout.addWidget(self.progress)
        layout.addWidget(self.state)
        layout.addLayout(self.button_row((
            ("Start", self.start, "Process the files in the list"),
            ("Stop", self.stop, "End; another start goes on from there"),
            ("Report\u2026", self.save_report, "What became of each file, as JSON"))))

    # -- what goes in -------------------------------------------------------------------

    def add(self, paths: list[Path]) -> None:
        """More files and folders."""
        held = {self.inputs.item(row).text() for row in range(self.inputs.count())}  # type: ignore[union-attr]
        self.inputs.addItems([str(path) for path in paths if str(path) not in held])

    def add_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Add files", "", f"{AUDIO_FILTER};;All files (*)")
        self.add([Path(name) for name in names])

    def add_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Add a folder")
        if folder:
            self.add([Path(folder)])

    def take_out(self) -> None:
        """The selected entries out of the list."""
        for item in self.inputs.selectedItems():
            self.inputs.takeItem(self.inputs.row(item))

    def choose_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Into folder", self.folder.text())
        if folder:
            self.folder.setText(folder)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if dropped_files(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.add(dropped_files(event.mimeData()))
        event.acceptProposedAction()

    # -- running ------------------------------------------------------------------------

    def order(self) -> BatchOrder:
        """The order as the window stands."""
        own = bool(self._stages) and self.chain.currentIndex() == 0
        stages = self._stages if own else without_lanes(find_preset(self.chain.currentText()).stages)
        _, file_format, dtype = KINDS[self.kind.currentIndex()]
        level = self.level.currentText()
        file = FileOrder(FACTORS[self.factor.currentIndex()], dtype=dtype, match=level == _MATCH,
                         peak_dbfs=self.peak.value() if level == _PEAK else None)
        name = self._selection.strip.name if own else self.chain.currentText()
        return BatchOrder(Path(self.folder.text()), stages, name, self.names.text(), f".{file_format}", file,
                          self.resume.isChecked(), cores())

    def start(self) -> None:
        """Begin, with what is in the list."""
        inputs = [Path(item.text()) for row in range(self.inputs.count())
                  if (item := self.inputs.item(row)) is not None]
        if not inputs:
            self.state.setText("There is nothing in the list: drop files or folders on it")
            return
        self.entries = []
        self.results.setRowCount(0)
        self.state.setText("")
        self._run = _Run(inputs, self.order())
        self._show_running()

    def stop(self) -> None:
        """End; another start goes on where this one was."""
        if self._run is not None:
            self._run.stop()

    def _poll(self) -> None:
        """With the clock: show what has become of files."""
        run = self._run
        if run is None:
            return
        self.progress.setValue(round(100 * run.share))
        while not run.news.empty():
            news = run.news.get()
            if isinstance(news, BatchEntry):
                self._add_result(news)
            elif isinstance(news, str):
                self.state.setText(news)
            else:
                self._finish(run)

    def _finish(self, run: _Run) -> None:
        self._run = None
        if self.entries:
            stopped = run.stopped and run.share < 1.0
            more = "; stopped, another start goes on from here" if stopped else ""
            self.state.setText(counted(self.entries) + more)
            self.resume.setChecked(stopped or self.resume.isChecked())
            self.progress.setValue(100 if not stopped else self.progress.value())
        self._show_running()

    def _add_result(self, entry: BatchEntry) -> None:
        self.entries.append(entry)
        row = self.results.rowCount()
        self.results.insertRow(row)
        notes = [entry.note] if entry.note else []
        if entry.match_db:
            notes.append(f"level {entry.match_db:+.2f} dB")
        if entry.clipped:
            notes.append(f"{entry.clipped} samples clipped")
        for column, text in enumerate((entry.source.name, entry.state, "; ".join(notes))):
            item = QTableWidgetItem(text)
            item.setToolTip(as_text(str(entry.source if column == 0 else entry.target if column == 1 else text)))
            if entry.state == FAILED:
                item.setForeground(theme.AFTER)
            self.results.setItem(row, column, item)
        self.results.scrollToBottom()

    def _show_running(self) -> None:
        running = self._run is not None
        self.buttons["Start"].setEnabled(not running)
        self.buttons["Stop"].setEnabled(running)
        self.buttons["Report"].setEnabled(not running and bool(self.entries))

    def save_report(self) -> None:
        """What became of each file, as JSON."""
        path = ask_where_to_save(self, "Report", Path(self.folder.text()) / "report.json", "JSON (*.json)", ".json")
        if path is not None:
            try:
                write_text(path, report_text(self.entries))
                self.state.setText(f"The report is in {path}")
            except OSError as error:
                self.state.setText(cannot_write(path, error))

    def go_back(self) -> None:
        """Escape stops what runs, and closes where nothing does."""
        if self._run is not None:
            self.stop()
        else:
            self.close()

    def let_go(self) -> None:
        if self._run is not None:
            self._run.stop()
            self._run = None
