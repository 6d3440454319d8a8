"""Colours, type and the one style sheet."""

from __future__ import annotations

import functools
import itertools
import math

from PyQt6.QtCore import QByteArray, Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPalette, QPixmap
from PyQt6.QtWidgets import QApplication

from yellow_ember.shipped import DATA

_LOOKS = {
    "dark": ("#171311", "#1f1a17", "#2b2520", "#40372f", "#efe7dc", "#b3a899", "#7a6f63", "#85796b", "#f2c43a",
             "#57471b", "#93a8bd", "#36414c", "#e2664a", "#4693a8bd", "#14efe7dc"),
    "light": ("#e9e2d6", "#f5f0e7", "#fffaf1", "#c4b8a6", "#261f18", "#5d5245", "#80745f", "#7a6f60", "#8a5800",
              "#f2d488", "#3d5a78", "#c3d0dc", "#b0391c", "#463d5a78", "#14261f18")}
"""Values in the order of the names below, the last two with their opacity first."""
_RAMPS = {
    "dark": ((0.0, "#3b2723"), (0.25, "#7d3522"), (0.5, "#c4561f"), (0.75, "#f09a2c"), (1.0, "#fdeeb4")),
    "light": ((0.0, "#3b2723"), (0.25, "#7d3522"), (0.5, "#c4561f"), (0.75, "#e88f1c"), (1.0, "#ffcb2e"))}
"""On a light ground the strongest ends where it can still be seen."""
(GROUND, PANEL, RAISED, EDGE, TEXT, DIM, FAINT, DISABLED, AFTER, AFTER_FILL, BEFORE, BEFORE_FILL, RECORD, HISTOGRAM,
 COMFORT) = (QColor(value) for value in _LOOKS["dark"])
_ALL = (GROUND, PANEL, RAISED, EDGE, TEXT, DIM, FAINT, DISABLED, AFTER, AFTER_FILL, BEFORE, BEFORE_FILL, RECORD,
        HISTOGRAM, COMFORT)
TINTS = (("Rust", "#b5523b"), ("Sand", "#c9a35a"), ("Moss", "#7d8f4e"), ("Fir", "#3f7f63"), ("Sea", "#3f8fa3"),
         ("Slate", "#5f7396"), ("Heather", "#8a6aa5"), ("Rose", "#b8698a"))
"""Colours that strips are told apart by, beside any other: clear of the ground in both looks."""
_MIN_CONTRAST = 4.5

FAINTEST_DB, STRONGEST_DB = -60.0, -5.0
_look = "dark"
FAMILY = "Manrope"
_FONTS = DATA / "fonts"


def added_colour(added_db: float) -> QColor:
    """The one ramp for what was added: dull coal at -60 dB and below, yellow-white at -5 dB and above."""
    if math.isnan(added_db):
        added_db = FAINTEST_DB
    share = min(max((added_db - FAINTEST_DB) / (STRONGEST_DB - FAINTEST_DB), 0.0), 1.0)
    return QColor(*_ramp_at(round(share * _RAMP_STEPS)))


def added_text_colour(added_db: float) -> QColor:
    """The ramp's colour, brought towards that of text as far as words in it need to be read."""
    colour = added_colour(added_db)
    for share in range(0, 101, 5):
        mixed = QColor(*(round(a + share / 100.0 * (b - a)) for a, b in zip(
            colour.getRgb()[:3], TEXT.getRgb()[:3], strict=True)))
        if contrast(mixed, PANEL) >= _MIN_CONTRAST:
            return mixed
    return TEXT


def swatch(tint: str) -> QIcon:
    """A square of a colour "#rrggbb", an empty one for ""."""
    square = QPixmap(14, 14)
    square.fill(QColor(tint) if tint else PANEL)
    return QIcon(square)


def contrast(first: QColor, second: QColor) -> float:
    """How far two colours stand apart, 1 to 21 (WCAG 2.2)."""
    low, high = sorted(map(_luminance, (first, second)))
    return (high + 0.05) / (low + 0.05)


def _luminance(colour: QColor) -> float:
    red, green, blue = (part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4
                        for part in (colour.redF(), colour.greenF(), colour.blueF()))
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


_RAMP_STEPS = 400


@functools.cache
def _ramp_at(step: int) -> tuple[int, int, int]:
    """Red, green and blue at a step of the ramp."""
    share = step / _RAMP_STEPS
    for (low, first), (high, second) in itertools.pairwise(_RAMPS[_look]):
        if share <= high:
            share = (share - low) / (high - low)
            a, b = QColor(first), QColor(second)
            red, green, blue = (round(x + share * (y - x)) for x, y in zip(
                (a.red(), a.green(), a.blue()), (b.red(), b.green(), b.blue()), strict=True))
            return red, green, blue
    raise ValueError(f"step {step} lies beyond the ramp's {_RAMP_STEPS}")


@functools.cache
def shades(count: int) -> tuple[QColor, ...]:
    """Colours for things of one rank, from the colour of before to that of after."""
    result = []
    for index in range(count):
        share = index / max(count - 1, 1)
        result.append(QColor(*(round(a + share * (b - a)) for a, b in zip(
            BEFORE.getRgb()[:3], AFTER.getRgb()[:3], strict=True))))
    return tuple(result)


@functools.cache
def font(size: float, *, bold: bool = False) -> QFont:
    """The shipped family with tabular figures; size in points."""
    made = QFont(FAMILY)
    made.setPointSizeF(size)
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


def use(look: str) -> None:
    """Take on the colours of a look, "dark" or "light", from the next painting on."""
    global _look
    _look = look
    for colour, value in zip(_ALL, _LOOKS[look], strict=True):
        colour.setRgba(QColor(value).rgba())
    _ramp_at.cache_clear()
    shades.cache_clear()


def apply(application: QApplication, look: str = "desktop") -> None:
    """Colours, fonts, palette and style sheet for the whole program; where the desktop has no wish, the dark look."""
    hints = application.styleHints()
    if look == "desktop":
        wishes_light = hints is not None and hints.colorScheme() is Qt.ColorScheme.Light
        look = "light" if wishes_light else "dark"
    use(look)
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
        palette.setColor(QPalette.ColorGroup.Disabled, which, DISABLED)
    application.setPalette(palette)
    application.setStyleSheet(_sheet())


def _sheet() -> str:
    ground, panel, raised, edge, text, dim, disabled, after, fill = (
        colour.name() for colour in (GROUND, PANEL, RAISED, EDGE, TEXT, DIM, DISABLED, AFTER, AFTER_FILL))
    return f"""
QWidget#panel {{ background: {panel}; }}
QWidget#card {{ background: {raised}; }}
QLabel#dim {{ color: {dim}; }}
QTabBar::tab {{ background: transparent; color: {dim}; padding: 4px 10px; border: none;
                border-bottom: 2px solid transparent; }}
QTabBar::tab:selected {{ color: {text}; border-bottom-color: {after}; }}
QTabBar::tab:hover, QTabBar::tab:focus {{ color: {after}; }}
QSplitter::handle {{ background: {ground}; }}
QToolTip {{ border: 1px solid {edge}; padding: 4px; }}
QMenuBar {{ background: {ground}; }}
QMenuBar::item {{ padding: 3px 9px; }}
QMenuBar::item:selected, QMenu::item:selected {{ background: {fill}; }}
QMenu {{ background: {panel}; border: 1px solid {edge}; padding: 4px; }}
QMenu::item {{ padding: 4px 22px 4px 14px; }}
QMenu::item:disabled {{ color: {disabled}; }}
QMenu::separator {{ height: 1px; background: {edge}; margin: 4px 8px; }}
QPushButton {{ background: {raised}; border: 1px solid {edge}; border-radius: 3px; padding: 3px 10px; }}
QPushButton:hover {{ border-color: {dim}; }}
QPushButton:focus {{ border-color: {after}; }}
QPushButton:checked {{ background: {fill}; border-color: {after}; color: {text}; }}
QPushButton:disabled {{ color: {disabled}; }}
QToolButton {{ background: transparent; border: 1px solid transparent; border-radius: 3px; padding: 1px 6px; }}
QToolButton:hover {{ border-color: {dim}; }}
QToolButton:focus {{ border-color: {after}; }}
QToolButton:checked {{ background: {fill}; color: {text}; }}
QToolButton::menu-indicator {{ image: none; }}
QCheckBox::indicator:unchecked, QListWidget::indicator:unchecked {{
    width: 11px; height: 11px; border: 1px solid {dim}; border-radius: 2px; background: {ground}; }}
QScrollArea {{ border: none; background: {panel}; }}
QScrollBar:vertical {{ background: {panel}; width: 9px; }}
QScrollBar::handle:vertical {{ background: {edge}; border-radius: 4px; min-height: 24px; }}
QScrollBar:horizontal {{ background: {panel}; height: 9px; }}
QScrollBar::handle:horizontal {{ background: {edge}; border-radius: 4px; min-width: 24px; }}
QHeaderView::section {{ background: {panel}; color: {dim}; border: none; border-bottom: 1px solid {edge};
                        padding: 3px 4px; }}
QTableView {{ border: 1px solid {edge}; selection-background-color: {fill}; selection-color: {text}; }}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; }}
QLineEdit, QComboBox, QSpinBox {{ background: {ground}; border: 1px solid {edge}; border-radius: 3px;
                                  padding: 3px 6px; }}
QLineEdit:focus, QComboBox:focus, QSpinBox:focus {{ border-color: {after}; }}
"""
