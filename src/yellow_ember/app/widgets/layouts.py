"""What several panels and tools do to their layouts."""

from __future__ import annotations

from PyQt6.QtCore import QByteArray
from PyQt6.QtWidgets import QComboBox, QLayout


def clear(layout: QLayout) -> None:
    """Take every widget out, and let it go."""
    while (item := layout.takeAt(0)) is not None:
        if (old := item.widget()) is not None:
            old.hide()
            old.deleteLater()


def let_shrink(box: QComboBox) -> None:
    """Let a box be narrower than its longest entry."""
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(6)


def state_as_text(state: QByteArray) -> str:
    """What a window or a splitter remembers of itself, as text for the settings."""
    return bytes(state.toBase64().data()).decode("ascii")


def state_from_text(text: str) -> QByteArray:
    """Such a state from its text."""
    return QByteArray.fromBase64(text.encode("ascii", "ignore"))
