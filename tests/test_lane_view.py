"""Lanes in the window: drawn, dragged, typed, copied, ridden; bars that follow them; passages that stages act in."""

from __future__ import annotations

from typing import TYPE_CHECKING

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import QMenu, QMessageBox
from pytestqt.qtbot import QtBot

from test_value_bar import drag
from yellow_ember.app.panels.lane_menu import acting_words, add_acting_menu
from yellow_ember.app.state.lane_writer import Ride
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.tools.time_dialogs import PointDialog
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.lanes import Lane, Point, Shape, lane_position, position_at
from yellow_ember.dsp.stage_values import MIX, ON
from yellow_ember.session.edits.edits import add_stage
from yellow_ember.session.edits.lane_edits import begin_lane, put_lane, thinned, with_stretch
from yellow_ember.session.edits.link_edits import link_strips
from yellow_ember.session.edits.time_edits import add_passage
from yellow_ember.session.io.presets import delete_preset, find_preset
from yellow_ember.session.io.sets import set_from
from yellow_ember.session.values.drawn import find_lane, lanes_in_seconds
from yellow_ember.session.values.model import Loop, Session, new_stage
from yellow_ember.session.values.places import Passage

if TYPE_CHECKING:
    from yellow_ember.app.main_window import MainWindow

BEAT = 60.0 / 96.0


def with_drive(window: MainWindow) -> str:
    """A drive on the chosen strip; its id."""
    workspace, stage = window.workspace, new_stage("drive")
    workspace.sessions.document.commit("d", lambda session: add_stage(session, workspace.selection.strip_id, stage))
    workspace.selection.select(workspace.selection.strip_id, stage.id)
    return stage.id


def lane_of(window: MainWindow, stage_id: str, name: str = "drive_db") -> Lane:
    lane = find_lane(window.workspace.selection.strip, stage_id, name)
    assert lane is not None
    return lane


def bar_of(window: MainWindow, name: str = "drive_db") -> ValueBar:
    bar = window.bench.bar(name)
    assert isinstance(bar, ValueBar)
    return bar


def chosen(menu: QMenu, words: str) -> None:
    """Choose an entry of a menu."""
    next(action for action in menu.actions() if action.text() == words).trigger()


def draw_over_time(window: MainWindow, bar: ValueBar) -> None:
    menu = QMenu()
    bar.menu_opening.emit(menu)
    chosen(menu, "Draw over time")


def test_a_lane_is_begun_from_a_controls_menu_and_drawn(window: MainWindow, qtbot: QtBot) -> None:
    stage_id, lanes = with_drive(window), window.timeline.lanes
    assert lanes.isHidden()
    bar = bar_of(window)
    draw_over_time(window, bar)
    assert not lanes.isHidden()
    assert lane_of(window, stage_id).points == (Point(0.0, 12.0),)
    row = lanes.rows[0]
    # A double-click makes a point where beats are; a drag moves it.
    at = QPointF(lanes.x_of(8.1 * BEAT), row.box.top() + 30)
    qtbot.mouseDClick(lanes, Qt.MouseButton.LeftButton, pos=at.toPoint())
    assert lane_of(window, stage_id).points[1].seconds == pytest.approx(8 * BEAT, abs=1e-3)
    row = lanes.rows[0]
    start = lanes.point_at(row, 1).toPoint()
    drag(qtbot, lanes, start, QPoint(round(lanes.x_of(16 * BEAT)), round(row.box.top() + 5)))
    point = lane_of(window, stage_id).points[1]
    assert point.seconds == pytest.approx(16 * BEAT, abs=1e-3)
    assert point.value == pytest.approx(row.parameter.maximum, abs=0.5)  # type: ignore[attr-defined]
    # Keys: shape, value, delete.
    lanes.setFocus()
    qtbot.keyClick(lanes, Qt.Key.Key_C)
    assert lane_of(window, stage_id).points[1].shape is Shape.CURVE
    before = lane_of(window, stage_id).points[1].value
    qtbot.keyClick(lanes, Qt.Key.Key_Down)
    assert lane_of(window, stage_id).points[1].value < before
    qtbot.keyClick(lanes, Qt.Key.Key_Delete)
    assert len(lane_of(window, stage_id).points) == 1
    window.undo()
    assert len(lane_of(window, stage_id).points) == 2


def test_a_point_is_typed(window: MainWindow) -> None:
    stage_id = with_drive(window)
    draw_over_time(window, bar_of(window))
    window.timeline.lanes.type_point(stage_id, "drive_db", 0)
    dialog = window.findChildren(PointDialog)[-1]
    dialog.value.setText("loud")
    dialog.accept()
    assert "No value" in dialog.trouble.text()
    dialog.value.setText("12.5")
    dialog.at.setValue(2.25)
    dialog.accept()
    assert lane_of(window, stage_id).points == (Point(2.25, 12.5),)


def test_a_lane_is_copied_switched_off_and_removed(window: MainWindow, qtbot: QtBot) -> None:
    stage_id, workspace, lanes = with_drive(window), window.workspace, window.timeline.lanes
    strip_id = workspace.selection.strip_id
    drawn = Lane(parameter="drive_db", points=(Point(1.0, 0.0), Point(2.0, 12.0, Shape.HOLD), Point(3.0, 6.0)))
    workspace.sessions.document.commit("l", lambda session: put_lane(
        session.with_(loop=Loop(0, 0, False)), strip_id, stage_id, drawn))
    row = lanes.rows[0]
    chosen(lanes.menu_for(row, None), "Copy the lane")
    workspace.playback.locate(8 * 48000)
    qtbot.waitUntil(lambda: abs(window.timeline.waves.position - 8 * 48000) < 2, timeout=5000)
    chosen(lanes.menu_for(row, None), "Paste where playing is")
    assert [(point.seconds, point.value) for point in lane_of(window, stage_id).points[3:]] == [
        (pytest.approx(8.0, abs=1e-3), pytest.approx(0.0)), (pytest.approx(9.0, abs=1e-3), pytest.approx(12.0)),
        (pytest.approx(10.0, abs=1e-3), pytest.approx(6.0))]
    chosen(lanes.menu_for(lanes.rows[0], None), "Switch the lane off")
    assert not lane_of(window, stage_id).on
    chosen(lanes.menu_for(lanes.rows[0], None), "Remove the lane")
    assert workspace.selection.strip.stage(stage_id).lanes == ()


def test_a_bar_shows_its_lane_and_asks_what_a_move_means(window: MainWindow, qtbot: QtBot) -> None:
    stage_id, workspace = with_drive(window), window.workspace
    strip_id = workspace.selection.strip_id
    drawn = Lane(parameter="drive_db", points=(Point(0.0, 0.0), Point(10.0, 20.0)))
    workspace.sessions.document.commit("l", lambda session: put_lane(session, strip_id, stage_id, drawn))
    workspace.playback.locate(5 * 48000)
    bar = bar_of(window)
    qtbot.waitUntil(lambda: bar.setting == pytest.approx(10.0, abs=0.05), timeout=5000)
    assert "lane" in bar.accessibleDescription()
    number = bar.parameter
    expected = lane_position(number, 4.0) - lane_position(number, 0.0)
    bar.ask(14.0, commit=True)
    # It is heard while the question is open, and nothing is decided yet.
    assert lane_of(window, stage_id) != drawn
    assert window.timeline.lane_question is not None
    chosen(window.timeline.lane_question, "Leave the lane as it was")
    assert lane_of(window, stage_id) == drawn
    bar.ask(14.0, commit=True)
    chosen(window.timeline.lane_question, "Move the whole lane of Drive")
    assert position_at(lane_of(window, stage_id), number, 0.0) == pytest.approx(
        lane_position(number, 0.0) + expected, abs=0.01)
    window.undo()
    bar.ask(2.0, commit=True)
    chosen(window.timeline.lane_question, "Write a point where playing is")
    points = lane_of(window, stage_id).points
    assert [point.seconds for point in points] == [0.0, pytest.approx(5.0, abs=1e-3), 10.0]
    assert points[1].value == pytest.approx(2.0, abs=0.05)
    assert workspace.selection.strip.stage(stage_id).params["drive_db"] == 12.0


@pytest.mark.parametrize("ride", [Ride.TOUCH, Ride.LATCH])
def test_a_ride_writes_what_was_moved(ride: Ride, window: MainWindow, qtbot: QtBot) -> None:
    stage_id, workspace = with_drive(window), window.workspace
    workspace.sessions.document.commit("l", lambda session: session.with_(loop=Loop(0, 0, False)))
    steps = workspace.sessions.document.undo_label
    workspace.lane_writer.set_ride(ride)
    assert window.timeline.ride.isChecked()
    workspace.playback.locate(0)
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: workspace.playback.state.playing and workspace.lane_writer.seconds > 0.5, timeout=20000)
    bar = bar_of(window)
    begun = workspace.lane_writer.seconds
    for step in range(20):
        bar.ask(6.0 + 0.5 * step, commit=False)
        qtbot.wait(25)
    bar.commit()
    ended = workspace.lane_writer.seconds
    qtbot.wait(400)
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: find_lane(workspace.selection.strip, stage_id, "drive_db") is not None, timeout=5000)
    lane, number = lane_of(window, stage_id), bar.parameter
    assert workspace.sessions.document.undo_label == "Ride of Drive"
    assert position_at(lane, number, begun - 0.1) == pytest.approx(lane_position(number, 12.0), abs=0.005)
    middle = position_at(lane, number, 0.5 * (begun + ended))
    assert lane_position(number, 8.0) < middle < lane_position(number, 14.0)
    after = position_at(lane, number, ended + 0.2)
    assert after == pytest.approx(lane_position(number, 12.0 if ride is Ride.TOUCH else 15.5), abs=0.02)
    # On a machine that stands now and then no straight line is left to thin, and a move is two points.
    assert len(lane.points) <= 2 * 20
    window.undo()
    assert find_lane(workspace.selection.strip, stage_id, "drive_db") is None
    assert workspace.sessions.document.undo_label == steps


@settings(deadline=None)
@given(st.lists(st.floats(0.0, 100.0), min_size=2, max_size=80))
def test_thinning_leaves_nothing_that_could_be_heard(values: list[float]) -> None:
    points = [Point(0.1 * number, value) for number, value in enumerate(values)]
    lane = Lane(parameter="mix_pct", points=tuple(thinned(points, MIX)))
    for point in points:
        assert abs(position_at(lane, MIX, point.seconds) - point.value / 100.0) <= 0.0041


def test_a_stretch_leaves_what_lies_beside_it() -> None:
    lane = Lane(parameter="mix_pct", points=(Point(0.0, 0.0), Point(10.0, 100.0)))
    result = with_stretch(lane, MIX, [Point(4.0, 80.0), Point(5.0, 90.0)])
    for seconds, value in ((2.0, 0.2), (3.999, 0.4), (4.5, 0.85), (5.001, 0.5), (8.0, 0.8)):
        assert position_at(result, MIX, seconds) == pytest.approx(value, abs=0.002)


def test_a_stage_acts_only_in_a_passage(window: MainWindow) -> None:
    stage_id, workspace = with_drive(window), window.workspace
    workspace.sessions.document.commit("p", lambda session: add_passage(
        session, Passage(name="Bridge", start=4.0, end=8.0, fade_in=0.5, fade_out=1.0)))
    strip_id = workspace.selection.strip_id

    def at(seconds: float) -> float:
        return position_at(lane_of(window, stage_id, "on"), ON, seconds)

    def menu() -> QMenu:
        made = QMenu()
        add_acting_menu(made, workspace.sessions, strip_id, stage_id, "Drive", lambda: 3.0)
        return made

    def inner(words: str) -> QMenu:
        result = next(action.menu() for action in offered.actions() if action.text() == words)
        assert result is not None
        return result

    offered = menu()
    chosen(inner("Only in"), "Bridge")
    assert [at(seconds) for seconds in (3.9, 4.25, 6.0, 8.5, 9.1)] == [0.0, pytest.approx(0.5), 1.0, 0.5, 0.0]
    assert acting_words(workspace.sessions.session, workspace.selection.strip, stage_id) == "only in Bridge"
    offered = menu()
    chosen(inner("Not in"), "Bridge")
    assert [at(seconds) for seconds in (3.9, 6.0, 9.1)] == [1.0, 0.0, 1.0]
    assert acting_words(workspace.sessions.session, workspace.selection.strip, stage_id) == "not in Bridge"
    chosen(offered, "From here on")
    assert [at(seconds) for seconds in (0.5, 2.9, 3.1)] == [0.0, 0.0, 1.0]
    chosen(menu(), "Everywhere")
    assert acting_words(workspace.sessions.session, workspace.selection.strip, stage_id) == ""


def test_linked_strips_have_their_lanes_alike(demo: Session, window: MainWindow) -> None:
    workspace = window.workspace
    ids = ("upright-bass", "plucked-guitar")

    def prepare(session: Session) -> Session:
        for strip_id in ids:
            session = add_stage(session, strip_id, new_stage("tape"))
        return link_strips(session, ids)

    workspace.sessions.document.commit("l", prepare)
    stages = [workspace.sessions.session.strip(strip_id).chain[0].id for strip_id in ids]
    workspace.sessions.document.commit("lane", lambda session: begin_lane(session, ids[0], stages[0], "record_db"))
    lanes = [workspace.sessions.session.strip(strip_id).chain[0].lanes for strip_id in ids]
    assert lanes[0] == lanes[1] != ()


def test_volume_of_a_strip_has_a_lane_too(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    draw_over_time(window, window.desk.volume)
    strip_id = workspace.selection.strip_id
    lane = Lane(parameter="volume_db", points=(Point(0.0, -20.0), Point(10.0, 0.0)))
    workspace.sessions.document.commit("l", lambda session: put_lane(session, strip_id, "", lane))
    workspace.playback.locate(5 * 48000)
    qtbot.waitUntil(lambda: window.desk.volume.setting == pytest.approx(-10.0, abs=0.1), timeout=5000)


@pytest.mark.parametrize("wanted", [True, False])
def test_presets_and_sets_keep_lanes_in_beats_where_asked(wanted: bool, window: MainWindow, qtbot: QtBot,
                                                          monkeypatch: pytest.MonkeyPatch) -> None:
    stage_id, workspace = with_drive(window), window.workspace
    strip_id = workspace.selection.strip_id
    drawn = Lane(parameter="drive_db", points=(Point(0.0, 2.0), Point(8 * BEAT, 10.0)))
    workspace.sessions.document.commit("l", lambda session: put_lane(session, strip_id, stage_id, drawn))
    button = QMessageBox.StandardButton
    monkeypatch.setattr(QMessageBox, "question", lambda *_: button.Yes if wanted else button.No)
    window.path_view.open_presets()
    browser = next(child for child in window.findChildren(PresetBrowser))
    browser.name.setText("Creeping up")
    browser.save_own()
    preset = find_preset("Creeping up")
    delete_preset(preset)
    lanes = preset.stages[0].lanes
    kept = set_from(workspace.sessions.session, "session", "", "All", "glue", "", with_lanes=wanted)
    assert bool(kept.parts[0].stages[0].lanes) is wanted
    if not wanted:
        assert lanes == ()
        return
    assert [point.seconds for point in lanes[0].points] == [0.0, 8.0]
    # In a session of another tempo it lies on the same beats.
    session = workspace.sessions.session.with_(tempo=120.0, first_beat=1.0)
    placed = lanes_in_seconds(preset.stages, session)[0].lanes[0]
    assert [point.seconds for point in placed.points] == [1.0, 5.0]
