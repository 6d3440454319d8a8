"""Link groups, and several strips edited at once: in the session's value and in the window."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QDropEvent, QMouseEvent
from PyQt6.QtWidgets import QMenu

from conftest import measured
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.panels import copying
from yellow_ember.app.tools.links import LinksTool
from yellow_ember.dsp.parameters import as_number
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.session.document import Document
from yellow_ember.session.edits.edits import (
    add_stage,
    edit_strip,
    remove_stage,
    remove_strip,
    set_parameter,
    use_chain,
)
from yellow_ember.session.edits.following import follow, linked_with
from yellow_ember.session.edits.link_edits import (
    bypass_group,
    edit_link,
    group_of,
    join_link,
    leave_link,
    link_stages,
    link_strips,
    linkable,
    strips_of,
)
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.session_file import read_session, session_to_object, write_session
from yellow_ember.session.values.model import Session, new_stage

DRUMS, BASS, HARMONIUM = "brushed-drums", "upright-bass", "harmonium"
NEITHER = Qt.KeyboardModifier.NoModifier


@pytest.fixture
def session(demo: Session) -> Session:
    """Drives of 6, 12 and 40 dB, each with an equaliser behind."""
    for strip_id, drive_db in ((DRUMS, 6.0), (BASS, 12.0), (HARMONIUM, 40.0)):
        stage = new_stage("drive")
        demo = set_parameter(add_stage(demo, strip_id, stage), strip_id, stage.id, "drive_db", drive_db)
        demo = add_stage(demo, strip_id, new_stage("eq"))
    return demo


def drive(session: Session, strip_id: str) -> StageSettings:
    return session.strip(strip_id).chain[0]


def drives(session: Session) -> list[float]:
    return [as_number(drive(session, strip_id).params["drive_db"]) for strip_id in (DRUMS, BASS, HARMONIUM)]


def moved(document: Document, strip_id: str, name: str, value: Any, index: int = 0) -> Session:
    session = document.session
    return set_parameter(session, strip_id, session.strip(strip_id).chain[index].id, name, value)


def follows(base: Session, _before: Session, new: Session) -> Session:
    return follow(base, new)


def linked(session: Session, *, relative: bool = True, members: tuple[str, ...] = (DRUMS, BASS, HARMONIUM)) -> Document:
    return Document(link_strips(session, members, relative=relative), rule=lambda: follows)


def test_making_a_link_moves_nobody(session: Session) -> None:
    assert drives(linked(session, relative=False).session) == [6.0, 12.0, 40.0]


def test_relative_moves_keep_differences_and_come_back_from_the_range_s_end(session: Session) -> None:
    document = linked(session)
    drag = document.trial("Drive")

    def move_to(value: float) -> None:
        stage = drive(session, DRUMS)
        drag.show(lambda shown: set_parameter(shown, DRUMS, stage.id, "drive_db", value))

    for value in (8.0, 20.0, 30.0):
        move_to(value)
    assert drives(document.session) == pytest.approx([30.0, 36.0, 48.0]), "the third stands at its end"
    move_to(7.0)
    assert drives(document.session) == pytest.approx([7.0, 13.0, 41.0])
    drag.keep()
    assert document.undo() == "Drive"
    assert drives(document.session) == [6.0, 12.0, 40.0]


def test_absolute_moves_give_the_same_value(session: Session) -> None:
    document = linked(session, relative=False)
    document.commit("Drive", lambda _: moved(document, BASS, "drive_db", 9.0))
    assert drives(document.session) == [9.0, 9.0, 9.0]


def test_frequencies_move_by_ear_and_choices_as_they_are(session: Session) -> None:
    document = linked(session)
    for strip_id, hz in ((DRUMS, 4000.0), (BASS, 8000.0)):
        document.commit("set", lambda _: leave_and_set(document, strip_id, "tone_hz", hz))
    document.commit("Tone", lambda _: moved(document, DRUMS, "tone_hz", 2000.0))
    assert drive(document.session, BASS).params["tone_hz"] == pytest.approx(4000.0, rel=1e-3)
    document.commit("Shape", lambda _: moved(document, DRUMS, "shape", "triode"))
    assert {drive(document.session, strip_id).params["shape"] for strip_id in (DRUMS, BASS, HARMONIUM)} == {"triode"}


def leave_and_set(document: Document, strip_id: str, name: str, value: Any) -> Session:
    """Set one member alone: out of the link, and in again."""
    group = document.session.links[0]
    alone = leave_link(document.session, strip_id)
    document.commit("out", lambda _: alone)
    alone = set_parameter(alone, strip_id, drive(alone, strip_id).id, name, value)
    document.commit("alone", lambda _: alone)
    return join_link(document.session, group.id, strip_id)


def test_joining_and_leaving_move_nobody(session: Session) -> None:
    document = linked(session, members=(DRUMS, BASS))
    group = document.session.links[0]
    document.commit("Join", lambda _: join_link(document.session, group.id, HARMONIUM))
    assert drives(document.session) == [6.0, 12.0, 40.0]
    document.commit("Drive", lambda _: moved(document, HARMONIUM, "drive_db", 41.0))
    assert drives(document.session) == pytest.approx([7.0, 13.0, 41.0])
    document.commit("Leave", lambda _: leave_link(document.session, HARMONIUM))
    document.commit("Drive", lambda _: moved(document, HARMONIUM, "drive_db", 1.0))
    assert drives(document.session) == pytest.approx([7.0, 13.0, 1.0])
    assert leave_link(document.session, BASS).links == (), "one alone is no link"


def test_just_what_is_ticked_is_linked(session: Session) -> None:
    document = linked(session)
    group = document.session.links[0]
    assert {"volume_db", "drive.drive_db", "eq.on"} <= linkable(document.session, group).keys()
    document.commit("What", lambda _: edit_link(document.session, group.id, lambda old: type(old)(
        old.id, old.name, old.members, parameters=("drive.drive_db", "mute"))))
    document.commit("Out", lambda _: moved(document, DRUMS, "out_db", -12.0))
    assert drive(document.session, BASS).params["out_db"] == -6.0
    document.commit("Mute", lambda session: edit_strip(
        session, DRUMS, lambda strip: strip.with_(mute=True, volume_db=-20.0)))
    assert document.session.strip(BASS).mute
    assert document.session.strip(BASS).volume_db != -20.0


def test_stages_of_one_kind_can_be_linked_alone(session: Session) -> None:
    first, second = drive(session, DRUMS), drive(session, BASS)
    document = Document(link_stages(session, (first.id, second.id)), rule=lambda: follows)
    document.commit("Drive", lambda _: moved(document, DRUMS, "drive_db", 10.0))
    assert drives(document.session) == pytest.approx([10.0, 16.0, 40.0])
    volume = document.session.strip(BASS).volume_db
    document.commit("Volume", lambda _: edit_strip(document.session, DRUMS, lambda strip: strip.with_(volume_db=-20.0)))
    assert document.session.strip(BASS).volume_db == volume
    with pytest.raises(ValueError, match="one kind"):
        link_stages(session, (first.id, session.strip(BASS).chain[1].id))
    group = document.session.links[0]
    assert strips_of(document.session, group) == (DRUMS, BASS)
    off = bypass_group(document.session, group, bypass=True)
    assert [stage.on for stage in off.strip(DRUMS).chain] == [False, True]
    assert linked_with(document.session, (DRUMS,)) == {DRUMS, BASS}


def test_links_let_go_of_what_is_removed(session: Session) -> None:
    made = link_strips(session, (DRUMS, BASS, HARMONIUM))
    assert made.links[0].members == (DRUMS, BASS, HARMONIUM)
    assert remove_strip(made, BASS).links[0].members == (DRUMS, HARMONIUM)
    stages = link_stages(session, (drive(session, DRUMS).id, drive(session, BASS).id))
    assert remove_stage(stages, DRUMS, drive(session, DRUMS).id).links == ()
    assert use_chain(stages, BASS, ()).links == ()


def test_a_preset_on_one_member_leaves_the_others(session: Session) -> None:
    document = linked(session)
    fresh = new_stage("drive")
    document.commit("Preset", lambda _: use_chain(document.session, DRUMS, (fresh,)))
    assert drives(document.session)[1:] == [12.0, 40.0]
    assert document.session.links[0].members == (DRUMS, BASS, HARMONIUM)


def test_sessions_hold_links(session: Session, tmp_path: Path) -> None:
    made = link_stages(link_strips(session, (DRUMS, BASS), relative=False),
                       (session.strip(BASS).chain[1].id, session.strip(HARMONIUM).chain[1].id))
    write_session(made, tmp_path / "a.ember")
    assert read_session(tmp_path / "a.ember") == made
    for change, words in (({"members": [DRUMS, "nobody"]}, r"links\[0\]\.members: 'nobody' is no strip"),
                          ({"members": [DRUMS]}, r"links\[0\]\.members: must have at least 2"),
                          ({"of_stages": True}, r"links\[0\]\.members: .* is no stage")):
        result = session_to_object(made, tmp_path)
        result["links"][0] |= change
        (tmp_path / "b.ember").write_text(json.dumps(result))
        with pytest.raises(SessionFileError, match=words):
            read_session(tmp_path / "b.ember")


# -- in the window ----------------------------------------------------------------------------


def click(window: MainWindow, strip_id: str, keys: Qt.KeyboardModifier = NEITHER) -> None:
    row = window.desk.rows[strip_id]
    point = QPointF(30.0, 10.0)
    for kind in (QEvent.Type.MouseButtonPress, QEvent.Type.MouseButtonRelease):
        event = QMouseEvent(kind, point, row.mapToGlobal(point), Qt.MouseButton.LeftButton,
                            Qt.MouseButton.LeftButton, keys)
        (row.mousePressEvent if kind is QEvent.Type.MouseButtonPress else row.mouseReleaseEvent)(event)


def choose(window: MainWindow, *strip_ids: str) -> None:
    click(window, strip_ids[0])
    for strip_id in strip_ids[1:]:
        click(window, strip_id, Qt.KeyboardModifier.ControlModifier)


def kinds(window: MainWindow, strip_id: str) -> list[str]:
    return [stage.kind for stage in window.workspace.sessions.session.strip(strip_id).chain]


def test_several_strips_are_chosen_and_edited_at_once(window: MainWindow) -> None:
    workspace = window.workspace
    choose(window, DRUMS, BASS)
    assert window.desk.several.text() == "2 strips are edited at once"
    window.path_view.add("drive")
    assert kinds(window, DRUMS) == kinds(window, BASS) == ["drive"]
    assert workspace.sessions.document.undo_label == "Add Saturation"
    window.bench.bar("drive_db").ask(21.0, commit=True)
    session = workspace.sessions.session
    assert [as_number(drive(session, strip_id).params["drive_db"]) for strip_id in (DRUMS, BASS)] == [21.0, 21.0]
    volumes = [workspace.sessions.session.strip(strip_id).volume_db for strip_id in (DRUMS, BASS)]
    window.desk.volume.ask(workspace.selection.strip.volume_db - 2.0, commit=True)
    assert [workspace.sessions.session.strip(strip_id).volume_db for strip_id in (DRUMS, BASS)] == pytest.approx(
        [volume - 2.0 for volume in volumes]), "faders keep their differences"
    window.desk.rows[BASS].switch("mute")
    assert workspace.sessions.session.strip(DRUMS).mute
    window.undo()
    assert not workspace.sessions.session.strip(DRUMS).mute
    click(window, BASS)
    assert workspace.selection.chosen == (BASS,)
    assert window.desk.several.isHidden()


def test_shift_chooses_a_row_of_strips(window: MainWindow) -> None:
    order = [strip.id for strip, _ in window.workspace.sessions.session.depth_first()]
    click(window, order[1])
    click(window, order[3], Qt.KeyboardModifier.ShiftModifier)
    assert window.workspace.selection.chosen == tuple(order[1:4])
    click(window, order[2], Qt.KeyboardModifier.ControlModifier)
    assert window.workspace.selection.chosen == (order[1], order[3])


def test_paste_goes_into_all_that_are_chosen(window: MainWindow) -> None:
    click(window, HARMONIUM)
    window.path_view.add("bits")
    window.workspace.give(copying.copy_stage)
    choose(window, DRUMS, BASS)
    window.workspace.give(copying.paste)
    assert kinds(window, DRUMS) == kinds(window, BASS) == ["bits"]


def labels(menu: QMenu) -> list[str]:
    return [action.text() for action in menu.actions()]


def pick(menu: QMenu, text: str) -> None:
    next(action for action in menu.actions() if action.text() == text).trigger()


def test_links_are_made_seen_and_left_in_the_desk(window: MainWindow) -> None:
    workspace = window.workspace
    choose(window, DRUMS, BASS)
    pick(window.desk.rows[BASS].menu(), "Link these 2 strips")
    assert workspace.sessions.document.undo_label == "Link strips"
    assert "linked, A" in window.desk.rows[DRUMS].accessibleDescription()
    click(window, HARMONIUM)
    pick(window.desk.rows[HARMONIUM].menu(), "Join link A")
    window.desk.rows[HARMONIUM].switch("solo")
    assert all(workspace.sessions.session.strip(strip_id).solo for strip_id in (DRUMS, BASS, HARMONIUM))
    window.undo()
    assert not any(strip.solo for strip in workspace.sessions.session.strips)
    pick(window.desk.rows[HARMONIUM].menu(), "Leave link A")
    assert "linked" not in window.desk.rows[HARMONIUM].accessibleDescription()


def test_a_group_is_bypassed_soloed_compared_and_matched_as_one(window: MainWindow, qtbot: Any) -> None:
    workspace = window.workspace
    choose(window, DRUMS, BASS)
    window.path_view.add("drive")
    links = workspace.tools.open(LinksTool)
    links.buttons["Link the chosen strips"].click()
    click(window, HARMONIUM)
    links.buttons["Bypass"].click()
    assert workspace.sessions.session.strip(DRUMS).bypass
    assert workspace.sessions.session.strip(BASS).bypass
    links.buttons["Bypass"].click()
    links.buttons["Solo"].click()
    assert [strip.id for strip, _ in workspace.sessions.session.depth_first() if strip.solo] == [DRUMS, BASS]
    links.buttons["Solo"].click()
    links.buttons["Before"].click()
    assert workspace.playback.before
    assert workspace.playback.engine.before.strip_ids == {DRUMS, BASS}
    links.buttons["Before"].click()
    assert not workspace.playback.engine.before.strip_ids
    links.buttons["Match"].click()
    for strip_id in (DRUMS, BASS):
        qtbot.waitUntil(lambda one=strip_id: workspace.measurer.fresh(one), timeout=60000)
    qtbot.waitUntil(lambda: all(workspace.sessions.session.strip(strip_id).match_db != 0.0 for strip_id in (DRUMS,
                                                                                                            BASS)),
                    timeout=60000)
    links.members.setCurrentRow(0)
    links.buttons["Leave"].click()
    assert workspace.sessions.session.links == ()
    links.close()


def test_what_is_linked_is_ticked_in_the_window(window: MainWindow) -> None:
    workspace = window.workspace
    choose(window, DRUMS, BASS)
    window.path_view.add("drive")
    links = workspace.tools.open(LinksTool)
    links.buttons["Link their stages of a kind"].click()
    group = group_of(workspace.sessions.session, workspace.selection.stage_id)
    assert group is not None
    assert group.of_stages
    row = next(row for row in range(links.parameters.count())
               if links.parameters.item(row).text() == "Saturation: Drive")
    links.parameters.item(row).setCheckState(Qt.CheckState.Unchecked)
    click(window, DRUMS)
    before = drive(workspace.sessions.session, BASS).params
    window.bench.bar("drive_db").ask(30.0, commit=True)
    assert drive(workspace.sessions.session, BASS).params == before
    window.bench.bar("asymmetry_pct").ask(20.0, commit=True)
    assert drive(workspace.sessions.session, BASS).params["asymmetry_pct"] == 20.0
    links.close()


def drop(window: MainWindow, onto: str, keys: Qt.KeyboardModifier = NEITHER) -> None:
    """The chosen strip's chosen stage, dropped onto another's row."""
    workspace = window.workspace
    mime = copying.dragged(workspace.selection.strip_id,
                           [workspace.selection.strip.stage(workspace.selection.stage_id)])
    actions = Qt.DropAction.MoveAction | Qt.DropAction.CopyAction
    window.desk.rows[onto].dropEvent(QDropEvent(QPointF(20.0, 10.0), actions, mime, Qt.MouseButton.LeftButton, keys))


def test_stages_are_dragged_from_strip_to_strip(window: MainWindow) -> None:
    workspace = window.workspace
    click(window, HARMONIUM)
    window.path_view.add("drive")
    window.bench.bar("drive_db").ask(33.0, commit=True)
    moved_id = workspace.selection.stage_id
    drop(window, BASS)
    assert kinds(window, HARMONIUM) == []
    assert workspace.sessions.session.strip(BASS).chain[0].id == moved_id
    assert (workspace.selection.strip_id, workspace.selection.stage_id) == (BASS, moved_id)
    drop(window, DRUMS, Qt.KeyboardModifier.ControlModifier)
    assert kinds(window, BASS) == kinds(window, DRUMS) == ["drive"]
    assert workspace.sessions.session.strip(DRUMS).chain[0].id != moved_id
    window.bench.bar("drive_db").ask(3.0, commit=True)
    drop(window, BASS, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert drive(workspace.sessions.session, BASS).params["drive_db"] == 3.0
    assert drive(workspace.sessions.session, BASS).id == moved_id
    window.undo()
    assert drive(workspace.sessions.session, BASS).params["drive_db"] == 33.0


def test_the_whole_group_is_heard_before_when_one_of_it_is_compared(window: MainWindow, qtbot: Any) -> None:
    choose(window, DRUMS, BASS)
    window.path_view.add("drive")
    pick(window.desk.rows[BASS].menu(), "Link these 2 strips")
    click(window, DRUMS)
    measured(qtbot, window)
    window.top_line.compare.toggle()
    assert window.workspace.playback.engine.before.strip_ids == {DRUMS, BASS}
    window.top_line.compare.toggle()
