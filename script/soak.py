#!/usr/bin/env python3
"""A long random session in the real window.

Usage: soak.py [MINUTES] [SEED]

Random edits through the widgets, all tools opened and closed, strips and stages added and removed under them, plays
and kills of the engine.  At the end: undone to the start it equals the start, redone to the end the end, saved and
opened again what was saved; memory and handles by process are printed as they went, and an error ends with status 1.
Then ten hours of edits at four a second are put through the history, which must stay within its bounds.
"""

from __future__ import annotations

import os
import random
import signal
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

_HOME = tempfile.mkdtemp(prefix="yellow-ember-soak-")
for variable in ("XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_RUNTIME_DIR"):
    os.environ[variable] = os.path.join(_HOME, variable.lower())
    os.makedirs(os.environ[variable], mode=0o700)

from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMessageBox, QWidget

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.start import report_unexpected
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.step_lane import StepLane
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.stages import STAGES
from yellow_ember.engine.forking import start_server
from yellow_ember.session.document import MAXIMUM_HISTORY_BYTES, Document
from yellow_ember.session.edits.edits import add_bus, remove_strip, set_parameter, use_chain
from yellow_ember.session.edits.limits import LimitError
from yellow_ember.session.io.presets import all_presets
from yellow_ember.session.io.session_file import read_session
from yellow_ember.session.values.model import MASTER, StripKind
from yellow_ember.shipped import DEMO

TOOLS = ("Presets\u2026", "Sets\u2026", "Macros\u2026", "Links\u2026", "Balance field of the stage\u2026",
         "Variations of the stage\u2026", "Line-up of the machine\u2026", "Spread of all strips\u2026",
         "Meters\u2026", "Blind test\u2026", "Batch\u2026", "Guides and stages")
REPORT_SECONDS = 60.0


class Soak:
    """The window, the dice, and what went wrong."""

    def __init__(self, seed: int) -> None:
        self.dice = random.Random(seed)
        start_server()
        self.application = QApplication([])
        theme.apply(self.application)
        self.window = MainWindow(Workspace(Settings()))
        self.workspace = self.window.workspace
        self.errors: list[BaseException] = []
        report_unexpected(self.workspace.messages)
        hook = sys.excepthook

        def note(kind: type[BaseException], error: BaseException, trace: Any) -> None:
            if not isinstance(error, LimitError):
                self.errors.append(error)
            hook(kind, error, trace)

        sys.excepthook = note
        QMessageBox.question = lambda *_: QMessageBox.StandardButton.Discard  # type: ignore[method-assign]
        self.window.show()
        self.workspace.start()
        self.workspace.sessions.open_path(DEMO)
        self.wait(lambda: self.workspace.playback.engine is not None and not self.workspace.imports.busy, 60.0)
        self.first = self.workspace.sessions.session
        self.counts: dict[str, int] = {}

    def run(self, seconds: float) -> None:
        """Let the window live."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            self.application.processEvents()
            time.sleep(0.002)

    def wait(self, condition: Callable[[], object], seconds: float) -> None:
        end = time.monotonic() + seconds
        while not condition():
            self.run(0.02)
            if time.monotonic() > end:
                raise TimeoutError("the window did not get there")

    # -- what a user does -------------------------------------------------------------------

    def bars(self) -> list[QWidget]:
        return [bar for bar in self.window.bench.bars.values() if bar.isVisible() and not isinstance(bar, StepLane)]

    def choose_strip(self) -> None:
        row = self.dice.choice(list(self.window.desk.rows.values()))
        modifier = self.dice.choice([Qt.KeyboardModifier.NoModifier] * 5 + [Qt.KeyboardModifier.ControlModifier])
        QTest.mouseClick(row, Qt.MouseButton.LeftButton, modifier, QPointF(40, 10).toPoint())

    def choose_stage(self) -> None:
        if self.workspace.selection.strip.chain:
            self.workspace.selection.select(self.workspace.selection.strip_id,
                                            self.dice.choice(self.workspace.selection.strip.chain).id)

    def add_stage(self) -> None:
        if len(self.workspace.selection.strip.chain) < 6:
            self.window.path_view.add(self.dice.choice(STAGES).kind)

    def remove_stage(self) -> None:
        if self.workspace.selection.stage_id:
            self.window.path_view.remove_chosen()

    def drag_bar(self) -> None:
        bars = self.bars()
        if bars:
            bar = self.dice.choice(bars)
            at = QPointF(0.5 * bar.width(), 0.5 * bar.height()).toPoint()
            QTest.mousePress(bar, Qt.MouseButton.LeftButton, pos=at)
            for _ in range(self.dice.randrange(1, 12)):
                at.setX(at.x() + self.dice.randrange(-25, 26))
                QTest.mouseMove(bar, at)
                self.run(0.005)
            QTest.mouseRelease(bar, Qt.MouseButton.LeftButton, pos=at)

    def wheel_bar(self) -> None:
        bars = self.bars()
        if bars:
            bar = self.dice.choice(bars)
            at = QPointF(bar.rect().center())
            for _ in range(self.dice.randrange(1, 5)):
                QApplication.sendEvent(bar, QWheelEvent(
                    at, QPointF(bar.mapToGlobal(at.toPoint())), at.toPoint(), QPointF(0, 120).toPoint(),
                    Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False))

    def preset(self) -> None:
        result = self.dice.choice(all_presets())
        self.workspace.sessions.document.commit(result.name, lambda _: use_chain(
            self.workspace.sessions.session, self.workspace.selection.strip_id, result.stages, result.macros,
            result.match_db))

    def undo(self) -> None:
        self.window.undo()

    def redo(self) -> None:
        self.window.redo()

    def press_key(self) -> None:
        QTest.keyClick(self.window, self.dice.choice([
            Qt.Key.Key_Space, Qt.Key.Key_B, Qt.Key.Key_D, Qt.Key.Key_L, Qt.Key.Key_Home]))

    def buses(self) -> None:
        session = self.workspace.sessions.session
        own = [strip for strip in session.strips if strip.kind is StripKind.BUS]
        if len(own) < 6:
            self.workspace.sessions.document.commit("Add bus", lambda _: add_bus(session, f"Bus {len(own)}"))
        else:
            self.workspace.sessions.document.commit("Remove", lambda _: remove_strip(session, self.dice.choice(own).id))

    def toggle(self) -> None:
        self.dice.choice(list(self.window.desk.rows.values())).toggle(self.dice.choice(["mute", "solo", "bypass"]))

    def snapshot(self) -> None:
        index = self.dice.randrange(8)
        (self.window.balance.snapshots.take if self.dice.random() < 0.5 else self.window.balance.snapshots.use)(index)

    def open_tool(self) -> None:
        name = self.dice.choice(TOOLS)
        for menu in self.window.menuBar().actions():
            for action in menu.menu().actions():
                if action.text() == name and action.isEnabled():
                    action.trigger()

    def close_tool(self) -> None:
        tools = self.tools()
        if tools:
            tool = self.dice.choice(tools)
            QTest.keyClick(tool, Qt.Key.Key_Escape)
            if tool in self.tools():
                tool.close()

    def tools(self) -> list[Tool]:
        return [widget for widget in self.window.findChildren(Tool) if widget.isVisible()]

    def kill_engine(self) -> None:
        engine = self.workspace.playback.engine
        if engine is not None and engine.pid is not None and self.dice.random() < 0.05:
            os.kill(engine.pid, signal.SIGKILL)

    def do_something(self) -> None:
        weighted = ((self.drag_bar, 20), (self.wheel_bar, 12), (self.choose_strip, 14), (self.choose_stage, 8),
                    (self.add_stage, 6), (self.remove_stage, 4), (self.preset, 3), (self.undo, 6), (self.redo, 4),
                    (self.press_key, 6), (self.buses, 2), (self.toggle, 4), (self.snapshot, 4), (self.open_tool, 3),
                    (self.close_tool, 4), (self.kill_engine, 1))
        act = self.dice.choices([act for act, _ in weighted], [weight for _, weight in weighted])[0]
        self.counts[act.__name__] = self.counts.get(act.__name__, 0) + 1
        act()

    # -- what must hold ---------------------------------------------------------------------

    def settle(self) -> None:
        for tool in self.tools():
            tool.close()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        self.workspace.settings.match_lock = False
        self.run(1.5)

    def check_history(self) -> list[str]:
        """Undone to the start it is the start, redone to the end the end."""
        document, troubles = self.workspace.sessions.document, []
        document.settle()
        last = document.session
        while document.undo() is not None:
            pass
        if _without_matches(document.session) != _without_matches(self.first):
            troubles.append("undone to the start, it is not the start")
        while document.redo() is not None:
            pass
        if _without_matches(document.session) != _without_matches(last):
            troubles.append("redone to the end, it is not the end")
        path = Path(_HOME) / "soak.ember"
        if not self.workspace.sessions.save(path, self.workspace.selection.strip_id):
            troubles.append("it can't be saved")
        elif read_session(path).with_(shown="") != document.session.with_(shown=""):
            troubles.append("opened again, it is not what was saved")
        return troubles


def _without_matches(session: Any) -> Any:
    """Measured offsets belong to no step."""
    return session.with_(strips=tuple(strip.with_(match_db=0.0) for strip in session.strips))


def report(pids: list[tuple[str, int]], started: float) -> None:
    parts = []
    for name, pid in pids:
        try:
            pages = int(Path(f"/proc/{pid}/statm").read_text().split()[1])
            parts.append(f"{name} {pages * 4 // 1024} MB, {len(os.listdir(f'/proc/{pid}/fd'))} handles")
        except OSError:
            continue
    print(f"{time.monotonic() - started:5.0f} s  " + "; ".join(parts), flush=True)


def ten_hours() -> list[str]:
    """Ten hours of edits at four a second, by the history alone."""
    session = read_session(DEMO)
    document, dice = Document(session), random.Random(10)
    strips = [strip for strip in session.strips if strip.chain and strip.id != MASTER]
    begun = time.monotonic()
    for number in range(10 * 3600 * 4):
        strip = dice.choice(strips)
        stage = dice.choice(strip.chain)
        drive = stage.declaration.drive
        if drive is None:
            continue
        parameter = stage.declaration.number(drive)
        document.commit("Drive", lambda _: set_parameter(
            document.session, strip.id, stage.id, drive, parameter.clamp(parameter.at(dice.random()))))
        if number % 36000 == 0:
            report([("history", os.getpid())], begun)
    print(f"ten hours of edits: {document.history_bytes / 2**20:.0f} MB of history, "
          f"{time.monotonic() - begun:.0f} s of computing")
    return [] if document.history_bytes <= MAXIMUM_HISTORY_BYTES else ["the history has outgrown its bound"]


def main() -> int:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 15.0
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    soak, started, reported = Soak(seed), time.monotonic(), 0.0
    while time.monotonic() < started + 60.0 * minutes and not soak.errors:
        soak.do_something()
        soak.run(soak.dice.choice([0.0, 0.02, 0.1, 0.5]))
        if time.monotonic() - reported > REPORT_SECONDS:
            reported = time.monotonic()
            engine = soak.workspace.playback.engine
            report([("window", os.getpid()), *([("engine", engine.pid)] if engine and engine.pid else [])], started)
    soak.settle()
    troubles = [f"error: {error!r}" for error in soak.errors]
    if not troubles:
        troubles = soak.check_history()
    print(f"{sum(soak.counts.values())} actions: " + ", ".join(
        f"{count} {name.replace('_', ' ')}" for name, count in sorted(soak.counts.items())))
    soak.workspace.close()
    troubles += ten_hours()
    for trouble in troubles:
        print(f"TROUBLE {trouble}")
    print("nothing was lost and nothing fell" if not troubles else f"{len(troubles)} troubles")
    return 1 if troubles else 0


if __name__ == "__main__":
    raise SystemExit(main())
