"""Many files through one chain by `yellow-ember batch`."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.batch import BatchTool
from yellow_ember.cli import main
from yellow_ember.engine.jobs.batch import run_batch
from yellow_ember.engine.jobs.batch_order import BatchOrder
from yellow_ember.files.reading import AudioFileError
from yellow_ember.session.io.presets import find_preset

RATE = 48000


@pytest.fixture
def shots(tmp_path: Path, rng: np.random.Generator) -> Path:
    """A folder of one-shots with a folder in it, one file that is none, and one that is no sound."""
    folder = tmp_path / "shots"
    (folder / "snares").mkdir(parents=True)
    for number, name in enumerate(("kick.wav", "hat.flac", "snares/one.wav", "snares/two.aiff")):
        fade = np.exp(-np.arange(RATE // 2) / (4000.0 + 1000.0 * number))
        soundfile.write(folder / name, 0.2 * rng.standard_normal(RATE // 2) * fade, RATE)
    (folder / "torn.wav").write_bytes(b"RIFF....WAVE")
    (folder / "notes.txt").write_text("kick first")
    return folder


def batch(*words: object) -> int:
    return main(["batch", *map(str, words)])


def test_one_bad_file_does_not_stop_the_rest(shots: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    report = tmp_path / "report.json"
    assert batch(shots, "--preset", "Two diodes", "--out", tmp_path / "out", "--report", report, "--jobs", 2) == 1
    told = capsys.readouterr().err
    assert "torn.wav" in told
    assert "4 done, 1 failed" in told
    out = tmp_path / "out"
    assert sorted(str(path.relative_to(out)) for path in out.rglob("*.*")) == [
        "hat.wav", "kick.wav", "snares/one.wav", "snares/two.wav"]
    entries = {Path(entry["source"]).name: entry for entry in json.loads(report.read_text())}
    assert entries["torn.wav"]["state"] == "failed"
    assert entries["kick.wav"]["state"] == "done"
    source, _ = soundfile.read(shots / "kick.wav")
    result, rate = soundfile.read(out / "kick.wav")
    assert rate == RATE
    assert result.shape == source.shape
    assert np.abs(result - source).max() > 0.01


def test_a_run_goes_on_where_it_was(shots: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (shots / "torn.wav").unlink()
    words = (shots, "--preset", "Keel weight", "--out", tmp_path / "out")
    assert batch(*words) == 0
    (tmp_path / "out" / "kick.wav").unlink()
    stamp = (tmp_path / "out" / "hat.wav").stat().st_mtime_ns
    assert batch(*words) == 1, "nothing is overwritten"
    assert "is there already and is not overwritten" in capsys.readouterr().err
    (tmp_path / "out" / "kick.wav").unlink()
    assert batch(*words, "--resume") == 0
    assert "1 done, 3 skipped" in capsys.readouterr().err
    assert (tmp_path / "out" / "hat.wav").stat().st_mtime_ns == stamp


def test_peak_match_and_names(shots: Path, tmp_path: Path) -> None:
    (shots / "torn.wav").unlink()
    assert batch(shots, "--preset", "Two diodes", "--out", tmp_path / "a", "--peak", -3, "--names",
                 "{folder} {number} {name} ({preset})", "--format", "flac") == 0
    result = sorted((tmp_path / "a").rglob("*.flac"))
    assert [path.name for path in result] == [
        "shots 0001 hat (Two diodes).flac", "shots 0002 kick (Two diodes).flac",
        "snares 0003 one (Two diodes).flac", "snares 0004 two (Two diodes).flac"]
    for path in result:
        assert 20.0 * np.log10(np.abs(soundfile.read(path)[0]).max()) == pytest.approx(-3.0, abs=0.01)


@pytest.mark.parametrize(("names", "words"), [
    ("{nobody}", "knows name, folder, preset, number"), ("same", "put {number} into the names"),
    ("a/{name}", "can't be a file's name")])
def test_bad_patterns_are_refused_before_anything_is_done(names: str, words: str, shots: Path, tmp_path: Path,
                                                          capsys: pytest.CaptureFixture[str]) -> None:
    assert batch(shots, "--preset", "Two diodes", "--out", tmp_path / "out", "--names", names) == 1
    assert words in capsys.readouterr().err
    assert not (tmp_path / "out").exists()


def test_what_has_not_begun_is_cancelled(shots: Path, tmp_path: Path, rng: np.random.Generator) -> None:
    many = tmp_path / "many"
    many.mkdir()
    for number in range(60):
        soundfile.write(many / f"{number}.wav", 0.1 * rng.standard_normal(4800), RATE)
    order = BatchOrder(tmp_path / "out", find_preset("Keel weight").stages, jobs=1)
    running = run_batch([many], order)
    first = next(running)
    assert first.state == "done"
    running.close()
    written = list((tmp_path / "out").rglob("*"))
    assert 1 <= len(written) < 60
    assert all(path.suffix == ".wav" for path in written), "no half-written file is left"


def test_what_is_not_there_is_said(tmp_path: Path) -> None:
    order = BatchOrder(tmp_path / "out", find_preset("Keel weight").stages)
    with pytest.raises(AudioFileError, match="is not there"):
        next(run_batch([tmp_path / "nowhere"], order))
    (tmp_path / "empty").mkdir()
    with pytest.raises(AudioFileError, match="no sound files there"):
        next(run_batch([tmp_path / "empty"], order))


# -- in the window ----------------------------------------------------------------------------


@pytest.fixture
def batch_window(window: MainWindow, shots: Path, tmp_path: Path) -> Iterator[BatchTool]:
    made = window.workspace.tools.open(BatchTool)
    made.add([shots])
    made.folder.setText(str(tmp_path / "out"))
    made.chain.setCurrentText("Two diodes")
    yield made
    made.close()


def finished(qtbot: Any, batch_window: BatchTool) -> None:
    qtbot.waitUntil(lambda: batch_window.buttons["Start"].isEnabled(), timeout=60000)


def test_the_window_runs_a_folder_and_names_what_failed(batch_window: BatchTool, qtbot: Any, tmp_path: Path,
                                                        monkeypatch: pytest.MonkeyPatch) -> None:
    batch_window.level.setCurrentText("highest peak at")
    batch_window.peak.setValue(-3.0)
    batch_window.names.setText("{preset} {name}")
    batch_window.buttons["Start"].click()
    assert batch_window.buttons["Stop"].isEnabled()
    finished(qtbot, batch_window)
    assert batch_window.state.text() == "4 done, 1 failed"
    assert batch_window.progress.value() == 100
    rows = {batch_window.results.item(row, 0).text(): batch_window.results.item(row, 1).text()
            for row in range(batch_window.results.rowCount())}
    assert rows["torn.wav"] == "failed"
    assert rows["kick.wav"] == "done"
    made, _ = soundfile.read(tmp_path / "out" / "Two diodes kick.wav")
    assert np.abs(made).max() == pytest.approx(10.0 ** (-3.0 / 20.0), rel=1e-3)
    report = tmp_path / "report.json"
    monkeypatch.setattr("yellow_ember.app.tools.batch.QFileDialog.getSaveFileName", lambda *_: (str(report), ""))
    batch_window.buttons["Report"].click()
    assert len(json.loads(report.read_text())) == 5


def test_a_stopped_run_goes_on_in_the_window(batch_window: BatchTool, qtbot: Any, shots: Path,
                                             rng: np.random.Generator) -> None:
    for number in range(40):
        soundfile.write(shots / f"{number}.wav", 0.1 * rng.standard_normal(RATE), RATE)
    batch_window.buttons["Start"].click()
    qtbot.waitUntil(lambda: batch_window.results.rowCount() > 0, timeout=60000)
    batch_window.buttons["Stop"].click()
    finished(qtbot, batch_window)
    assert "stopped" in batch_window.state.text()
    assert len(batch_window.entries) < 45
    assert batch_window.resume.isChecked()
    batch_window.buttons["Start"].click()
    finished(qtbot, batch_window)
    assert "skipped" in batch_window.state.text()
    assert {entry.state for entry in batch_window.entries} == {"done", "skipped", "failed"}
    assert len(batch_window.entries) == 45


def test_what_can_t_be_begun_is_said(batch_window: BatchTool, qtbot: Any) -> None:
    batch_window.names.setText("{title}")
    batch_window.buttons["Start"].click()
    finished(qtbot, batch_window)
    assert "not 'title'" in batch_window.state.text()
    batch_window.inputs.selectAll()
    batch_window.buttons["Remove"].click()
    batch_window.buttons["Start"].click()
    assert "nothing in the list" in batch_window.state.text()
