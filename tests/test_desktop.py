"""What a desktop is told of the program: entry, file type, icon, manual page."""

from __future__ import annotations

import configparser
import shutil
import subprocess
import tomllib
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import pytest
from PyQt6.QtGui import QIcon

from yellow_ember import __version__
from yellow_ember.app import start
from yellow_ember.cli import DEMO, parser
from yellow_ember.dsp.stages import STAGES

ROOT = Path(__file__).parents[1]
DESKTOP = ROOT / "desktop"


def test_the_entry_opens_sessions_and_sounds() -> None:
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str  # type: ignore[assignment, method-assign]
    entry.read(DESKTOP / f"{start.DESKTOP_ID}.desktop")
    found = entry["Desktop Entry"]
    program, *words = found["Exec"].split()
    assert program == "yellow-ember"
    assert parser().parse_args([word for word in words if not word.startswith("%")]).paths == []
    assert "application/x-yellow-ember-session" in found["MimeType"].split(";")
    assert found["Icon"] == start.DESKTOP_ID


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


def test_the_icon_is_drawn(qapp) -> None:
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
