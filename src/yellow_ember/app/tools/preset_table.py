"""A table of presets: favourite, name, source, intention, what it adds, and a small picture of its change of tone."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QPainter, QPen
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QStyledItemDelegate, QStyleOptionViewItem, QTableView

from yellow_ember.app.state.settings import Settings
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.text import as_text
from yellow_ember.app.widgets.tone_words import tone_words
from yellow_ember.plain_text import with_minus
from yellow_ember.session.io.presets import Figures, Preset
from yellow_ember.session.values.purposes import INTENTIONS, SOURCES

FAVOURITE, NAME, SOURCE, INTENTION, ADDED, TONE = range(6)
COLUMNS = ("\u2605", "Name", "Source", "Intention", "Added", "Tone")
_WIDTHS = (26, 0, 66, 76, 64, 92)
_REACH_DB = 12.0
_LEFT_OUT = float("inf")


class PresetRows(QAbstractTableModel):
    """Presets in the order in which they are sorted."""

    def __init__(self, settings: Settings) -> None:
        super().__init__()
        self._settings = settings
        self._given: list[Preset] = []
        self.shown: list[Preset] = []
        self.figures: dict[str, Figures] = {}
        """Of presets that do not bring their own, by name."""
        self.sorted_by, self.descending = SOURCE, False

    def figures_of(self, preset: Preset) -> Figures | None:
        return preset.figures or self.figures.get(preset.name)

    def show(self, presets: Sequence[Preset]) -> None:
        """Show these in place of what was shown."""
        self.beginResetModel()
        self._given = list(presets)
        self._arrange()
        self.endResetModel()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.beginResetModel()
        self.sorted_by, self.descending = column, order == Qt.SortOrder.DescendingOrder
        self._arrange()
        self.endResetModel()

    def _arrange(self) -> None:
        known = [preset for preset in self._given if self._key(preset) != _LEFT_OUT]
        rest = [preset for preset in self._given if self._key(preset) == _LEFT_OUT]
        self.shown = sorted(known, key=self._key, reverse=self.descending) + rest

    def _key(self, preset: Preset) -> Any:
        figures = self.figures_of(preset)
        match self.sorted_by:
            case 0:
                return preset.name not in self._settings.favourites
            case 1:
                return preset.name.lower()
            case 2:
                return SOURCES.index(preset.source)
            case 3:
                return INTENTIONS.index(preset.intention)
            case 4:
                return figures.added_db if figures else _LEFT_OUT
            case _:
                return figures.brightness if figures else _LEFT_OUT

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.shown)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section]
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        preset = self.shown[index.row()]
        match role:
            case Qt.ItemDataRole.DisplayRole:
                return self.text(preset, index.column())
            case Qt.ItemDataRole.ToolTipRole:
                return as_text("\n".join(filter(None, (preset.note, self._settings.notes.get(preset.name)))))
            case Qt.ItemDataRole.ForegroundRole if index.column() == ADDED:
                figures = self.figures_of(preset)
                return theme.added_text_colour(figures.added_db) if figures else None
            case Qt.ItemDataRole.TextAlignmentRole if index.column() == ADDED:
                return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None

    def text(self, preset: Preset, column: int) -> str:
        """What a cell says, in words."""
        figures = self.figures_of(preset)
        match column:
            case 0:
                return "\u2605" if preset.name in self._settings.favourites else ""
            case 1:
                return preset.name + ("  (yours)" if preset.path is not None else "")
            case 2:
                return preset.source
            case 3:
                return preset.intention
            case 4:
                return with_minus(f"{figures.added_db:.0f} dB") if figures else "\u2013"
            case _:
                return tone_words(figures.brightness) if figures else ""


class TonePicture(QStyledItemDelegate):
    """Draws the change of tone in octaves, about a line at no change."""

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        rows = index.model()
        assert painter is not None
        assert isinstance(rows, PresetRows)
        self.initStyleOption(option, index)
        option.text = ""
        style = option.widget.style() if option.widget is not None else None
        if style is not None:
            style.drawControl(style.ControlElement.CE_ItemViewItem, option, painter, option.widget)
        figures = rows.figures_of(rows.shown[index.row()])
        if figures is not None:
            draw_tone(painter, QRectF(option.rect).adjusted(4, 3, -4, -3), figures)


def draw_tone(painter: QPainter, box: QRectF, figures: Figures) -> None:
    """Draw a change of tone into a box, 12 dB up and down."""
    middle, width = box.center().y(), box.width() / len(figures.tone_db)
    painter.save()
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.AFTER)
    for number, change in enumerate(figures.tone_db):
        height = min(max(change / _REACH_DB, -1.0), 1.0) * box.height() / 2.0
        top = middle - max(height, 0.0)
        painter.drawRect(QRectF(box.left() + number * width, top, width - 1.5, max(abs(height), 0.6)))
    painter.setPen(QPen(theme.FAINT, 1.0))
    painter.drawLine(QPointF(box.left(), middle), QPointF(box.right(), middle))
    painter.restore()


class PresetTable(QTableView):
    """Rows to choose with arrow keys; a click on a star marks a favourite, a click on a heading sorts."""

    row_chosen = pyqtSignal()
    """Another row is the chosen one, by the user's hand or by `choose`."""
    starred = pyqtSignal(int)

    def __init__(self, settings: Settings) -> None:
        super().__init__()
        self.rows = PresetRows(settings)
        self.setModel(self.rows)
        self.setAccessibleName("Presets")
        self.setItemDelegateForColumn(TONE, TonePicture(self))
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setTabKeyNavigation(False)
        self.setShowGrid(False)
        self.setMinimumHeight(90)
        across, down = self.horizontalHeader(), self.verticalHeader()
        assert across is not None
        assert down is not None
        down.hide()
        down.setDefaultSectionSize(22)
        across.setHighlightSections(False)
        across.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        across.setMinimumSectionSize(20)
        for column, width in enumerate(_WIDTHS):
            across.setSectionResizeMode(
                column, QHeaderView.ResizeMode.Interactive if width else QHeaderView.ResizeMode.Stretch)
            if width:
                across.resizeSection(column, width)
        self.setSortingEnabled(True)
        across.setSortIndicator(SOURCE, Qt.SortOrder.AscendingOrder)
        chosen = self.selectionModel()
        assert chosen is not None
        chosen.currentRowChanged.connect(lambda _now, _before: self.row_chosen.emit())
        self.clicked.connect(lambda index: self.starred.emit(index.row()) if index.column() == FAVOURITE else None)

    def sizeHint(self) -> QSize:
        return QSize(480, 260)

    @property
    def row(self) -> int:
        """The chosen row, -1 for none."""
        return self.currentIndex().row()

    def choose(self, row: int) -> None:
        """Choose a row and bring it into view."""
        self.setCurrentIndex(self.rows.index(row, NAME))

    def focusInEvent(self, event: QFocusEvent) -> None:
        # Qt would choose the first row, which would be heard although nobody asked for it.
        chosen = self.selectionModel()
        assert chosen is not None
        none, was_blocked = self.row < 0, chosen.blockSignals(self.row < 0)
        super().focusInEvent(event)
        if none:
            chosen.clear()
        chosen.blockSignals(was_blocked)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up) and self.row < 0 and self.rows.shown:
            self.choose(0 if event.key() == Qt.Key.Key_Down else len(self.rows.shown) - 1)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape, Qt.Key.Key_Space):
            event.ignore()
        else:
            super().keyPressEvent(event)
