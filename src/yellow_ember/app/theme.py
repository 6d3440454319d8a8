"""Colours, type and the one style sheet."""

from __future__ import annotations

import functools
import itertools
import math
from pathlib import Path

from PyQt6.QtCore import QByteArray
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication

GROUND = QColor("#171311")
PANEL = QColor("#1f1a17")
RAISED = QColor("#2b2520")
EDGE = QColor("#40372f")
TEXT = QColor("#efe7dc")
DIM = QColor("#b3a899")
FAINT = QColor("#7a6f63")
AFTER = QColor("#f2c43a")
AFTER_FILL = QColor("#57471b")
BEFORE = QColor("#93a8bd")
BEFORE_FILL = QColor("#36414c")
HISTOGRAM = QColor(147, 168, 189, 70)
COMFORT = QColor(239, 231, 220, 20)

_RAMP = ((0.0, "#3b2723"), (0.25, "#7d3522"), (0.5, "#c4561f"), (0.75, "#f09a2c"), (1.0, "#fdeeb4"))
COLDEST_DB, HOTTEST_DB = -60.0, -5.0
FAMILY = "Manrope"
_FONTS = Path(__file__).parents[1] / "data" / "fonts"


def heat_colour(heat_db: float) -> QColor:
    """The one ramp for heat: dull coal at -60 dB and below, yellow-white at -5 dB and above."""
    if math.isnan(heat_db):
        heat_db = COLDEST_DB
    place = min(max((heat_db - COLDEST_DB) / (HOTTEST_DB - COLDEST_DB), 0.0), 1.0)
    return QColor(*_ramp_at(round(place * _RAMP_STEPS)))


_RAMP_STEPS = 400


@functools.cache
def _ramp_at(step: int) -> tuple[int, int, int]:
    """Red, green and blue at a step of the ramp."""
    place = step / _RAMP_STEPS
    for (low, first), (high, second) in itertools.pairwise(_RAMP):
        if place <= high:
            share = (place - low) / (high - low)
            a, b = QColor(first), QColor(second)
            red, green, blue = (round(x + share * (y - x)) for x, y in zip(
                (a.red(), a.green(), a.blue()), (b.red(), b.green(), b.blue()), strict=True))
            return red, green, blue
    raise ValueError(f"step {step} lies beyond the ramp's {_RAMP_STEPS}")


@functools.cache
def shades(count: int) -> tuple[QColor, ...]:
    """Colours for things of one rank, from the colour of before to that of after."""
    found = []
    for place in range(count):
        share = place / max(count - 1, 1)
        found.append(QColor(*(round(a + share * (b - a)) for a, b in zip(
            BEFORE.getRgb()[:3], AFTER.getRgb()[:3], strict=True))))
    return tuple(found)


@functools.cache
def font(size: float, *, bold: bool = False) -> QFont:
    """The shipped family with tabular figures; size in points."""
    made = QFont(FAMILY)
    made.setPointSizeF(size)
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


def apply(application: QApplication) -> None:
    """Fonts, palette and style sheet for the whole program."""
    for file in sorted(_FONTS.glob("*.ttf")):
        QFontDatabase.addApplicationFontFromData(QByteArray(file.read_bytes()))
    application.setStyle("Fusion")
    application.setFont(font(9.5))
    palette = QPalette()
    role = QPalette.ColorRole
    for which, colour in ((role.Window, GROUND), (role.Base, PANEL), (role.AlternateBase, RAISED),
                          (role.Button, RAISED), (role.Text, TEXT), (role.WindowText, TEXT),
                          (role.ButtonText, TEXT), (role.Highlight, AFTER_FILL), (role.HighlightedText, TEXT),
                          (role.ToolTipBase, RAISED), (role.ToolTipText, TEXT), (role.PlaceholderText, DIM),
                          (role.Light, EDGE), (role.Midlight, EDGE), (role.Dark, GROUND), (role.Mid, EDGE),
                          (role.Link, AFTER)):
        palette.setColor(which, colour)
    for which in (role.Text, role.WindowText, role.ButtonText):
        palette.setColor(QPalette.ColorGroup.Disabled, which, QColor("#85796b"))
    application.setPalette(palette)
    application.setStyleSheet(_SHEET)


_SHEET = f"""
QWidget#panel {{ background: {PANEL.name()}; }}
QSplitter::handle {{ background: {GROUND.name()}; }}
QToolTip {{ border: 1px solid {EDGE.name()}; padding: 4px; }}
QMenuBar {{ background: {GROUND.name()}; }}
QMenuBar::item {{ padding: 3px 9px; }}
QMenuBar::item:selected, QMenu::item:selected {{ background: {AFTER_FILL.name()}; }}
QMenu {{ background: {PANEL.name()}; border: 1px solid {EDGE.name()}; padding: 4px; }}
QMenu::item {{ padding: 4px 22px 4px 14px; }}
QMenu::item:disabled {{ color: #85796b; }}
QMenu::separator {{ height: 1px; background: {EDGE.name()}; margin: 4px 8px; }}
QPushButton {{ background: {RAISED.name()}; border: 1px solid {EDGE.name()}; border-radius: 3px;
               padding: 3px 10px; }}
QPushButton:hover {{ border-color: {DIM.name()}; }}
QPushButton:focus {{ border-color: {AFTER.name()}; }}
QPushButton:checked {{ background: {AFTER_FILL.name()}; border-color: {AFTER.name()}; color: {TEXT.name()}; }}
QPushButton:disabled {{ color: #85796b; }}
QPushButton#jump {{ background: transparent; border: none; padding: 2px 6px; color: {DIM.name()}; }}
QPushButton#jump:hover, QPushButton#jump:focus {{ color: {AFTER.name()}; }}
QScrollArea {{ border: none; background: {PANEL.name()}; }}
QScrollBar:vertical {{ background: {PANEL.name()}; width: 9px; }}
QScrollBar::handle:vertical {{ background: {EDGE.name()}; border-radius: 4px; min-height: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; }}
QLineEdit, QComboBox, QSpinBox {{ background: {GROUND.name()}; border: 1px solid {EDGE.name()};
                                  border-radius: 3px; padding: 3px 6px; }}
QLineEdit:focus, QComboBox:focus, QSpinBox:focus {{ border-color: {AFTER.name()}; }}
"""
