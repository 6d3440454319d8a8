"""Asking where a file is to be saved, so that nothing is replaced without a question."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QMessageBox, QWidget

from yellow_ember.app.widgets.text import as_text


def ask_where_to_save(parent: QWidget, title: str, requested: Path, filters: str, suffix: str) -> Path | None:
    """A path that ends in `suffix`, or None.  Where a file is there already, under the whole name, this asks."""
    while True:
        name, _ = QFileDialog.getSaveFileName(
            parent, title, str(requested), filters, None, QFileDialog.Option.DontConfirmOverwrite)
        if not name:
            return None
        path = Path(name if name.lower().endswith(suffix) else f"{name}{suffix}")
        if not path.exists() or _may_replace(parent, path):
            return path
        requested = path


def _may_replace(parent: QWidget, path: Path) -> bool:
    button = QMessageBox.StandardButton
    return bool(QMessageBox.question(
        parent, "Replace the file?", as_text(f"{path.name} is there already. Replace it?"),
        button.Yes | button.No, button.No) == button.Yes)
