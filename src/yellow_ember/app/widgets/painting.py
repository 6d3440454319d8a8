"""Drawing that an error in it can't break: the painter always ends, and a quiet placeholder stands in."""

from __future__ import annotations

import functools
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TypeVar

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPixmap
from PyQt6.QtWidgets import QWidget

from yellow_ember.app.widgets import theme

View = TypeVar("View", bound=QWidget)


@contextmanager
def painting(surface: QWidget | QPixmap) -> Iterator[QPainter]:
    """A painter that ends with the block.

    Qt falls over a painter that is left behind, so an error goes to `sys.excepthook` and no further, which tells
    each one once.
    """
    painter = QPainter(surface)
    try:
        yield painter
    except Exception:
        painter.end()
        _draw_placeholder(surface)
        sys.excepthook(*sys.exc_info())
    finally:
        if painter.isActive():
            painter.end()


def painted(draw: Callable[[View, QPainter], None]) -> Callable[[View, QPaintEvent], None]:
    """A `paintEvent` from a method that takes a painter."""

    @functools.wraps(draw)
    def paint(self: View, event: QPaintEvent) -> None:
        with painting(self) as painter:
            draw(self, painter)

    return paint


def still(view: QWidget, ground: QColor, draw: Callable[[QPainter], None]) -> QPixmap:
    """A picture as large as a view, at its screen's resolution, to be shown until something in it changes."""
    ratio = view.devicePixelRatioF()
    picture = QPixmap(view.size() * ratio)
    picture.setDevicePixelRatio(ratio)
    picture.fill(ground)
    with painting(picture) as painter:
        draw(painter)
    return picture


def _draw_placeholder(surface: QWidget | QPixmap) -> None:
    painter = QPainter(surface)
    painter.fillRect(surface.rect(), theme.PANEL)
    painter.setFont(theme.font(8))
    painter.setPen(theme.FAINT)
    painter.drawText(surface.rect(), int(Qt.AlignmentFlag.AlignCenter), "Nothing to show")
    painter.end()
