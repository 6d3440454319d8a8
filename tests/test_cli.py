"""The commands, their output and their refusals."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile

from tones import write_chain
from yellow_ember.cli import main
from yellow_ember.dsp.stages import STAGES
from yellow_ember.measure.loudness import loudness
from yellow_ember.shipped import DEMO

MakeAudio = Callable[..., Path]
TAPE = {"kind": "tape", "params": {"record_db": 8.0, "link_levels": False}}


def run(*arguments: object) -> int:
    return main([str(argument) for argument in arguments])


def test_stages_listing(capsys: pytest.CaptureFixture[str]) -> None:
    assert run("stages", "--json") == 0
    listing = json.loads(capsys.readouterr().out)
    assert [entry["kind"] for entry in listing] == [kind.kind for kind in STAGES]
    for entry in listing:
        assert set(entry) == {"kind", "label", "purpose", "params"}
        for param in entry["params"]:
            assert set(param) == {"id", "label", "unit", "min", "max", "default", "choices", "group", "help"}
    stock = next(param for param in listing[0]["params"] if param["id"] == "stock")
    assert [choice["id"] for choice in stock["choices"]] == [
        "lantern", "harbour", "breaker", "beacon", "gangway", "steward"]
    assert run("stages", "drive") == 0
    assert "tape" not in capsys.readouterr().out
    assert run("stages", "nothing") == 1
    assert "no stage is called 'nothing'" in capsys.readouterr().err


def test_presets_listing(capsys: pytest.CaptureFixture[str]) -> None:
    assert run("presets", "--json") == 0
    assert {"name", "source", "intention", "note", "stages"} == set(json.loads(capsys.readouterr().out)[0])


@pytest.mark.parametrize("rate", [8000, 44100, 96000])
@pytest.mark.parametrize("channels", [1, 2])
def test_process_keeps_rate_length_and_channels(rate: int, channels: int, make_audio: MakeAudio,
                                                tmp_path: Path) -> None:
    source, target = make_audio(rate=rate, channels=channels, seconds=0.73), tmp_path / "out.wav"
    assert run("process", source, target, "--chain", write_chain(tmp_path, TAPE), "--oversample", 2) == 0
    before, after = soundfile.info(source), soundfile.info(target)
    assert (after.samplerate, after.channels, after.frames) == (rate, channels, before.frames)
    assert after.subtype == "FLOAT"


def test_process_blocks_do_not_matter_and_tail_adds(make_audio: MakeAudio, tmp_path: Path) -> None:
    source, chain = make_audio(), write_chain(tmp_path, TAPE)
    result = []
    for block in (64, 5000):
        target = tmp_path / f"{block}.wav"
        assert run("process", source, target, "--chain", chain, "--block", block) == 0
        result.append(soundfile.read(target)[0])
    assert np.abs(result[0] - result[1]).max() < 1e-6
    assert run("process", source, tmp_path / "tail.flac", "--chain", chain, "--tail", 0.5) == 0
    info = soundfile.info(tmp_path / "tail.flac")
    assert (info.frames, info.subtype) == (72000, "PCM_24")


def test_process_match(make_audio: MakeAudio, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    source, target = make_audio(seconds=4.0), tmp_path / "out.wav"
    assert run("process", source, target, "--chain", write_chain(tmp_path, TAPE), "--match") == 0
    before, after = (loudness(soundfile.read(path, always_2d=True)[0].T.copy(), 48000) for path in (source, target))
    assert after.integrated_lufs == pytest.approx(before.integrated_lufs, abs=0.1)
    assert "matched by" in capsys.readouterr().err


@pytest.mark.parametrize("dtype", ["pcm16", "pcm24", "float32"])
def test_process_dtype(dtype: str, make_audio: MakeAudio, tmp_path: Path) -> None:
    target = tmp_path / "out.wav"
    assert run("process", make_audio(), target, "--preset", "One crossing", "--dtype", dtype) == 0
    assert soundfile.info(target).subtype == {"pcm16": "PCM_16", "pcm24": "PCM_24", "float32": "FLOAT"}[dtype]


def test_process_refusals(make_audio: MakeAudio, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    good, chain = make_audio(), write_chain(tmp_path, TAPE)
    eight = make_audio("eight.wav", channels=8)
    text = tmp_path / "text.wav"
    text.write_text("fog")
    bad = tmp_path / "bad.json"
    bad.write_text(chain.read_text().replace("8.0", "800"))
    taken = make_audio("taken.wav")
    for arguments, words in (
            ((text, tmp_path / "o.wav", "--chain", chain), "not an audio file"),
            ((eight, tmp_path / "o.wav", "--chain", chain), "8 channels"),
            ((good, tmp_path / "o.wav", "--chain", bad), "bad.json: stages[0].params.record_db: must lie between"),
            ((good, tmp_path / "o.wav", "--chain", tmp_path / "none.json"), "is not there"),
            ((good, tmp_path / "o.mp3", "--chain", chain), "ends in .wav, .flac or .opus"),
            ((good, taken, "--chain", chain), "is there already and is not overwritten"),
            ((good, good, "--chain", chain), "is not overwritten"),
            ((good, tmp_path / "o.wav", "--preset", "Nope"), "no preset is called 'Nope'")):
        assert run("process", *arguments) == 1
        said = capsys.readouterr().err.strip()
        assert words in said
        assert len(said.splitlines()) == 1
    assert not (tmp_path / "o.wav").exists()


def test_a_read_only_folder_is_said(make_audio: MakeAudio, capsys: pytest.CaptureFixture[str]) -> None:
    # Even root may not write here.
    assert run("process", make_audio(), "/proc/out.wav", "--preset", "One crossing") == 1
    assert "can't be written" in capsys.readouterr().err


def test_nan_in_the_input_is_counted(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    samples = np.full(4800, 0.1)
    samples[100:105] = np.nan
    soundfile.write(tmp_path / "nan.wav", samples, 48000, subtype="FLOAT")
    assert run("process", tmp_path / "nan.wav", tmp_path / "o.wav", "--preset", "One crossing") == 0
    assert "5 samples were no numbers" in capsys.readouterr().err
    assert np.all(np.isfinite(soundfile.read(tmp_path / "o.wav")[0]))


def test_render(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run("render", DEMO, "--out", tmp_path / "prints", "--stems", "--format", "flac", "--oversample", 1) == 0
    files = [Path(line) for line in capsys.readouterr().out.splitlines()]
    assert len(files) == 9
    for file in files:
        assert soundfile.info(file).frames == 40 * 48000
    session = json.loads(DEMO.read_text())
    session["strips"][0]["regions"][0]["audio"] = "gone.flac"
    (tmp_path / "broken.ember").write_text(json.dumps(session))
    assert run("render", tmp_path / "broken.ember", "--out", tmp_path) == 1
    assert "the audio of Brushed drums is missing" in capsys.readouterr().err


def test_measure(make_audio: MakeAudio, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    source, target = make_audio(seconds=3.0), tmp_path / "out.wav"
    run("process", source, target, "--chain", write_chain(tmp_path, TAPE))
    assert run("measure", target, "--against", source, "--json") == 0
    result = json.loads(capsys.readouterr().out)
    assert result["frames"] == 144000
    assert -60.0 < result["added_db"] < 0.0
    assert len(result["bands"]) == 31
    assert run("measure", source) == 0
    assert "integrated_lufs" in capsys.readouterr().out
    assert run("measure", make_audio("short.wav", seconds=0.5), "--against", source) == 1
    assert "must have the rate and length" in capsys.readouterr().err


def test_bench(capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("yellow_ember.engine.jobs.speed.stage_speeds.__defaults__", (0.05,))
    assert run("bench", "--json") == 0
    assert {entry["kind"] for entry in json.loads(capsys.readouterr().out)} == {kind.kind for kind in STAGES}


def test_help_and_unknown_commands() -> None:
    for command in ([], ["process"], ["render"], ["measure"], ["bench"], ["stages"], ["demo"], ["open"]):
        result = subprocess.run([sys.executable, "-m", "yellow_ember", *command, "--help"], capture_output=True,
                                text=True, check=True)
        assert "usage: yellow-ember" in result.stdout
    assert subprocess.run([sys.executable, "-m", "yellow_ember", "sing"], capture_output=True, check=False).returncode


def test_memory_does_not_grow_with_length(tmp_path: Path) -> None:
    """One minute and six minutes of stereo take the same memory."""
    code = ("import sys, resource; from yellow_ember.cli import main; main(sys.argv[1:]);"
            "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)")
    peaks = []
    for minutes in (1, 6):
        source = tmp_path / f"{minutes}.wav"
        soundfile.write(source, np.zeros((minutes * 60 * 48000, 2), np.float32), 48000, subtype="PCM_16")
        result = subprocess.run(
            [sys.executable, "-c", code, "process", str(source), str(tmp_path / f"{minutes}-out.wav"), "--chain",
             str(write_chain(tmp_path, {"kind": "trim"}))], capture_output=True, text=True, check=True)
        peaks.append(int(result.stdout))
    assert peaks[1] < peaks[0] + 20_000
