"""The map of MIDI controllers as a table: what moves what, how it is taken, and what is to be learnt."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import QSize
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QTableWidgetItem, QVBoxLayout

from yellow_ember.app.state.commands import Commands
from yellow_ember.app.state.controllers import COMMAND, MACRO, STRIP, Assignment, Controllers
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets.tables import plain_table
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.session.values.macros import MAX_MACROS
from yellow_ember.session.values.strip_values import PAN, VOLUME

_ABOUT = ("A controller moves what it has learnt: of the chosen strip, whichever that is. Choose below, or \"Learn a "
          "controller\" in a control's menu, then move it. Playing through JACK, "
          "connect it to the port \"control in\"; else those that ALSA knows are heard by themselves.")


class ControllersTool(Tool):
    """Rows of message, what it moves, whether it says where it stands or how far it was turned, when it is taken."""

    title = "Controllers"
    first_size = QSize(560, 420)
    of_the_session = False
    shows_pictures = False

    def __init__(self, sessions: SessionKeeper, playback: Playback, controllers: Controllers, commands: Commands
                 ) -> None:
        super().__init__(sessions, playback)
        self.setWindowTitle("Controllers")
        self._controllers = controllers
        self.table = plain_table("Controllers", ("Message", "Moves", "Says", "Taken"), (90, 0, 178, 140), 26)
        self.targets = QComboBox()
        self.targets.setAccessibleName("What is to be moved")
        for target in (f"{STRIP} {VOLUME.id}", f"{STRIP} {PAN.id}",
                       *(f"{MACRO} {number}" for number in range(1, MAX_MACROS + 1)),
                       *(f"{COMMAND} {command.name}" for command in commands.all)):
            self.targets.addItem(controllers.words(target), target)
        row = QHBoxLayout()
        row.addWidget(self.targets, 1)
        row.addLayout(self.button_row((
            ("Learn", self.learn, "The next controller that moves will move this"),
            ("Forget", self.forget, "The chosen controller moves nothing any more"))))
        about = TextLabel(_ABOUT)
        about.setObjectName("dim")
        about.setWordWrap(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 4, 8, 6)
        layout.addWidget(about)
        layout.addWidget(self.table, 1)
        layout.addLayout(row)
        controllers.changed.connect(self.fill)
        self.fill()

    def fill(self) -> None:
        """Show all assignments."""
        assignments = self._controllers.all
        self.table.setRowCount(len(assignments))
        for row, assignment in enumerate(assignments):
            self.table.setItem(row, 0, QTableWidgetItem(assignment.message))
            self.table.setItem(row, 1, QTableWidgetItem(self._controllers.words(assignment.target)))
            self.table.setCellWidget(row, 2, self._choice(
                "Says", ("where it stands", "how far it was turned"), replace(assignment, relative=False),
                replace(assignment, relative=True), assignment))
            self.table.setCellWidget(row, 3, self._choice(
                "Taken", ("from the value on", "at once"), replace(assignment, jumps=False),
                replace(assignment, jumps=True), assignment))

    def _choice(self, name: str, words: tuple[str, str], first: Assignment, second: Assignment, now: Assignment
                ) -> QComboBox:
        """Two ways in which an assignment can be taken."""
        box = QComboBox()
        box.setAccessibleName(f"{name}, {now.message}")
        box.addItems(words)
        box.setCurrentIndex(int(now == second))
        box.activated.connect(lambda index: self._controllers.keep(second if index else first))
        return box

    def learn(self) -> None:
        """Let the next controller that moves have what is chosen below."""
        self._controllers.learn(str(self.targets.currentData()))

    def forget(self) -> None:
        """Let the chosen row's controller move nothing."""
        item = self.table.item(self.table.currentRow(), 0)
        if item is not None:
            self._controllers.forget(item.text())
