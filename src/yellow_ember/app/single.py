"""One window for each user: a second start hands its files to the first and ends."""

from __future__ import annotations

import contextlib
import json
import os
import socket
from enum import Enum
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtNetwork import QLocalServer, QLocalSocket

from yellow_ember.folders import Base, folder

_PATIENCE_SECONDS = 2.0
_TAKEN = b"taken\n"
_MAXIMUM_BYTES = 2**20


class Answer(Enum):
    """What an open window says to a later start."""

    TAKEN = "it opens the files"
    NOBODY = "there is no open window"
    SILENT = "there is one, and it does not answer"


def meeting_place() -> Path:
    """The socket that the first window listens at."""
    return folder(Base.RUNTIME) / "window"


def hand_over(paths: list[Path]) -> Answer:
    """Let a window that is open already open these files."""
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
            line.settimeout(_PATIENCE_SECONDS)
            line.connect(str(meeting_place()))
            with contextlib.suppress(OSError):
                line.sendall(json.dumps([os.path.abspath(path) for path in paths]).encode() + b"\n")
                if line.recv(len(_TAKEN)) == _TAKEN:
                    return Answer.TAKEN
            return Answer.SILENT
    except TimeoutError:
        return Answer.SILENT
    except OSError:
        return Answer.NOBODY


class SingleInstance(QObject):
    """Listens for later starts; `handed` brings their paths (none: the window is just wanted)."""

    handed = pyqtSignal(list)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        self._server.newConnection.connect(self._connected)
        with contextlib.suppress(OSError):
            path = str(meeting_place())
            if not self._server.listen(path) and hand_over([]) is Answer.NOBODY:
                # What a crash left behind: nobody answers there.
                QLocalServer.removeServer(path)
                self._server.listen(path)

    @property
    def listening(self) -> bool:
        return self._server.isListening()

    def _connected(self) -> None:
        while (line := self._server.nextPendingConnection()) is not None:
            line.setReadBufferSize(_MAXIMUM_BYTES)
            line.readyRead.connect(lambda chosen=line: self._read(chosen))
            line.disconnected.connect(line.deleteLater)
            self._read(line)

    def _read(self, line: QLocalSocket) -> None:
        if not line.canReadLine():
            if line.bytesAvailable() >= _MAXIMUM_BYTES:
                line.abort()
            return
        try:
            result = json.loads(line.readLine(_MAXIMUM_BYTES))
        except (ValueError, RecursionError):
            line.abort()
            return
        line.write(_TAKEN)
        line.flush()
        if isinstance(result, list):
            self.handed.emit([Path(str(name)) for name in result])

    def close(self) -> None:
        self._server.close()
