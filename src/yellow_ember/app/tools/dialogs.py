"""Settings, printing, the shortcut sheet and the list of messages."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QMessageBox,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.rendering import Rendering
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import BLOCK_SIZES, Settings
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Group, Number, as_number
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.cores import cores, threads_to_play_with
from yellow_ember.engine.jobs.printing import PrintOrder, stems
from yellow_ember.engine.live.devices import OWN_OUTPUT, SILENT_CARD
from yellow_ember.files.reading import READABLE
from yellow_ember.files.writing import KINDS
from yellow_ember.session.values.model import MASTER

REFERENCE = Number(id="reference_dbfs", label="0 VU", unit="dBFS", minimum=-30.0, maximum=0.0, default=-18.0,
                   group=Group.DRIVE, help="The peak level of a sine at 0 VU: lower drives every stage harder.")
CEILING = Number(id="ceiling_dbfs", label="Ceiling", unit="dBFS", minimum=-20.0, maximum=0.0, default=-0.3,
                 group=Group.OUTPUT, help="Peaks at the output never pass this level.")


_A_FILE = "a file"
_LOOKS = {"desktop": "Follow the desktop", "dark": "Dark", "light": "Light"}

AUDIO_FILTER = "Audio (" + " ".join(f"*{suffix}" for suffix in READABLE) + ")"
"""What a file dialog offers of audio."""


class FormDialog(QDialog):
    """Rows of settings, a note below them, and a button that does what they say."""

    def lay_out(self, form: QFormLayout, words: str, do: str = "OK") -> None:
        """Put the rows, the note and the buttons into the dialog."""
        note = TextLabel(words)
        note.setWordWrap(True)
        note.setStyleSheet(f"color: {theme.DIM.name()}")
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        buttons.addButton(do, QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout = QVBoxLayout(self)
        layout.addLayout(form)
        layout.addWidget(note)
        layout.addWidget(buttons)


class SettingsDialog(FormDialog):
    """Program settings and the session's levels."""

    def __init__(self, sessions: SessionKeeper, playback: Playback, settings: Settings, parent: QWidget) -> None:
        super().__init__(parent)
        self._sessions, self._playback, self._settings = sessions, playback, settings
        self.setWindowTitle("Settings")
        self.setMinimumWidth(420)
        settings = self._settings
        self.device = QComboBox()
        known = self._playback.engine.devices if self._playback.engine is not None else ()
        self.device.addItems(known or (SILENT_CARD,))
        self.device.setCurrentText(settings.device)
        self.block = QComboBox()
        self.block.addItems([str(size) for size in BLOCK_SIZES])
        self.block.setCurrentText(str(settings.block))
        self.feed = QComboBox()
        self.feed.setToolTip("What comes into the silent card, to try live inputs without a card or a server")
        for words, feed in (("Nothing", ""), ("Its own output", OWN_OUTPUT), ("A file, over and over\u2026", _A_FILE)):
            self.feed.addItem(words, feed)
        if settings.feed not in ("", OWN_OUTPUT):
            self.feed.insertItem(2, Path(settings.feed).name, settings.feed)
        self.feed.setCurrentIndex(self.feed.findData(settings.feed))
        self.feed.activated.connect(self._choose_feed)
        self.synced = QCheckBox("Start, stop and go with it")
        self.synced.setToolTip("Playing here moves JACK's transport, and that moves playing here")
        self.synced.setChecked(settings.synced)
        self.low_delay = QCheckBox("Heard sooner, by shorter filters")
        self.low_delay.setToolTip("What comes in live is not exact in phase then; a tape is 1.5 ms late instead of 21")
        self.low_delay.setChecked(sessions.session.quality.low_delay)
        self.threads = QComboBox()
        self.threads.addItem(f"Automatic ({threads_to_play_with()})", 0)
        for count in range(1, max(cores(), settings.threads, 2) + 1):
            self.threads.addItem(str(count), count)
        self.threads.setCurrentIndex(self.threads.findData(settings.threads))
        self.threads.setToolTip("How many strips are worked on at the same time")
        self.now = TextLabel(self._words_of_now())
        self.now.setWordWrap(True)
        self.scale = QComboBox()
        self.scale.addItems(["100", "125", "150", "200"])
        self.scale.setCurrentText(str(settings.scale))
        self.animation = QCheckBox("Animate pictures")
        self.animation.setChecked(settings.animation)
        self.background = QCheckBox("Freeze strips that are not being edited")
        self.background.setToolTip("They play from files at print quality, at a small part of the cost")
        self.background.setChecked(settings.background_printing)
        self.room = QDoubleSpinBox()
        self.room.setRange(0.5, 1000.0)
        self.room.setDecimals(1)
        self.room.setSuffix(" GB")
        self.room.setValue(settings.prints_gb)
        self.look = QComboBox()
        self.look.addItems(list(_LOOKS.values()))
        self.look.setCurrentText(_LOOKS[settings.look])
        self.reference, self.ceiling = ValueBar(REFERENCE), ValueBar(CEILING)
        session = self._sessions.session
        self.reference.show_value(session.reference_dbfs)
        self.ceiling.show_value(session.ceiling_dbfs)
        form = QFormLayout()
        form.addRow("Output", self.device)
        form.addRow("Now", self.now)
        form.addRow("Block, frames", self.block)
        form.addRow("The silent card hears", self.feed)
        form.addRow("With JACK's transport", self.synced)
        form.addRow("Live inputs", self.low_delay)
        form.addRow("Threads", self.threads)
        form.addRow("Level reference", self.reference)
        form.addRow("Output ceiling", self.ceiling)
        form.addRow("Animation", self.animation)
        form.addRow("Background", self.background)
        form.addRow("Space for frozen strips", self.room)
        form.addRow("Theme (next start)", self.look)
        form.addRow("Scale, % (next start)", self.scale)
        self.lay_out(form, "Live inputs, level reference and ceiling belong to the session, the rest to the program. "
                           "The quality of listening and printing is set in the top line.")

    def _words_of_now(self) -> str:
        """What the engine plays with at present."""
        engine, state = self._playback.engine, self._playback.state
        if engine is None:
            return "the engine is starting"
        rate = self._sessions.session.rate
        return (f"{engine.device}, {rate / 1000:g} kHz, blocks of {engine.block} frames, heard after "
                f"{state.heard_after_ms(0, rate):.1f} ms, dropouts: {state.missed}")

    def _choose_feed(self, index: int) -> None:
        """Ask for the file that the silent card is to hear."""
        if self.feed.itemData(index) != _A_FILE:
            return
        path, _ = QFileDialog.getOpenFileName(self, "What the silent card hears", "",
                                              "Audio (*.wav *.flac *.aiff *.ogg)")
        if path:
            self.feed.insertItem(2, Path(path).name, path)
        self.feed.setCurrentIndex(2 if path else 0)

    def accept(self) -> None:
        settings = self._settings
        settings.animation = self.animation.isChecked()
        settings.scale = int(self.scale.currentText())
        settings.background_printing = self.background.isChecked()
        settings.prints_gb = self.room.value()
        settings.look = next(look for look, text in _LOOKS.items() if text == self.look.currentText())
        playing = (self.device.currentText(), int(self.block.currentText()), int(self.threads.currentData()),
                   str(self.feed.currentData()))
        if playing != (settings.device, settings.block, settings.threads, settings.feed):
            self._playback.change_device(*playing)
        self._playback.go_with_server(on=self.synced.isChecked())
        self._sessions.document.commit("Levels", lambda session: session.with_(
            reference_dbfs=as_number(self.reference.setting), ceiling_dbfs=as_number(self.ceiling.setting),
            quality=session.quality.with_(low_delay=self.low_delay.isChecked())))
        super().accept()


class PrintDialog(FormDialog):
    """What to print, and where."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, rendering: Rendering, settings: Settings,
                 parent: QWidget) -> None:
        super().__init__(parent)
        self._sessions, self._selection, self._rendering, self._settings = sessions, selection, rendering, settings
        self.setWindowTitle("Print to files")
        self.setMinimumWidth(460)
        self.what = QComboBox()
        self.what.addItems(["The mix", f"The strip {self._selection.strip.name}", "The mix and every strip (stems)"])
        self.stretch = QComboBox()
        passages = sessions.session.passages
        self.stretch.addItems(["All of it", "The loop", *(f"The passage {passage.name}" for passage in passages),
                               *(["Every passage, one by one"] if len(passages) > 1 else [])])
        self.kind = QComboBox()
        self.kind.addItems([words for words, _, _ in KINDS])
        self.folder = QLineEdit(str(self._sessions.own_folder))
        self._recall()
        self.folder.setAccessibleName("Folder")
        choose = QPushButton("Choose\u2026")
        choose.clicked.connect(self._choose)
        row = QHBoxLayout()
        row.addWidget(self.folder, 1)
        row.addWidget(choose)
        form = QFormLayout()
        form.addRow("Print", self.what)
        form.addRow("From", self.stretch)
        form.addRow("As", self.kind)
        form.addRow("Into folder", row)
        quality = self._sessions.session.quality.printing
        self.lay_out(form, f"At {quality}x oversampling. Existing files are never overwritten; new ones get a number.",
                     "Print")

    def _choose(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Print into folder", self.folder.text())
        if folder:
            self.folder.setText(folder)

    def orders(self) -> list[PrintOrder]:
        """What is to be printed as the dialog stands: several where every passage is."""
        strips = ((MASTER,), (self._selection.strip_id,),
                  tuple(stems(self._sessions.session)))[self.what.currentIndex()]
        _, file_format, dtype = KINDS[self.kind.currentIndex()]
        session, at = self._sessions.session, self.stretch.currentIndex()
        order = PrintOrder(Path(self.folder.text()), strips, file_format, dtype)
        if at == 0:
            return [order]
        if at == 1:
            return [replace(order, start=session.loop.start, end=session.loop.end)]
        chosen = session.passages[at - 2:at - 1] or session.passages
        return [order.of_passage(session, passage) for passage in chosen]

    def accept(self) -> None:
        for order in self.orders():
            self._rendering.start(order)
        self._remember()
        super().accept()

    def _remember(self) -> None:
        """Keep what was chosen for the next time; the folder for this session's file."""
        own = {} if self.folder.text() == str(self._sessions.own_folder) else {
            f"folder of {self._sessions.own_folder}": self.folder.text()}
        self._settings.printing = {
            **self._settings.printing, **own, "what": str(self.what.currentIndex()),
            "stretch": str(min(self.stretch.currentIndex(), 1)), "kind": self.kind.currentText()}

    def _recall(self) -> None:
        """Choose what was chosen the last time."""
        kept = self._settings.printing
        for box, name in ((self.what, "what"), (self.stretch, "stretch")):
            if kept.get(name, "").isdecimal():
                box.setCurrentIndex(min(int(kept[name]), box.count() - 1))
        self.kind.setCurrentText(kept.get("kind", ""))
        self.folder.setText(kept.get(f"folder of {self._sessions.own_folder}", self.folder.text()))


class MessageList(QDialog):
    """All messages of this run."""

    def __init__(self, messages: Messages, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Messages")
        self.resize(640, 320)
        text = QPlainTextEdit("\n".join(f"{entry.at}  {'! ' if entry.problem else ''}{entry.text}"
                                        for entry in messages.all))
        text.setReadOnly(True)
        text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse
                                     | Qt.TextInteractionFlag.TextSelectableByKeyboard)
        layout = QVBoxLayout(self)
        layout.addWidget(text)


def lanes_are_kept(parent: QWidget, stages: Iterable[StageSettings]) -> bool:
    """Whether what moves over time of some stages is to be kept for other songs; asked where anything does."""
    if not any(stage.lanes for stage in stages):
        return False
    button = QMessageBox.StandardButton
    return QMessageBox.question(parent, "Lanes", "Keep what moves over time too? It is kept in beats from bar 1.",
                                button.Yes | button.No, button.No) == button.Yes
