"""Every test runs without a display and in folders of its own."""

from __future__ import annotations

import os
import signal
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

# Before anything of the program is imported: engines and workers inherit these folders.
_HOME = Path(tempfile.mkdtemp(prefix="yellow-ember-tests-"))
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
for variable in ("XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_RUNTIME_DIR"):
    os.environ[variable] = str(_HOME / variable.lower())
    (_HOME / variable.lower()).mkdir(mode=0o700)

# Where the tests were started in the background, interrupts are ignored, and by all that they start.
signal.signal(signal.SIGINT, signal.default_int_handler)

# A server of the tests' own, if any: who works on this machine may run another.
os.environ["JACK_DEFAULT_SERVER"] = "yellow-ember-tests"

import numpy as np
import pytest
import soundfile

from jack_server import Server
from yellow_ember.engine.forking import start_server
from yellow_ember.files.conformed import conform_all
from yellow_ember.session.edits.edits import use_chain
from yellow_ember.session.io.presets import find_preset
from yellow_ember.session.io.session_file import read_session, write_session
from yellow_ember.session.values.model import Session
from yellow_ember.shipped import DEMO

if TYPE_CHECKING:
    from yellow_ember.app.main_window import MainWindow
    from yellow_ember.engine.live.client import EngineClient
    from yellow_ember.engine.live.messages import Answer


def _dry_demo() -> Path:
    """The demo session without its chains, in a file of the tests' own."""
    session = read_session(DEMO)
    for strip in session.strips:
        session = use_chain(session, strip.id, ())
    path = _HOME / "demo" / DEMO.name
    path.parent.mkdir()
    write_session(session.with_(shown="", passages=()), path)
    return path


DRY_DEMO = _dry_demo()
OpenWindow = Callable[..., "MainWindow"]


@pytest.fixture(scope="session", autouse=True)
def _server() -> None:
    start_server()


@pytest.fixture
def server() -> Iterator[Server]:
    """A JACK server, where one can run."""
    result = Server()
    result.start()
    yield result
    result.end()


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(1896)


@pytest.fixture
def demo() -> Session:
    """The demo session without its chains, with its audio made ready."""
    session = read_session(DRY_DEMO)
    conform_all(session.files, session.rate)
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


def wait_until(condition: Callable[[], object], seconds: float = 60.0) -> None:
    """Return as soon as the condition holds; fail when it does not in time."""
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "waited too long"
        time.sleep(0.01)


def answer(client: EngineClient) -> Answer:
    """What an engine answers next to what it was asked for."""
    answers: list[Answer] = []

    def arrived() -> bool:
        client.poll()
        answers.extend(client.take_answers())
        return bool(answers)

    wait_until(arrived)
    return answers[0]


@pytest.fixture
def open_window(qapp: Any, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[..., MainWindow]]:
    """Opens the real window, with the dry demo unless told otherwise, and waits until its engine runs."""
    # Qt is known to the tests of the window only.
    from PyQt6.QtWidgets import QMessageBox

    from yellow_ember.app.main_window import MainWindow
    from yellow_ember.app.state.settings import Settings, settings_file
    from yellow_ember.app.widgets import theme
    from yellow_ember.app.workspace import Workspace

    theme.apply(qapp)
    # What other tests have set is nothing to this one.
    settings_file().unlink(missing_ok=True)
    opened: list[MainWindow] = []

    def open_it(path: Path | None = DRY_DEMO, settings: Settings | None = None) -> MainWindow:
        window = MainWindow(Workspace(settings or Settings()))
        opened.append(window)
        window.show()
        window.workspace.start()
        if path is not None:
            window.workspace.sessions.open_path(path)
        workspace = window.workspace
        qtbot.waitUntil(lambda: workspace.playback.engine is not None and not workspace.imports.busy, timeout=60000)
        return window

    yield open_it
    monkeypatch.setattr(QMessageBox, "question", lambda *_: QMessageBox.StandardButton.Discard)
    for window in opened:
        window.close()
        window.deleteLater()


@pytest.fixture
def window(open_window: Callable[..., MainWindow]) -> MainWindow:
    return open_window()


def measured(qtbot: Any, window: MainWindow) -> None:
    """Wait until the chosen strip is measured as it is now."""
    workspace = window.workspace
    qtbot.waitUntil(lambda: workspace.measurer.fresh(workspace.selection.strip_id) and not workspace.measurer.busy
                    and not workspace.matcher.busy, timeout=60000)


def use_preset(window: MainWindow, name: str) -> None:
    """A preset on the chosen strip."""
    workspace, preset = window.workspace, find_preset(name)
    workspace.sessions.document.commit(name, lambda _: use_chain(
        workspace.sessions.session, workspace.selection.strip_id, preset.stages, preset.macros))


def said(window: MainWindow) -> str:
    """All that the window has told its user."""
    return "\n".join(message.text for message in window.workspace.messages.all)
