"""Strips that are not edited are printed in the background and played from there; the desk shows which."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state import background
from yellow_ember.app.state.background import PrintState
from yellow_ember.app.state.settings import Settings
from yellow_ember.engine.jobs.strip_prints import prints_folder, trim_prints
from yellow_ember.session.edits.edits import add_stage, set_parameter
from yellow_ember.session.values.model import new_stage

BASS, DRUMS = "upright-bass", "brushed-drums"


@pytest.fixture
def driven(monkeypatch: pytest.MonkeyPatch, window: MainWindow) -> MainWindow:
    """A drive on the bass, while the drums are chosen."""
    monkeypatch.setattr(background, "SETTLE_SECONDS", 0.3)
    workspace = window.workspace
    workspace.selection.select(DRUMS)
    workspace.sessions.document.commit("Drive", lambda _: add_stage(workspace.sessions.session, BASS,
                                                                    new_stage("drive")))
    return window


def wait_for(qtbot: Any, window: MainWindow, state: PrintState) -> None:
    qtbot.waitUntil(lambda: window.workspace.prints.state(BASS) is state, timeout=60000)


def edit(window: MainWindow, drive_db: float) -> None:
    workspace = window.workspace
    stage = workspace.sessions.session.strip(BASS).chain[0]
    workspace.sessions.document.commit("Drive", lambda _: set_parameter(workspace.sessions.session, BASS, stage.id,
                                                                        "drive_db", drive_db))


def test_a_strip_that_is_left_alone_plays_from_a_print(driven: MainWindow, qtbot: Any) -> None:
    wait_for(qtbot, driven, PrintState.PRINTED)
    assert "frozen" in driven.desk.rows[BASS].accessibleDescription()
    workspace = driven.workspace
    assert [result.strip_id for result in workspace.playback.engine.prints.prints] == [BASS]
    edit(driven, 20.0)
    qtbot.waitUntil(lambda: workspace.prints.state(BASS) in (PrintState.WAITING, PrintState.PRINTING), timeout=60000)
    assert workspace.playback.engine.prints.prints == ()
    wait_for(qtbot, driven, PrintState.PRINTED)
    before = set(prints_folder().glob("*.f32"))
    driven.undo()
    wait_for(qtbot, driven, PrintState.WAITING)
    wait_for(qtbot, driven, PrintState.PRINTED)
    assert set(prints_folder().glob("*.f32")) == before, "what was printed before is found again"


def test_a_print_that_is_trimmed_from_the_cache_is_not_shown_as_played(driven: MainWindow, qtbot: Any) -> None:
    wait_for(qtbot, driven, PrintState.PRINTED)
    before = {file.name for file in prints_folder().glob("*.f32")}
    trim_prints(0)
    assert not list(prints_folder().glob("*.f32"))
    qtbot.waitUntil(lambda: driven.workspace.prints.state(BASS) is not PrintState.PRINTED, timeout=60000)
    assert driven.workspace.playback.engine.prints.prints == ()
    wait_for(qtbot, driven, PrintState.PRINTED)
    assert {file.name for file in prints_folder().glob("*.f32")} <= before, "it is made again"


def test_the_chosen_strip_runs_live(driven: MainWindow, qtbot: Any) -> None:
    wait_for(qtbot, driven, PrintState.PRINTED)
    driven.workspace.selection.select(BASS)
    wait_for(qtbot, driven, PrintState.LIVE)
    driven.workspace.selection.select(DRUMS)
    wait_for(qtbot, driven, PrintState.PRINTED)


def test_a_bypassed_path_needs_no_print(driven: MainWindow, qtbot: Any) -> None:
    wait_for(qtbot, driven, PrintState.PRINTED)
    driven.desk.rows[BASS].switch("bypass")
    wait_for(qtbot, driven, PrintState.LIVE)


def test_it_can_be_switched_off(open_window: Callable[..., MainWindow], qtbot: Any,
                                monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(background, "SETTLE_SECONDS", 0.0)
    window = open_window(settings=Settings(background_printing=False))
    workspace = window.workspace
    workspace.selection.select(DRUMS)
    workspace.sessions.document.commit("Drive", lambda _: add_stage(workspace.sessions.session, BASS,
                                                                    new_stage("drive")))
    qtbot.wait(1000)
    assert workspace.prints.state(BASS) is PrintState.LIVE
    workspace.settings.background_printing = True
    wait_for(qtbot, window, PrintState.PRINTED)
    workspace.settings.background_printing = False
    wait_for(qtbot, window, PrintState.LIVE)


def test_what_can_t_be_printed_is_said_and_runs_live(driven: MainWindow, qtbot: Any,
                                                    monkeypatch: pytest.MonkeyPatch) -> None:
    wait_for(qtbot, driven, PrintState.PRINTED)
    folder = prints_folder()
    for path in folder.iterdir():
        path.unlink()
    folder.rmdir()
    folder.write_text("no folder")
    monkeypatch.setattr("yellow_ember.engine.jobs.strip_prints.prints_folder", lambda: folder)
    try:
        edit(driven, 9.0)
        qtbot.waitUntil(lambda: any("runs live" in message.text for message in driven.workspace.messages.all),
                        timeout=60000)
        assert driven.workspace.prints.state(BASS) is PrintState.LIVE
    finally:
        folder.unlink()
