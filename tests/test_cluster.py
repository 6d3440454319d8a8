"""Batches on a Dask cluster: a scheduler and two workers on the loopback, one of which is killed."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
import soundfile

from yellow_ember.cli import main
from yellow_ember.engine.jobs.batch import run_batch
from yellow_ember.engine.jobs.batch_order import DONE, FAILED, SKIPPED, BatchOrder
from yellow_ember.session.io.presets import find_preset

distributed = pytest.importorskip("distributed", reason="the extra package for clusters is not here")
BENCH = Path(__file__).parents[1] / "bench"
STAGES = find_preset("Keel weight").stages


@pytest.fixture(scope="module")
def cluster() -> Iterator[Any]:
    result = distributed.LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None,
                                      host="127.0.0.1")
    yield result
    result.close()


@pytest.fixture(scope="module")
def shots(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("shots")
    rng = np.random.default_rng(7)
    for number in range(40):
        soundfile.write(folder / f"{number}.wav", 0.1 * rng.standard_normal(24000), 48000)
    return folder


@pytest.fixture
def order(cluster: Any, tmp_path: Path) -> BatchOrder:
    return BatchOrder(tmp_path / "out", STAGES, cluster=cluster.scheduler_address)


def contents(folder: Path) -> dict[str, bytes]:
    """The samples of each file; its head has the second in it at which it was written."""
    return {path.name: soundfile.read(path, dtype="float32")[0].tobytes() for path in folder.iterdir()}


@pytest.mark.parametrize("sends", [False, True])
def test_what_a_cluster_makes_is_the_same_to_the_bit(sends: bool, order: BatchOrder, shots: Path, tmp_path: Path
                                                     ) -> None:
    here = replace(order, out=tmp_path / "here", cluster="")
    shares: list[float] = []
    for one in (here, replace(order, sends=sends)):
        entries = list(run_batch([shots], one, shares.append))
        assert {entry.state for entry in entries} == {DONE}
        assert len(entries) == 40
    assert shares[-1] == 1.0
    assert contents(order.out) == contents(here.out)


def test_a_worker_that_dies_is_replaced_and_no_file_is_there_twice(cluster: Any, order: BatchOrder, shots: Path
                                                                   ) -> None:
    killed = next(iter(cluster.workers.values())).pid
    entries = []
    for entry in run_batch([shots], order):
        entries.append(entry)
        if len(entries) == 5:
            os.kill(killed, signal.SIGKILL)
    assert [entry.state for entry in entries] == [DONE] * 40
    assert sorted(entry.target.name for entry in entries) == sorted(f"{number}.wav" for number in range(40))
    assert sorted(path.name for path in order.out.iterdir()) == sorted(f"{number}.wav" for number in range(40))
    end = time.monotonic() + 30.0
    while len(cluster.scheduler_info["workers"]) < 2:
        assert time.monotonic() < end, "the worker was not replaced"
        time.sleep(0.1)


def test_nothing_is_overwritten_and_one_can_go_on(order: BatchOrder, shots: Path) -> None:
    order.out.mkdir()
    (order.out / "3.wav").write_text("somebody's")
    entries = {entry.source.name: entry for entry in run_batch([shots], order)}
    assert entries["3.wav"].state == FAILED
    assert "not overwritten" in entries["3.wav"].note
    assert (order.out / "3.wav").read_text() == "somebody's"
    assert {entry.state for name, entry in entries.items() if name != "3.wav"} == {DONE}
    again = list(run_batch([shots], replace(order, resume=True)))
    assert {entry.state for entry in again} == {SKIPPED}


def test_a_file_that_can_t_be_used_fails_alone(order: BatchOrder, tmp_path: Path) -> None:
    folder = tmp_path / "mixed"
    folder.mkdir()
    soundfile.write(folder / "good.wav", np.zeros(4800), 48000)
    (folder / "bad.wav").write_text("no sound at all")
    states = {entry.source.name: entry for entry in run_batch([folder], order)}
    assert (states["good.wav"].state, states["bad.wav"].state) == (DONE, FAILED)
    assert "bad.wav" in states["bad.wav"].note
    assert sorted(contents(order.out)) == ["good.wav"]


class OwnCluster:
    """Stands for Dask: it does everything itself and at once, and falls over a task with a certain file in it."""

    falls_over = "3.wav"

    def __init__(self, *_address: str, **_how: object) -> None:
        self.tasks: list[int] = []

    def wait_for_workers(self, *_count: int, **_how: object) -> None:
        pass

    def nthreads(self) -> dict[str, int]:
        return {"here": 2}

    def submit(self, function: Callable[..., Any], files: Any, *rest: object, pure: bool) -> Future[Any]:
        self.tasks.append(len(files))
        result: Future[Any] = Future()
        if any(file.source.name == self.falls_over for file in files):
            result.set_exception(RuntimeError("a worker fell over it"))
        else:
            result.set_result(function(files, *rest))
        return result

    def as_current(self) -> contextlib.AbstractContextManager[None]:
        return contextlib.nullcontext()

    def cancel(self, _tasks: object) -> None:
        pass

    def close(self) -> None:
        pass


def test_a_file_that_workers_fall_over_fails_alone(order: BatchOrder, shots: Path, monkeypatch: pytest.MonkeyPatch
                                                   ) -> None:
    client = OwnCluster()
    stand_in = SimpleNamespace(Client=lambda *_address, **_how: client, wait=lambda *_tasks, **_how: None)
    monkeypatch.setattr("yellow_ember.engine.jobs.cluster._library", lambda: stand_in)
    entries = list(run_batch([shots], order))
    assert [(entry.source.name, "fell over it" in entry.note) for entry in entries if entry.state == FAILED] == [
        ("3.wav", True)]
    assert sorted(contents(order.out)) == sorted(f"{number}.wav" for number in range(40) if number != 3)
    # Several at a time, towards the end fewer, and once more by itself each of those that were together with it.
    assert max(client.tasks) == 8
    assert client.tasks.count(1) > 8
    assert len(client.tasks) < 30


def test_stopping_leaves_no_half_written_file(order: BatchOrder, shots: Path) -> None:
    running = run_batch([shots], order)
    next(running)
    running.close()
    assert all(path.suffix == ".wav" and not path.name.startswith(".") for path in order.out.iterdir())
    assert len(list(order.out.iterdir())) < 40


def test_stopping_at_a_file_that_can_t_be_begun_leaves_no_half_written_file(order: BatchOrder, shots: Path) -> None:
    order.out.mkdir()
    taken = order.out / "1.wav"
    taken.write_bytes(b"somebody's")
    running = run_batch([shots], order)
    assert next(running).state == FAILED
    running.close()
    assert [path for path in order.out.iterdir() if path.name.startswith(".")] == []
    assert taken.read_bytes() == b"somebody's"


def test_by_the_command_line(cluster: Any, shots: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    report = tmp_path / "report.json"
    words = ["batch", str(shots), "--out", str(tmp_path / "out"), "--preset", "Keel weight"]
    assert main([*words, "--cluster", cluster.scheduler_address, "--send", "--report", str(report)]) == 0
    assert "40 done" in capsys.readouterr().err
    assert len(json.loads(report.read_text())) == 40
    assert main([*words, "--send"]) == 1
    assert "--send needs --cluster" in capsys.readouterr().err


def test_a_cluster_that_is_not_there_is_said(shots: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str],
                                             monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("yellow_ember.engine.jobs.cluster._PATIENCE_SECONDS", 0.5)
    words = ["batch", str(shots), "--out", str(tmp_path / "out"), "--preset", "Keel weight"]
    assert main([*words, "--cluster", "tcp://127.0.0.1:9"]) == 1
    assert "no Dask scheduler answers at tcp://127.0.0.1:9" in capsys.readouterr().err
    assert main([*words, "--cluster", "nonsense://x"]) == 1
    assert "no Dask scheduler answers" in capsys.readouterr().err


def test_the_bench_measures_hidden_chains_on_a_cluster_as_it_does_here(cluster: Any, tmp_path: Path) -> None:
    script = tmp_path / "both.py"
    script.write_text(f"""
import sys
sys.path.insert(0, {str(BENCH)!r})
import likeness

sound = likeness.performance("bass", other=False)
hidden = (likeness.plain_stage("drive"),)
measured = []
for address in ("", {cluster.scheduler_address!r}):
    with likeness.workers_of(address) as submit:
        measured.append(submit(likeness.off, sound, (), hidden).result())
assert measured[0] == measured[1]
print(measured[0][0])
""")
    done = subprocess.run([sys.executable, script], capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 0, done.stderr
    assert float(done.stdout) > 1.0
    with distributed.Client(cluster.scheduler_address, set_as_default=False) as client:
        assert not any(client.run(knows_the_bench).values())
        assert not client.run_on_scheduler(knows_the_bench)


def knows_the_bench() -> bool:
    return "likeness" in sys.modules
