"""Names and other words from outside, as widgets are to show them: as text, never as markup or commands."""

from __future__ import annotations

import html

from yellow_ember.plain_text import plain, plain_line


def as_text(words: str) -> str:
    """For tooltips, labels and dialogs, which would take what looks like markup for that."""
    words = plain(words)
    return f"<span>{html.escape(words)}</span>" if "<" in words or "&" in words else words


def menu_text(words: str) -> str:
    """For menus and buttons, where an ampersand marks a key and a tab a column."""
    return plain_line(words).replace("&", "&&")
