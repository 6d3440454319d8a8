"""Files that anybody may have written, and names of any kind: a clear line, soon, and the rest goes on."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtGui import QHelpEvent
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QLabel, QWidget

import yellow_ember.app
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.widgets.text import as_text
from yellow_ember.cli import main
from yellow_ember.plain_text import plain
from yellow_ember.session.edits.edits import add_bus, add_stage, edit_strip
from yellow_ember.session.edits.limits import LimitError
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.presets import all_presets, keep_preset
from yellow_ember.session.io.session_file import read_session, session_to_object, write_session
from yellow_ember.session.values.limits import MAXIMUM_DEPTH, MAXIMUM_NAME, MAXIMUM_STAGES, MAXIMUM_STRIPS
from yellow_ember.session.values.model import Session, new_stage
from yellow_ember.shipped import DEMO


def hostile(name: str, folder: Path) -> Path:
    """A session file of some kind."""
    path = folder / "hostile.ember"
    head = b'{"format": "yellow-ember/session", "version": 4, '
    content = {
        "deep": b"[" * 1_000_000, "deep objects": b'{"a":' * 1_000_000, "deep in it": head + b'"name": ' + b"[" * 10**6,
        "digits 400": head + b'"tempo": ' + b"9" * 400 + b"}", "digits 5000": head + b'"seed": ' + b"9" * 5000 + b"}",
        "nan": head + b'"tempo": NaN}', "infinity": head + b'"tempo": -Infinity}',
        "huge float": head + b'"tempo": 1e999}',
        "nul": head + b'"name": "\x00"}', "not utf-8": head + b'"name": "\xff"}', "empty": b"", "spaces": b"  \n ",
        "list": b"[1, 2]", "cut": head, "many lists": b"[" + b"[]," * 5_000_000 + b"[]]",
        "escape": head + b'"\x1b[31mred": 1}',
        "many strips": head + b'"strips": [' + b",".join([b'{"id": "a", "kind": "track"}'] * 10_000) + b"]}",
    }
    if name == "long string":
        with path.open("wb") as file:
            file.write(head + b'"name": "')
            for _ in range(100):
                file.write(b"x" * 2**20)
            file.write(b'"}')
    elif name == "pipe":
        os.mkfifo(path)
    elif name == "folder":
        path.mkdir()
    elif name == "device":
        path.symlink_to("/dev/zero")
    elif name == "loop":
        path.symlink_to(path)
    else:
        path.write_bytes(content[name])
    return path


KINDS = ("deep", "deep objects", "deep in it", "digits 400", "digits 5000", "nan", "infinity", "huge float", "nul",
         "not utf-8", "empty", "spaces", "list", "cut", "many lists", "escape", "many strips", "long string", "pipe",
         "folder", "device", "loop")


@pytest.mark.parametrize("kind", KINDS)
def test_hostile_sessions_are_refused_in_a_line(kind: str, tmp_path: Path) -> None:
    path = hostile(kind, tmp_path)
    begun = time.monotonic()
    with pytest.raises(SessionFileError) as refusal:
        read_session(path)
    assert time.monotonic() - begun < 2.0
    words = str(refusal.value)
    assert str(path) in words
    assert len(words) < 600
    assert "\n" not in words


@pytest.mark.parametrize("kind", ["deep", "digits 5000", "long string", "pipe", "device", "many lists"])
@pytest.mark.parametrize("command", ["render", "process"])
def test_hostile_files_on_the_command_line(kind: str, command: str, tmp_path: Path,
                                           make_audio: Callable[..., Path]) -> None:
    path = hostile(kind, tmp_path)
    words = (["render", path, "--out", tmp_path / "out"] if command == "render" else
             ["process", make_audio(), tmp_path / "out.wav", "--chain", path])
    # A child's own account would count what its parent held when it was forked.
    code = ("import sys; from yellow_ember.cli import main; status = main(sys.argv[1:])\n"
            "print(next(line for line in open('/proc/self/status') if line.startswith('VmHWM')).split()[1])\n"
            "sys.exit(status)")
    ended = subprocess.run([sys.executable, "-c", code, *map(str, words)], capture_output=True, text=True, check=False)
    assert ended.returncode == 1
    assert str(path) in ended.stderr
    assert len(ended.stderr.splitlines()) == 1
    assert int(ended.stdout) < 500 * 1024


@pytest.mark.parametrize("kind", ["pipe", "device", "folder", "loop"])
def test_audio_that_is_no_file(kind: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = hostile(kind, tmp_path)
    assert main(["measure", str(path)]) == 1
    told = capsys.readouterr().err
    assert str(path) in told
    assert len(told.splitlines()) == 1


def test_what_else_is_in_a_session_opens(open_window: Callable[..., MainWindow], demo: Session, tmp_path: Path,
                                         qtbot: Any) -> None:
    result = session_to_object(demo, None)
    names = [hostile("pipe", tmp_path), "/dev/zero", tmp_path, "/nowhere/a\x00b.wav", "x" * 300]
    for strip, name in zip(result["strips"], names, strict=False):
        if strip["regions"] and strip["id"] != "harmonium":
            strip["regions"][0]["audio"] = str(name)
    path = tmp_path / "some.ember"
    path.write_text(json.dumps(result))
    window = open_window(path)
    assert len(window.workspace.sessions.session.strips) == len(demo.strips)
    harmonium = window.workspace.sessions.session.strip("harmonium")
    qtbot.waitUntil(lambda: window.workspace.imports.ready(harmonium.files[0]) is not None, timeout=20000)
    told = "\n".join(message.text for message in window.workspace.messages.all)
    assert "is missing" in told or "is a" in told


@pytest.mark.parametrize("name", [b"caf\xe9.wav", b"\xff\xfe.wav", b"x" * 251 + b".wav", b"a\nb\x1b[2J.wav"])
def test_names_of_any_bytes_are_opened_and_shown(name: bytes, window: MainWindow, tmp_path: Path, qtbot: Any,
                                                 make_audio: Callable[..., Path],
                                                 capsys: pytest.CaptureFixture[str]) -> None:
    path = Path(os.fsdecode(os.path.join(os.fsencode(tmp_path), name)))
    make_audio().rename(path)
    assert main(["measure", str(path)]) == 0
    told = capsys.readouterr().out
    assert "\x1b" not in told
    told.encode()
    window.workspace.sessions.open_audio([path])
    qtbot.waitUntil(lambda: window.workspace.imports.ready(path) is not None, timeout=20000)
    assert window.workspace.sessions.save(tmp_path / "s.ember", window.workspace.selection.strip_id)
    assert read_session(tmp_path / "s.ember").strips[0].files == (path,)
    window.windowTitle().encode()
    window.grab()


def test_a_name_that_is_too_long_for_a_file_system(capsys: pytest.CaptureFixture[str], tmp_path: Path,
                                                   make_audio: Callable[..., Path]) -> None:
    for words in (["measure", "x" * 300], ["process", str(make_audio()), str(tmp_path / ("y" * 300 + ".wav")),
                                           "--preset", "Keel weight"], ["render", "z" * 300, "--out", "a"]):
        assert main(words) == 1
        assert len(capsys.readouterr().err.splitlines()) == 1


def test_folders_one_may_not_enter_are_passed_over(tmp_path: Path, make_audio: Callable[..., Path]) -> None:
    if os.getuid() == 0:
        pytest.skip("root may enter everywhere")
    make_audio()
    closed = tmp_path / "closed"
    closed.mkdir(0o000)
    assert main(["batch", str(tmp_path), "--preset", "Keel weight", "--out", str(tmp_path / "out")]) == 0


# -- bounds -------------------------------------------------------------------------------------


def test_bounds_are_held_when_editing(demo: Session) -> None:
    from yellow_ember.session.document import Document

    document = Document(demo)
    for _ in range(MAXIMUM_STAGES):
        document.commit("Add", lambda _: add_stage(document.session, "band", new_stage("trim")))
    with pytest.raises(LimitError, match="at most 16"):
        document.commit("Add", lambda _: add_stage(document.session, "band", new_stage("trim")))
    while len(document.session.strips) < MAXIMUM_STRIPS:
        document.commit("Bus", lambda _: add_bus(document.session, "Bus"))
    with pytest.raises(LimitError, match="at most 127"):
        document.commit("Bus", lambda _: add_bus(document.session, "Bus"))
    with pytest.raises(LimitError, match="at most 200 characters"):
        document.commit("Name", lambda session: edit_strip(
            session, "band", lambda strip: strip.with_(name="n" * (MAXIMUM_NAME + 1))))
    assert len(document.session.strips) == MAXIMUM_STRIPS
    assert len(document.session.strip("band").chain) == MAXIMUM_STAGES


def test_nested_buses_are_bounded(tmp_path: Path, demo: Session) -> None:
    session, out = demo, "master"
    for _ in range(MAXIMUM_DEPTH + 1):
        session = add_bus(session, "Bus", out)
        out = session.strips[-2].id
    path = tmp_path / "deep.ember"
    write_session(session, path)
    with pytest.raises(SessionFileError, match="at most 16"):
        read_session(path)


@pytest.mark.parametrize("count", [3_000, 10_000])
def test_very_many_strips_are_refused_at_once(count: int, tmp_path: Path) -> None:
    strips = [{"id": f"b{n}", "name": "b", "kind": "bus", "out": f"b{n + 1}" if n + 1 < count else "master"}
              for n in range(count)]
    path = tmp_path / "many.ember"
    path.write_text(json.dumps({"format": "yellow-ember/session", "version": 4, "strips": [
        *strips, {"id": "master", "name": "Master", "kind": "master", "out": ""}]}))
    begun = time.monotonic()
    with pytest.raises(SessionFileError, match="at most 128"):
        read_session(path)
    assert time.monotonic() - begun < 1.0


def test_a_refused_edit_is_said_and_nothing_is_changed(window: MainWindow, qtbot: Any) -> None:
    workspace = window.workspace
    for _ in range(MAXIMUM_STAGES):
        workspace.sessions.document.commit("Add", lambda _: add_stage(workspace.sessions.session,
                                                                      workspace.selection.strip_id, new_stage("trim")))
    before = workspace.sessions.session
    with qtbot.captureExceptions() as caught:
        window.path_view.add("drive")
    assert workspace.sessions.session is before or not caught


# -- names are text -------------------------------------------------------------------------------

EVIL = "<img src='/dev/zero'> & <b>x</b>"


def test_words_from_outside_are_text() -> None:
    assert plain("a\x00b\x1bc") == "a\ufffdb\ufffdc"
    assert as_text(EVIL) == "<span>&lt;img src='/dev/zero'&gt; &amp; &lt;b&gt;x&lt;/b&gt;</span>"
    assert as_text("Keel & weight".replace("&", "and")) == "Keel and weight"


def test_names_are_text_everywhere(open_window: Callable[..., MainWindow], demo: Session, tmp_path: Path,
                                   qtbot: Any) -> None:
    evil = demo.with_(name=EVIL, strips=tuple(strip.with_(name=EVIL) for strip in demo.strips))
    path = tmp_path / "evil.ember"
    write_session(evil, path)
    keep_preset(replace(all_presets()[0], name=EVIL, note=EVIL, path=None))
    window = open_window(path)
    workspace = window.workspace
    window.balance.snapshots.take(0)
    window.path_view.add("drive")
    for opener in (window.open_blind_test, window.help, window.path_view.open_presets, window.bench.open_macros):
        opener()
    for name in ("Links\u2026", "Sets\u2026", "Spread of all strips\u2026", "Meters\u2026", "Batch\u2026"):
        for menu in window.menuBar().actions():
            for action in menu.menu().actions():
                if action.text() == name:
                    action.trigger()
    begun = time.monotonic()
    for widget in QApplication.allWidgets():
        if isinstance(widget, QLabel) and not widget.inherits("QTipLabel") and "img" in widget.text():
            assert widget.textFormat().name == "PlainText" or "<img" not in widget.text()
        if type(widget).event is not QWidget.event:
            QApplication.sendEvent(widget, QHelpEvent(QEvent.Type.ToolTip, QPoint(1, 1), QPoint(1, 1)))
        assert "<img" not in widget.toolTip()
        if widget.isVisible():
            widget.grab()
        if isinstance(widget, QAbstractItemView) and (model := widget.model()) is not None:
            for row in range(model.rowCount()):
                tip = model.data(model.index(row, 0), Qt.ItemDataRole.ToolTipRole)
                assert "<img" not in (tip or "")
    assert time.monotonic() - begun < 60.0
    assert workspace.selection.strip.name == EVIL


def test_every_label_says_what_its_words_are() -> None:
    for path in Path(yellow_ember.app.__file__).parent.rglob("*.py"):
        if path.name != "text.py":
            assert not re.search(r"\bQLabel\(", path.read_text()), f"{path.name}: use TextLabel"


def test_the_demo_is_what_it_was() -> None:
    assert read_session(DEMO).name == "Night Ferry to Saltmouth"
