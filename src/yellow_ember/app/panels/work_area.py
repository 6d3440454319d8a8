"""Where the bench is, and the drawer of tools beside it or in its place; a tool may be taken out into a window."""

from __future__ import annotations

import contextlib

from PyQt6.QtCore import QEvent, QObject, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QGuiApplication, QResizeEvent
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QScrollArea,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QTabBar,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.layouts import state_as_text, state_from_text
from yellow_ember.app.widgets.text import TextLabel, as_text, menu_text

_SIDE_BY_SIDE = 1240
"""Width from which on there is room for a tool beside the bench."""


class ToolFrame(QScrollArea):
    """Gives a tool all the room there is, and scrolls where that is less than the least that it needs."""

    def __init__(self, tool: Tool) -> None:
        super().__init__()
        self.setWidget(tool)
        tool.installEventFilter(self)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.widget() and event.type() == QEvent.Type.LayoutRequest:
            self._fit()
        return super().eventFilter(watched, event)

    def _fit(self) -> None:
        tool, viewport = self.widget(), self.viewport()
        if tool is not None and viewport is not None:
            tool.resize(self.maximumViewportSize().expandedTo(tool.minimumSizeHint()))


class OwnWindow(QWidget):
    """A tool in a window of its own, whose size and place are remembered."""

    attach = pyqtSignal(object)

    def __init__(self, tool: Tool, settings: Settings, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.tool, self._settings = tool, settings
        self.setWindowTitle(tool.windowTitle())
        self._back = action_button("Attach", lambda: self.attach.emit(tool),
                                   "Show this tool in the main window again")
        top = QHBoxLayout()
        top.setContentsMargins(10, 6, 10, 0)
        top.addStretch(1)
        top.addWidget(self._back)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(top)
        layout.addWidget(tool, 1)
        tool.windowTitleChanged.connect(self.setWindowTitle)
        tool.show()
        self._go_where_it_was(parent)

    def _go_where_it_was(self, main: QWidget) -> None:
        """Take the remembered place; at first one beside what the tool works on, where the screen has room."""
        kept = self._settings.layout.get(_key(self.tool))
        if kept and self.restoreGeometry(state_from_text(kept)):
            return
        self.resize(self.tool.sizeHint().expandedTo(self.tool.first_size))
        screen = main.screen() or QGuiApplication.primaryScreen()
        if screen is None:
            return
        room, window = screen.availableGeometry(), main.window() or main
        frame = window.frameGeometry()
        right, left = room.right() - frame.right(), frame.left() - room.left()
        x = frame.right() + 1 if right >= self.width() else frame.left() - self.width() if left >= self.width() else (
            room.right() - self.width())
        self.move(max(x, room.left()), max(room.top(), min(frame.top() + 40, room.bottom() - self.height())))

    def remember(self) -> None:
        """Keep size and place for the next time."""
        self._settings.layout = {**self._settings.layout, _key(self.tool): state_as_text(self.saveGeometry())}

    def let_go(self) -> None:
        """Give the tool back without ending it."""
        self.remember()
        self.tool.setParent(None)
        self.hide()
        self.deleteLater()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.remember()
        if self.tool.isHidden() or self.tool.close():
            event.accept()
        else:
            event.ignore()


class WorkArea(QWidget):
    """The bench, and the tools that are open.

    Where it is wide, a tool stands beside the bench, else in place of it; the tabs above go from one to the other.
    """

    opened = pyqtSignal(object)
    """A tool is shown."""

    def __init__(self, bench: QWidget, selection: Selection, settings: Settings) -> None:
        super().__init__()
        self._bench, self._selection, self._settings = bench, selection, settings
        self._covered = False
        self._windows: dict[Tool, OwnWindow] = {}
        self._shown_for = (selection.strip_id, selection.stage_id)
        self.tabs = QTabBar()
        self.tabs.setAccessibleName("Bench and tools")
        self.tabs.setDrawBase(False)
        self.tabs.setExpanding(False)
        self.tabs.setUsesScrollButtons(True)
        self.tabs.addTab("Bench")
        self.about = TextLabel()
        self.about.setObjectName("dim")
        self.about.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.detach_button = action_button("Detach", self.detach, "Show this tool in a window of its own")
        self._row = QWidget()
        row = QHBoxLayout(self._row)
        row.setContentsMargins(6, 2, 10, 0)
        row.addWidget(self.tabs, 3)
        row.addWidget(self.about, 1)
        row.addWidget(self.detach_button)
        self._drawer = QStackedWidget()
        self._drawer.setObjectName("panel")
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setHandleWidth(4)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.addWidget(bench)
        self.splitter.addWidget(self._drawer)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self._row)
        layout.addWidget(self.splitter, 1)
        self.tabs.currentChanged.connect(lambda _index: self._arrange())
        selection.changed.connect(self._follow_selection)
        self._arrange()

    def sizeHint(self) -> QSize:
        # Asked for dozens of times when a stage is chosen: what the bench holds is not measured each time.
        return QSize(740, 420)

    # -- tools --------------------------------------------------------------------------

    @property
    def docked(self) -> list[Tool]:
        """Tools in the drawer, in the order of their tabs."""
        return [self._tool_at(index) for index in range(self._drawer.count())]

    @property
    def open_tools(self) -> list[Tool]:
        """All tools, in the drawer and in windows of their own."""
        return [*self.docked, *self._windows]

    @property
    def current(self) -> Tool | None:
        """The tool that the drawer shows."""
        index = self.tabs.currentIndex() - 1
        return self._tool_at(index) if 0 <= index < self._drawer.count() else None

    def _tool_at(self, index: int) -> Tool:
        frame = self._drawer.widget(index)
        assert isinstance(frame, ToolFrame)
        tool = frame.widget()
        assert isinstance(tool, Tool)
        return tool

    def show_tool(self, tool: Tool) -> Tool:
        """Show a tool where tools of its kind were last; one that is at work stays in place of a new one."""
        for other in self.open_tools:
            if type(other) is type(tool):
                if other.stays:
                    tool.deleteLater()
                    self.bring_forward(other)
                    return other
                other.close()
        tool.closed.connect(lambda: self._forget(tool))
        self.setVisible(True)
        if type(tool).__name__ in self._detached():
            self._open_window(tool)
        else:
            self._dock(tool)
        self.opened.emit(tool)
        return tool

    def bring_forward(self, tool: Tool) -> None:
        """Show a tool that is open."""
        if tool in self._windows:
            self._windows[tool].raise_()
            self._windows[tool].activateWindow()
        else:
            self.tabs.setCurrentIndex(1 + self.docked.index(tool))
        tool.setFocus()

    def _dock(self, tool: Tool) -> None:
        self._drawer.addWidget(ToolFrame(tool))
        tool.show()
        index = self.tabs.addTab(menu_text(tool.title))
        self.tabs.setTabToolTip(index, as_text(tool.windowTitle()))
        close = QToolButton()
        close.setText("\u00d7")
        close.setAccessibleName(f"Close {tool.title}")
        close.setToolTip("Close (Escape)")
        close.clicked.connect(tool.close)
        self.tabs.setTabButton(index, QTabBar.ButtonPosition.RightSide, close)
        self.tabs.setCurrentIndex(index)
        self._arrange()
        tool.first_focus().setFocus()

    def _open_window(self, tool: Tool) -> None:
        window = OwnWindow(tool, self._settings, self.window() or self)
        self._windows[tool] = window
        window.attach.connect(self.attach)
        window.show()
        tool.first_focus().setFocus()

    def detach(self) -> None:
        """Show the tool of the drawer in a window of its own, now and from now on."""
        tool = self.current
        if tool is not None:
            self._leave_drawer(tool)
            self._note_detached(tool, out=True)
            self._open_window(tool)

    def attach(self, tool: Tool) -> None:
        """Show a tool that was taken out in the drawer again."""
        window = self._windows.pop(tool)
        window.let_go()
        self._note_detached(tool, out=False)
        self._dock(tool)

    def _leave_drawer(self, tool: Tool) -> None:
        index = self.docked.index(tool)
        frame = self._drawer.widget(index)
        assert isinstance(frame, ToolFrame)
        tool.removeEventFilter(frame)
        frame.takeWidget()
        self._drawer.removeWidget(frame)
        frame.deleteLater()
        self.tabs.removeTab(index + 1)
        self._arrange()

    def _forget(self, tool: Tool) -> None:
        """Take away the place of a tool that has closed."""
        window = self._windows.pop(tool, None)
        if window is not None:
            window.close()
            return
        with contextlib.suppress(ValueError):
            self._leave_drawer(tool)

    def go_back(self) -> bool:
        """Leave the tool that the drawer shows as its Escape does; False where none is."""
        tool = self.current
        if tool is None:
            return False
        tool.go_back()
        return True

    def close_all(self) -> None:
        """Close every tool."""
        for tool in self.open_tools:
            tool.close()

    # -- what it is remembered by -------------------------------------------------------

    def _detached(self) -> list[str]:
        return self._settings.layout.get("detached", "").split(",")

    def _note_detached(self, tool: Tool, *, out: bool) -> None:
        others = [name for name in self._detached() if name and name != type(tool).__name__]
        names = [*others, type(tool).__name__] if out else others
        self._settings.layout = {**self._settings.layout, "detached": ",".join(names)}

    # -- arranging ----------------------------------------------------------------------

    def _follow_selection(self) -> None:
        """Close what is about a stage or a strip that is not the chosen one any more, while it is in the drawer."""
        now = self._selection.strip_id, self._selection.stage_id
        before, self._shown_for = self._shown_for, now
        for tool in self.docked:
            if (tool.of_the_stage and now != before) or (tool.of_the_strip and now[0] != before[0]):
                tool.close()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._arrange()

    def cover(self, covered: bool) -> None:
        """Hide the bench and every tool but the one that asks for it, or show them again."""
        self._covered = covered
        for window in self._windows.values():
            window.setVisible(not covered or not window.tool.shows_pictures)
        self._arrange()

    def _arrange(self) -> None:
        """Show the bench, the drawer, or both."""
        count = self._drawer.count()
        beside = self.width() >= _SIDE_BY_SIDE
        index = self.tabs.currentIndex() - 1
        self._row.setVisible(count > 0 and not self._covered)
        self.tabs.setTabVisible(0, not beside)
        if beside and index < 0 and count:
            self.tabs.setCurrentIndex(1)
            return
        if 0 <= index < count:
            self._drawer.setCurrentIndex(index)
        tool = self.current
        shows = tool is not None and not (self._covered and tool.shows_pictures)
        self._drawer.setVisible(shows)
        self._bench.setVisible((tool is None or beside) and not self._covered)
        self.about.setText("" if tool is None or tool.windowTitle() == tool.title else tool.windowTitle())
        self.detach_button.setVisible(tool is not None)


def _key(tool: Tool) -> str:
    return f"tool {type(tool).__name__}"
