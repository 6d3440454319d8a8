"""What is being tried belongs to who opened it: nobody else's edits swallow or lose it."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtWidgets import QApplication, QWidget

from conftest import DRY_DEMO, measured
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.audition import Audition
from yellow_ember.app.tools.blind_test import BlindTool
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.tools.tool import Tool
from yellow_ember.session.document import Document, Settle, Trial
from yellow_ember.session.edits.edits import (
    add_macro,
    add_stage,
    difference,
    edit_strip,
    remove_strip,
    set_parameter,
    use_chain,
)
from yellow_ember.session.edits.link_edits import link_strips
from yellow_ember.session.values.macros import Target
from yellow_ember.session.values.model import Session, Strip, StripKind, master_strip, new_stage

BASS, DRUMS, HARMONIUM = "upright-bass", "brushed-drums", "harmonium"


def mute(session: Session, strip_id: str = DRUMS) -> Session:
    return edit_strip(session, strip_id, lambda strip: strip.with_(mute=True))


def louder(by_db: float, strip_id: str = BASS) -> Any:
    return lambda session: edit_strip(session, strip_id, lambda strip: strip.with_(volume_db=by_db))


# -- the document -----------------------------------------------------------------------------


def test_what_others_do_neither_swallows_nor_loses_a_trial(demo: Session) -> None:
    document = Document(demo)
    trial = document.trial("Volume")
    trial.show(louder(-6.0))
    document.commit("Mute", mute)
    assert document.session.strip(BASS).volume_db == -6.0
    assert document.session.strip(DRUMS).mute
    assert document.committed == mute(demo)
    trial.show(louder(-9.0))
    trial.drop()
    assert document.session == mute(demo)
    assert document.undo_label == "Mute"


def test_a_kept_trial_is_one_step_and_takes_nobody_else_with_it(demo: Session) -> None:
    document = Document(demo)
    drag, heard = document.trial("Volume"), document.trial("Preset", Settle.DROP)
    drag.show(louder(-6.0))
    heard.show(lambda session: add_stage(session, HARMONIUM, new_stage("drive")))
    drag.keep()
    assert document.committed.strip(BASS).volume_db == -6.0
    assert document.committed.strip(HARMONIUM).chain == demo.strip(HARMONIUM).chain
    assert len(document.session.strip(HARMONIUM).chain) == len(demo.strip(HARMONIUM).chain) + 1
    heard.drop()
    assert document.undo() == "Volume"
    assert document.session == demo


def test_undo_and_redo_settle_what_is_open(demo: Session) -> None:
    document = Document(demo)
    document.commit("Mute", mute)
    drag, heard = document.trial("Volume"), document.trial("Preset", Settle.DROP)
    drag.show(louder(-6.0))
    heard.show(louder(-3.0, HARMONIUM))
    assert document.undo_label == "Volume"
    assert document.undo() == "Volume", "the drag was kept as a step, and that is what goes"
    assert document.session == mute(demo)
    assert not drag.open
    assert not heard.open
    heard.show(louder(3.0))
    heard.keep()
    assert document.session == mute(demo), "what is settled shows nothing any more"
    assert document.redo() == "Volume"
    assert document.session.strip(HARMONIUM).volume_db == demo.strip(HARMONIUM).volume_db


def test_a_trial_whose_strip_goes_is_settled(demo: Session) -> None:
    document = Document(demo)
    trial = document.trial("Volume")
    trial.show(louder(-6.0))
    document.commit("Remove", lambda session: remove_strip(session, BASS))
    assert not trial.open
    assert document.session == document.committed
    trial.keep()
    assert document.undo_label == "Remove"


def test_an_edit_of_what_is_only_tried_keeps_it(demo: Session) -> None:
    document = Document(demo)
    stage = new_stage("drive")
    heard = document.trial("Preset", Settle.DROP)
    heard.show(lambda session: add_stage(session, BASS, stage))
    document.commit("Drive", lambda session: set_parameter(session, BASS, stage.id, "drive_db", 20.0))
    assert document.session.strip(BASS).stage(stage.id).params["drive_db"] == 20.0
    assert document.undo() == "Drive"
    assert document.undo() == "Preset"
    assert document.session == demo


def test_an_edit_that_has_no_place_changes_nothing(demo: Session) -> None:
    document = Document(demo)
    trial = document.trial("Drive")
    trial.show(louder(-2.0))
    for edit in (lambda session: session.with_strip(session.strip("nobody")),
                 lambda session: set_parameter(session, BASS, "nothing", "drive_db", 3.0)):
        with pytest.raises(KeyError):
            trial.show(edit)
    assert document.session.strip(BASS).volume_db == -2.0
    assert trial.open


def test_a_measured_level_belongs_to_what_it_was_measured_of(demo: Session) -> None:
    document, stage = Document(demo), new_stage("drive")
    heard = document.trial("Preset", Settle.DROP)
    heard.show(lambda session: add_stage(session, BASS, stage))
    chain = document.session.strip(BASS).chain

    def matched(session: Session) -> Session:
        strip = session.strip(BASS)
        return session.with_strip(strip.with_(match_db=-5.0)) if strip.chain == chain else session

    document.adjust(matched)
    assert document.session.strip(BASS).match_db == -5.0
    assert document.committed.strip(BASS).match_db == demo.strip(BASS).match_db
    document.commit("Mute", mute)
    assert document.session.strip(BASS).match_db == -5.0
    heard.drop()
    assert document.session == mute(demo)
    document.adjust(lambda session: edit_strip(session, BASS, lambda strip: strip.with_(match_db=1.0)))
    assert document.undo_label == "Mute"
    assert document.committed.strip(BASS).match_db == 1.0


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.sampled_from(["open", "show", "keep", "drop", "commit", "undo", "redo"]),
                          st.integers(0, 3), st.integers(-40, 12)), max_size=40))
def test_whatever_the_order_dropping_all_leaves_the_committed_value(actions: list[tuple[str, int, int]]) -> None:
    """What is shown is always the committed value with the open trials on it."""
    document = Document(Session(strips=_strips()))
    trials: list[Trial] = []
    shows: dict[Trial, Any] = {}
    for action, number, level in actions:
        chosen = trials[number % len(trials)] if trials else None
        match action:
            case "open":
                trials.append(document.trial("t", Settle.KEEP if level % 2 else Settle.DROP))
            case "show" if chosen is not None:
                shows[chosen] = louder(float(level), f"track-{number}")
                chosen.show(shows[chosen])
            case "keep" if chosen is not None:
                chosen.keep()
            case "drop" if chosen is not None:
                chosen.drop()
            case "commit":
                document.commit("c", louder(float(level), f"track-{number}"))
            case "undo":
                document.undo()
            case "redo":
                document.redo()
        expected = document.committed
        for trial in trials:
            if trial.open and trial in shows:
                expected = shows[trial](expected)
        assert document.session == expected
    for trial in trials:
        trial.drop()
    assert document.session == document.committed


def _strips() -> Any:
    return (*(Strip(id=f"track-{number}", name="T", kind=StripKind.TRACK) for number in range(4)), master_strip())


def test_a_difference_leads_from_one_value_to_the_other(demo: Session) -> None:
    after = mute(louder(-4.0)(demo)).with_(tempo=99.0)
    edit = difference(demo, after)
    assert edit(demo) == after
    elsewhere = edit(louder(3.0, HARMONIUM)(demo))
    assert elsewhere.strip(HARMONIUM).volume_db == 3.0
    assert elsewhere.strip(BASS).volume_db == -4.0


# -- the window -------------------------------------------------------------------------------


def wheel(widget: QWidget, steps: int) -> None:
    at = QPointF(widget.rect().center())
    QApplication.sendEvent(widget, QWheelEvent(
        at, QPointF(widget.mapToGlobal(at)), QPoint(), QPoint(0, 120 * steps), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False))


@pytest.fixture
def driven(window: MainWindow, qtbot: Any) -> MainWindow:
    """Two stages on the bass, which is chosen."""
    window.workspace.selection.select(BASS)
    window.path_view.add("drive")
    window.path_view.add("trim")
    window.workspace.selection.select(BASS, window.workspace.selection.strip.chain[0].id)
    measured(qtbot, window)
    return window


def hear_first_row(window: MainWindow, qtbot: Any) -> Audition:
    browser = window.workspace.tools.open(PresetBrowser)
    browser.table.choose(0)
    qtbot.waitUntil(lambda: browser.heard is not None, timeout=20000)
    return browser


def test_leaving_a_preset_after_a_mute_leaves_the_mute_alone(driven: MainWindow, qtbot: Any) -> None:
    workspace = driven.workspace
    chain = workspace.selection.strip.chain
    browser = hear_first_row(driven, qtbot)
    assert workspace.selection.strip.chain != chain
    driven.desk.rows[DRUMS].switch("mute")
    assert workspace.selection.strip.chain != chain, "it goes on being heard"
    qtbot.keyClick(browser, Qt.Key.Key_Escape)
    assert workspace.selection.strip.chain == chain
    assert workspace.sessions.session.strip(DRUMS).mute


def test_a_preset_that_is_kept_after_a_mute_is_a_step_of_its_own(driven: MainWindow, qtbot: Any) -> None:
    workspace = driven.workspace
    chain = workspace.selection.strip.chain
    browser = hear_first_row(driven, qtbot)
    driven.desk.rows[DRUMS].switch("mute")
    browser.keep()
    driven.undo()
    assert workspace.selection.strip.chain == chain
    assert workspace.sessions.session.strip(DRUMS).mute


@pytest.mark.parametrize("where", ["bench", "handles", "desk", "macro", "tempo"])
def test_undo_right_behind_a_wheel_step_takes_that_back_alone(where: str, driven: MainWindow, qtbot: Any) -> None:
    workspace = driven.workspace
    if where == "handles":
        driven.path_view.add("eq")
        measured(qtbot, driven)
    if where == "macro":
        target = Target(workspace.selection.stage_id, "drive_db", 0.0, 30.0)
        workspace.sessions.document.commit("Macro", lambda session: add_macro(session, BASS, "Push", (target,)))
    workspace.sessions.document.commit("Mute", mute)
    before = workspace.sessions.session
    match where:
        case "bench":
            wheel(driven.bench.bar("drive_db"), 2)
        case "desk":
            wheel(driven.desk.volume, -2)
        case "tempo":
            wheel(driven.top_line.tempo, 2)
        case "macro":
            wheel(driven.bench.macros.bars[workspace.selection.strip.macros[0].id], 2)
        case _:
            handles = driven.bench.picture.handles
            handles.chosen = next(index for index, handle in enumerate(handles.handles) if handle.width)
            handles._widen(2.0)
    moved = workspace.sessions.session
    assert without_matches(moved) != without_matches(before)
    driven.undo()
    assert without_matches(workspace.sessions.session) == without_matches(before)
    driven.redo()
    assert without_matches(workspace.sessions.session) == without_matches(moved)


def without_matches(session: Session) -> Session:
    return session.with_(strips=tuple(strip.with_(match_db=0.0) for strip in session.strips))


def test_a_wheel_step_followed_by_another_stage_is_kept(driven: MainWindow) -> None:
    workspace = driven.workspace
    drive = workspace.selection.strip.chain[0]
    wheel(driven.bench.bar("drive_db"), 3)
    workspace.selection.select(BASS, workspace.selection.strip.chain[1].id)
    changed = workspace.selection.strip.chain[0].params["drive_db"]
    assert changed != drive.params["drive_db"]
    assert workspace.sessions.document.committed.strip(BASS).chain[0].params["drive_db"] == changed
    assert workspace.sessions.document.undo_label == "Drive"


def test_a_blind_test_moves_nobody_else(driven: MainWindow, qtbot: Any) -> None:
    workspace = driven.workspace
    stage = new_stage("drive")
    workspace.sessions.document.commit("Drive", lambda session: add_stage(session, HARMONIUM, stage))
    workspace.sessions.document.commit("Link", lambda session: link_strips(session, (BASS, HARMONIUM)))
    workspace.selection.choose_only(BASS)
    workspace.selection.choose_also(DRUMS)
    workspace.selection.select(BASS)
    driven.balance.snapshots.take(0)
    driven.bench.bar("drive_db").ask(40.0, commit=True)
    driven.balance.snapshots.take(1)
    measured(qtbot, driven)
    blind = workspace.tools.open(BlindTool, "strip")
    blind.first.setCurrentText("Snapshot 1")
    blind.second.setCurrentText("without any stage")
    others = {strip_id: workspace.sessions.session.strip(strip_id) for strip_id in (HARMONIUM, DRUMS)}
    blind.buttons["Start"].click()
    qtbot.waitUntil(lambda: blind.test is not None, timeout=60000)
    for side in "ABAB":
        blind.hear(side)
        for strip_id, strip in others.items():
            assert workspace.sessions.session.strip(strip_id).chain == strip.chain
            assert workspace.sessions.session.strip(strip_id).bypass == strip.bypass
    blind.close()


def test_a_menu_that_was_opened_long_ago_leaves_a_new_match_alone(driven: MainWindow) -> None:
    workspace = driven.workspace
    row = driven.desk.rows[BASS]
    menu = row.menu()
    workspace.sessions.document.adjust(lambda session: edit_strip(session, BASS,
                                                                  lambda strip: strip.with_(match_db=-7.5)))
    entries = {action.text(): action for action in menu.actions()}
    entries["Add bus"].trigger()
    assert workspace.sessions.session.strip(BASS).match_db == -7.5
    routing = next(action.menu() for action in menu.actions() if action.menu() is not None)
    for action in routing.actions():
        if action.isEnabled() and action.menu() is None:
            action.trigger()
            break
    assert workspace.sessions.session.strip(BASS).match_db == -7.5


def test_tools_end_with_the_session_that_they_are_about(driven: MainWindow, qtbot: Any) -> None:
    workspace = driven.workspace
    browser = hear_first_row(driven, qtbot)
    workspace.sessions.open_path(DRY_DEMO)
    opened = workspace.sessions.session
    assert not browser.isVisible()
    browser.keep()
    qtbot.wait(300)
    assert workspace.sessions.session == opened
    assert not [tool for tool in driven.findChildren(Tool) if tool.isVisible() and tool.of_the_session]


def test_a_strip_that_goes_while_a_preset_is_heard_on_it(driven: MainWindow, qtbot: Any) -> None:
    browser = hear_first_row(driven, qtbot)
    driven.workspace.sessions.document.commit("Remove", lambda session: remove_strip(session, BASS))
    assert not browser.isVisible()
    assert driven.workspace.sessions.document.session == driven.workspace.sessions.document.committed


def test_a_bench_control_of_a_preset_that_is_heard_keeps_it(driven: MainWindow, qtbot: Any) -> None:
    """One turns a knob of what one hears: then that is what one works on."""
    workspace = driven.workspace
    browser = hear_first_row(driven, qtbot)
    heard = workspace.selection.strip.chain
    workspace.selection.select(BASS, heard[0].id)
    driven.bench.bar("mix_pct").ask(50.0, commit=True)
    assert workspace.selection.strip.chain[0].mix_pct == 50.0
    qtbot.keyClick(browser, Qt.Key.Key_Escape)
    assert workspace.selection.strip.chain[0].mix_pct == 50.0
    assert [stage.id for stage in workspace.selection.strip.chain] == [stage.id for stage in heard]
    driven.undo()
    driven.undo()
    assert workspace.selection.strip.chain[0].kind == "drive"


def test_chains_put_in_place_have_the_same_stages_each_time_they_are_shown(demo: Session) -> None:
    document = Document(demo)
    edit = difference(demo, use_chain(demo, BASS, (new_stage("drive"), new_stage("tape"))))
    trial = document.trial("Preset", Settle.DROP)
    trial.show(edit)
    ids = [stage.id for stage in document.session.strip(BASS).chain]
    document.commit("Mute", mute)
    assert [stage.id for stage in document.session.strip(BASS).chain] == ids
