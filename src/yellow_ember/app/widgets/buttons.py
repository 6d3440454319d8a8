"""A button with what it does."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QPushButton


def action_button(text: str, action: Callable[[], object], hint: str = "") -> QPushButton:
    """A button that runs an action when it is clicked; hint : its tooltip"""
    button = QPushButton(text)
    button.setToolTip(hint)
    button.clicked.connect(lambda _checked: action())
    return button
