"""Every test runs without a display and in folders of its own."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

# Before anything of the program is imported: engines and workers inherit these folders.
_HOME = Path(tempfile.mkdtemp(prefix="yellow-ember-tests-"))
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
for variable in ("XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME"):
    os.environ[variable] = str(_HOME / variable.lower())

import numpy as np
import pytest
import soundfile

from yellow_ember.cli import DEMO
from yellow_ember.engine.forking import start_server
from yellow_ember.files.conformed import conform
from yellow_ember.session.model import Session
from yellow_ember.session.session_file import read_session


@pytest.fixture(scope="session", autouse=True)
def _server() -> None:
    start_server()


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(1896)


@pytest.fixture
def demo() -> Session:
    """The demo session with its audio made ready."""
    session = read_session(DEMO)
    for strip in session.strips:
        if strip.audio is not None:
            conform(strip.audio, session.rate)
    return session


@pytest.fixture
def make_audio(tmp_path: Path, rng: np.random.Generator) -> Callable[..., Path]:
    """Writes a file of quiet noise and gives its path."""

    def make(name: str = "noise.wav", *, rate: int = 48000, channels: int = 1, seconds: float = 1.0,
             subtype: str | None = None) -> Path:
        path = tmp_path / name
        samples = 0.1 * rng.standard_normal((round(rate * seconds), channels))
        soundfile.write(path, samples, rate, subtype=subtype)
        return path

    return make


def wait_until(condition: Callable[[], object], seconds: float = 20.0) -> None:
    """Return as soon as the condition holds; fail when it does not in time."""
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "waited too long"
        time.sleep(0.01)
