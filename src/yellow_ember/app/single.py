"""One window for each user: a second start hands its files to the first and ends."""

from __future__ import annotations

import json
import socket
from pathlib import Path

import platformdirs
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtNetwork import QLocalServer, QLocalSocket

_PATIENCE_SECONDS = 2.0
_TAKEN = b"taken\n"


def meeting_place() -> Path:
    """The socket that the first window listens at."""
    folder = Path(platformdirs.user_runtime_dir("yellow-ember"))
    folder.mkdir(parents=True, exist_ok=True)
    return folder / "window"


def hand_over(paths: list[Path]) -> bool:
    """Let a window that is open already open these files; False where there is none."""
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
            line.settimeout(_PATIENCE_SECONDS)
            line.connect(str(meeting_place()))
            line.sendall(json.dumps([str(path.resolve()) for path in paths]).encode() + b"\n")
            return line.recv(len(_TAKEN)) == _TAKEN
    except OSError:
        return False


class SingleInstance(QObject):
    """Listens for later starts; `handed` brings their paths (none: the window is just wanted)."""

    handed = pyqtSignal(list)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        self._server.newConnection.connect(self._connected)
        place = str(meeting_place())
        if not self._server.listen(place):
            # What a crash left behind: nobody answers there.
            QLocalServer.removeServer(place)
            self._server.listen(place)

    @property
    def listening(self) -> bool:
        return self._server.isListening()

    def _connected(self) -> None:
        while (line := self._server.nextPendingConnection()) is not None:
            line.readyRead.connect(lambda chosen=line: self._read(chosen))
            line.disconnected.connect(line.deleteLater)
            self._read(line)

    def _read(self, line: QLocalSocket) -> None:
        if not line.canReadLine():
            return
        try:
            found = json.loads(bytes(line.readLine().data()))
        except ValueError:
            return
        line.write(_TAKEN)
        line.flush()
        if isinstance(found, list):
            self.handed.emit([Path(str(name)) for name in found])

    def close(self) -> None:
        self._server.close()
