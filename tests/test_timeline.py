"""The time line: zoom, scroll, fit, follow, snap, lanes and loops, by the mouse and by keys."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor, QNativeGestureEvent, QPointingDevice, QWheelEvent
from PyQt6.QtWidgets import QApplication, QInputDialog
from pytestqt.qtbot import QtBot

from test_value_bar import drag
from yellow_ember.app.state.time_view import FOLLOWS, MOST_PIXELS, TimeView
from yellow_ember.app.widgets.wave_image import pixel_extremes, wave_image
from yellow_ember.session.values.bars import bars_stretch
from yellow_ember.session.values.model import Loop, Session

if TYPE_CHECKING:
    from conftest import OpenWindow
    from yellow_ember.app.main_window import MainWindow
    from yellow_ember.app.panels.wave_view import WaveView

BAR = round(4 * 60 / 96 * 48000)


def turn(view: WaveView, x: float, notches: float, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) \
        -> None:
    """Turn the wheel over a pixel of the waves."""
    at = QPointF(x, view.height() / 2.0)
    QApplication.sendEvent(view, QWheelEvent(
        at, QPointF(view.mapToGlobal(at.toPoint())), QPoint(), QPoint(0, round(120 * notches)),
        Qt.MouseButton.NoButton, modifiers, Qt.ScrollPhase.NoScrollPhase, False))


# -- the view as such -----------------------------------------------------------------------


@given(st.lists(st.tuples(st.sampled_from(["zoom", "scroll", "follow", "size", "stretch"]),
                          st.floats(0.01, 100.0), st.floats(0.0, 1000.0)), max_size=30))
def test_a_view_never_leaves_the_session(moves: list[tuple[str, float, float]]) -> None:
    view, length = TimeView(), 3_000_000
    view.set_size(1000, length)
    for what, amount, x in moves:
        match what:
            case "zoom":
                view.zoom(amount, x)
            case "scroll":
                view.scroll((amount - 50.0) * 20.0)
            case "follow":
                view.follow(amount / 100.0 * length, x / 1000.0 * length, list(FOLLOWS)[int(x) % 3])
            case "size":
                length = int(amount * 40_000) + 1
                view.set_size(int(x) + 1, length)
            case "stretch":
                view.show_stretch(x, x + amount * 1000.0)
        assert view.first >= 0.0
        assert view.frames_per_pixel >= 1.0 / MOST_PIXELS - 1e-12
        assert view.frames_per_pixel <= max(length / (view.end - view.first) * view.frames_per_pixel, 1 / MOST_PIXELS,
                                            view.frames_per_pixel)
        assert view.end <= max(length, (view.end - view.first)) * (1.0 + 1e-9) + 1e-6


@given(st.floats(1.0, 1000.0), st.floats(0.2, 50.0))
def test_what_is_under_the_pointer_stays_there(x: float, factor: float) -> None:
    view = TimeView()
    view.set_size(1000, 10_000_000)
    view.zoom(40.0, 500.0)
    under = view.first + x * view.frames_per_pixel
    view.zoom(factor, x)
    if view.first > 0.0 and view.end < 10_000_000:
        assert view.x_of(under) == pytest.approx(x, abs=1e-6)


def test_pages_turn_and_the_middle_is_kept() -> None:
    view = TimeView()
    view.set_size(1000, 1_000_000)
    view.zoom(10.0, 0.0)
    view.follow(50_000, 49_000, "page")
    assert view.first == 0.0
    view.follow(98_500, 97_900, "page")
    assert view.first == pytest.approx(96_500)
    view.follow(500_000, 499_000, "page")
    assert view.first == pytest.approx(96_500), "what is out of sight is left alone"
    view.follow(500_000, 499_000, "off")
    assert view.first == pytest.approx(96_500)
    view.follow(500_000, 499_000, "centre")
    assert view.x_of(500_000) == pytest.approx(500.0)


def test_a_view_of_all_stays_one_when_the_session_grows() -> None:
    view = TimeView()
    view.set_size(1000, 480_000)
    view.set_size(1000, 960_000)
    assert (view.first, view.end) == (0.0, 960_000.0)
    view.zoom(4.0, 500.0)
    near = view.frames_per_pixel
    view.set_size(1000, 2_000_000)
    assert view.frames_per_pixel == near


# -- waves as pictures ----------------------------------------------------------------------


@given(st.integers(1, 400), st.floats(0.5, 300.0), st.floats(-500.0, 500.0), st.floats(0.1, 500.0))
def test_pixels_hold_the_extremes_of_their_columns(count: int, frames: float, start: float, per_pixel: float) -> None:
    rng = np.random.default_rng(count)
    columns = np.sort(rng.normal(size=(count, 2)), axis=1)
    low, high, left = pixel_extremes(columns, start, frames, 0.0, per_pixel, 200)
    assert low.size == high.size <= 200
    assert np.all(low <= high)
    for pixel in range(low.size):
        first = (left + pixel) * per_pixel
        # A column whose edge is a pixel's may count to either, by rounding.
        inside = [k for k in range(count) if start + k * frames > first + 1e-6
                  and start + (k + 1) * frames < first + per_pixel - 1e-6]
        if inside:
            assert low[pixel] <= columns[inside, 0].min()
            assert high[pixel] >= columns[inside, 1].max()


def test_a_wave_is_filled_between_its_extremes() -> None:
    picture = wave_image(np.array([-0.5, 0.0, -1.0]), np.array([0.5, 0.0, 1.0]), 40, QColor(200, 100, 50))
    filled = [[picture.pixelColor(x, y).alpha() > 200 for y in range(40)] for x in range(3)]
    assert [sum(column) for column in filled] == [20, 0, 40]
    assert picture.pixelColor(1, 19).alpha() > 100, "a thin line"
    assert picture.pixelColor(0, 20).red() == 200


# -- in the window --------------------------------------------------------------------------


def test_the_wheel_zooms_at_the_pointer_and_scrolls(window: MainWindow) -> None:
    view, time = window.timeline.waves, window.workspace.time_view
    x = view.x_of(5 * BAR)
    for _ in range(12):
        turn(view, x, 1.0, Qt.KeyboardModifier.ControlModifier)
    assert view.x_of(5 * BAR) == pytest.approx(x, abs=1.0)
    assert time.end - time.first < 2 * BAR * 4
    before = time.first
    turn(view, x, -1.0)
    assert time.first > before
    turn(view, x, 2.0, Qt.KeyboardModifier.ShiftModifier)
    assert time.first < before
    for _ in range(80):
        turn(view, x, 1.0, Qt.KeyboardModifier.ControlModifier)
    assert time.frames_per_pixel == 1.0 / MOST_PIXELS
    assert not window.grab().isNull()
    window.workspace.time_view.show_all()
    assert time.first == 0.0
    assert view.x_of(window.workspace.imports.length) == pytest.approx(view.width(), abs=1.0)


def test_keys_and_buttons_zoom_and_the_loop_is_shown(window: MainWindow, qtbot: QtBot) -> None:
    view, time = window.timeline.waves, window.workspace.time_view
    wide = time.frames_per_pixel
    qtbot.keyClick(view, Qt.Key.Key_Plus)
    assert time.frames_per_pixel < wide
    qtbot.keyClick(view, Qt.Key.Key_Minus)
    assert time.frames_per_pixel == pytest.approx(wide)
    window.timeline.nearer.click()
    window.timeline.nearer.click()
    window.timeline.farther.click()
    assert time.frames_per_pixel < wide
    view.set_loop(Loop(2 * BAR, 4 * BAR), commit=True)
    window.timeline.show_loop()
    assert 0.0 < view.x_of(2 * BAR) < 0.06 * view.width()
    assert 0.94 * view.width() < view.x_of(4 * BAR) < view.width()
    qtbot.keyClick(window, Qt.Key.Key_0, Qt.KeyboardModifier.ControlModifier)
    assert time.first == 0.0


@pytest.mark.parametrize(("snap", "step"), [("beat", BAR // 4), ("bar", BAR)])
def test_a_loop_snaps_as_chosen(snap: str, step: int, window: MainWindow, qtbot: QtBot) -> None:
    view, settings = window.timeline.waves, window.workspace.settings
    settings.snap = snap
    drag(qtbot, view, QPoint(round(view.x_of(1.1 * BAR)), 8), QPoint(round(view.x_of(3.3 * BAR)), 8))
    loop = window.workspace.sessions.session.loop
    assert loop.start % step == loop.end % step == 0
    assert abs(loop.end - 3.3 * BAR) <= 0.5 * step + 2.0 * window.workspace.time_view.frames_per_pixel


def test_a_loop_snaps_to_zero_crossings(window: MainWindow, qtbot: QtBot) -> None:
    workspace, view = window.workspace, window.timeline.waves
    workspace.selection.select("upright-bass")
    workspace.settings.snap = "crossing"
    drag(qtbot, view, QPoint(round(view.x_of(2.13 * BAR)), 8), QPoint(round(view.x_of(3.37 * BAR)), 8))
    loop = workspace.sessions.session.loop
    ready = workspace.imports.ready(workspace.selection.strip.files[0])
    assert ready is not None
    for frame in (loop.start, loop.end):
        before, after = ready.samples(frame - 1, frame + 1).mean(axis=1)
        assert before < 0.0 <= after


def test_all_strips_have_lanes_and_are_chosen_there(window: MainWindow, qtbot: QtBot) -> None:
    workspace, view = window.workspace, window.timeline.waves
    qtbot.keyClick(window, Qt.Key.Key_W)
    assert workspace.settings.all_waves
    boxes = view.lanes
    assert [strip.id for strip, _box in boxes] == [strip.id for strip in workspace.sessions.session.strips][:len(boxes)]
    assert len(boxes) >= 4
    strip, box = boxes[2]
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    assert workspace.selection.strip_id == strip.id
    shown = {strip.id for strip, _box in boxes}
    for _ in range(3):
        turn(view, 300.0, -2.0)
        shown |= {strip.id for strip, _box in view.lanes}
    assert shown == {strip.id for strip in workspace.sessions.session.strips}
    window.timeline.all_strips.click()
    assert [strip.id for strip, _box in view.lanes] == [workspace.selection.strip_id]


def test_the_overview_takes_one_along(window: MainWindow, qtbot: QtBot) -> None:
    bar, time = window.timeline.overview, window.workspace.time_view
    time.zoom(8.0, 0.0)
    drag(qtbot, bar, QPoint(4, 10), QPoint(bar.width() // 2, 10))
    assert time.first == pytest.approx((bar.width() // 2 - 4) / bar.width() * window.workspace.imports.length, rel=0.02)
    qtbot.mouseDClick(bar, Qt.MouseButton.LeftButton, pos=QPoint(bar.width() // 2, 10))
    assert time.first == 0.0


def test_bars_are_typed(window: MainWindow, demo: Session, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(QInputDialog, "getText", lambda *_arguments: ("3-4", True))
    window.timeline.ask_for_bars()
    loop = window.workspace.sessions.session.loop
    assert (loop.start, loop.end) == (2 * BAR, 4 * BAR)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_arguments: ("nonsense", True))
    window.timeline.ask_for_bars()
    assert "5-8" in window.workspace.messages.all[-1].text
    assert window.workspace.sessions.session.loop == loop
    for words in ("0-3", "4-2", "x", "", "900-901"):
        with pytest.raises(ValueError, match="bar"):
            bars_stretch(demo, words, 40 * 48000)
    assert bars_stretch(demo, "7", 40 * 48000) == Loop(6 * BAR, 7 * BAR)


def test_l_loops_all_of_it_where_no_loop_was_set(window: MainWindow, qtbot: QtBot) -> None:
    workspace = window.workspace
    workspace.sessions.document.commit("None", lambda session: session.with_(loop=Loop(0, 0, False)))
    qtbot.keyClick(window, Qt.Key.Key_L)
    assert workspace.sessions.session.loop == Loop(0, window.workspace.imports.length, True)


def test_the_view_follows_while_playing(window: MainWindow, qtbot: QtBot) -> None:
    workspace, time = window.workspace, window.workspace.time_view
    workspace.sessions.document.commit("None", lambda session: session.with_(loop=Loop(0, 0, False)))
    workspace.settings.follow = "page"
    workspace.playback.locate(0)
    qtbot.waitUntil(lambda: workspace.playback.state.position == 0, timeout=20000)
    time.zoom(200.0, 0.0)
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: time.first > 0.0, timeout=20000)
    assert time.first <= workspace.playback.state.position <= time.end


def test_playing_ends_with_the_last_tail(open_window: OpenWindow, qtbot: QtBot, tmp_path: Path) -> None:
    """A session of a second is over some moments later; a loop goes on."""
    path = tmp_path / "short.wav"
    soundfile.write(path, 0.1 * np.sin(np.arange(48000) * 0.05), 48000)
    window = open_window()
    workspace = window.workspace
    workspace.sessions.open_audio([path])
    qtbot.waitUntil(lambda: workspace.imports.settled and workspace.playback.state.latency >= 0, timeout=30000)
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: workspace.playback.state.playing, timeout=20000)
    qtbot.waitUntil(lambda: not workspace.playback.state.playing, timeout=20000)
    workspace.sessions.document.commit("Loop", lambda session: session.with_(loop=Loop(0, 24000, True)))
    workspace.playback.toggle_play()
    qtbot.waitUntil(lambda: workspace.playback.state.playing, timeout=20000)
    qtbot.wait(3000)
    assert workspace.playback.state.playing


def test_two_fingers_zoom_around_them(window: MainWindow) -> None:
    view, time = window.timeline.waves, window.workspace.time_view
    before = time.frames_per_pixel
    at, device = QPointF(600.0, 60.0), QPointingDevice.primaryPointingDevice()
    assert device is not None
    under = time.first + 600.0 * before
    QApplication.sendEvent(view, QNativeGestureEvent(
        Qt.NativeGestureType.ZoomNativeGesture, device, 2, at, at, view.mapToGlobal(at), 0.5, QPointF()))
    assert time.frames_per_pixel == pytest.approx(before / 1.5)
    assert time.x_of(under) == pytest.approx(600.0, abs=1e-6)
