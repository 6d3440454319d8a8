"""A window of another program from which files are dragged: the whole of it is one thing to take hold of."""

from __future__ import annotations

import sys

from PyQt6.QtCore import QMimeData, Qt, QUrl
from PyQt6.QtGui import QDrag, QMouseEvent
from PyQt6.QtWidgets import QApplication, QLabel


class _Source(QLabel):
    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        mime = QMimeData()
        mime.setUrls([QUrl.fromLocalFile(name) for name in sys.argv[1:]])
        drag = QDrag(self)
        drag.setMimeData(mime)
        drag.exec(Qt.DropAction.CopyAction)


application = QApplication(sys.argv[:1])
source = _Source("Files")
source.setWindowTitle("Drag source")
source.setGeometry(20, 560, 120, 80)
source.show()
application.exec()
