"""A plain table of rows to choose from."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QHeaderView, QTableWidget

_LOWEST = 90


def plain_table(name: str, headings: Sequence[str], widths: Sequence[int], row: int = 22) -> QTableWidget:
    """A table that is not edited in its cells, and lets Tab pass.

    Parameters
    ----------
    widths : Sequence[int]
        Of the columns in pixels; 0 for the one that takes what is left, and for what Qt thinks right.
    row : int
        A row's height in pixels.
    """
    table = QTableWidget(0, len(headings))
    table.setAccessibleName(name)
    table.setHorizontalHeaderLabels(list(headings))
    table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
    table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
    table.setShowGrid(False)
    table.setTabKeyNavigation(False)
    table.setMinimumHeight(_LOWEST)
    across, down = table.horizontalHeader(), table.verticalHeader()
    assert across is not None
    assert down is not None
    for column, width in enumerate(widths):
        if width:
            across.resizeSection(column, width)
        else:
            across.setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)
    down.hide()
    down.setDefaultSectionSize(row)
    return table
