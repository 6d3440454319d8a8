"""Sets: chains for a bus and its tracks, or for a whole session; as values, as files, in the window."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.set_browser import SetBrowser
from yellow_ember.session.edits.edits import edit_strip, use_chain
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.presets import find_preset
from yellow_ember.session.io.sets import (
    StripSet,
    guessed_source,
    keep_set,
    own_sets,
    own_sets_folder,
    parts_for,
    read_set,
    set_from,
    shipped_sets,
    use_set,
    write_set,
)
from yellow_ember.session.values.model import MASTER, Session, StripKind
from yellow_ember.session.values.purposes import ANY_SOURCE, SET_SCOPES


def named(name: str) -> StripSet:
    return next(result for result in shipped_sets() if result.name == name)


def kinds(session: Session, strip_id: str) -> list[str]:
    return [stage.kind for stage in session.strip(strip_id).chain]


def test_shipped_sets_are_whole() -> None:
    assert {result.scope for result in shipped_sets()} == set(SET_SCOPES)
    assert len(shipped_sets()) >= 8
    for result in shipped_sets():
        assert result.note.endswith(".")
        places = [(part.where, part.source) for part in result.parts]
        assert len(set(places)) == len(places)
        requested = StripKind.BUS if result.scope == "bus" else StripKind.MASTER
        assert (requested, ANY_SOURCE) in places


def test_strips_are_known_by_their_names(demo: Session) -> None:
    assert [guessed_source(strip) for strip in demo.strips if strip.files] == [
        "drums", "bass", "keys", "guitar", "voice"]
    assert guessed_source(demo.master) == ANY_SOURCE


def test_a_bus_set_goes_to_the_bus_and_what_feeds_it(demo: Session) -> None:
    result = named("Rhythm on one deck")
    chosen = parts_for(demo, result, "rhythm")
    assert set(chosen) == {"rhythm", "brushed-drums", "upright-bass"}
    used = use_set(demo, result, chosen)
    assert kinds(used, "brushed-drums") == ["tape"]
    assert kinds(used, "upright-bass") == ["bands", "comp"]
    assert kinds(used, "rhythm") == ["tape"]
    assert used.strip("harmonium") == demo.strip("harmonium")
    assert used.strip("upright-bass").macros[0].name == "Growl"
    assert used.strip("brushed-drums").match_db == result.parts[1].match_db != 0.0
    linked = named("Quarter-inch for all")
    used = use_set(demo, linked, parts_for(demo, linked, "band"))
    assert used.links[0].members == ("harmonium", "plucked-guitar")
    assert used.links[0].relative


def test_a_session_set_goes_everywhere_that_it_says(demo: Session) -> None:
    result = named("A whole song on worn tape")
    used = use_set(demo, result, parts_for(demo, result, MASTER))
    assert kinds(used, MASTER) == ["tape", "wear"]
    assert all(strip.chain for strip in used.strips if strip.files)
    assert used.strip("band") == demo.strip("band")
    ids = [stage.id for strip in used.strips for stage in strip.chain]
    assert len(set(ids)) == len(ids)


def test_sets_of_one_s_own(demo: Session, tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="none of these strips has a stage"):
        set_from(demo, "bus", "rhythm", "Mine", "glue", "")
    preset = find_preset("Weight with clean lows")
    made = use_chain(demo, "upright-bass", preset.stages, preset.macros, -1.5)
    made = use_chain(made, "rhythm", find_preset("One crossing").stages)
    mine = set_from(made, "bus", "rhythm", "Mine", "glue", "Mine.")
    assert [(part.where, part.source) for part in mine.parts] == [
        (StripKind.BUS, ANY_SOURCE), (StripKind.TRACK, "bass")]
    kept = keep_set(mine)
    assert own_sets()[0][0].name == "Mine"
    assert kept.path is not None
    again = read_set(kept.path)
    renamed = edit_strip(demo, "plucked-guitar", lambda strip: strip.with_(name="Second bass"))
    used = use_set(renamed, again, parts_for(renamed, again, "band"))
    assert kinds(used, "plucked-guitar") == ["bands", "comp"]
    assert kinds(used, "harmonium") == []
    assert used.strip("plucked-guitar").match_db == -1.5
    kept.path.unlink()
    (own_sets_folder() / "broken.json").write_text("{}")
    assert "broken.json: format: must be" in own_sets()[1][0]
    (own_sets_folder() / "broken.json").unlink()


@pytest.mark.parametrize(("change", "words"), [
    ({"scope": "room"}, "scope: must be one of bus, session, not 'room'"),
    ({"parts": []}, "parts: must have at least 1"),
    ({"parts": [{"where": "aisle", "stages": []}]}, r"parts\[0\]\.where: must be one of track, bus, master"),
    ({"parts": [{"where": "bus", "stages": [{"kind": "lamp"}]}]}, r"parts\[0\]\.stages\[0\]\.kind"),
])
def test_odd_sets_are_named(change: dict[str, Any], words: str, tmp_path: Path) -> None:
    write_set(named("Crushed twin"), tmp_path / "a.json")
    result = json.loads((tmp_path / "a.json").read_text()) | change
    (tmp_path / "a.json").write_text(json.dumps(result))
    with pytest.raises(SessionFileError, match=words):
        read_set(tmp_path / "a.json")


# -- in the window ----------------------------------------------------------------------------


@pytest.fixture
def sets(window: MainWindow) -> SetBrowser:
    window.workspace.selection.select("upright-bass")
    made = window.workspace.tools.open(SetBrowser)
    return made


def choose(sets: SetBrowser, name: str) -> None:
    sets.list.setCurrentRow(1 + [result.name for result in sets._sets].index(name))


def test_a_set_is_heard_kept_and_matched(window: MainWindow, sets: SetBrowser, qtbot: Any) -> None:
    workspace = window.workspace
    assert sets.bus.currentText() == "Rhythm"
    choose(sets, "Crushed twin")
    assert kinds(workspace.sessions.session, "upright-bass") == ["drive"]
    assert workspace.sessions.document.undo_label is None
    choose(sets, "Rhythm on one deck")
    assert kinds(workspace.sessions.session, "upright-bass") == ["bands", "comp"]
    box = sets.boxes["brushed-drums"]
    assert box.currentText() == "drums: Tape machine"
    box.setCurrentIndex(0)
    assert kinds(workspace.sessions.session, "brushed-drums") == []
    sets.buttons["Keep"].click()
    assert workspace.sessions.document.undo_label == "Set Rhythm on one deck"
    for strip_id in ("rhythm", "upright-bass"):
        qtbot.waitUntil(lambda one=strip_id: workspace.measurer.fresh(one), timeout=60000)
    window.undo()
    assert not any(strip.chain for strip in workspace.sessions.session.strips)


def test_going_back_leaves_all_as_it_was(window: MainWindow, sets: SetBrowser) -> None:
    before = window.workspace.sessions.session
    choose(sets, "A whole song on worn tape")
    assert not sets.bus.isEnabled()
    assert window.workspace.sessions.session != before
    sets.list.setCurrentRow(0)
    assert window.workspace.sessions.session == before
    choose(sets, "Loud and whole")
    sets.buttons["Revert"].click()
    assert window.workspace.sessions.session == before
    assert window.workspace.sessions.document.undo_label is None


def test_what_is_on_a_bus_is_saved_as_a_set(window: MainWindow, sets: SetBrowser,
                                            monkeypatch: pytest.MonkeyPatch) -> None:
    answers = iter([("Mine", True), ("All mine.", True), ("Mine", True), ("All mine.", True)])
    monkeypatch.setattr("yellow_ember.app.tools.set_browser.QInputDialog.getText", lambda *_a, **_k: next(answers))
    sets.buttons["Save the bus"].click()
    assert sets.state.text() == "none of these strips has a stage"
    window.path_view.add("drive")
    sets.buttons["Save the bus"].click()
    assert sets.state.text() == "Mine is saved"
    assert sets.list.item(sets.list.count() - 1).text().startswith("Mine  (yours)")
    for path in own_sets_folder().glob("*.json"):
        path.unlink()
    sets.close()
