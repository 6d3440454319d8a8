"""Help inside the program: guides for common jobs and a page for each stage, searched and linked, offline."""

from __future__ import annotations

import re
from collections.abc import Callable
from urllib.parse import quote, unquote

from PyQt6.QtCore import QSize, Qt, QUrl
from PyQt6.QtGui import QFont, QTextCursor
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QTextBrowser,
    QVBoxLayout,
)

from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.control_figure import draw_figure, figure_of
from yellow_ember.app.tools.help_pages import Page, control_page, guides, stage_pages
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.dsp.stages import stage_kind

_LINK = re.compile(r"\(((?:preset|do):[^)]+)\)")
FIRST = "guide:order-of-work"


class PageView(QTextBrowser):
    """Shows a page; draws the figures that it names."""

    def loadResource(self, kind: int, name: QUrl) -> object:
        if name.scheme() == "figure":
            stage, _, control = name.path().partition("/")
            figure = figure_of(stage_kind(stage), control)
            return None if figure is None else draw_figure(figure, self.devicePixelRatioF())
        return super().loadResource(kind, name)


def _page(key: str) -> Page:
    """The page of a key; KeyError where there is none."""
    if key.startswith("control:"):
        stage, _, control = key.removeprefix("control:").partition("/")
        try:
            return control_page(stage_kind(stage), control)
        except (ValueError, KeyError) as error:
            raise KeyError(key) from error
    return {page.key: page for page in (*guides(), *stage_pages())}[key]


class HelpTool(Tool):
    """A list of pages at the left, the page at the right.

    open_preset : what a link to a preset does
    do : what a link to steps does
    """

    title = "Help"
    first_size = QSize(900, 640)
    of_the_session = False
    shows_pictures = False

    def __init__(self, sessions: SessionKeeper, playback: Playback, open_preset: Callable[[str], None],
                 do: Callable[[str], object]) -> None:
        super().__init__(sessions, playback)
        self.setWindowTitle("Help")
        self._open_preset, self._do = open_preset, do
        self._visited: list[str] = []
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search in all pages")
        self.search.setAccessibleName("Search")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _text: self._fill())
        self.list = QListWidget()
        self.list.setAccessibleName("Pages")
        self.list.currentItemChanged.connect(lambda item, _old: self._chosen(item))
        self.back = QPushButton("Back")
        self.back.setToolTip("The page before (Alt+Left)")
        self.back.setShortcut("Alt+Left")
        self.back.clicked.connect(self.previous_page)
        self.text = PageView()
        self.text.setAccessibleName("Page")
        self.text.setOpenLinks(False)
        self.text.anchorClicked.connect(self._follow)
        self.text.setFont(theme.font(10.5))
        self.text.document().setDocumentMargin(16.0)  # type: ignore[union-attr]
        left = QVBoxLayout()
        left.addWidget(self.search)
        left.addWidget(self.list, 1)
        left.addWidget(self.back)
        layout = QHBoxLayout(self)
        layout.addLayout(left, 2)
        layout.addWidget(self.text, 5)
        self._fill()

    @property
    def page(self) -> str:
        """The key of the page that is shown."""
        return self._visited[-1] if self._visited else ""

    def _pages(self) -> list[tuple[str, tuple[Page, ...]]]:
        words = self.search.text().lower().split()

        def hits(pages: tuple[Page, ...]) -> tuple[Page, ...]:
            return tuple(page for page in pages if all(word in page.text.lower() for word in words))

        return [("Guides", hits(guides())), ("Stages", hits(stage_pages()))]

    def _fill(self) -> None:
        """Show the pages in which all words of the search are."""
        self.list.blockSignals(True)
        self.list.clear()
        for title, pages in self._pages():
            if not pages:
                continue
            head = QListWidgetItem(title)
            head.setFlags(Qt.ItemFlag.NoItemFlags)
            head.setForeground(theme.DIM)
            head.setFont(QFont(theme.font(8.5, bold=True)))
            self.list.addItem(head)
            for page in pages:
                item = QListWidgetItem(f"  {page.title}")
                item.setData(Qt.ItemDataRole.UserRole, page.key)
                self.list.addItem(item)
        self.list.blockSignals(False)
        self._mark()

    def _mark(self) -> None:
        """Choose the row of the page that is shown."""
        self.list.blockSignals(True)
        for row in range(self.list.count()):
            item = self.list.item(row)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == self.page:
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)

    def _chosen(self, item: QListWidgetItem | None) -> None:
        if item is not None and item.data(Qt.ItemDataRole.UserRole):
            self.show_page(item.data(Qt.ItemDataRole.UserRole))

    def show_page(self, key: str) -> None:
        """A page by its key; KeyError where there is none."""
        page = _page(key)
        if key != self.page:
            self._visited.append(key)
        # A link's target may hold no spaces.
        self.text.setMarkdown(_LINK.sub(lambda result: f"({quote(result[1], safe=':')})", page.text))
        self._dress_buttons()
        self.back.setEnabled(len(self._visited) > 1)
        self._mark()

    def _dress_buttons(self) -> None:
        """Let links that do something look like buttons."""
        document = self.text.document()
        assert document is not None
        block = document.begin()
        while block.isValid():
            places = block.begin()
            while not places.atEnd():
                part = places.fragment()
                if part.charFormat().anchorHref().startswith("do:"):
                    cursor = QTextCursor(document)
                    cursor.setPosition(part.position())
                    cursor.setPosition(part.position() + part.length(), QTextCursor.MoveMode.KeepAnchor)
                    look = part.charFormat()
                    look.setBackground(theme.AFTER_FILL)
                    look.setForeground(theme.TEXT)
                    look.setFontUnderline(False)
                    look.setFontWeight(QFont.Weight.DemiBold)
                    cursor.setCharFormat(look)
                places += 1
            block = block.next()

    def previous_page(self) -> None:
        """The page before."""
        if len(self._visited) > 1:
            self._visited.pop()
            self.show_page(self._visited[-1])

    def _follow(self, link: QUrl) -> None:
        target = unquote(link.toString())
        if target.startswith("preset:"):
            self._open_preset(target.removeprefix("preset:"))
        elif target.startswith("do:"):
            self._do(target.removeprefix("do:"))
        else:
            self.show_page(target)
