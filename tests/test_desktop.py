"""What a desktop is told of the program: entry, file type, icon, manual page."""

from __future__ import annotations

import configparser
import shutil
import socket
import subprocess
import tomllib
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication

from yellow_ember import __version__
from yellow_ember.app import single, start
from yellow_ember.app.launch import launch
from yellow_ember.app.main_window import MainWindow
from yellow_ember.cli import parser
from yellow_ember.dsp.stages import STAGES
from yellow_ember.shipped import DEMO

ROOT = Path(__file__).parents[1]
DESKTOP = ROOT / "desktop"


def test_the_entry_opens_sessions_and_sounds() -> None:
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str  # type: ignore[assignment, method-assign]
    entry.read(DESKTOP / f"{start.DESKTOP_ID}.desktop")
    result = entry["Desktop Entry"]
    program, *words = result["Exec"].split()
    assert program == "yellow-ember"
    assert parser().parse_args([word for word in words if not word.startswith("%")]).paths == []
    assert "application/x-yellow-ember-session" in result["MimeType"].split(";")
    assert result["Icon"] == start.DESKTOP_ID


def test_the_file_type_knows_the_demo() -> None:
    space = "{http://www.freedesktop.org/standards/shared-mime-info}"
    kind = ElementTree.parse(DESKTOP / f"{start.DESKTOP_ID}.xml").getroot().find(f"{space}mime-type")
    assert kind is not None
    glob, match = kind.find(f"{space}glob"), kind.find(f"{space}magic/{space}match")
    assert glob is not None
    assert match is not None
    assert DEMO.match(glob.get("pattern", ""))
    first, last = (int(place) for place in match.get("offset", "").split(":"))
    text = DEMO.read_text()
    assert first <= text.index(match.get("value", "")) <= last


@pytest.mark.skipif(shutil.which("appstreamcli") is None, reason="appstreamcli is not here")
def test_the_catalogue_data_is_valid() -> None:
    path = DESKTOP / f"{start.DESKTOP_ID}.metainfo.xml"
    assert subprocess.run(["appstreamcli", "validate", "--no-net", str(path)], check=False).returncode == 0
    release = ElementTree.parse(path).getroot().find("releases/release")
    assert release is not None
    assert release.get("version") == __version__


def test_the_icon_is_drawn(qapp: QApplication) -> None:
    picture = QIcon(str(start._ICON)).pixmap(64, 64).toImage()
    assert not picture.isNull()
    assert picture.pixelColor(32, 40).lightness() > 120
    assert picture.pixelColor(32, 6).lightness() < 60


def test_the_manual_page_tells_of_all_commands_and_stages() -> None:
    page = (DESKTOP / "yellow-ember.1").read_text().replace("\\-", "-")
    for name in ("demo", "open", "stages", "presets", "process", "batch", "render", "measure", "bench"):
        assert f"yellow-ember {name}" in page
    for kind in STAGES:
        assert f".B {kind.kind}\n{kind.purpose}" in page


def test_all_of_it_is_installed() -> None:
    data = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["setuptools"]["data-files"]
    for files in data.values():
        for name in files:
            assert (ROOT / name).is_file(), name


@pytest.mark.skipif(shutil.which("desktop-file-validate") is None, reason="desktop-file-validate is not here")
def test_the_entry_is_valid() -> None:
    result = subprocess.run(["desktop-file-validate", str(DESKTOP / f"{start.DESKTOP_ID}.desktop")],
                            capture_output=True, text=True, check=False)
    assert (result.returncode, result.stdout, result.stderr) == (0, "", "")


# -- one window -------------------------------------------------------------------------------


@pytest.fixture
def place(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A meeting place of the test's own."""
    monkeypatch.setattr(single, "meeting_place", lambda: tmp_path / "window")
    return tmp_path / "window"


def handed_over(qtbot: Any, paths: list[Path]) -> single.Answer:
    """Hand over from a thread, as another process would while this one goes on."""
    with ThreadPoolExecutor(1) as pool:
        answer = pool.submit(single.hand_over, paths)
        qtbot.waitUntil(answer.done, timeout=10000)
        return answer.result()


def test_a_second_start_hands_its_files_to_the_window(window: MainWindow, qtbot: Any, place: Path,
                                                      make_audio: Callable[..., Path]) -> None:
    listener = single.SingleInstance(window)
    listener.handed.connect(window.take_over)
    assert listener.listening
    path = make_audio("gulls.wav")
    assert handed_over(qtbot, [path]) is single.Answer.TAKEN
    qtbot.waitUntil(lambda: window.workspace.sessions.session.name == "gulls", timeout=10000)
    assert window.workspace.sessions.session.strips[0].files == (path,)
    name = window.workspace.sessions.session.name
    assert handed_over(qtbot, []) is single.Answer.TAKEN
    assert window.workspace.sessions.session.name == name
    listener.close()
    assert single.hand_over([path]) is single.Answer.NOBODY


def test_what_a_crash_left_at_the_meeting_place_is_in_nobody_s_way(qtbot: Any, place: Path) -> None:
    with socket.socket(socket.AF_UNIX) as dead:
        dead.bind(str(place))
    assert place.exists()
    assert single.hand_over([]) is single.Answer.NOBODY
    listener = single.SingleInstance()
    assert listener.listening
    assert handed_over(qtbot, []) is single.Answer.TAKEN
    listener.close()


def test_a_start_beside_a_window_ends_at_once(window: MainWindow, qtbot: Any, place: Path,
                                              monkeypatch: pytest.MonkeyPatch) -> None:
    listener = single.SingleInstance(window)
    came: list[list[Path]] = []
    listener.handed.connect(came.append)
    with ThreadPoolExecutor(1) as pool:
        status = pool.submit(launch, [DEMO])
        qtbot.waitUntil(status.done, timeout=10000)
    assert status.result() == 0
    qtbot.waitUntil(lambda: bool(came))
    assert came == [[DEMO]]
    listener.close()
