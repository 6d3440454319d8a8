"""What all windows beside the main one have in common."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QMimeData, Qt
from PyQt6.QtGui import QCloseEvent, QKeyEvent
from PyQt6.QtWidgets import QWidget

from yellow_ember.app.workspace import Workspace


class ToolWindow(QWidget):
    """Goes with the main window, is gone when it is closed; Escape leaves it, Space plays."""

    def __init__(self, workspace: Workspace, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._workspace = workspace
        workspace.closing.connect(self.close)

    def go_back(self) -> None:
        """Leave everything as it was before, and close."""
        self.close()

    def let_go(self) -> None:
        """What is to be put away when the window closes, however it does."""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_Escape:
                self.go_back()
            case Qt.Key.Key_Space:
                self._workspace.toggle_play()
            case _:
                super().keyPressEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.let_go()
        event.accept()


def dropped_files(mime: QMimeData | None) -> list[Path]:
    """The files and folders of this machine that a drag brings."""
    return [] if mime is None else [Path(url.toLocalFile()) for url in mime.urls() if url.isLocalFile()]
