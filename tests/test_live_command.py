"""`yellow-ember live`: a chain without a window."""

from __future__ import annotations

import re
import signal
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile

from jack_server import HAVE_JACK, Server, neighbour
from yellow_ember.session.io.chain_file import chain_to_text
from yellow_ember.session.values.model import new_stage

START = [sys.executable, "-m", "yellow_ember", "live"]


@pytest.fixture
def chain(tmp_path: Path) -> Path:
    stage = new_stage("trim")
    path = tmp_path / "louder.json"
    path.write_text(chain_to_text((replace(stage, params={**stage.params, "gain_db": 6.0}),)))
    return path


def first_line(process: subprocess.Popen[str]) -> str:
    assert process.stdout is not None
    return process.stdout.readline()


def ended(process: subprocess.Popen[str]) -> tuple[int, str]:
    process.send_signal(signal.SIGINT)
    _, errors = process.communicate(timeout=20)
    return process.returncode, errors


def test_it_plays_until_it_is_interrupted_and_tells_levels(chain: Path, tmp_path: Path) -> None:
    sound = 0.25 * np.sin(2.0 * np.pi * 500.0 * np.arange(48000) / 48000)
    soundfile.write(tmp_path / "tone.wav", np.stack([sound, sound], axis=1), 48000, "FLOAT")
    process = subprocess.Popen([*START, "--chain", str(chain), "--device", "Silent card", "--feed",
                                str(tmp_path / "tone.wav")], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    lines = [first_line(process) for _ in range(3)]
    assert ended(process) == (0, "")
    came_in, goes_out, late, dropouts = re.findall(r"[−\d.]+", lines[-1])
    assert float(came_in.replace("−", "-")) == pytest.approx(-12.04, abs=0.2)
    assert float(goes_out.replace("−", "-")) == pytest.approx(-6.02, abs=0.2)
    assert float(late) == pytest.approx(2 * 128 / 48.0, abs=0.1)
    assert int(dropouts) >= 0


@pytest.mark.skipif(not HAVE_JACK, reason="jackd, or JACK's library, is not here")
def test_it_is_connected_to_the_ports_that_are_named(chain: Path) -> None:
    server = Server()
    server.start(rate=44100)
    try:
        with neighbour() as other:
            process = subprocess.Popen(
                [*START, "--chain", str(chain), "--in", other.outs[0].name, "--out", other.ins[0].name],
                stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
            first_line(process)
            time.sleep(0.2)
            sound = np.zeros((2, 44100))
            sound[0, 6000::4000] = 0.25
            heard = other.play(sound)
            assert ended(process) == (0, "")
            # One channel in the middle is 3 dB less on a side.
            assert np.abs(heard[0]).max() == pytest.approx(0.25 * 10.0 ** ((6.0 - 3.0103) / 20.0), rel=1e-3)
    finally:
        server.end()


@pytest.mark.parametrize(("words", "reason"), [
    (["--preset", "No such"], "No such"),
    (["--preset", "Announcer of 1930", "--device", "JACK"], "no JACK server is running"),
    (["--preset", "Announcer of 1930", "--in", "a:1,b:2,c:3"], "one port or two")])
def test_what_it_is_refused_with(words: list[str], reason: str) -> None:
    result = subprocess.run([*START, *words], capture_output=True, text=True, timeout=60)
    assert result.returncode != 0
    assert reason in result.stderr
