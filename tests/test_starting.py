"""The window comes whatever the machine is like, says what it can't keep, and ends at once when it is told to."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile

import yellow_ember
from processes import are_gone, own_folders, running
from yellow_ember.system_libraries import debian_package, install_hint, missing_in

SOURCES = Path(yellow_ember.__file__).parent
ROOT = os.getuid() == 0


def said(program: object) -> str:
    return "\n".join(program.ask("[message.text for message in workspace.messages.all]"))  # type: ignore[attr-defined]


def test_a_normal_start_says_nothing_on_the_terminal(tmp_path: Path) -> None:
    environment = own_folders(tmp_path)
    del environment["XDG_RUNTIME_DIR"]
    with running(environment) as program:
        program.ready()
        assert program.ask("window.windowTitle()").startswith("Night Ferry")
        family = program.family()
        status, took, errors = program.end()
    assert (status, errors) == (0, "")
    assert took < 1.0
    assert are_gone(family, 2.0)


@pytest.mark.parametrize("runtime_set", [True, False])
def test_a_folder_for_temporary_files_may_have_any_path(runtime_set: bool, tmp_path: Path) -> None:
    """Sockets can't have such long paths; there is sound, files are processed, and nothing is said."""
    environment = own_folders(tmp_path)
    long = tmp_path / ("folder" * 20)
    long.mkdir()
    environment["TMPDIR"] = str(long)
    if not runtime_set:
        del environment["XDG_RUNTIME_DIR"]
    with running(environment) as program:
        program.ready()
        status, _, errors = program.end()
    assert (status, errors) == (0, "")
    before = tmp_path / "before.wav"
    soundfile.write(before, np.full((4800, 1), 0.1), 48000)
    words = ["batch", before, "--out", tmp_path / "out", "--preset", "Keel weight"]
    subprocess.run([sys.executable, "-m", "yellow_ember", *map(str, words)], env=environment, check=True)
    assert [path.suffix for path in (tmp_path / "out").iterdir()] == [".wav"]


@pytest.mark.parametrize("lost", ["all", "home", "home unset"])
def test_folders_that_cannot_be_written_are_said_once_and_stood_in_for(lost: str, tmp_path: Path) -> None:
    environment = own_folders(tmp_path / "home")
    nowhere = tmp_path / "a-file"
    nowhere.write_text("no folder")
    if lost == "home unset":
        del environment["HOME"]
    elif lost == "home":
        environment["HOME"] = str(nowhere / "home")
    for name in ("state", "cache", "config", "data"):
        if lost == "home unset":
            # Without these the home that the system knows of would be used, which is somebody's.
            environment[f"XDG_{name.upper()}_HOME"] = str(tmp_path / name)
        if lost in (name, "all"):
            environment[f"XDG_{name.upper()}_HOME"] = str(nowhere / name)
    with running(environment) as program:
        program.ready()
        told = said(program)
        count = {"all": 4, "home": 4, "home unset": 0}.get(lost, 1)
        assert told.count("can't be written") == count
        program.ask("workspace.selection.select('rhythm') or window.path_view.add('drive')")
        program.wait_for("workspace.measurer.fresh('rhythm')")
        time.sleep(1.2)
        assert said(program).count("can't be") == count, "it is said once"
        assert program.ask("len(workspace.selection.strip.chain)") >= 1
        status, _, errors = program.end()
    assert (status, errors) == (0, "")
    assert not Path("~").exists()


@pytest.mark.parametrize("rubbish", [
    b"\x00\xff\xfe", b"[" * 100000,
    b'{"block": "many", "recent": {"a": 1}, "layout": {"window": "\xc3\xa9"}, "look": 7}',
    b'{"scale": 1e400, "prints_gb": 1e308, "device": "\\ud800", "recent": ["\\u0000", 5, "<img src=x>"]}'])
def test_settings_full_of_rubbish(rubbish: bytes, tmp_path: Path) -> None:
    environment = own_folders(tmp_path)
    folder = tmp_path / ".config" / "yellow-ember"
    folder.mkdir(parents=True)
    (folder / "settings.json").write_bytes(rubbish)
    with running(environment) as program:
        program.ready()
        status, _, errors = program.end()
    assert (status, errors) == (0, "")


def test_settings_that_are_a_pipe(tmp_path: Path) -> None:
    environment = own_folders(tmp_path)
    folder = tmp_path / ".config" / "yellow-ember"
    folder.mkdir(parents=True)
    os.mkfifo(folder / "settings.json")
    with running(environment) as program:
        program.ready()
        assert program.end()[0] == 0


@pytest.mark.parametrize("after", [0.05, 0.9])
def test_ending_in_the_first_moments_even_while_kernels_are_compiled(after: float, tmp_path: Path) -> None:
    copy = tmp_path / "copy" / "yellow_ember"
    shutil.copytree(SOURCES, copy, ignore=shutil.ignore_patterns("__pycache__"))
    environment = own_folders(tmp_path / "home") | {"PYTHONPATH": str(copy.parent)}
    with running(environment) as program:
        # Before its first line has run, the system ends it by itself.
        program.ask("1")
        time.sleep(after)
        family = program.family()
        status, took, errors = program.end()
        assert (status, errors) == (0, "")
        assert took < 1.0
        assert are_gone(family, 2.0)


def test_compiling_is_told_with_its_progress_and_kept_in_the_cache(tmp_path: Path) -> None:
    copy = tmp_path / "copy" / "yellow_ember"
    shutil.copytree(SOURCES, copy, ignore=shutil.ignore_patterns("__pycache__"))
    environment = own_folders(tmp_path / "home") | {"PYTHONPATH": str(copy.parent)}
    if ROOT:
        # Root may write everywhere but into what is no folder.
        (copy / "dsp" / "kernels" / "__pycache__").write_text("")
    else:
        (copy / "dsp" / "kernels").chmod(0o555)
    with running(environment) as program:
        program.wait_for("window.message_line.work.text().startswith('Compiling')")
        program.wait_for("window.message_line.progress.value() > 0")
        assert "once" in program.ask("window.message_line.work.text()")
        program.end()
    assert list((tmp_path / "home" / ".cache" / "yellow-ember").glob("kernels-*/*"))


def test_no_display_and_no_reachable_one_are_said_in_a_line(tmp_path: Path) -> None:
    environment = own_folders(tmp_path)
    del environment["QT_QPA_PLATFORM"]
    for display, words in (({}, "There is no display"), ({"DISPLAY": ":4711"}, "can't be reached")):
        result = subprocess.run([sys.executable, "-m", "yellow_ember", "demo"], env=environment | display,
                                capture_output=True, text=True, timeout=60, check=False)
        assert result.returncode == 1
        assert words in result.stderr
        assert len(result.stderr.splitlines()) == 1


def test_packages_are_named_by_the_libraries_they_hold() -> None:
    assert debian_package("libxcb-icccm.so.4") == "libxcb-icccm4"
    assert debian_package("libxcb-render-util.so.0") == "libxcb-render-util0"
    assert debian_package("libX11-xcb.so.1") == "libx11-xcb1"
    assert debian_package("libglib-2.0.so.0") == "libglib2.0-0"
    library = missing_in(ImportError("libxcb-cursor.so.0: cannot open shared object file: No such file or directory"))
    assert library is not None
    assert install_hint([library]).endswith("sudo apt install libxcb-cursor0")
    assert missing_in(ImportError("No module named 'x'")) is None


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
def test_signals_keep_the_work_and_ask_nothing(number: signal.Signals, tmp_path: Path) -> None:
    environment = own_folders(tmp_path)
    with running(environment) as program:
        program.ready()
        program.ask("workspace.selection.select('rhythm') or window.path_view.add('drive')")
        family = program.family()
        status, took, errors = program.end(number)
        assert (status, errors) == (0, "")
        assert took < 1.0
        assert are_gone(family, 2.0)
    assert len(list((tmp_path / ".local" / "state" / "yellow-ember" / "unsaved").glob("*.json"))) == 1


@pytest.mark.parametrize("after", [0.0, 0.2])
def test_the_desktop_may_end_all_of_the_program_at_once(after: float, tmp_path: Path) -> None:
    """Processes that are asked beside the window are not taken for lost, and nothing is left."""
    with running(own_folders(tmp_path)) as program:
        program.ready()
        family = program.family()
        time.sleep(after)
        for pid in family:
            os.kill(pid, signal.SIGTERM)
        status, took, errors = program.end()
    assert (status, errors) == (0, "")
    assert took < 1.0
    assert are_gone(family, 2.0)


@pytest.mark.parametrize("delay", [0.1])
def test_nothing_runs_on_after_a_kill(delay: float, tmp_path: Path) -> None:
    environment = own_folders(tmp_path)
    with running(environment) as program:
        program.ready()
        program.ask("workspace.playback.toggle_play()")
        program.ask("workspace.selection.select('rhythm') or window.path_view.add('tape')")
        time.sleep(delay)
        family = program.family()
        assert len(family) >= 2
        program.process.kill()
        program.process.wait()
        assert are_gone(family, 2.0)
    assert not list(tmp_path.rglob("*.part"))
