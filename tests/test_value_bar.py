"""The main control, with a real mouse and keyboard."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPalette, QWheelEvent
from PyQt6.QtWidgets import QApplication, QLineEdit, QMenu, QWidget
from pytestqt.qtbot import QtBot

from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Group, Number, Parameter, Switch
from yellow_ember.dsp.stages import STAGES, stage_kind

LEVEL = Number(id="level_db", label="Level", unit="dB", minimum=-20.0, maximum=20.0, default=0.0, group=Group.DRIVE,
               help="How loud it is.")


class Watcher:
    """Counts what a bar asks for."""

    def __init__(self, bar: ValueBar) -> None:
        self.changing: list[Any] = []
        self.committed: list[Any] = []
        bar.changing.connect(self.changing.append)
        bar.committed.connect(self.committed.append)


MakeBar = Callable[..., tuple[ValueBar, Watcher]]


@pytest.fixture
def bar(qtbot: QtBot) -> MakeBar:
    def make(parameter: Parameter = LEVEL) -> tuple[ValueBar, Watcher]:
        made = ValueBar(parameter)
        qtbot.addWidget(made)
        made.resize(200, 30)
        made.show()
        return made, Watcher(made)

    return make


def drag(qtbot: QtBot, widget: QWidget, start: QPoint, end: QPoint,
         modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    qtbot.mousePress(widget, Qt.MouseButton.LeftButton, modifier, start)
    for step in range(1, 11):
        point = start + (end - start) * step / 10
        event_point = QPointF(point)
        QApplication.sendEvent(widget, QMouseEvent(
            QEvent.Type.MouseMove, event_point, widget.mapToGlobal(event_point), Qt.MouseButton.NoButton,
            Qt.MouseButton.LeftButton, modifier))
    qtbot.mouseRelease(widget, Qt.MouseButton.LeftButton, modifier, end)


def wheel(widget: QWidget, steps: int) -> None:
    centre = QPointF(widget.rect().center())
    QApplication.sendEvent(widget, QWheelEvent(
        centre, widget.mapToGlobal(centre), QPoint(), QPoint(0, 120 * steps), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False))


def test_a_drag_is_many_changes_and_one_commit(qtbot: QtBot, bar: MakeBar) -> None:
    widget, seen = bar()
    drag(qtbot, widget, QPoint(100, 15), QPoint(150, 15))
    assert widget.setting == pytest.approx(10.0, abs=0.5)
    assert len(seen.changing) > 5
    assert seen.committed == [widget.setting]


def test_shift_drags_finely(qtbot: QtBot, bar: MakeBar) -> None:
    widget, _ = bar()
    drag(qtbot, widget, QPoint(100, 15), QPoint(150, 15), Qt.KeyboardModifier.ShiftModifier)
    assert widget.setting == pytest.approx(1.0, abs=0.1)


def test_wheel_and_keys_commit_once_they_rest(qtbot: QtBot, bar: MakeBar) -> None:
    widget, seen = bar()
    for _ in range(3):
        wheel(widget, 1)
    qtbot.keyClick(widget, Qt.Key.Key_Up)
    assert widget.setting == pytest.approx(1.6)
    assert seen.committed == []
    qtbot.waitUntil(lambda: len(seen.committed) == 1, timeout=2000)
    qtbot.keyClick(widget, Qt.Key.Key_PageDown)
    qtbot.keyClick(widget, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert widget.setting == pytest.approx(1.6 - 4.0 - 0.04, abs=0.01)


@pytest.mark.parametrize(("typed", "value"), [("6", 6.0), ("-3,5", -3.5), ("99", 20.0), ("+4 dB", 4.0)])
def test_typed_values(typed: str, value: float, qtbot: QtBot, bar: MakeBar) -> None:
    widget, seen = bar()
    widget.setFocus()
    qtbot.keyClick(widget, Qt.Key.Key_Return)
    editor = widget.findChild(QLineEdit)
    editor.setText(typed)
    qtbot.keyClick(editor, Qt.Key.Key_Return)
    assert widget.setting == value
    assert seen.committed == [value]


def test_nonsense_and_escape_change_nothing(qtbot: QtBot, bar: MakeBar) -> None:
    widget, seen = bar()
    for typed, key in (("fog", Qt.Key.Key_Return), ("7", Qt.Key.Key_Escape)):
        widget.edit()
        editor = next(e for e in widget.findChildren(QLineEdit) if e.isVisible() or e.isVisibleTo(widget))
        editor.setText(typed)
        qtbot.keyClick(editor, key)
        qtbot.wait(10)
    assert widget.setting == 0.0
    assert seen.committed == []


def test_double_click_and_backspace_go_to_the_default(qtbot: QtBot, bar: MakeBar) -> None:
    widget, seen = bar()
    widget.show_value(7.0)
    qtbot.mouseDClick(widget, Qt.MouseButton.LeftButton, pos=QPoint(60, 15))
    assert widget.setting == 0.0
    widget.show_value(5.0)
    qtbot.keyClick(widget, Qt.Key.Key_Backspace)
    assert seen.committed == [0.0, 0.0]


def test_the_model_moves_the_bar_without_signals(bar: MakeBar) -> None:
    widget, seen = bar()
    widget.show_value(-8.0)
    assert widget.setting == -8.0
    assert "\u22128.0 dB" in widget.accessibleDescription()
    assert seen.changing == []


def test_switches_and_choices(qtbot: QtBot, bar: MakeBar) -> None:
    switch, seen = bar(Switch(id="on", label="On", group=Group.NOISE, default=False, help="Switches it on."))
    qtbot.mouseClick(switch, Qt.MouseButton.LeftButton)
    assert seen.committed == [True]
    stock, seen = bar(stage_kind("tape").parameter("stock"))
    qtbot.keyClick(stock, Qt.Key.Key_Right)
    assert stock.setting == "breaker"
    qtbot.mouseClick(stock, Qt.MouseButton.LeftButton)
    menu = stock.findChild(QMenu)
    menu.actions()[0].trigger()
    assert stock.setting == "lantern"
    assert seen.committed[-1] == "lantern"
    menu.close()


@pytest.mark.parametrize("parameter", [p for kind in STAGES for p in kind.parameters], ids=lambda p: p.id)
def test_every_parameter_has_a_named_and_drawn_control(parameter: Parameter, bar: MakeBar) -> None:
    widget, _ = bar(parameter)
    assert widget.accessibleName() == parameter.label
    assert parameter.help in widget.accessibleDescription()
    assert parameter.help in widget.toolTip()
    assert not widget.grab().isNull()


@pytest.fixture(params=["dark", "light"])
def look(request: pytest.FixtureRequest) -> Iterator[str]:
    theme.use(request.param)
    yield request.param
    theme.use("dark")


def test_text_stands_out_enough(look: str) -> None:
    for ground in (theme.GROUND, theme.PANEL, theme.RAISED, theme.AFTER_FILL):
        texts = (theme.TEXT, theme.DIM, theme.AFTER, theme.BEFORE) if ground is not theme.AFTER_FILL else (theme.TEXT,)
        for text in texts:
            assert theme.contrast(text, ground) >= 4.5
    for added_db in range(-60, -4, 5):
        assert theme.contrast(theme.added_text_colour(added_db), theme.PANEL) >= 4.5


def test_the_ramp_runs_from_coal_to_yellow(look: str) -> None:
    levels = [theme.contrast(theme.added_colour(db), QColor("black")) for db in range(-60, -4, 5)]
    assert levels == sorted(levels)
    assert theme.added_colour(-300.0) == theme.added_colour(-60.0)


def test_the_look_follows_the_desktop_where_it_is_to(qapp: QApplication) -> None:
    theme.apply(qapp, "light")
    assert qapp.palette().color(QPalette.ColorRole.Window).lightness() > 200
    theme.apply(qapp, "desktop")
    wishes_light = qapp.styleHints().colorScheme() is Qt.ColorScheme.Light
    assert (qapp.palette().color(QPalette.ColorRole.Window).lightness() > 200) is wishes_light
    theme.apply(qapp, "dark")
    assert qapp.palette().color(QPalette.ColorRole.Window).lightness() < 60
