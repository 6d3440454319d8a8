"""The program as a process of its own that tells a test about its window: a line of Python in, a line of JSON out.

Everything that is *done* to it comes from outside, as from a user: by mouse, keys, signals and files.
"""

from __future__ import annotations

import json
import sys
import traceback

from PyQt6.QtCore import QSocketNotifier

from yellow_ember.app import start
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.workspace import Workspace
from yellow_ember.cli import main


class _Observed(MainWindow):
    """The main window, with its ear at standard input."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._ear = QSocketNotifier(0, QSocketNotifier.Type.Read, self)  # type: ignore[call-overload]
        self._ear.activated.connect(self._asked)

    def _asked(self) -> None:
        line = sys.stdin.readline()
        if not line:
            self._ear.setEnabled(False)
            return
        try:
            answer = eval(line, {"window": self, "workspace": self.workspace})
        except Exception:
            answer = {"trouble": traceback.format_exc()}
        print(json.dumps(answer, default=str), flush=True)


if __name__ == "__main__":
    start.MainWindow = _Observed  # type: ignore[misc]
    raise SystemExit(main(sys.argv[1:]))
