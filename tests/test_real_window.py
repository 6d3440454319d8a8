"""The window on a real X server with a window manager, driven by mouse and keys from outside."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest

from processes import HAVE_DISPLAY, Display, Program, are_gone, own_folders, running
from yellow_ember.session.io.session_file import read_session
from yellow_ember.shipped import DEMO

pytestmark = pytest.mark.skipif(not HAVE_DISPLAY, reason="Xvfb, openbox or xdotool is not here")
_SOURCE = Path(__file__).with_name("drag_source.py")


@pytest.fixture
def display() -> Iterator[Display]:
    result = Display()
    yield result
    result.close()


@pytest.fixture
def program(display: Display, tmp_path: Path) -> Iterator[Program]:
    with running(display.environment(tmp_path)) as result:
        result.ready()
        yield result


def centre(program: Program, widget: str, across: float = 0.5) -> tuple[int, int]:
    """Where a widget is on the display, in the display's own pixels."""
    x, y, width, height, ratio = program.ask(
        f"(lambda w: [*(lambda p: (p.x(), p.y()))(w.mapToGlobal(w.rect().topLeft())), w.width(), w.height(), "
        f"window.devicePixelRatioF()])({widget})")
    return round((x + across * width) * ratio), round((y + height / 2) * ratio)


def test_the_window_is_there_and_quiet(program: Program, display: Display) -> None:
    assert display.hand("search", "--onlyvisible", "--name", "Yellow Ember")
    status, took, errors = program.end()
    assert (status, errors) == (0, "")
    assert took < 1.0


def test_mouse_wheel_and_keys(program: Program, display: Display) -> None:
    display.hand("mousemove", *centre(program, "window.desk.rows['harmonium']", 0.3), "click", 1)
    program.wait_for("workspace.selection.strip_id == 'harmonium'")
    program.ask("window.path_view.add('drive')")
    program.wait_for("len(workspace.selection.strip.chain) > 0 and workspace.selection.stage_id in "
                     "[stage.id for stage in workspace.selection.strip.chain]")
    number = "workspace.selection.strip.stage(workspace.selection.stage_id).params['drive_db']"
    program.wait_for("window.bench.bars['drive_db'].isVisible()")
    before = program.ask(number)
    index = centre(program, "window.bench.bars['drive_db']")
    display.hand("mousemove", *index, "click", 4, "click", 4)
    program.wait_for(f"{number} > {before}")
    wheeled = program.ask(number)
    display.hand("mousemove", *index, "mousedown", 1, "mousemove_relative", 6, 0, "mousemove_relative", 20, 0,
                 "mousemove_relative", 20, 0, "mouseup", 1)
    program.wait_for(f"{number} > {wheeled}")
    dragged = program.ask(number)
    # What is heard is changed by keys as well.
    display.hand("mousemove", *centre(program, "window.path_view", 0.9), "click", 1)
    display.hand("key", "space")
    program.wait_for("workspace.playback.state.playing")
    display.hand("key", "b")
    program.wait_for("workspace.playback.before")
    display.hand("key", "ctrl+z")
    program.wait_for(f"{number} < {dragged}")


def test_files_dragged_from_another_program(program: Program, display: Display, tmp_path: Path,
                                           make_audio: Callable[..., Path]) -> None:
    sound = make_audio("gull & <b>cry.wav")
    display.hand("search", "--name", "Yellow Ember", "windowsize", "%@", 900, 500)
    environment = display.environment(tmp_path)
    source = subprocess.Popen([sys.executable, str(_SOURCE), str(sound)], env=environment, stderr=subprocess.DEVNULL)
    try:
        display.hand("search", "--sync", "--onlyvisible", "--name", "Drag source", "windowraise", "windowmove", 20, 690)
        time.sleep(0.5)
        result = display.hand("search", "--onlyvisible", "--name", "Drag source", "getwindowgeometry")
        x, y = map(int, re.search(r"Position: (-?\d+),(-?\d+)", result).groups())
        to_x, to_y = centre(program, "window.balance")
        display.hand("mousemove", x + 40, y + 40, "mousedown", 1)
        for step in range(1, 21):
            display.hand("mousemove", x + 40 + (to_x - x - 40) * step // 20, y + 40 + (to_y - y - 40) * step // 20)
            time.sleep(0.03)
        time.sleep(0.4)
        display.hand("mouseup", 1)
        program.wait_for(f"any(strip.files and strip.files[0].name == {sound.name!r} "
                         "for strip in workspace.sessions.session.strips)")
    finally:
        source.kill()
        source.wait()
    assert program.ask("window.windowTitle()").startswith("Night Ferry"), "it is a track more of the open session"


def test_the_close_button(program: Program, display: Display) -> None:
    display.hand("search", "--onlyvisible", "--name", "Yellow Ember", "windowfocus", "--sync")
    display.hand("key", "alt+F4")
    assert program.process.wait(5) == 0
    assert program.errors() == ""


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP])
def test_signals_while_a_question_is_open(number: signal.Signals, program: Program, display: Display,
                                         tmp_path: Path) -> None:
    program.ask("workspace.sessions.document.commit('Tempo', lambda session: session.with_(tempo=77.0))")
    display.hand("search", "--onlyvisible", "--name", "Yellow Ember", "windowfocus", "--sync")
    display.hand("key", "alt+F4")
    display.hand("search", "--sync", "--onlyvisible", "--name", "Unsaved changes")
    status, took, errors = program.end(number)
    assert (status, errors) == (0, "")
    assert took < 1.0
    assert len(list((tmp_path / ".local" / "state" / "yellow-ember" / "unsaved").glob("*.json"))) == 1


def test_the_display_dies(program: Program, display: Display, tmp_path: Path) -> None:
    program.ask("workspace.sessions.document.commit('Tempo', lambda session: session.with_(tempo=77.0))")
    family = program.family()
    begun = time.monotonic()
    display.server.kill()
    assert program.process.wait(5) == 0
    assert time.monotonic() - begun < 1.0
    assert are_gone(family, 2.0)
    (card,) = (tmp_path / ".local" / "state" / "yellow-ember" / "unsaved").glob("*.json")
    assert '"tempo": 77.0' in card.read_text()


def test_at_twice_the_size(tmp_path: Path) -> None:
    display = Display("2560x1700")
    with closing(display), running(display.environment(tmp_path) | {"QT_SCALE_FACTOR": "2"}) as program:
        program.ready()
        assert program.ask("window.devicePixelRatioF()") == 2.0
        display.hand("mousemove", *centre(program, "window.top_line.compare", 0.2), "click", 1)
        program.wait_for("workspace.playback.before")
        assert program.end()[2] == ""


def test_a_file_named_beside_unsaved_work_is_opened_as_well(display: Display, tmp_path: Path) -> None:
    environment = display.environment(tmp_path)
    with running(environment) as program:
        program.ready()
        program.ask("workspace.sessions.document.commit('Tempo', lambda session: session.with_(tempo=77.0))")
        program.wait_for("workspace.sessions.edits.autosave.file.exists()")
        program.process.kill()
    named = tmp_path / "other.ember"
    shutil.copytree(DEMO.parent, tmp_path / "demo")
    named = (tmp_path / "demo" / DEMO.name).rename(tmp_path / "demo" / "other.ember")
    named.write_text(named.read_text().replace(read_session(DEMO).name, "The other one"))
    with running(environment, ["open", named]) as program:
        display.hand("search", "--sync", "--onlyvisible", "--name", "Unsaved work found", "windowfocus", "--sync")
        display.hand("key", "Return")
        program.wait_for("workspace.sessions.session.tempo == 77.0")
        display.hand("search", "--sync", "--onlyvisible", "--name", "The other one")
        for pid in program.family():
            # The second window stands on its own.
            if b"--apart" in Path(f"/proc/{pid}/cmdline").read_bytes():
                os.kill(pid, signal.SIGTERM)


def test_a_hung_window_keeps_its_place(tmp_path: Path) -> None:
    environment = own_folders(tmp_path)
    with running(environment) as first:
        first.ready()
        first.process.send_signal(signal.SIGSTOP)
        try:
            with running(environment, ["open", DEMO]) as second:
                second.wait_for("workspace.sessions.session.name.startswith('Night')")
                assert "does not answer" in " ".join(
                    second.ask("[message.text for message in workspace.messages.all]"))
                second.end()
        finally:
            first.process.send_signal(signal.SIGCONT)
        with running(environment, ["open", DEMO]) as third:
            assert third.process.wait(20) == 0, "the first one answers again, and takes the file"
