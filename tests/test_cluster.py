"""Batches on a Dask cluster: a scheduler and two workers on the loopback, one of which is killed."""

from __future__ import annotations

import json
import os
import signal
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from yellow_ember.cli import main
from yellow_ember.engine.jobs.batch import run_batch
from yellow_ember.engine.jobs.batch_order import DONE, FAILED, SKIPPED, BatchOrder
from yellow_ember.session.io.presets import find_preset

distributed = pytest.importorskip("distributed", reason="the extra package for clusters is not here")
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


def test_stopping_leaves_no_half_written_file(order: BatchOrder, shots: Path) -> None:
    running = run_batch([shots], order)
    next(running)
    running.close()
    assert all(path.suffix == ".wav" and not path.name.startswith(".") for path in order.out.iterdir())
    assert len(list(order.out.iterdir())) < 40


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
