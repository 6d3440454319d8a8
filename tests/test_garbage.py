"""Cycles are collected in the window's thread alone."""

from __future__ import annotations

import gc
import threading
import weakref

from pytestqt.qtbot import QtBot

from yellow_ember.app.main_window import MainWindow


class Knot:
    """Something that holds itself."""

    def __init__(self, gone: list[int]) -> None:
        self.itself = self
        weakref.finalize(self, lambda: gone.append(threading.get_ident()))


def test_no_other_thread_takes_cycles_apart(window: MainWindow, qtbot: QtBot) -> None:
    gone: list[int] = []
    assert not gc.isenabled()
    Knot(gone)

    def allocate() -> None:
        held = [[number] for number in range(200000)]
        del held

    thread = threading.Thread(target=allocate)
    thread.start()
    thread.join()
    assert gone == [], "a thread beside the window's collects nothing"
    held = [[number] for number in range(5000)]
    qtbot.waitUntil(lambda: bool(gone), timeout=10000)
    assert gone == [threading.get_ident()]
    assert held
    assert window.isVisible()
