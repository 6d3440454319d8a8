"""What a user sets is kept at once, whoever else keeps settings meanwhile and however the program ends."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtWidgets import QInputDialog

from processes import own_folders, running
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state import playback
from yellow_ember.app.state.settings import MAX_RECENT, Settings, load_settings, save_settings, settings_file
from yellow_ember.app.tools import preset_browser
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.parameters import Group, Number
from yellow_ember.engine.jobs.printing import PrintOrder, print_session
from yellow_ember.files.reading import AudioFileError
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.io.presets import Preset, deleted_presets, keep_preset, own_folder
from yellow_ember.session.values.model import MASTER, Session, new_stage
from yellow_ember.session.values.regions import Region


@pytest.fixture
def fresh_file() -> Iterator[Path]:
    path = settings_file()
    path.unlink(missing_ok=True)
    yield path
    path.unlink(missing_ok=True)


def test_two_windows_keep_what_each_has_set(fresh_file: Path, tmp_path: Path) -> None:
    save_settings(Settings(favourites=("Old", "Gone"), notes={"Old": "mine"}))
    first, second = load_settings(), load_settings()
    first.mark("Keel weight", favourite=True)
    first.mark("Gone", favourite=False)
    first.write_note("Old", "")
    first.block = 512
    second.write_note("One crossing", "for the bass")
    second.mark("Furnace", favourite=True)
    second.remember(tmp_path / "song.ember")
    save_settings(first)
    save_settings(second)
    kept = load_settings()
    assert set(kept.favourites) == {"Old", "Keel weight", "Furnace"}
    assert kept.notes == {"One crossing": "for the bass"}
    assert kept.block == 512
    assert kept.recent == (str(tmp_path / "song.ember"),)
    assert not second.changed
    first.remember(tmp_path / "other.ember")
    save_settings(first)
    assert load_settings().recent == (str(tmp_path / "other.ember"), str(tmp_path / "song.ember"))


def test_what_was_set_last_in_one_place_holds(fresh_file: Path) -> None:
    first, second = load_settings(), load_settings()
    first.look, second.look = "dark", "light"
    save_settings(first)
    save_settings(second)
    save_settings(first)
    assert load_settings().look == "light"
    for number in range(20):
        first.remember(Path(f"/nowhere/{number}.ember"))
        save_settings(first)
    assert len(load_settings().recent) == MAX_RECENT


def test_settings_survive_a_kill(tmp_path: Path) -> None:
    environment = own_folders(tmp_path)
    with running(environment) as program:
        program.ready()
        program.ask("workspace.settings.mark('Keel weight', favourite=True)")
        program.ask("workspace.settings.write_note('Keel weight', 'heavy')")
        time.sleep(2.5)
        program.process.kill()
        program.process.wait()
    (file,) = (tmp_path / ".config").rglob("settings.json")
    kept = json.loads(file.read_text())
    assert kept["favourites"] == ["Keel weight"]
    assert kept["notes"] == {"Keel weight": "heavy"}


def test_settings_are_kept_where_the_engine_could_not_start(
        qapp: Any, fresh_file: Path, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*_: object) -> None:
        raise OSError(24, "Too many open files")

    monkeypatch.setattr(playback, "EngineClient", refuse)
    window = MainWindow(Workspace(Settings()))
    window.workspace.start()
    qtbot.waitUntil(lambda: any("can't be started" in entry.text for entry in window.workspace.messages.all),
                    timeout=20000)
    window.workspace.settings.mark("Keel weight", favourite=True)
    window.end()
    assert load_settings().favourites == ("Keel weight",)


# -- presets ----------------------------------------------------------------------------------


@pytest.fixture
def browser(window: MainWindow) -> Iterator[PresetBrowser]:
    kept = [keep_preset(Preset(name, "bass", "glue", "Mine.", (new_stage("drive"),))) for name in ("Anchor", "Buoy")]
    broken = own_folder() / "broken.json"
    broken.write_text("{")
    window.workspace.selection.select("upright-bass")
    result = window.workspace.tools.open(PresetBrowser)
    yield result
    result.close()
    for path in (*(preset.path for preset in kept), broken):
        if path is not None:
            path.unlink(missing_ok=True)


def names(browser: PresetBrowser) -> list[str]:
    return list(browser.keys())


def choose(browser: PresetBrowser, name: str) -> None:
    browser.table.choose(names(browser).index(name))


def test_a_preset_that_can_t_be_read_is_told_once(window: MainWindow, browser: PresetBrowser) -> None:
    for letter in "buoy":
        browser.search.setText(browser.search.text() + letter)
    assert [entry.text for entry in window.workspace.messages.all].count(
        next(entry.text for entry in window.workspace.messages.all if "broken.json" in entry.text)) == 1
    assert names(browser) == ["Buoy"]


def test_a_search_reads_no_files(browser: PresetBrowser, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(preset_browser, "own_presets", lambda: 1 / 0)
    browser.search.setText("anch")
    assert names(browser) == ["Anchor"]


def test_what_was_deleted_can_be_restored(browser: PresetBrowser) -> None:
    choose(browser, "Anchor")
    browser.delete()
    assert "Anchor" not in names(browser)
    assert "Buoy" in names(browser)
    gone = next(preset for preset in deleted_presets() if preset.name == "Anchor")
    browser.restore(gone)
    assert browser.chosen is not None
    assert browser.chosen.name == "Anchor"
    assert all(preset.name != "Anchor" for preset in deleted_presets())
    browser.delete()


def test_a_renamed_preset_stays_a_favourite(window: MainWindow, browser: PresetBrowser,
                                            monkeypatch: pytest.MonkeyPatch) -> None:
    settings = window.workspace.settings
    choose(browser, "Anchor")
    browser.mark()
    settings.keep_heard("Anchor")
    settings.write_note("Anchor", "holds")
    choose(browser, "Anchor")
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Mooring", True))
    browser.rename()
    assert "Mooring" in settings.favourites
    assert "Anchor" not in settings.favourites
    assert settings.heard[0] == "Mooring"
    assert settings.notes == {"Mooring": "holds"}


# -- typed values -----------------------------------------------------------------------------


def test_a_typed_value_that_is_none_stays_to_be_mended(qtbot: Any) -> None:
    bar = ValueBar(Number(id="drive", label="Drive", unit="dB", minimum=0.0, maximum=48.0, default=12.0,
                          group=Group.DRIVE, help="How hard."))
    qtbot.addWidget(bar)
    bar.show_value(12.0)
    bar.show()
    bar.activateWindow()
    heard: list[str] = []
    bar.refused.connect(heard.append)
    bar.edit("1o")
    editor = bar.editor
    assert editor is not None
    qtbot.waitUntil(editor.hasFocus, timeout=3000)
    editor.returnPressed.emit()
    assert bar.editor is editor, "it is still open"
    assert editor.text() == "1o"
    assert len(heard) == 1
    assert "Drive" in heard[0]
    editor.setText("10")
    editor.returnPressed.emit()
    assert bar.editor is None
    assert bar.setting == 10.0


# -- printing ---------------------------------------------------------------------------------


@pytest.mark.parametrize("damage", ["missing", "damaged"])
def test_one_file_that_is_no_good_keeps_no_other_strip_from_being_printed(
        damage: str, demo: Session, tmp_path: Path) -> None:
    bad = tmp_path / "bad.wav"
    if damage == "damaged":
        bad.write_bytes(b"RIFF")
    session = edit_strip(demo, "harmonium", lambda strip: strip.with_(regions=(Region(audio=bad),)))
    order = PrintOrder(tmp_path, ("brushed-drums", "harmonium", "rhythm", "band", MASTER), end=48000)
    printed = print_session(lambda _: None, session, order)
    assert sorted(path.stem.rpartition(" - ")[2] for path in printed.files) == ["Brushed drums", "Rhythm"]
    assert len(printed.left_out) == 3
    assert all("bad.wav" in trouble for trouble in printed.left_out)
    with pytest.raises(AudioFileError, match=r"bad\.wav"):
        print_session(lambda _: None, session, PrintOrder(tmp_path, (MASTER,), end=48000))
