"""Sets in a window: chains for a bus and its tracks, or for a whole session, tried and kept in one go."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QInputDialog,
    QListWidget,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.dialogs import lanes_are_kept
from yellow_ember.app.tools.tool import TryingTool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.text import TextLabel, escaped
from yellow_ember.session.edits.edits import difference
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.sets import (
    Part,
    StripSet,
    keep_set,
    own_sets,
    parts_for,
    set_from,
    shipped_sets,
    strips_in,
    use_set,
)
from yellow_ember.session.values.model import StripKind
from yellow_ember.session.values.purposes import ANY_SOURCE

_STAYS, _AS_IT_WAS = "stays as it is", "as it was"


def _words(part: Part) -> str:
    """A part in a few words."""
    stages = ", ".join(stage.declaration.label for stage in part.stages)
    return f"{part.where.value if part.source == ANY_SOURCE else part.source}: {stages}"


class SetBrowser(TryingTool):
    """Sets at the left; at the right which strip gets which part.  What is tried is heard, and is no step yet."""

    title = "Sets"
    first_size = QSize(820, 520)

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 matcher: Matcher) -> None:
        super().__init__(sessions, playback)
        self._selection, self._messages, self._matcher = selection, messages, matcher
        self.setWindowTitle("Sets")
        self._sets: list[StripSet] = []
        self.boxes: dict[str, QComboBox] = {}
        self.bus = QComboBox()
        self.bus.setAccessibleName("Bus")
        for strip, _ in self._sessions.session.depth_first():
            if strip.kind is not StripKind.TRACK:
                self.bus.addItem(strip.name, strip.id)
        chosen = self._selection.strip
        near = chosen.id if chosen.kind is not StripKind.TRACK else chosen.out
        self.bus.setCurrentIndex(self.bus.findData(near))
        self.bus.currentIndexChanged.connect(lambda _index: self._choose())
        self.list = QListWidget()
        self.list.setAccessibleName("Sets")
        self.list.currentRowChanged.connect(lambda _row: self._choose())
        self.list.itemActivated.connect(lambda _item: self.keep())
        self.note = TextLabel(markup=True)
        self.note.setWordWrap(True)
        self.state = TextLabel("Arrow keys: hear    Enter: keep    Escape: revert")
        self.state.setStyleSheet(f"color: {theme.DIM.name()}")
        self.state.setWordWrap(True)
        self._scroll = QScrollArea()
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._scroll.setWidgetResizable(True)
        self._lay_out()
        self._fill()
        self.list.setFocus()

    def _lay_out(self) -> None:
        left, right, across = QVBoxLayout(), QVBoxLayout(), QHBoxLayout()
        left.addWidget(self.list, 1)
        left.addLayout(self.button_row((
            ("Save the bus\u2026", lambda: self.save_own("bus"), "The chains of the bus and of what feeds it"),
            ("Save the session\u2026", lambda: self.save_own("session"), "The chains of all strips"))))
        bus = QFormLayout()
        bus.addRow("On the bus", self.bus)
        right.addLayout(bus)
        right.addWidget(self.note)
        right.addWidget(self._scroll, 1)
        across.addLayout(left, 2)
        across.addLayout(right, 3)
        layout = QVBoxLayout(self)
        layout.addLayout(across, 1)
        layout.addWidget(self.state)
        layout.addLayout(self.button_row((("Keep", self.keep, "Keep it, as one step of the history"),
                                    ("Revert", self.go_back, "Leave every strip as it was"))))

    def _fill(self) -> None:
        own, troubles = own_sets()
        for trouble in troubles:
            self._messages.warn(trouble)
        self._sets = [*shipped_sets(), *own]
        self.list.blockSignals(True)
        self.list.clear()
        self.list.addItem(_AS_IT_WAS)
        for result in self._sets:
            mine = "  (yours)" if result.path is not None else ""
            self.list.addItem(f"{result.name}{mine}    {result.scope}, {result.intention}")
        self.list.setCurrentRow(0)
        self.list.blockSignals(False)

    @property
    def chosen(self) -> StripSet | None:
        row = self.list.currentRow() - 1
        return self._sets[row] if 0 <= row < len(self._sets) else None

    # -- trying -------------------------------------------------------------------------

    def _choose(self) -> None:
        """Another set or bus: propose which strip gets what, and let it be heard."""
        result = self.chosen
        self.drop()
        self.bus.setEnabled(result is None or result.scope == "bus")
        if result is None:
            self.boxes = {}
            self._scroll.setWidget(QWidget())
            self.note.setText("")
            return
        linked = " Its tracks are linked." if result.linked else ""
        self.note.setText(f"<b>{escaped(result.name)}</b>: {escaped(result.note)}{linked}")
        self.boxes = {}
        inside = QWidget()
        form = QFormLayout(inside)
        session = self._sessions.session
        for strip_id, index in parts_for(session, result, self.bus.currentData()).items():
            box = QComboBox()
            name = session.strip(strip_id).name
            box.setAccessibleName(name)
            box.addItem(_STAYS, None)
            for number, part in enumerate(result.parts):
                box.addItem(_words(part), number)
            box.setCurrentIndex(0 if index is None else index + 1)
            box.currentIndexChanged.connect(lambda _index: self._try())
            form.addRow(name, box)
            self.boxes[strip_id] = box
        self._scroll.setWidget(inside)
        self._try()

    def _try(self) -> None:
        result, document = self.chosen, self._sessions.document
        if result is None:
            return
        self.drop()
        self.try_out(difference(document.committed, use_set(document.committed, result, {
            strip_id: box.currentData() for strip_id, box in self.boxes.items()})))
        self.heard = result
        self.state.setText("heard    Enter: keep    Escape: revert")

    def keep(self) -> None:
        """Make what is heard a step, match every strip of it, and close."""
        result = self.chosen
        if result is not None and self.keep_heard(f"Set {result.name}"):
            self._matcher.match_all(strip_id for strip_id, box in self.boxes.items()
                                        if box.currentData() is not None)
            self._messages.say(f"Set {result.name} is on {len(self.boxes)} strips; their loudness is being matched")
        self.close()

    # -- one's own ----------------------------------------------------------------------

    def save_own(self, scope: str) -> None:
        """Keep the chains of the bus and its tracks, or of all strips, as a set of one's own."""
        self.drop()
        name, accepted = QInputDialog.getText(self, "Save a set", "Name")
        if not accepted or not name.strip():
            return
        note, accepted = QInputDialog.getText(self, "Save a set", "What it does, in a sentence")
        if not accepted:
            return
        try:
            session, bus_id = self._sessions.session, self.bus.currentData()
            moves = lanes_are_kept(self, (
                stage for strip in strips_in(session, scope, bus_id) for stage in strip.chain))
            kept = keep_set(set_from(session, scope, bus_id, name.strip(), "glue", note.strip(), with_lanes=moves))
        except (ValueError, SessionFileError) as error:
            self.state.setText(str(error))
            return
        self._fill()
        self.state.setText(f"{kept.name} is saved")
