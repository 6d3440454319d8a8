"""Variations of a stage: what is tried, how it is rendered, the sheet and the balance field."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt

from conftest import measured
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.pictures.contours import bilinear, contour
from yellow_ember.app.tools.balance_field import BalanceField
from yellow_ember.app.tools.variation_sheet import VariationSheet
from yellow_ember.dsp.stages import STAGES, stage_kind
from yellow_ember.engine.jobs.measuring import measure_strip
from yellow_ember.engine.jobs.variations import VariationOrder, dealt, render_variations
from yellow_ember.session.edits.edits import add_stage, set_parameter
from yellow_ember.session.edits.variation_plan import MOST, along, at_random, counts, first_choice
from yellow_ember.session.values.model import Loop, Session, new_stage

STRIP, RATE = "upright-bass", 48000


def quiet(_share: float) -> None:
    """No progress is shown."""


@pytest.mark.parametrize("kind", STAGES, ids=lambda kind: kind.kind)
def test_every_stage_has_a_plan_of_valid_values(kind: Any) -> None:
    if kind.tone is not None:
        assert kind.number(kind.tone)
    plan = along(kind, kind.defaults(), first_choice(kind))
    assert 2 <= len(plan.values) <= MOST
    assert len(set(plan.labels)) == len(plan.labels)
    for values in (*plan.values, *at_random(kind, kind.defaults(), 7).values):
        assert kind.check(values) == values


def test_combinations_fill_the_sheet_and_bring_what_follows() -> None:
    tape = stage_kind("tape")
    names = ("stock", "speed_ips", "bias_db")
    assert np.prod(counts(tape, names)) == MOST
    plan = along(tape, tape.defaults(), names)
    assert {values["stock"] for values in plan.values} == {"lantern", "harbour", "breaker", "beacon"}
    assert [values["bias_db"] for values in plan.values[:2]] == [-1.8, 1.8]


def test_what_is_random_comes_again_from_its_seed() -> None:
    kind = stage_kind("drive")
    first, again, other = (at_random(kind, kind.defaults(), seed) for seed in (5, 5, 6))
    assert first == again
    assert first != other
    assert all(values["out_db"] == kind.defaults()["out_db"] for values in first.values), "level is left alone"


@pytest.fixture
def session(demo: Session) -> Session:
    """An equaliser, a drive and a trim on the bass, over two seconds."""
    for kind in ("eq", "drive", "trim"):
        demo = add_stage(demo, STRIP, new_stage(kind))
    return demo.with_(loop=Loop(10 * RATE, 12 * RATE))


def test_a_variation_is_what_the_strip_would_be(session: Session) -> None:
    drive = session.strip(STRIP).chain[1]
    values = [{**drive.params, "drive_db": level} for level in (3.0, 30.0)]
    made = list(render_variations(quiet, session, VariationOrder(STRIP, drive.id), tuple(enumerate(values))))
    assert [result.number for result in made] == [0, 1]
    for result, level in zip(made, (3.0, 30.0), strict=True):
        whole = measure_strip(quiet, set_parameter(session, STRIP, drive.id, "drive_db", level), STRIP)
        assert result.added_db == pytest.approx(whole.comparison.added_db, abs=0.5)
        assert result.offset_db == pytest.approx(whole.offset_db, abs=0.1)
    assert made[1].added_db > made[0].added_db + 10.0


def test_a_stretch_comes_near_the_whole_and_workers_share_the_work(session: Session) -> None:
    drive = session.strip(STRIP).chain[1]
    values = [{**drive.params, "drive_db": level} for level in (6.0, 12.0, 18.0, 24.0, 30.0)]
    shares = dealt(values)
    assert [len(share) for share in shares] == [3, 2]
    made = [result for share in shares
            for result in render_variations(quiet, session, VariationOrder(STRIP, drive.id, 0.7, 1), share)]
    assert sorted(result.number for result in made) == [0, 1, 2, 3, 4]
    levels = [result.added_db for result in sorted(made, key=lambda result: result.number)]
    assert levels == sorted(levels)


# -- the sheet --------------------------------------------------------------------------------


@pytest.fixture
def driven(window: MainWindow) -> MainWindow:
    workspace = window.workspace
    workspace.sessions.document.commit("Loop", lambda _: workspace.sessions.session.with_(loop=Loop(10 * RATE,
                                                                                                    12 * RATE)))
    workspace.selection.select(STRIP)
    window.path_view.add("drive")
    return window


@pytest.fixture
def sheet(driven: MainWindow, qtbot: Any) -> VariationSheet:
    driven.bench.open_variations()
    result = driven.findChild(VariationSheet)
    qtbot.waitUntil(lambda: not driven.workspace.jobs.is_running_several(result), timeout=90000)
    return result


def test_a_sheet_is_made_sorted_heard_and_taken_over(driven: MainWindow, sheet: VariationSheet, qtbot: Any) -> None:
    workspace = driven.workspace
    assert len(sheet.tiles) == 24
    assert all(tile.variation is not None for tile in sheet.tiles)
    sheet.order.setCurrentText("most added first")
    first = sheet._grid.itemAtPosition(0, 0).widget()
    assert first.variation.added_db == max(tile.variation.added_db for tile in sheet.tiles)
    before = workspace.sessions.session
    qtbot.mouseClick(first, Qt.MouseButton.LeftButton)
    assert workspace.selection.strip.chain[0].params == first.variation.values
    assert workspace.selection.strip.match_db == first.variation.offset_db
    assert first.lit
    qtbot.keyClick(sheet, Qt.Key.Key_Right)
    second = sheet.heard
    assert second is not first
    assert second.lit
    assert not first.lit
    sheet.buttons["Apply"].click()
    assert workspace.sessions.document.undo_label == f"Variation {second.label}"
    measured(qtbot, driven)
    assert workspace.selection.strip.match_db == pytest.approx(second.variation.offset_db, abs=0.1)
    driven.undo()
    assert workspace.selection.strip.chain == before.strip(STRIP).chain


def test_a_sheet_can_be_stopped_left_and_made_from_a_seed(driven: MainWindow, sheet: VariationSheet,
                                                         qtbot: Any) -> None:
    before = driven.workspace.selection.strip.chain
    sheet.hear(sheet.tiles[3])
    assert driven.workspace.selection.strip.chain != before
    sheet.random.setChecked(True)
    sheet.seed.setValue(9)
    sheet.buttons["Render"].click()
    assert driven.workspace.selection.strip.chain == before
    labels = [tile.label for tile in sheet.tiles]
    sheet.buttons["Stop"].click()
    assert sheet.buttons["Render"].isEnabled()
    sheet.buttons["Render"].click()
    assert [tile.label for tile in sheet.tiles] == labels
    qtbot.waitUntil(lambda: sheet.tiles[0].variation is not None, timeout=60000)
    sheet.hear(sheet.tiles[0])
    qtbot.keyClick(sheet, Qt.Key.Key_Escape)
    assert driven.workspace.selection.strip.chain == before


# -- the field --------------------------------------------------------------------------------


def test_contours_and_places_between() -> None:
    x, y = np.meshgrid(np.linspace(0.0, 1.0, 9), np.linspace(0.0, 1.0, 7))
    lines = contour(10.0 * x, 3.3)
    assert lines
    assert all(abs(10.0 * across - 3.3) < 1e-9 for line in lines for across in line[::2])
    assert contour(10.0 * x, 11.0) == []
    assert bilinear(2.0 * x + 3.0 * y, 0.37, 0.81) == pytest.approx(2.0 * 0.37 + 3.0 * 0.81)
    round_one = contour((x - 0.5) ** 2 + (y - 0.5) ** 2, 0.09)
    ends = [np.hypot(px - 0.5, py - 0.5) for line in round_one for px, py in (line[:2], line[2:])]
    assert np.allclose(ends, 0.3, atol=0.03)


@pytest.fixture
def field(driven: MainWindow, qtbot: Any) -> BalanceField:
    driven.balance.snapshots.take(2)
    driven.bench.open_field()
    result = driven.findChild(BalanceField)
    qtbot.waitUntil(lambda: result.rounds >= 1, timeout=60000)
    return result


def test_the_field_maps_what_is_added_and_moves_the_stage(driven: MainWindow, field: BalanceField, qtbot: Any) -> None:
    workspace, picture = driven.workspace, field.picture
    assert picture.added.shape == (4, 5)
    assert np.all(np.diff(picture.added.mean(axis=0)) > 0.0), "more drive adds more"
    assert np.all(np.diff(picture.brightness.mean(axis=1)) > 0.0), "up is brighter"
    assert picture.marks == [(*picture.point, "3")]
    qtbot.waitUntil(lambda: field.rounds >= 2, timeout=60000)
    assert picture.added.shape == (7, 9)
    frame = picture._frame()
    at = QPointF(frame.left() + 0.75 * frame.width(), frame.bottom() - 0.25 * frame.height())
    qtbot.mouseClick(picture, Qt.MouseButton.LeftButton, pos=at.toPoint())
    params = workspace.selection.strip.chain[0].params
    kind = stage_kind("drive")
    assert kind.number("drive_db").position(params["drive_db"]) == pytest.approx(0.75, abs=0.01)
    assert kind.number("bright_db").position(params["bright_db"]) == pytest.approx(0.25, abs=0.01)
    assert workspace.sessions.document.undo_label == "Drive and Brightness"
    roughly = workspace.selection.strip.match_db
    assert "added" in field.state.text()
    measured(qtbot, driven)
    assert workspace.selection.strip.match_db == pytest.approx(roughly, abs=1.5)
    assert workspace.measurer.latest(STRIP).comparison.added_db == pytest.approx(
        bilinear(np.asarray(picture.added), 0.75, 0.25), abs=4.0)
    picture.setFocus()
    qtbot.keyClick(picture, Qt.Key.Key_Right)
    assert workspace.selection.strip.chain[0].params["drive_db"] > params["drive_db"]
    field.close()


def test_the_field_is_made_anew_when_something_else_changes(driven: MainWindow, field: BalanceField,
                                                            qtbot: Any) -> None:
    driven.bench.bar("asymmetry_pct").ask(60.0, commit=True)
    assert field.rounds == 0
    qtbot.waitUntil(lambda: field.rounds >= 1, timeout=60000)
    field.up.setCurrentIndex(field.up.findData("lean_db"))
    assert field.rounds == 0
    qtbot.waitUntil(lambda: field.rounds >= 1, timeout=60000)
    assert field.picture.labels[1] == "Lean"
    driven.path_view.remove_chosen()
    assert not field.isVisible()
