"""No edit is lost: kills at any moment, files that others write, names that are taken."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from PyQt6.QtWidgets import QFileDialog, QMessageBox

from processes import own_folders, running
from yellow_ember.app import start
from yellow_ember.app.main_window import MainWindow
from yellow_ember.cli import main
from yellow_ember.engine.jobs.printing import PrintOrder, print_session
from yellow_ember.files.atomic import appearing, replacing, sweep_parts
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.io.autosave import KEPT, Autosave, leftovers, set_aside, versions, work_set_aside
from yellow_ember.session.io.session_file import read_session, write_session
from yellow_ember.session.values.model import Session
from yellow_ember.session.values.regions import Region
from yellow_ember.shipped import DEMO

PROCESS = "import sys; from yellow_ember.cli import main; sys.exit(main(sys.argv[1:]))"


@pytest.fixture(autouse=True)
def _nothing_left() -> None:
    for card in (*leftovers(), *work_set_aside()):
        card.file.unlink()


def unsaved(home: Path) -> list[Path]:
    return list((home / ".local" / "state" / "yellow-ember" / "unsaved").glob("*.json"))


# -- kills ------------------------------------------------------------------------------------


@pytest.mark.parametrize("apart_ms", [5, 700])
def test_a_kill_in_a_stream_of_edits_loses_two_seconds_at_most(apart_ms: int, tmp_path: Path) -> None:
    with running(own_folders(tmp_path)) as program:
        program.ready()
        program.ask("setattr(window, 'edit', lambda: window.drag.show(lambda session: session.with_("
                    "tempo=20.0 + (__import__('time').monotonic() - window.begun))))")
        program.ask("setattr(window, 'drag', workspace.sessions.document.trial('Tempo'))")
        program.ask("setattr(window, 'begun', __import__('time').monotonic())")
        program.ask("setattr(window, 'timer', __import__('PyQt6.QtCore').QtCore.QTimer(window))")
        program.ask("window.timer.timeout.connect(window.edit)")
        program.ask(f"window.timer.start({apart_ms})")
        time.sleep(3.4)
        lived = program.ask("__import__('time').monotonic() - window.begun")
        program.process.kill()
    (card,) = unsaved(tmp_path)
    kept = json.loads(card.read_text())["session"]["tempo"] - 20.0
    assert lived - kept < 2.0


def test_edits_are_kept_whatever_goes_wrong_beside(open_window: Callable[..., MainWindow], qtbot: Any) -> None:
    window = open_window()
    workspace = window.workspace

    def broken(*_: object) -> None:
        raise PermissionError(13, "Permission denied")

    workspace.sessions.changed.connect(broken)
    workspace.sessions.taken_in.connect(broken)
    with qtbot.captureExceptions() as errors:
        workspace.sessions.document.commit("Tempo", lambda session: session.with_(tempo=77.0))
    assert len(errors) == 2
    qtbot.waitUntil(lambda: workspace.sessions.edits.autosave.file.exists(), timeout=2000)


def test_a_track_one_may_not_look_at_is_no_trouble(open_window: Callable[..., MainWindow], qtbot: Any,
                                                   monkeypatch: pytest.MonkeyPatch) -> None:
    window = open_window()
    real = Path.stat

    def stat(path: Path, **more: Any) -> os.stat_result:
        if "forbidden" in str(path):
            raise PermissionError(13, "Permission denied", str(path))
        return real(path, **more)

    monkeypatch.setattr(Path, "stat", stat)
    workspace = window.workspace
    workspace.sessions.document.commit("Track", lambda _: edit_strip(
        workspace.sessions.session, "harmonium",
        lambda strip: strip.with_(regions=(Region(audio=Path("/forbidden/h.wav")),))))
    qtbot.waitUntil(lambda: workspace.sessions.edits.autosave.file.exists(), timeout=2000)


def test_work_taken_up_is_offered_again_after_the_next_kill(tmp_path: Path) -> None:
    environment = own_folders(tmp_path)
    with running(environment) as program:
        program.ready()
        program.ask("workspace.sessions.document.commit('Tempo', lambda session: session.with_(tempo=77.0))")
        program.wait_for("workspace.sessions.edits.autosave.file.exists()")
        program.process.kill()
    accept = ("from PyQt6.QtWidgets import QMessageBox; import os, signal\n"
              "QMessageBox.question = lambda *_: QMessageBox.StandardButton.Yes\n"
              "from PyQt6.QtCore import QTimer\n"
              "from yellow_ember.app import start\n"
              "real = start.offer_recovery\n"
              "def offer(window, card):\n"
              "    found = real(window, card); assert window.workspace.sessions.session.tempo == 77.0\n"
              "    QTimer.singleShot(50, lambda: os.kill(os.getpid(), signal.SIGKILL)); return found\n"
              "start.offer_recovery = offer\n"
              "from yellow_ember.app.launch import launch\n"
              "launch([], apart=True)")
    for _ in range(2):
        ended = subprocess.run([sys.executable, "-c", accept], env=environment, timeout=60, check=False)
        assert ended.returncode == -signal.SIGKILL
        assert len(unsaved(tmp_path)) == 1


def test_work_that_is_not_taken_up_is_set_aside_and_can_be_opened(window: MainWindow, qtbot: Any,
                                                                 monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Autosave, "file", property(lambda _: _file("999999999-1.json")))
    Autosave().keep(Session(name="Lost", tempo=55.0, strips=window.workspace.sessions.session.strips), None)
    (card,) = leftovers()
    for answer in (QMessageBox.StandardButton.No,):
        monkeypatch.setattr(QMessageBox, "question", lambda *_, result=answer: result)
        assert not start.offer_recovery(window, card)
    assert leftovers() == []
    (kept,) = work_set_aside()
    monkeypatch.setattr(QMessageBox, "question", lambda *_: QMessageBox.StandardButton.Discard)
    menu = next(action.menu() for action in window.menuBar().actions()[0].menu().actions()
                if action.text() == "Work set aside")
    menu.aboutToShow.emit()
    menu.actions()[0].trigger()
    assert window.workspace.sessions.session.tempo == 55.0
    assert window.workspace.sessions.document.modified
    assert kept.file.exists(), "opening it does not use it up"


def _file(name: str) -> Path:
    from yellow_ember.session.io.autosave import unsaved_folder

    return unsaved_folder() / name


def test_the_last_ten_set_aside_are_kept(window: MainWindow, monkeypatch: pytest.MonkeyPatch) -> None:
    for number in range(KEPT + 3):
        monkeypatch.setattr(Autosave, "file", _file(f"999999999-{number}.json"))
        Autosave().keep(window.workspace.sessions.session.with_(name=f"Work {number}"), None)
        (card,) = leftovers()
        os.utime(card.file, (1e9 + number, 1e9 + number))
        set_aside(card)
    assert {card.name for card in work_set_aside()} == {f"Work {number}" for number in range(3, KEPT + 3)}


# -- saving -----------------------------------------------------------------------------------


def test_earlier_versions_can_be_opened(window: MainWindow, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    workspace, path = window.workspace, tmp_path / "ferry.ember"
    for number in range(KEPT + 2):
        workspace.sessions.document.commit("Tempo", lambda _: workspace.sessions.session.with_(tempo=60.0 + number))
        assert workspace.sessions.save(path, workspace.selection.strip_id)
        newest = versions(path)[0]
        os.utime(newest.file, (1e9 + number, 1e9 + number))
    result = versions(path)
    assert [card.session().tempo for card in result] == [60.0 + number for number in range(KEPT + 1, 1, -1)]
    window.open_card(result[3])
    assert workspace.sessions.session.tempo == result[3].session().tempo
    assert workspace.sessions.document.path == path
    assert workspace.sessions.document.modified
    assert read_session(path).tempo == 60.0 + KEPT + 1, "the file itself is as it was"


@pytest.mark.parametrize("answer", ["Keep both", "Replace", "Cancel"])
def test_a_session_that_somebody_else_has_written(answer: str, window: MainWindow, tmp_path: Path,
                                                  monkeypatch: pytest.MonkeyPatch) -> None:
    workspace, path = window.workspace, tmp_path / "ferry.ember"
    assert workspace.sessions.save(path, workspace.selection.strip_id)
    write_session(workspace.sessions.session.with_(name="Theirs"), path)
    workspace.sessions.document.commit("Tempo", lambda _: workspace.sessions.session.with_(tempo=61.0))

    def choose(box: QMessageBox) -> int:
        next(button for button in box.buttons() if button.text().replace("&", "") == answer).click()
        return 0

    monkeypatch.setattr(QMessageBox, "exec", choose)
    assert window.save() == (answer != "Cancel")
    theirs = read_session(path)
    assert (theirs.tempo == 61.0) == (answer == "Replace")
    if answer == "Keep both":
        assert theirs.name == "Theirs"
        assert read_session(tmp_path / "ferry 2.ember").tempo == 61.0
        assert workspace.sessions.document.path == tmp_path / "ferry 2.ember"
    elif answer == "Replace":
        assert window.save(), "it is asked once"


@pytest.mark.parametrize("typed", ["take 1.5", "take", "take.ember", "a.b.c"])
def test_save_as_asks_about_the_whole_name(typed: str, window: MainWindow, tmp_path: Path,
                                           monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / (typed if typed.endswith(".ember") else f"{typed}.ember")
    path.write_text("somebody's")
    names = iter([str(tmp_path / typed), ""])
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (next(names), ""))
    asked: list[str] = []

    def ask(_parent: object, _title: str, words: str, *_: object) -> QMessageBox.StandardButton:
        asked.append(words)
        return QMessageBox.StandardButton.No

    monkeypatch.setattr(QMessageBox, "question", ask)
    assert not window.save_as()
    assert path.name in asked[0]
    assert path.read_text() == "somebody's"
    path.unlink()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / typed), ""))
    assert window.save_as()
    assert path.exists()


def test_modes_and_links_stay(tmp_path: Path, window: MainWindow) -> None:
    real, link = tmp_path / "real.ember", tmp_path / "link.ember"
    real.write_text("{}")
    real.chmod(0o640)
    link.symlink_to(real)
    assert window.workspace.sessions.save(link, window.workspace.selection.strip_id)
    assert link.is_symlink()
    assert real.stat().st_mode & 0o777 == 0o640
    assert read_session(real).name == window.workspace.sessions.session.name


# -- names that are taken -----------------------------------------------------------------------


def test_a_name_taken_meanwhile_is_not_taken_over(tmp_path: Path) -> None:
    target = tmp_path / "a.txt"
    with appearing(target) as arrival:
        arrival.temporary.write_text("mine")
        target.write_text("theirs")
    assert target.read_text() == "theirs"
    assert arrival.path == tmp_path / "a 2.txt"
    assert arrival.path.read_text() == "mine"


def test_where_links_cannot_be_made_nothing_is_replaced_either(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*_: object) -> None:
        raise PermissionError(1, "Operation not permitted")

    monkeypatch.setattr(os, "link", refuse)
    test_a_name_taken_meanwhile_is_not_taken_over(tmp_path)


def test_process_meets_a_name_that_appears(tmp_path: Path, make_audio: Callable[..., Path]) -> None:
    source, target = make_audio(seconds=12.0, channels=2), tmp_path / "out.wav"
    ended = []
    thread = threading.Thread(target=lambda: ended.append(main(
        ["process", str(source), str(target), "--preset", "Keel weight"])))
    import yellow_ember.engine.jobs.file_processing as processing

    begun = threading.Event()
    real = processing.read_blocks

    def noticed(*words: Any) -> Any:
        begun.set()
        return real(*words)

    processing.read_blocks = noticed  # type: ignore[assignment]
    try:
        thread.start()
        begun.wait(30.0)
        target.write_text("theirs")
        thread.join()
    finally:
        processing.read_blocks = real
    assert ended == [0]
    assert target.read_text() == "theirs"
    assert soundfile.info(tmp_path / "out 2.wav").frames == 12 * 48000


def test_two_renders_into_one_folder_make_two_sets(demo: Session, tmp_path: Path) -> None:
    order = PrintOrder(tmp_path, ("brushed-drums", "master"), end=4800)
    result: list[tuple[Path, ...]] = []
    threads = [threading.Thread(target=lambda: result.append(print_session(lambda _: None, demo, order).files))
               for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    files = [path for some in result for path in some]
    assert len(set(files)) == 6
    assert set(files) == set(tmp_path.iterdir())
    assert len({np.asarray(soundfile.read(path)[0]).tobytes() for path in files}) == 2


def test_two_presses_of_print_make_two_prints(window: MainWindow, qtbot: Any, tmp_path: Path) -> None:
    for _ in range(2):
        window.workspace.rendering.start(PrintOrder(tmp_path, end=24000))
    qtbot.waitUntil(lambda: not window.workspace.rendering.is_running and len(list(tmp_path.glob("*.wav"))) == 2,
                    timeout=60000)


# -- what is left of killed processes -------------------------------------------------------------


def test_part_files_of_the_dead_are_swept(tmp_path: Path) -> None:
    code = ("import os, sys, signal; from pathlib import Path\n"
            "from yellow_ember.files.atomic import replacing\n"
            "with replacing(Path(sys.argv[1])) as part:\n"
            "    part.write_text('half'); os.kill(os.getpid(), signal.SIGKILL)")
    subprocess.run([sys.executable, "-c", code, str(tmp_path / ("x" * 250))], check=False)
    assert len(list(tmp_path.glob(".*.part"))) == 1
    other = tmp_path / ".somebody.part"
    other.write_text("not ours")
    with replacing(tmp_path / "mine") as mine:
        mine.write_text("being written")
        sweep_parts()
        assert mine.exists()
    assert list(tmp_path.glob(".*.part")) == [other]


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGKILL])
@pytest.mark.parametrize("command", ["process", "render", "batch"])
def test_a_command_that_is_ended_leaves_nothing(command: str, number: signal.Signals, tmp_path: Path,
                                                make_audio: Callable[..., Path]) -> None:
    from processes import are_gone, descendants

    out = tmp_path / "out"
    out.mkdir()
    source = make_audio(seconds=120.0, channels=2)
    words = {"process": ["process", source, out / "a.wav", "--preset", "Keel weight", "--oversample", "16"],
             "render": ["render", DEMO, "--out", out, "--stems", "--oversample", "16"],
             "batch": ["batch", source, DEMO.parent, "--preset", "Keel weight", "--out", out,
                       "--oversample", "16"]}[command]
    process = subprocess.Popen([sys.executable, "-c", PROCESS, *map(str, words)], stderr=subprocess.PIPE, text=True)
    end = time.monotonic() + 60.0
    while not list(out.rglob(".*.part")):
        assert process.poll() is None, process.stderr.read() if process.stderr else ""
        assert time.monotonic() < end
        time.sleep(0.02)
    family = descendants(process.pid)
    process.send_signal(number)
    process.wait(10)
    assert are_gone(family, 2.0)
    assert not list(out.rglob(".*.part"))
    assert process.stderr is not None
    assert process.stderr.read() == ""
    process.stderr.close()


def test_ctrl_c_of_a_batch_counts_what_was_done(tmp_path: Path, make_audio: Callable[..., Path]) -> None:
    folder = tmp_path / "many"
    folder.mkdir()
    one = make_audio(seconds=2.0)
    for number in range(200):
        os.link(one, folder / f"{number:03d}.wav")
    out = tmp_path / "out"
    process = subprocess.Popen([sys.executable, "-c", PROCESS, "batch", str(folder), "--preset", "Keel weight",
                                "--out", str(out)], stderr=subprocess.PIPE, text=True, start_new_session=True)
    while len(list(out.rglob("*.wav"))) < 4:
        time.sleep(0.05)
    begun = time.monotonic()
    os.killpg(process.pid, signal.SIGINT)
    assert process.wait(10) == 130
    assert time.monotonic() - begun < 2.0
    assert process.stderr is not None
    told = process.stderr.read()
    process.stderr.close()
    done = len(list(out.rglob("*.wav")))
    assert f"{done} done; stopped" in told or f"{done - 1} done; stopped" in told or f"{done - 2} done; stopped" in told
    assert "Traceback" not in told
    assert not list(out.rglob(".*.part"))


def test_a_full_disk_is_named(tmp_path: Path, make_audio: Callable[..., Path],
                              capsys: pytest.CaptureFixture[str]) -> None:
    if os.getuid() != 0 or subprocess.run(["mount", "-t", "tmpfs", "-o", "size=200k", "tmpfs", str(tmp_path)],
                                          check=False, capture_output=True).returncode != 0:
        pytest.skip("no small disk can be made here")
    try:
        source = next(DEMO.parent.rglob("*.flac"))
        for more in ([], ["--match"]):
            assert main(["process", str(source), str(tmp_path / "out.wav"), "--preset", "Keel weight", *more]) == 1
            told = capsys.readouterr().err
            assert "The disk is full" in told
            assert str(tmp_path / "out.wav") in told
        assert list(tmp_path.iterdir()) == []
    finally:
        subprocess.run(["umount", str(tmp_path)], check=True)


def test_process_with_standard_error_closed(tmp_path: Path, make_audio: Callable[..., Path]) -> None:
    source = make_audio(seconds=0.5)
    code = f"exec 2>&-; exec {sys.executable} -c '{PROCESS}' process {source} {tmp_path / 'out.wav'}"
    assert subprocess.run(["bash", "-c", f"{code} --preset 'Keel weight'"], check=False, timeout=60).returncode == 0
    assert soundfile.info(tmp_path / "out.wav").frames == 24000


@pytest.mark.parametrize("names", ["{number:0999999999}", "{name:>100000}", "{name:{number}}"])
def test_batch_names_of_huge_width_are_refused(names: str, tmp_path: Path, make_audio: Callable[..., Path],
                                               capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["batch", str(make_audio(seconds=0.1)), "--preset", "Keel weight", "--out", str(tmp_path / "out"),
                 "--names", names]) == 1
    assert "can't pad" in capsys.readouterr().err
