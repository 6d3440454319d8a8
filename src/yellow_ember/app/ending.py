"""Ending when the system asks for it: what is unsaved is written down, no question is asked, and it is quick."""

from __future__ import annotations

import os
import signal
import socket
import threading
import time
from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QSessionManager

_SIGNALS = (signal.SIGTERM, signal.SIGHUP, signal.SIGINT)
_PATIENCE_SECONDS = 0.3
_LOGOUT_SECONDS = 20.0
"""So soon after the desktop has said so it closes the windows."""


class SystemEnding(QObject):
    """Watches for signals and the end of the desktop's session.

    Signals are taken in a thread of their own, since the window's thread may be busy or in a dialog.

    asked : emitted in the window's thread, to leave the event loop
    write : writes down what is unsaved; kill : ends what runs beside the window.  Both may come from another thread
    """

    asked = pyqtSignal()

    def __init__(self, write: Callable[[], None], kill: Callable[[], None]) -> None:
        super().__init__()
        self._write = write
        self._kill = kill
        self.ending = False
        self._logout_until = 0.0
        self._reads, self._writes = socket.socketpair()
        self._writes.setblocking(False)
        signal.set_wakeup_fd(self._writes.fileno(), warn_on_full_buffer=False)
        for number in _SIGNALS:
            # What is done stands in the thread; a handler has to be there for the signal to reach it.
            signal.signal(number, lambda *_: None)
        threading.Thread(target=self._watch, daemon=True).start()
        application = QGuiApplication.instance()
        if isinstance(application, QGuiApplication):
            application.commitDataRequest.connect(self._logout)

    def _watch(self) -> None:
        while received := self._reads.recv(1):
            if received[0] in _SIGNALS:
                break
        else:
            return
        self.ending = True
        self._write()
        self.asked.emit()
        # The window's thread closes what it can; a hung one keeps nobody waiting.
        time.sleep(_PATIENCE_SECONDS)
        self._kill()
        os._exit(0)

    def _logout(self, _manager: QSessionManager) -> None:
        """The desktop's session ends, or is only being saved: the work is on disk either way."""
        self._logout_until = time.monotonic() + _LOGOUT_SECONDS
        self._write()

    @property
    def logging_out(self) -> bool:
        """True while the desktop may be closing its windows: no question is to be asked."""
        return time.monotonic() < self._logout_until

    def close(self) -> None:
        """The program ends by itself."""
        signal.set_wakeup_fd(-1)
        for number in _SIGNALS:
            signal.signal(number, signal.SIG_DFL)
        self._writes.close()
