"""Windows beside the main one: Escape leaves them, and nothing of them is left behind when they are gone."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from PyQt6.QtCore import QCoreApplication, QEvent, Qt
from PyQt6.QtWidgets import QWidget

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.balance_field import BalanceField
from yellow_ember.app.tools.batch import BatchTool
from yellow_ember.app.tools.blind_test import BlindTool
from yellow_ember.app.tools.links import LinksTool
from yellow_ember.app.tools.macro_editor import MacroEditor
from yellow_ember.app.tools.meters import MetersTool
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.tools.set_browser import SetBrowser
from yellow_ember.app.tools.spread import Spread
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.tools.variation_sheet import VariationSheet

TOOLS: list[tuple[Callable[..., QWidget], tuple[str, ...]]] = [
    (BalanceField, ()), (BatchTool, ()), (BlindTool, ("strip",)), (LinksTool, ()), (MacroEditor, ()),
    (MetersTool, ()), (PresetBrowser, ()), (SetBrowser, ()), (Spread, ()), (VariationSheet, ())]


@pytest.mark.parametrize(("tool", "more"), TOOLS, ids=range(len(TOOLS)))
def test_a_window_that_is_gone_hears_nothing(tool: Callable[..., QWidget], more: tuple[str, ...],
                                             window: MainWindow, qtbot: Any) -> None:
    workspace = window.workspace
    workspace.selection.select("upright-bass")
    window.path_view.add("drive")
    made = workspace.tools.open(tool, *more)
    qtbot.wait(50)
    if isinstance(made, Tool):
        qtbot.keyClick(made, Qt.Key.Key_Escape)
        assert not made.isVisible()
    else:
        made.close()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    # Every signal that such windows listen to; an error in a slot fails the test.
    window.bench.bar("drive_db").ask(20.0, commit=True)
    workspace.selection.select("harmonium")
    workspace.playback.hear_before(True)
    workspace.playback.hear_before(False)
    qtbot.wait(150)
    window.undo()
