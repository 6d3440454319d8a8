"""Chooses what to add to a path: a stage, those that suit first, or a chain for a purpose; each is heard first."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QModelIndex, QRectF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QPainter
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.audition import Audition
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.glyphs import draw_glyph
from yellow_ember.app.widgets.text import as_text
from yellow_ember.dsp.stage import StageKind
from yellow_ember.dsp.stages import FAMILIES, stage_kind
from yellow_ember.session.edits.edits import put_stages, use_chain
from yellow_ember.session.io.presets import Preset, all_presets
from yellow_ember.session.values.drawn import lanes_in_seconds
from yellow_ember.session.values.limits import MAXIMUM_STAGES
from yellow_ember.session.values.model import Session, new_stage
from yellow_ember.session.values.purposes import INTENTIONS

_ROW, _HEADING = 26, 22


@dataclass(frozen=True, slots=True)
class Entry:
    """A row: a heading, a kind of stage, or a preset.  key : "" for a heading"""

    key: str
    label: str
    words: str = ""
    kind: StageKind | None = None
    preset: Preset | None = None

    def answers_to(self, words: Sequence[str]) -> bool:
        """Whether all words are in what it says."""
        return all(word in f"{self.label} {self.words}".lower() for word in words)


class _Rows(QStyledItemDelegate):
    """Draws a glyph, a name, and a sentence."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        entry: Entry = index.data(Qt.ItemDataRole.UserRole)
        return QSize(160, _ROW if entry.key else _HEADING)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        entry: Entry = index.data(Qt.ItemDataRole.UserRole)
        box = QRectF(option.rect)
        middle = int(Qt.AlignmentFlag.AlignVCenter)
        painter.save()
        if not entry.key:
            painter.setFont(theme.font(8, bold=True))
            painter.setPen(theme.DIM)
            painter.drawText(box.adjusted(8, 2, -4, 0), middle, entry.label)
            painter.restore()
            return
        if option.state & option.state.State_Selected:
            painter.fillRect(box, theme.AFTER_FILL)
        left = box.left() + 10
        if entry.kind is not None:
            draw_glyph(painter, QRectF(left, box.top() + 5, 16, 16), entry.kind.glyph, theme.AFTER)
            left += 26
        painter.setFont(theme.font(9, bold=True))
        painter.setPen(theme.TEXT)
        painter.drawText(QRectF(left, box.top(), 150, box.height()), middle, entry.label)
        left += painter.fontMetrics().horizontalAdvance(entry.label) + 12
        painter.setFont(theme.font(8.5))
        painter.setPen(theme.DIM)
        room = QRectF(left, box.top(), max(box.right() - left - 4, 0.0), box.height())
        painter.drawText(room, middle, painter.fontMetrics().elidedText(
            entry.words, Qt.TextElideMode.ElideRight, int(room.width())))
        painter.restore()


class EntryList(QListWidget):
    """Rows of entries; headings are passed over."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setItemDelegate(_Rows(self))
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setMinimumSize(160, 90)

    def show_entries(self, entries: Sequence[Entry]) -> None:
        """Show these; none of them is chosen."""
        self.blockSignals(True)
        self.clear()
        for entry in entries:
            item = QListWidgetItem()
            item.setData(Qt.ItemDataRole.UserRole, entry)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{entry.label}. {entry.words}")
            item.setToolTip(as_text(entry.words))
            if not entry.key:
                item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.addItem(item)
        self.setCurrentRow(-1)
        self.blockSignals(False)

    @property
    def entries(self) -> list[Entry]:
        rows = (self.item(row) for row in range(self.count()))
        return [item.data(Qt.ItemDataRole.UserRole) for item in rows if item is not None]

    def step(self, by: int) -> None:
        """Choose the next row that is no heading, or the first."""
        entries, row = self.entries, self.currentRow()
        row = row + by if row >= 0 else 0 if by > 0 else len(entries) - 1
        while 0 <= row < len(entries) and not entries[row].key:
            row += by
        if 0 <= row < len(entries):
            self.setCurrentRow(row)


class StageChooser(Audition):
    """Stages at the left, chains at the right; typing finds, arrows hear, Enter keeps."""

    title = "Add"
    first_size = QSize(760, 520)

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 jobs: JobKeeper, measurer: Measurer) -> None:
        super().__init__(sessions, selection, playback, messages, jobs)
        self._behind = self._selection.stage_id
        self._strips = self._selection.chosen
        self._source = measurer.probable_source(self._selection.strip)
        self._presets = [preset for preset in all_presets()
                         if preset.source == self._source and len(preset.stages) > 1]
        self.setWindowTitle(f"Add to {self._selection.strip.name}")
        self.search = QLineEdit()
        self.search.setPlaceholderText("Type what you look for; arrows hear, Enter keeps")
        self.search.setAccessibleName("Find a stage or a chain")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _text: self.fill())
        self.stages, self.chains = EntryList("Stages"), EntryList("Chains for a purpose")
        self._active = self.stages
        for entries in (self.stages, self.chains):
            entries.currentRowChanged.connect(lambda row, chosen=entries: self._on_row(chosen, row))
            entries.itemDoubleClicked.connect(lambda _item: self.keep())
        lists = QHBoxLayout()
        lists.setSpacing(6)
        lists.addWidget(self.stages, 5)
        lists.addWidget(self.chains, 3)
        bottom = QHBoxLayout()
        bottom.addWidget(self.state, 1)
        bottom.addLayout(self.closing_row)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 4, 8, 6)
        layout.setSpacing(4)
        layout.addWidget(self.search)
        layout.addLayout(lists, 1)
        layout.addLayout(bottom)
        self.fill()
        self._selection.changed.connect(self._leave_for_another)

    def first_focus(self) -> QWidget:
        return self.search

    def _leave_for_another(self) -> None:
        """Close where another strip is chosen: what is added belongs to the one it was opened for."""
        if self._selection.strip_id != self._strip_id:
            self.close()

    # -- entries ------------------------------------------------------------------------

    def _stage_entries(self) -> Iterator[Entry]:
        if self._behind:
            chosen = self._sessions.session.strip(self._strip_id).stage(self._behind).declaration
            yield Entry("", f"Suits behind {chosen.label}")
            yield from (_of_kind(stage_kind(name)) for name in chosen.neighbours)
        for family, kinds in FAMILIES.items():
            yield Entry("", family)
            yield from (_of_kind(kind) for kind in kinds)

    def _chain_entries(self) -> Iterator[Entry]:
        for intention in INTENTIONS:
            presets = [preset for preset in self._presets if preset.intention == intention]
            if presets:
                yield Entry("", f"{intention.capitalize()} ({self._source})")
                yield from (Entry(f"preset:{preset.name}", preset.name, preset.note, preset=preset)
                            for preset in presets)

    def fill(self) -> None:
        """Show the entries in which all words of the search are."""
        words = self.search.text().lower().split()
        for shown, entries in ((self.stages, self._stage_entries()), (self.chains, self._chain_entries())):
            hits = [entry for entry in entries if not entry.key or entry.answers_to(words)]
            shown.show_entries([entry for entry, after in zip(hits, [*hits[1:], Entry("", "")], strict=True)
                                if entry.key or after.key])
        self._active = self.chains if words and not self.stages.count() else self.stages

    def _on_row(self, entries: EntryList, row: int) -> None:
        if row < 0:
            return
        self._active = entries
        other = self.chains if entries is self.stages else self.stages
        other.blockSignals(True)
        other.setCurrentRow(-1)
        other.blockSignals(False)
        self.try_row()

    # -- hearing ------------------------------------------------------------------------

    @property
    def row(self) -> int:
        return self._active.currentRow()

    def keys(self) -> Sequence[str]:
        return [entry.key for entry in self._active.entries]

    def tried(self, session: Session, key: str) -> Session:
        entry = next(entry for entry in (*self.stages.entries, *self.chains.entries) if entry.key == key)
        stages = lanes_in_seconds(entry.preset.stages, session) if entry.preset is not None else (new_stage(key),)
        for strip_id in self._strips:
            strip = session.strip(strip_id)
            if len(strip.chain) + len(stages) > MAXIMUM_STAGES:
                raise ValueError(f"A strip holds at most {MAXIMUM_STAGES} stages; {strip.name} has {len(strip.chain)}")
            if entry.preset is not None and not strip.chain:
                session = use_chain(session, strip_id, stages, entry.preset.macros)
            else:
                behind = self._behind if strip_id == self._strip_id else ""
                session = put_stages(session, strip_id, stages, behind, replace=False)
        return session

    def needed(self) -> set[str]:
        return {self._strip_id, *self._strips, *filter(None, [self._behind])}

    def step(self, key: str) -> str:
        return f"Add {key.partition(':')[2] if key.startswith('preset:') else stage_kind(key).label}"

    def describe(self, key: str) -> None:
        """What an entry is stands in its row."""

    def keep(self) -> None:
        before = {stage.id for stage in self._sessions.document.committed.strip(self._strip_id).chain}
        if self.heard is None and self.chosen_key:
            # Enter came before it was known how loud it is.
            self.hear_unmatched()
        super().keep()
        new = [stage.id for stage in self._sessions.session.strip(self._strip_id).chain if stage.id not in before]
        if new:
            self._selection.select(self._strip_id, new[0])

    # -- keys ---------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_Down:
                self._active.step(1)
            case Qt.Key.Key_Up:
                self._active.step(-1)
            case Qt.Key.Key_Return | Qt.Key.Key_Enter:
                if not self.chosen_key:
                    self._active.step(1)
                self.keep()
            case _:
                super().keyPressEvent(event)

    def focusNextPrevChild(self, forward: bool) -> bool:
        """Let Tab go from the stages to the chains while the search is where one types."""
        if forward and self.search.hasFocus() and self.chains.count():
            self._active = self.chains if self._active is self.stages else self.stages
            self._active.step(1)
            return True
        return super().focusNextPrevChild(forward)


def _of_kind(kind: StageKind) -> Entry:
    return Entry(kind.kind, kind.label, kind.purpose, kind=kind)
