"""Work in the background: what arrives, what does not any more, and that nobody waits for it."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import QObject, Qt
from PyQt6.QtWidgets import QApplication

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.tools.batch import BatchTool
from yellow_ember.app.tools.line_up import LineUpTool
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.files.reading import AudioFileError


def give(_progress: Progress, value: int) -> int:
    return value


def give_parts(progress: Progress, count: int) -> Iterator[int]:
    for number in range(count):
        progress((number + 1) / count)
        yield number


def last_long(_progress: Progress, seconds: float) -> str:
    time.sleep(seconds)
    return "done"


def fail(_progress: Progress) -> None:
    raise AudioFileError("the file is gone")


def die(_progress: Progress) -> None:
    os._exit(3)


@pytest.fixture
def keeper(qapp: QApplication) -> Iterator[JobKeeper]:
    result = JobKeeper()
    yield result
    result.close()


@pytest.fixture
def owner(qapp: QApplication) -> QObject:
    return QObject()


def test_results_parts_and_failures_arrive_once(keeper: JobKeeper, owner: QObject, qtbot: Any) -> None:
    heard: list[Any] = []
    keeper.start(owner, give, 7, name="a", done=heard.append)
    keeper.start(owner, give_parts, 3, name="b", part=heard.append, done=heard.append)
    keeper.start(owner, fail, name="c", failed=heard.append)
    keeper.start(owner, die, name="d", failed=heard.append)
    keeper.think(owner, sum, (1, 2, 3), name="e", done=heard.append)
    keeper.think(owner, int, "x", name="f", failed=heard.append)
    assert keeper.is_running(owner, "a")
    qtbot.waitUntil(lambda: not any(keeper.is_running(owner, name) for name in "abcdef"), timeout=20000)
    qtbot.wait(150)
    assert heard.count(7) == 1
    assert [value for value in heard if value in (0, 1, 2)] == [0, 1, 2]
    assert heard.count("the file is gone") == 1
    assert sum("ended before" in str(value) for value in heard) == 1
    assert heard.count(6) == 1
    assert sum("invalid literal" in str(value) for value in heard) == 1


def test_only_the_latest_counts(keeper: JobKeeper, owner: QObject, qtbot: Any) -> None:
    heard: list[Any] = []
    keeper.start(owner, last_long, 0.4, done=heard.append)
    keeper.start(owner, give, 1, done=heard.append)
    keeper.start(owner, give, 2, done=heard.append)
    qtbot.waitUntil(lambda: not keeper.is_running(owner), timeout=20000)
    qtbot.wait(700)
    assert heard == [2]


def test_what_is_cancelled_or_without_owner_never_arrives(keeper: JobKeeper, qtbot: Any) -> None:
    heard: list[Any] = []
    first, second = QObject(), QObject()
    keeper.start(first, last_long, 0.3, done=heard.append, failed=heard.append)
    keeper.start(second, last_long, 0.3, done=heard.append, failed=heard.append)
    keeper.cancel(first)
    second.deleteLater()
    qtbot.wait(900)
    assert heard == []


def test_a_group_answers_once_and_ends_with_its_first_failure(keeper: JobKeeper, owner: QObject, qtbot: Any) -> None:
    heard: list[Any] = []
    keeper.start_several(owner, give_parts, [(2,), (3,)], part=heard.append, done=lambda _: heard.append("all"))
    qtbot.waitUntil(lambda: not keeper.is_running_several(owner), timeout=20000)
    assert heard.count("all") == 1
    assert sorted(value for value in heard if value != "all") == [0, 0, 1, 1, 2]
    heard.clear()
    keeper.start_several(owner, int, [("x",), ("y",)], done=heard.append, failed=heard.append)
    qtbot.waitUntil(lambda: not keeper.is_running_several(owner), timeout=20000)
    qtbot.wait(100)
    assert len(heard) == 1


def test_work_that_is_started_in_an_answer_is_kept(keeper: JobKeeper, owner: QObject, qtbot: Any) -> None:
    heard: list[int] = []

    def again(value: int) -> None:
        heard.append(value)
        if value < 3:
            keeper.start(owner, give, value + 1, done=again)

    keeper.start(owner, give, 0, done=again)
    qtbot.waitUntil(lambda: heard == [0, 1, 2, 3], timeout=20000)


def test_closing_waits_for_nothing(qapp: QApplication, owner: QObject) -> None:
    keeper = JobKeeper()
    keeper.start(owner, last_long, 60.0)
    keeper.think(owner, time.sleep, 3.0, name="thread")
    begun = time.monotonic()
    keeper.close()
    assert time.monotonic() - begun < 2.0
    assert not keeper.is_running(owner)


# -- in the window ----------------------------------------------------------------------------


def test_closing_while_a_batch_runs_does_not_freeze(window: MainWindow, qtbot: Any, tmp_path: Path,
                                                    make_audio: Callable[..., Path]) -> None:
    long = make_audio("long.wav", seconds=240.0)
    out = tmp_path / "out"
    batch = window.workspace.tools.open(BatchTool)
    batch.add([long])
    batch.folder.setText(str(out))
    batch.factor.setCurrentIndex(batch.factor.count() - 1)
    batch.chain.setCurrentIndex(batch.chain.count() - 1)
    batch.start()
    qtbot.wait(1500)
    assert batch.results.rowCount() == 0, "it is still under way"
    begun = time.monotonic()
    batch.close()
    assert time.monotonic() - begun < 0.3
    qtbot.wait(1500)
    assert not list(out.glob("*"))


def test_a_line_up_reading_that_fails_is_said_and_the_next_one_works(
        window: MainWindow, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    from yellow_ember.app.tools import line_up

    workspace = window.workspace
    workspace.selection.select("rhythm")
    window.path_view.add("tape")
    monkeypatch.setattr(line_up, "from_alignment_tape", lambda *_: 1 / 0)
    bench = workspace.tools.open(LineUpTool, "rhythm", workspace.selection.stage_id)
    qtbot.waitUntil(lambda: "can't be read" in workspace.messages.all[-1].text, timeout=20000)
    monkeypatch.undo()
    bench._ask(1000.0)
    bench.reading = None
    qtbot.waitUntil(lambda: bench.reading is not None, timeout=20000)
    qtbot.keyClick(bench, Qt.Key.Key_Escape)


def test_recalling_an_alignment_from_a_damaged_file_says_so(window: MainWindow, qtbot: Any) -> None:
    from yellow_ember.session.io.alignments import alignments_file, keep_alignment

    workspace = window.workspace
    workspace.selection.select("rhythm")
    window.path_view.add("tape")
    keep_alignment("Mine", workspace.selection.strip.stage(workspace.selection.stage_id).params)
    bench = workspace.tools.open(LineUpTool, "rhythm", workspace.selection.stage_id)
    bench.kept.setCurrentText("Mine")
    alignments_file().write_text("{ broken")
    for action in (bench.recall, bench.drop):
        action()
        assert "alignments.json" in workspace.messages.all[-1].text
    bench.close()
    alignments_file().unlink()
