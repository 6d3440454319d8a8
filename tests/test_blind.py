"""The blind test: its order, its figures, and the window in which it is taken."""

from __future__ import annotations

from typing import Any

import pytest
from PyQt6.QtCore import Qt

from conftest import measured
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.blind_test import BlindTool
from yellow_ember.dsp.parameters import as_number
from yellow_ember.session.blind_test import BlindTest

STRIP = "upright-bass"


def answered(right: int, trials: int) -> BlindTest:
    test = BlindTest.made(trials, seed=3)
    for number in range(trials):
        test.answer(test.x_is_b if number < right else not test.x_is_b)
    return test


@pytest.mark.parametrize(("right", "trials", "chance", "heard"), [
    (12, 16, 0.0384, True), (11, 16, 0.1051, False), (8, 8, 1 / 256, True), (7, 8, 9 / 256, True),
    (6, 8, 37 / 256, False), (0, 8, 1.0, False), (24, 24, 2.0**-24, True)])
def test_what_answers_are_worth(right: int, trials: int, chance: float, heard: bool) -> None:
    """Against tables of the binomial distribution."""
    test = answered(right, trials)
    assert test.done
    assert test.right == right
    assert test.chance == pytest.approx(chance, abs=1e-4)
    assert test.verdict().startswith(f"{right} of {trials}: ")
    assert ("this does not show" not in test.verdict()) is heard


def test_the_order_is_random_and_even() -> None:
    order = BlindTest.made(4000).order
    assert 1800 < sum(order) < 2200
    assert BlindTest.made(50).order != BlindTest.made(50).order
    assert BlindTest.made(50, seed=1).order == BlindTest.made(50, seed=1).order
    with pytest.raises(ValueError, match="all was asked"):
        answered(4, 4).answer(True)


@pytest.fixture
def blind(window: MainWindow, qtbot: Any) -> BlindTool:
    """Clean against hot, as two snapshots of the bass."""
    workspace, row = window.workspace, window.balance.snapshots
    workspace.selection.select(STRIP)
    window.path_view.add("drive")
    row.take(0)
    window.bench.bar("drive_db").ask(40.0, commit=True)
    row.take(1)
    row.use(0)
    measured(qtbot, window)
    result = workspace.tools.open(BlindTool, "strip")
    return result


def begun(qtbot: Any, blind: BlindTool, first: str, second: str) -> BlindTest:
    blind.first.setCurrentText(first)
    blind.second.setCurrentText(second)
    blind.trials.setCurrentText("8")
    blind.buttons["Start"].click()
    qtbot.waitUntil(lambda: blind.test is not None, timeout=60000)
    assert blind.test is not None
    return blind.test


def drive(window: MainWindow) -> float:
    return as_number(window.workspace.selection.strip.chain[0].params["drive_db"])


def test_a_whole_test(window: MainWindow, blind: BlindTool, qtbot: Any) -> None:
    workspace = window.workspace
    before = workspace.sessions.session
    test = begun(qtbot, blind, "Snapshot 1", "Snapshot 2")
    assert not window.bench.isVisibleTo(window)
    assert window.balance.isHidden()
    for side in blind._sides:
        # Both are matched by a measurement of their own.
        strip = side.strip(STRIP)
        known = next(result for sound, result in workspace.measurer._remembered
                     if sound[-1][0][1] == strip.chain or strip.chain in sound[-1][0])
        assert known.after.integrated_lufs + strip.match_db == pytest.approx(known.before.integrated_lufs, abs=0.1)
    for _ in range(8):
        qtbot.keyClick(blind, Qt.Key.Key_A)
        assert drive(window) == 12.0
        qtbot.keyClick(blind, Qt.Key.Key_B)
        assert drive(window) == 40.0
        qtbot.keyClick(blind, Qt.Key.Key_X)
        heard = drive(window) == 40.0
        assert heard is test.x_is_b
        qtbot.keyClick(blind, Qt.Key.Key_2 if heard else Qt.Key.Key_1)
    assert blind.state.text().startswith("8 of 8: you hear it")
    assert not window.balance.isHidden()
    assert workspace.sessions.session.strips == before.strips
    assert "8 of 8" in workspace.messages.all[-1].text
    blind.close()


def test_leaving_in_the_middle_brings_everything_back(window: MainWindow, blind: BlindTool, qtbot: Any) -> None:
    before = window.workspace.sessions.session
    begun(qtbot, blind, "how it stands now", "without any stage")
    blind.hear("B")
    assert window.workspace.selection.strip.bypass
    blind.answer(True)
    qtbot.keyClick(blind, Qt.Key.Key_Escape)
    assert window.workspace.sessions.session.strips == before.strips
    assert not window.desk.isHidden()
    assert "of 1" in window.workspace.messages.all[-1].text


def test_two_of_the_same_are_not_compared(blind: BlindTool) -> None:
    blind.first.setCurrentText("Snapshot 2")
    blind.second.setCurrentText("Snapshot 2")
    blind.buttons["Start"].click()
    assert "are the same" in blind.state.text()
    assert blind.test is None
    blind.close()
