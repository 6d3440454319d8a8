"""The drawer of tools: beside or in place of the bench, taken out and put back, remembered."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PyQt6.QtCore import QCoreApplication, QEvent, Qt
from PyQt6.QtWidgets import QTabBar
from pytestqt.qtbot import QtBot

from conftest import OpenWindow
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.help_tool import HelpTool
from yellow_ember.app.tools.history import HistoryTool
from yellow_ember.app.tools.macro_editor import MacroEditor
from yellow_ember.app.tools.meters import MetersTool
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.tools.spread import Spread
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.tools.variation_sheet import VariationSheet
from yellow_ember.session.values.model import Session
from yellow_ember.shipped import DEMO

EVERY_TOOL = ("Presets\u2026", "Sets\u2026", "Macros\u2026", "Links\u2026", "Balance field of the stage\u2026",
              "Variations of the stage\u2026", "Line-up of the machine\u2026", "Spread of all strips\u2026",
              "Meters\u2026", "Blind test\u2026", "Batch\u2026", "Tempo\u2026", "History\u2026", "Guides and stages")


@pytest.fixture
def shown(open_window: OpenWindow) -> MainWindow:
    window = open_window(DEMO)
    window.resize(1280, 800)
    return window


def with_tempo(tempo: float) -> Callable[[Session], Session]:
    return lambda session: session.with_(tempo=tempo)


def use(window: MainWindow, words: str) -> None:
    """Choose an entry of the menus."""
    bar = window.menuBar()
    assert bar is not None
    next(entry for menu in bar.actions() for entry in menu.menu().actions() if entry.text() == words).trigger()


@pytest.mark.parametrize("size", [(1280, 800), (1024, 700), (2560, 1440)])
def test_every_tool_opens_in_the_window_and_leaves_the_rest_in_sight(shown: MainWindow, qtbot: QtBot,
                                                                   size: tuple[int, int]) -> None:
    shown.resize(*size)
    for words in EVERY_TOOL:
        use(shown, words)
        qtbot.wait(20)
        tool = shown.work_area.current
        assert tool is not None, words
        assert tool.window() is shown
        assert tool.isVisible()
        for panel in (shown.top_line, shown.path_view, shown.balance, shown.timeline, shown.desk):
            assert panel.isVisible(), (words, panel)
        assert shown.bench.isVisible() is (size[0] > 2000), words
        assert shown.size().width() == size[0]
        assert shown.size().height() == size[1]
        qtbot.keyClick(tool, Qt.Key.Key_Escape)
        assert shown.work_area.current is None
        assert shown.bench.isVisible()


def test_escape_in_the_window_leaves_the_tool(shown: MainWindow, qtbot: QtBot) -> None:
    use(shown, "Meters\u2026")
    qtbot.keyClick(shown.path_view, Qt.Key.Key_Escape)
    assert not shown.work_area.open_tools


def test_tabs_go_from_tool_to_tool_and_to_the_bench(shown: MainWindow, qtbot: QtBot) -> None:
    area = shown.work_area
    use(shown, "Meters\u2026")
    use(shown, "History\u2026")
    assert [area.tabs.tabText(index) for index in range(area.tabs.count())] == ["Bench", "Meters", "History"]
    area.tabs.setCurrentIndex(0)
    assert shown.bench.isVisible()
    area.tabs.setCurrentIndex(1)
    assert isinstance(area.current, MetersTool)
    qtbot.mouseClick(area.tabs.tabButton(1, QTabBar.ButtonPosition.RightSide), Qt.MouseButton.LeftButton)
    assert isinstance(area.current, HistoryTool)
    use(shown, "History\u2026")
    assert len(area.open_tools) == 1, "one of a kind"


def test_a_tool_is_taken_out_and_comes_back_where_it_was(shown: MainWindow, qtbot: QtBot) -> None:
    area = shown.work_area
    use(shown, "Meters\u2026")
    meters = area.current
    area.detach_button.click()
    assert meters.window() is not shown
    assert meters.isVisible()
    assert shown.bench.isVisible()
    own = meters.window()
    own.setGeometry(40, 55, 720, 400)
    own.close()
    assert not area.open_tools
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    use(shown, "Meters\u2026")
    again = area.open_tools[0]
    assert again.window() is not shown, "it was last in a window of its own"
    assert again.window().geometry().getRect() == (40, 55, 720, 400)
    again.window()._back.click()
    assert again.window() is shown
    assert again.isVisible()
    assert area.current is again
    qtbot.keyClick(again, Qt.Key.Key_Escape)
    use(shown, "Meters\u2026")
    assert area.current.window() is shown


def test_a_tool_in_a_window_of_its_own_goes_with_the_program(shown: MainWindow) -> None:
    use(shown, "History\u2026")
    shown.work_area.detach()
    own = shown.work_area.open_tools[0].window()
    shown.end()
    assert not own.isVisible()


def test_what_is_about_a_stage_closes_with_another_one(shown: MainWindow) -> None:
    shown.workspace.selection.select("ships-announcer")
    chain = shown.workspace.selection.strip.chain
    tools = shown.workspace.tools
    tools.open(VariationSheet)
    tools.open(MacroEditor)
    tools.open(MetersTool)
    shown.workspace.selection.select("ships-announcer", chain[1].id)
    assert [type(tool) for tool in shown.work_area.open_tools] == [MacroEditor, MetersTool]
    shown.workspace.selection.select("harmonium")
    assert [type(tool) for tool in shown.work_area.open_tools] == [MetersTool]


def test_a_wide_window_shows_the_tool_beside_the_bench(shown: MainWindow) -> None:
    shown.resize(2560, 1440)
    use(shown, "Spread of all strips\u2026")
    assert shown.bench.isVisible()
    assert isinstance(shown.work_area.current, Spread)
    shown.resize(1280, 800)
    assert not shown.bench.isVisible()


def test_a_hidden_bench_comes_back_with_a_tool(shown: MainWindow) -> None:
    use(shown, "Bench")
    assert shown.work_area.isHidden()
    use(shown, "Guides and stages")
    assert isinstance(shown.work_area.current, HelpTool)
    assert shown.work_area.isVisible()


def test_the_history_goes_to_any_step(shown: MainWindow) -> None:
    workspace = shown.workspace
    document = workspace.sessions.document
    values = [workspace.sessions.session]
    for tempo in (80.0, 85.0, 90.0):
        document.commit(f"Tempo {tempo:g}", with_tempo(tempo))
        values.append(workspace.sessions.session)
    history = workspace.tools.open(HistoryTool)
    rows = [history.list.item(row).text() for row in range(history.list.count())]
    assert rows == ["As opened", "Tempo 80", "Tempo 85", "Tempo 90"]
    for row in (1, 3, 0, 2):
        history.list.setCurrentRow(row)
        assert workspace.sessions.session == values[row]
        assert document.position == row
    shown.undo()
    assert history.list.currentRow() == 1
    document.commit("Other", lambda session: session.with_(tempo=100.0))
    assert document.steps == ["Tempo 80", "Other"]
    with pytest.raises(ValueError, match="2 steps"):
        document.go_to(3)


def test_one_preset_browser_at_a_time(shown: MainWindow) -> None:
    first: Tool = shown.workspace.tools.open(PresetBrowser)
    second = shown.workspace.tools.open(PresetBrowser)
    assert shown.work_area.open_tools == [second]
    assert not first.isVisible()
