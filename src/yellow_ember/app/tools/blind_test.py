"""Blind test: A, B and X, equally loud, in random order, with the pictures hidden."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QComboBox, QFormLayout, QHBoxLayout, QPushButton, QVBoxLayout

from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import TryingTool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.session.blind_test import BlindTest
from yellow_ember.session.edits.edits import difference
from yellow_ember.session.edits.snapshot_edits import find_snapshot, owner_of, recall
from yellow_ember.session.values.model import Session
from yellow_ember.session.values.snapshots import PLACES, Snapshot

_NOW, _BEFORE = "how it stands now", "without any stage"
_TRIALS = ("8", "12", "16", "24")


class BlindTool(TryingTool):
    """What is compared is chosen above; below one hears, and says what X is."""

    title = "Blind test"
    own_keys = frozenset((Qt.Key.Key_A, Qt.Key.Key_B, Qt.Key.Key_X))
    shows_pictures = False

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 measurer: Measurer, matcher: Matcher, scope: str) -> None:
        super().__init__(sessions, playback)
        self._selection, self._messages, self._measurer, self._matcher = selection, messages, measurer, matcher
        self.setWindowTitle("Blind test")
        self.setMinimumWidth(460)
        self._scope = scope
        self._choices: list[tuple[str, Session]] = self._things()
        self.test: BlindTest | None = None
        self._sides: list[Session] = []
        self._matching: list[Session] = []
        self.first, self.second, self.trials = QComboBox(), QComboBox(), QComboBox()
        for box, name in ((self.first, "A"), (self.second, "B"), (self.trials, "How often")):
            box.setAccessibleName(name)
        for box in (self.first, self.second):
            box.addItems([title for title, _ in self._choices])
        self.second.setCurrentIndex(min(1, len(self._choices) - 1))
        self.trials.addItems(_TRIALS)
        self.trials.setCurrentText("16")
        self.state = TextLabel("Both are brought to the same loudness first. The pictures are hidden while you listen.")
        self.state.setWordWrap(True)
        self.buttons: dict[str, QPushButton] = {}
        self._lay_out()
        self._playback.frame.connect(self._poll)
        self._refresh()

    def _lay_out(self) -> None:
        form = QFormLayout()
        form.addRow("A", self.first)
        form.addRow("B", self.second)
        form.addRow("How often", self.trials)
        layout = QVBoxLayout(self)
        layout.addLayout(form)
        for row in ((("Start", self.start),), (("A", lambda: self.hear("A")), ("X", lambda: self.hear("X")),
                                               ("B", lambda: self.hear("B"))),
                    (("X is A", lambda: self.answer(False)), ("X is B", lambda: self.answer(True)))):
            line = QHBoxLayout()
            for text, slot in row:
                button = action_button(text, slot)
                button.setMinimumHeight(34 if text in ("A", "X", "B") else 0)
                line.addWidget(button)
                self.buttons[text] = button
            layout.addLayout(line)
        for name in ("A", "X", "B"):
            self.buttons[name].setCheckable(True)
        layout.addWidget(self.state)
        keys = TextLabel("Keys: A, B, X hear; 1 and 2 say that X is A or B; Space plays; Escape ends")
        keys.setStyleSheet(f"color: {theme.DIM.name()}")
        layout.addWidget(keys)

    def _things(self) -> list[tuple[str, Session]]:
        """What can be compared: how it stands, dry, and the snapshots of the scope."""
        session, strip_id = self._sessions.session, self._selection.strip_id
        owner = owner_of(session, self._scope, strip_id)
        result: list[tuple[str, Session]] = [(_NOW, session)]
        snapshots = [one for index in range(PLACES)
                     if (one := find_snapshot(session, self._scope, owner, index)) is not None]
        result += [(one.title, recall(session, one)) for one in snapshots]
        result.append((_BEFORE, self._dry(session, snapshots[0] if snapshots else None)))
        return result

    def _dry(self, session: Session, like: Snapshot | None) -> Session:
        """Without the chains that are compared."""
        ids = {self._selection.strip_id} if like is None else {state.strip_id for state in like.states}
        for strip in session.strips:
            if strip.id in ids:
                session = session.with_strip(strip.with_(bypass=True))
        return session

    # -- the test -----------------------------------------------------------------------

    @property
    def running(self) -> bool:
        return self.test is not None and not self.test.done

    def start(self) -> None:
        """Bring both to the same loudness, then begin."""
        a, b = (self._choices[box.currentIndex()][1] for box in (self.first, self.second))
        if a.strips == b.strips:
            self.state.setText("A and B are the same: take a snapshot of what you want to compare first")
            return
        self.test, self._sides, self._matching = None, [], [a, b]
        self._playback.hear_before(False)
        self.state.setText("Measuring both\u2026")
        self._match_next()
        self._refresh()

    def _match_next(self) -> None:
        """Try the next of the two, and have all its strips matched."""
        self._show(self._matching[0])
        self._matcher.match_all(strip.id for strip in self._sessions.session.strips
                                    if strip.chain and not strip.bypass)

    def _poll(self) -> None:
        if not self._matching or self._matcher.answering or self._measurer.busy:
            return
        self._sides.append(self._sessions.session)
        del self._matching[0]
        if self._matching:
            self._match_next()
            return
        self.test = BlindTest.made(int(self.trials.currentText()))
        self._playback.hide_pictures(True)
        self.hear("A")
        self._ask()

    def _show(self, side: Session) -> None:
        committed = self._sessions.document.committed
        self.try_out(difference(committed, committed.with_(strips=side.strips)))

    def _ask(self) -> None:
        assert self.test is not None
        self.state.setText(f"{len(self.test.answers) + 1} of {self.test.trials}: what is X?")
        self._refresh()

    def hear(self, which: str) -> None:
        """A, B or X."""
        if self.test is None or self.test.done:
            return
        second = which == "B" or (which == "X" and self.test.x_is_b)
        self._show(self._sides[second])
        for name in ("A", "X", "B"):
            self.buttons[name].setChecked(name == which)

    def answer(self, x_is_b: bool) -> None:
        """Say what X is."""
        if self.test is None or self.test.done:
            return
        self.test.answer(x_is_b)
        if self.test.done:
            self._end()
        else:
            self.hear("X")
            self._ask()

    def _end(self) -> None:
        """Show the result, and leave everything as it was."""
        assert self.test is not None
        self.state.setText(self.test.verdict())
        self._messages.say(f"Blind test: {self.test.verdict()}")
        self._leave()
        self._refresh()

    def _leave(self) -> None:
        self._matching = []
        self.drop()
        self._playback.hide_pictures(False)

    def _refresh(self) -> None:
        busy = self.running or bool(self._matching)
        for name in ("A", "X", "B", "X is A", "X is B"):
            self.buttons[name].setEnabled(self.running)
            if not self.running:
                self.buttons[name].setChecked(False)
        for part in (self.buttons["Start"], self.first, self.second, self.trials):
            part.setEnabled(not busy)

    # -- window -------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_A:
                self.hear("A")
            case Qt.Key.Key_B:
                self.hear("B")
            case Qt.Key.Key_X:
                self.hear("X")
            case Qt.Key.Key_1:
                self.answer(False)
            case Qt.Key.Key_2:
                self.answer(True)
            case _:
                super().keyPressEvent(event)

    def let_go(self) -> None:
        if self.running or self._matching:
            if self.test is not None and self.test.answers:
                self._messages.say(f"Blind test: {self.test.verdict()}")
            self._leave()
