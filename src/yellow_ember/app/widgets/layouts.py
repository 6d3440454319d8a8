"""What several panels do to their layouts."""

from __future__ import annotations

from PyQt6.QtWidgets import QLayout


def clear(layout: QLayout) -> None:
    """Take every widget out, and let it go."""
    while (item := layout.takeAt(0)) is not None:
        if (old := item.widget()) is not None:
            old.hide()
            old.deleteLater()
