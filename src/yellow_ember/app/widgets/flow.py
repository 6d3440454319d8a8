"""Groups of controls in as many columns as fit, filled from the top."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QObject, QSize, Qt
from PyQt6.QtGui import QMouseEvent, QResizeEvent
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.text import TextLabel

_COLUMN = 182
_GAP = 8


class GroupTitle(TextLabel):
    """A group's name; a double-click puts the whole group back to its defaults."""

    def __init__(self, text: str, reset: Callable[[], None]) -> None:
        super().__init__(text)
        self._reset = reset
        self.setFont(theme.font(8.5, bold=True))
        self.setStyleSheet(f"color: {theme.DIM.name()}")
        self.setToolTip(f"{text}: double-click for this group's defaults")

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._reset()


class ColumnFlow(QWidget):
    """Lays its groups out in columns of roughly equal height, in their order."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._groups: list[QWidget] = []
        self._titles: list[str] = []
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)

    def add_group(self, title: str, controls: Sequence[QWidget], reset: Callable[[], None]) -> None:
        """One more group, below or beside the others."""
        group = QWidget(self)
        layout = QVBoxLayout(group)
        layout.setContentsMargins(0, 0, 0, 6)
        layout.setSpacing(2)
        layout.addWidget(GroupTitle(title, reset))
        for control in controls:
            layout.addWidget(control)
        group.installEventFilter(self)
        self._groups.append(group)
        self._titles.append(title)
        group.show()

    def show_only(self, titles: set[str]) -> None:
        """Hide the groups that are not among these."""
        for group, title in zip(self._groups, self._titles, strict=True):
            group.setHidden(title not in titles)
        self._arrange()

    def titles(self) -> list[str]:
        """The groups' names in their order."""
        return list(self._titles)

    def top_of(self, title: str) -> int:
        """Where a group begins, from the top."""
        return self._groups[self._titles.index(title)].y()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:
            self._arrange()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._arrange()

    def sizeHint(self) -> QSize:
        return QSize(2 * _COLUMN + 3 * _GAP, self.minimumHeight())

    def _arrange(self) -> None:
        columns = max(1, (self.width() - _GAP) // (_COLUMN + _GAP))
        groups = [group for group in self._groups if not group.isHidden()]
        width = (self.width() - _GAP * (columns + 1)) // columns
        # Each group goes to the column that ends highest up: what comes first in the work stays in view.
        ends = [0] * columns
        for group in groups:
            column, height = ends.index(min(ends)), group.sizeHint().height()
            group.setGeometry(_GAP + column * (width + _GAP), ends[column] + 2, width, height)
            ends[column] += height
        self.setMinimumHeight(max(ends) + 4)
