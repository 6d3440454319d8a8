"""The preset browser: what it proposes, remembers and offers, and where a preset is put."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.tools.preset_table import ADDED, TONE
from yellow_ember.engine.jobs.preset_figures import demo_mix, figures_of
from yellow_ember.measure.comparison import compare
from yellow_ember.measure.likely_source import likely_source
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.edits.edits import add_stage
from yellow_ember.session.io.presets import own_folder, shipped_presets
from yellow_ember.session.values.model import new_stage
from yellow_ember.session.values.purposes import SOURCES, proposed_intention, source_by_name


@pytest.fixture
def browser(window: MainWindow) -> Iterator[PresetBrowser]:
    window.workspace.selection.select("upright-bass")
    yield window.workspace.tools.open(PresetBrowser)
    for path in own_folder().rglob("*.json"):
        path.unlink()


def with_stages(window: MainWindow, *kinds: str) -> list[str]:
    """Stages on the chosen strip; their ids."""
    stages = [new_stage(kind) for kind in kinds]
    strip_id = window.workspace.selection.strip_id
    for stage in stages:
        window.workspace.sessions.document.commit(
            "Add", lambda session, stage=stage: add_stage(session, strip_id, stage))  # type: ignore[misc]
    return [stage.id for stage in stages]


@pytest.mark.parametrize(("name", "source"), [
    ("Brushed drums", "drums"), ("Bass drum", "drums"), ("Upright bass", "bass"), ("SNARE top", "drums"),
    ("Ship's announcer", "voice"), ("Plucked guitar", "guitar"), ("Harmonium", "keys"), ("organ bass", "bass"),
    ("Take 3", ""), ("", ""), ("Basement", ""), ("lead vox_02", "voice"), ("Gtr L", "guitar")])
def test_a_source_is_told_by_name(name: str, source: str) -> None:
    assert source_by_name(name) == source


@pytest.mark.parametrize(("track", "source"), [
    ("brushed-drums", "drums"), ("upright-bass", "bass"), ("harmonium", "keys"), ("plucked-guitar", "guitar"),
    ("ships-announcer", "voice")])
def test_a_source_is_told_by_sound(track: str, source: str) -> None:
    sound, rate = demo_mix((track,), 10.0)
    comparison = compare(sound, sound, rate)
    for louder_db in (-20.0, 0.0, 12.0):
        assert likely_source(comparison.bands, comparison.before_db + louder_db,
                             loudness(sound, rate).crest_db) == source
    assert likely_source(comparison.bands, np.full(comparison.bands.size, -np.inf), 0.0) in SOURCES


def test_figures_say_what_a_chain_does() -> None:
    louder = figures_of((new_stage("trim"),))
    assert louder.added_db == -80.0
    assert len(louder.tone_db) == 10
    assert max(map(abs, louder.tone_db)) < 0.1, "equal loudness is no change of tone"
    bright = new_stage("eq")
    tipped = figures_of((replace(bright, params={**bright.params, "tilt_db": 6.0}),))
    assert tipped.brightness > 0.8
    assert tipped.tone_db[-1] - tipped.tone_db[0] > 5.0


@pytest.mark.parametrize(("added", "brightness", "intention"), [
    (-4.0, 0.0, "destroy"), (-15.0, -2.0, "age"), (-35.0, -1.0, "soften"), (-30.0, 1.0, "air"), (-15.0, 0.0, "weight"),
    (-40.0, 0.0, "glue")])
def test_an_intention_is_proposed(added: float, brightness: float, intention: str) -> None:
    assert proposed_intention(added, brightness) == intention


def test_the_strip_s_source_is_proposed_and_another_remembered(window: MainWindow, browser: PresetBrowser) -> None:
    assert browser.source.currentText() == "bass"
    assert {preset.source for preset in browser.shown} == {"bass"}
    window.workspace.selection.select("rhythm")
    assert browser.source.currentText() == "bus"
    assert "Rhythm" in browser.windowTitle()
    browser.source.setCurrentText("drums")
    browser.intention.setCurrentText("glue")
    window.workspace.selection.select("upright-bass")
    assert browser.source.currentText() == "bass"
    browser.close()
    window.workspace.selection.select("rhythm")
    again = window.workspace.tools.open(PresetBrowser)
    assert (again.source.currentText(), again.intention.currentText()) == ("drums", "glue")


def test_opening_changes_nothing_that_is_heard(window: MainWindow, browser: PresetBrowser, qtbot: QtBot) -> None:
    before = window.workspace.sessions.session
    browser.table.setFocus()
    qtbot.wait(300)
    assert browser.row == -1
    assert browser.heard is None
    assert window.workspace.sessions.session is before


def test_another_strip_leaves_what_was_heard(window: MainWindow, browser: PresetBrowser, qtbot: QtBot) -> None:
    before = window.workspace.sessions.session
    browser.table.choose(0)
    qtbot.waitUntil(lambda: browser.heard is not None, timeout=60000)
    window.workspace.selection.select("rhythm")
    assert browser.heard is None
    assert window.workspace.sessions.session.strips == before.strips


@pytest.mark.parametrize(("place", "expected"), [
    (0, ["new"]), (1, ["eq", "drive", "new", "trim"]), (2, ["eq", "new", "trim"])])
def test_a_preset_goes_where_it_is_wanted(place: int, expected: list[str], window: MainWindow,
                                          browser: PresetBrowser, qtbot: QtBot) -> None:
    ids = with_stages(window, "eq", "drive", "trim")
    window.workspace.selection.select("upright-bass", ids[1])
    browser.place.setCurrentIndex(place)
    browser.table.choose(0)
    qtbot.waitUntil(lambda: browser.heard is not None, timeout=60000)
    chosen = browser.chosen
    assert chosen is not None
    new = [stage.kind for stage in chosen.stages]
    kinds = [kind for entry in expected for kind in (new if entry == "new" else [entry])]
    assert [stage.kind for stage in window.workspace.selection.strip.chain] == kinds
    browser.keep()
    chain = window.workspace.selection.strip.chain
    assert [stage.kind for stage in chain] == kinds
    assert len({stage.id for stage in chain}) == len(chain)
    window.undo()
    assert [stage.kind for stage in window.workspace.selection.strip.chain] == ["eq", "drive", "trim"]


def test_without_a_stage_there_is_only_the_path(browser: PresetBrowser) -> None:
    assert not browser.place.isEnabled()
    assert browser.place.currentIndex() == 0


@pytest.mark.parametrize(("button", "figure", "up"), [
    ("Brighter", "brightness", True), ("Darker", "brightness", False), ("More", "added_db", True),
    ("Less", "added_db", False)])
def test_the_next_brighter_darker_less_and_more(button: str, figure: str, up: bool, browser: PresetBrowser,
                                                qtbot: QtBot) -> None:
    browser.source.setCurrentText("drums")
    browser.table.choose(len(browser.shown) // 2)
    steps = 0
    while steps < 40:
        before = browser.chosen
        assert before is not None
        assert before.figures is not None
        browser.buttons[button].click()
        after = browser.chosen
        assert after is not None
        assert after.figures is not None
        if after.name == before.name:
            break
        change = getattr(after.figures, figure) - getattr(before.figures, figure)
        assert (change > 0) is up
        steps += 1
    assert steps > 0
    assert browser.state.text().startswith("None of these")


def test_brighter_than_the_strip_as_it_is(window: MainWindow, browser: PresetBrowser, qtbot: QtBot) -> None:
    """Three steps to a brighter preset: open, Brighter, Enter."""
    assert not window.workspace.selection.strip.chain
    browser.source.setCurrentText("drums")
    browser.buttons["Brighter"].click()
    qtbot.waitUntil(lambda: browser.heard is not None, timeout=60000)
    assert browser.chosen is not None
    assert browser.chosen.figures is not None
    assert browser.chosen.figures.brightness > 0.2
    qtbot.keyClick(browser.table, Qt.Key.Key_Return)
    assert window.workspace.selection.strip.chain


def test_columns_sort(browser: PresetBrowser) -> None:
    browser.source.setCurrentText("all")
    assert len(browser.shown) == len(shipped_presets())
    for column, figure in ((ADDED, "added_db"), (TONE, "brightness")):
        for order in Qt.SortOrder:
            browser.table.sortByColumn(column, order)
            values = [getattr(preset.figures, figure) for preset in browser.shown]
            assert values == sorted(values, reverse=order is Qt.SortOrder.DescendingOrder)


def test_single_stages_and_whole_paths_are_told_apart(browser: PresetBrowser) -> None:
    browser.source.setCurrentText("all")
    browser.which.setCurrentText("single stages")
    assert browser.shown
    assert {len(preset.stages) for preset in browser.shown} == {1}
    browser.which.setCurrentText("whole paths")
    assert all(len(preset.stages) > 1 for preset in browser.shown)


def test_saving_is_a_name_and_enter(window: MainWindow, browser: PresetBrowser, qtbot: QtBot) -> None:
    with_stages(window, "drive")
    qtbot.keyClicks(browser.name, "Below decks")
    qtbot.keyClick(browser.name, Qt.Key.Key_Return)
    assert browser.isVisible(), "Enter in the name keeps nothing that is heard"
    browser.fill("Below decks")
    kept = browser.chosen
    assert kept is not None
    assert kept.source == "bass"
    assert kept.path is not None
    qtbot.waitUntil(lambda: browser.table.rows.figures_of(kept) is not None, timeout=60000)
    assert browser.table.rows.text(kept, ADDED).endswith("dB")
    browser.close()
    again = window.workspace.tools.open(PresetBrowser)
    assert again.table.rows.figures_of(kept) is not None, "it is measured once"


def test_a_star_marks_a_favourite(window: MainWindow, browser: PresetBrowser, qtbot: QtBot) -> None:
    window.resize(1280, 800)
    table = browser.table
    view = table.viewport()
    assert view is not None
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=table.visualRect(table.rows.index(1, 0)).center())
    assert window.workspace.settings.favourites == (browser.shown[1].name,)
