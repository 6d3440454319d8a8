"""Names and other words from outside, as widgets are to show them: as text, never as markup or commands."""

from __future__ import annotations

import html

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QWidget

from yellow_ember.plain_text import plain, plain_line, with_minus


def escaped(words: str) -> str:
    """For a place within markup."""
    return html.escape(plain(words), quote=False)


def as_text(words: str) -> str:
    """For tooltips, labels and dialogs, which would take what looks like markup for that."""
    return f"<span>{escaped(words)}</span>" if "<" in words or "&" in words else plain(words)


def menu_text(words: str) -> str:
    """For menus and buttons, where an ampersand marks a key and a tab a column."""
    return plain_line(words).replace("&", "&&")


class TextLabel(QLabel):
    """A label that shows what it is given as text; Qt's own takes what looks like markup for that.

    markup : the words are markup; what of them comes from outside is to go through `escaped`
    """

    def __init__(self, words: str = "", parent: QWidget | None = None, *, markup: bool = False) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.RichText if markup else Qt.TextFormat.PlainText)
        self.setText(words)

    def setText(self, words: str | None) -> None:
        """Show the words, with a minus sign before negative numbers."""
        super().setText(with_minus(words or ""))
