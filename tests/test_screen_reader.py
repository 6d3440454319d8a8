"""What a screen reader is told of the window: names, roles, values, and messages as they come."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from processes import HAVE_DISPLAY, Display, Program, running
from screen_reader import HAVE_BUSES, Buses, Seen
from yellow_ember.app.widgets.announcing import announce

pytestmark = pytest.mark.skipif(not HAVE_DISPLAY or not HAVE_BUSES,
                                reason="Xvfb, openbox, xdotool, dbus-daemon or at-spi2-core is not here")


@pytest.fixture(scope="module")
def buses(qapp: QApplication, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Buses]:
    display = Display()
    result = Buses(display.environment(tmp_path_factory.mktemp("home")))
    yield result
    result.close()
    display.close()


@pytest.fixture(scope="module")
def program(buses: Buses) -> Iterator[Program]:
    with running(buses.environment) as result:
        result.ready()
        yield result


def named(buses: Buses, role: str, name: str) -> Seen:
    return buses.application().find(lambda seen: seen.name == name and seen.role == role)


def test_controls_are_sliders_with_values(program: Program, buses: Buses) -> None:
    strip, stage, drive = program.ask(
        "[(strip.id, stage.id, stage.params['drive_db']) for strip in workspace.sessions.session.strips "
        "for stage in strip.chain if stage.kind == 'drive'][0]")
    program.ask(f"workspace.selection.select('{strip}', '{stage}')")
    program.wait_for("'drive_db' in window.bench.bars and window.bench.bars['drive_db'].isVisible()")
    bar = named(buses, "slider", program.ask("window.bench.bars['drive_db'].parameter.label"))
    assert program.ask("window.bench.bars['drive_db'].parameter.text(window.bench.bars['drive_db'].setting)") in (
        bar.description)
    before = bar.value
    assert 0.0 < before < bar.most
    bar.set_value(before + 100.0)
    now = f"workspace.selection.strip.stage('{stage}').params['drive_db']"
    program.wait_for(f"{now} > {drive}")
    assert bar.value == pytest.approx(before + 100.0, abs=2.0)
    program.ask("workspace.sessions.document.undo()")
    program.wait_for(f"{now} == {drive}")
    assert bar.value == before


def test_rows_of_the_desk_can_be_chosen(program: Program, buses: Buses) -> None:
    for strip_id in ("brushed-drums", "upright-bass"):
        name = program.ask(f"workspace.sessions.session.strip('{strip_id}').name")
        row = named(buses, "check box", f"track {name}")
        row.press()
        program.wait_for(f"workspace.selection.strip_id == '{strip_id}'")
        assert row.checked
    assert sum(seen.checked for seen in buses.application().below()
               if seen.role == "check box" and seen.name.startswith("track ")) == 1


def test_everything_that_takes_keys_has_a_name(program: Program, buses: Buses) -> None:
    reached = [seen for seen in buses.application().below() if seen.takes_keys]
    assert len(reached) > 20
    assert [(seen.role, seen.path) for seen in reached if not seen.name] == []


def test_messages_are_said_as_they_come(program: Program, buses: Buses) -> None:
    program.ask("workspace.messages.warn('The tide is out')")
    buses.wait_for("The tide is out")
    program.ask("workspace.messages.say('The ferry is in')")
    buses.wait_for("The ferry is in")


def test_nothing_is_said_where_nobody_listens(qtbot: QtBot) -> None:
    assert not announce("Hello")
