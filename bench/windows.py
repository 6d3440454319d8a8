"""The window's speed: playing while it is worked with, starting, long and large sessions."""

from __future__ import annotations

import contextlib
import functools
import itertools
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

# First of all: it decides where everything is kept, before anything looks.
from measuring import HOME, QUICK, cpu_seconds, memory_of, processes_of, row, taped_demo, wait, wake_ups  # isort: skip

import numpy as np
import soundfile
from PyQt6.QtCore import QEventLoop
from PyQt6.QtWidgets import QApplication

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.pictures.ahead import PicturesAhead
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.stages import STAGES
from yellow_ember.engine.jobs.speed import RATE
from yellow_ember.engine.live.devices import JACK, SILENT_CARD
from yellow_ember.engine.live.messages import TurnTimes
from yellow_ember.files.conformed import conform
from yellow_ember.session.edits.edits import add_stage, set_parameter
from yellow_ember.session.edits.live_edits import insert_input_track
from yellow_ember.session.io.session_file import write_session
from yellow_ember.session.values.live_input import LiveInput
from yellow_ember.session.values.model import (
    Loop,
    Session,
    new_stage,
    session_from_audio,
)

_LATENESS = """
import os, sys, time
try: os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(10))
except OSError: pass
due, worst, end = time.monotonic(), 0.0, time.monotonic() + float(sys.argv[1])
while due < end:
    due += 256 / 48000
    time.sleep(max(0.0, due - time.monotonic()))
    worst = max(worst, time.monotonic() - due)
    due = max(due, time.monotonic() - 0.005)
print(worst * 1000)
"""


def swept(session: Session, stage_id: str, share: float) -> Session:
    """Two controls of the tape on the rhythm, at a share of their ways."""
    for name, low, high in (("record_db", -12.0, 12.0), ("bias_db", -6.0, 6.0)):
        session = set_parameter(session, "rhythm", stage_id, name, low + (high - low) * share)
    return session


def live(application: QApplication, block: int) -> None:
    """Play the taped demo while the window is resized, repainted and its controls are swept."""
    path = HOME / f"taped-{block}.ember"
    write_session(taped_demo(), path)
    window = MainWindow(Workspace(Settings(block=block, match_lock=False)))
    workspace = window.workspace
    window.show()
    workspace.start()
    workspace.sessions.open_path(path)
    wait(application, lambda: workspace.playback.engine is not None and workspace.playback.state.latency > 0, 60.0)
    workspace.selection.select("rhythm")
    workspace.playback.toggle_play()
    wait(application, lambda: workspace.playback.state.playing, 10.0)
    seconds = 10.0 if QUICK else 60.0
    began = time.monotonic()
    wait(application, lambda: time.monotonic() > began + 2.0, 5.0)
    calm = cpu_seconds(os.getpid())
    wait(application, lambda: time.monotonic() > began + 7.0, 8.0)
    idle_share = (cpu_seconds(os.getpid()) - calm) / 5.0
    missed, began = workspace.playback.state.missed, time.monotonic()
    loads, frames = [], {"controls swept": 0, "controls swept, window dragged to other sizes": 0}
    sweep = workspace.sessions.document.trial("Sweep")
    while (now := time.monotonic() - began) < seconds:
        stage = workspace.selection.strip.chain[0]
        sweep.show(functools.partial(swept, stage_id=stage.id, share=abs((now * 0.7) % 2.0 - 1.0)))
        dragged = now > seconds / 2.0
        if dragged:
            window.resize(1200 + int(80 * abs((now * 2.0) % 2.0 - 1.0)), 780 + int(20 * (now % 1.0)))
        application.processEvents()
        frames[list(frames)[dragged]] += 1
        loads.append(workspace.playback.state.load)
    row(f"live at 4x, {block}-frame blocks, window dragged and controls swept: blocks missed in {seconds:.0f} s",
        str(workspace.playback.state.missed - missed), "0", workspace.playback.state.missed == missed)
    row("engine's load meanwhile", f"{100 * float(np.mean(loads)):.0f} %", "< 100 %", float(np.mean(loads)) < 1.0)
    for what, count in frames.items():
        rate = 2.0 * count / seconds
        row(f"window playing, {what}: times drawn a second", f"{rate:.0f}", ">= 30", rate >= 30)
    row("window playing undisturbed: share of one core", f"{100 * idle_share:.0f} %", "< 8 %", idle_share < 0.08)
    workspace.sessions.document.saved(path)
    window.close()
    jitter = subprocess.run([sys.executable, "-c", _LATENESS, str(min(seconds, 20.0))], capture_output=True, text=True,
                            check=True)
    print(f"  (this machine alone wakes a sleeping real-time process up to {float(jitter.stdout):.0f} ms late; "
          "the card's queue holds 70 ms)", flush=True)


_EMPTY_CLIENT = """
import sys, time, jack
client, dropouts = jack.Client("Empty"), []
client.set_process_callback(lambda frames: None)
client.set_xrun_callback(dropouts.append)
client.activate()
time.sleep(1.0)
before = len(dropouts)
time.sleep(float(sys.argv[1]))
print(len(dropouts) - before)
"""


@contextlib.contextmanager
def jack_server(period: int) -> Iterator[None]:
    """A JACK server with its dummy driver."""
    server = subprocess.Popen(["jackd", "-n", os.environ["JACK_DEFAULT_SERVER"], "--no-realtime", "-d", "dummy",
                               "-r", str(RATE), "-p", str(period)], stdout=subprocess.DEVNULL,
                              stderr=subprocess.DEVNULL)
    try:
        time.sleep(1.0)
        yield
    finally:
        server.terminate()
        server.wait()


def served_demo() -> Session:
    """The taped demo, and a guitar's input through an amp, a cabinet and a room."""
    session, strip_id = insert_input_track(taped_demo(), "band", LiveInput())
    for kind in ("amp", "cabinet", "room"):
        session = add_stage(session, strip_id, new_stage(kind))
    return session


class _Guitarist:
    """Someone who plays the demo with a live guitar through a device, and works with the window meanwhile."""

    def __init__(self, application: QApplication, device: str, period: int) -> None:
        path = HOME / "served.ember"
        write_session(served_demo(), path)
        self._application = application
        self.window = MainWindow(Workspace(Settings(device=device, block=period, match_lock=False)))
        self.playback, self._sessions = self.window.workspace.playback, self.window.workspace.sessions
        self.window.show()
        self.window.workspace.start()
        self._sessions.open_path(path)
        wait(application, lambda: self.playback.state.live_latency is not None, 60.0)
        self.window.workspace.selection.select("rhythm")
        self.playback.toggle_play()
        wait(application, lambda: self.playback.state.playing, 10.0)
        wait(application, lambda: False, 3.0)

    def work(self, seconds: float) -> float:
        """Drag the window and sweep controls; the engine's mean load meanwhile."""
        loads, began, sweep = list[float](), time.monotonic(), self._sessions.document.trial("Sweep")
        while (now := time.monotonic() - began) < seconds:
            stage = self.window.workspace.selection.strip.chain[0]
            sweep.show(functools.partial(swept, stage_id=stage.id, share=abs((now * 0.7) % 2.0 - 1.0)))
            self.window.resize(1200 + int(80 * abs((now * 2.0) % 2.0 - 1.0)), 780 + int(20 * (now % 1.0)))
            self._application.processEvents()
            loads.append(self.playback.state.load)
        return float(np.mean(loads))

    def turns(self) -> TurnTimes:
        """How long the blocks took."""
        engine = self.playback.engine
        assert engine is not None
        engine.ask_for_turns()
        while True:
            engine.poll()
            for answer in engine.take_answers():
                if isinstance(answer, TurnTimes):
                    return answer
            time.sleep(0.02)

    def close(self) -> None:
        self._sessions.document.saved(HOME / "served.ember")
        self.window.close()


def served(application: QApplication, period: int) -> None:
    """Play the demo with a live guitar through a JACK server, against an empty client while it plays elsewhere."""
    if shutil.which("jackd") is None:
        print("  (no jackd: playing through a server is not measured)", flush=True)
        return
    seconds = 10.0 if QUICK else 60.0
    with jack_server(period):
        beside = _Guitarist(application, SILENT_CARD, period)
        empty = subprocess.Popen([sys.executable, "-c", _EMPTY_CLIENT, str(seconds)], stdout=subprocess.PIPE, text=True)
        beside.work(seconds + 2.0)
        of_empty = int(empty.communicate()[0])
        beside.close()
        guitarist = _Guitarist(application, JACK, period)
        guitarist.turns()
        missed = guitarist.playback.state.missed
        load = guitarist.work(seconds)
        dropouts, times, whole = guitarist.playback.state.missed - missed, guitarist.turns(), 1e6 * period / RATE
        row(f"live at 4x through a JACK server, periods of {period}, with a guitar: dropouts in {seconds:.0f} s",
            str(dropouts), f"<= {of_empty} (an empty client's)", dropouts <= of_empty)
        row(f"the same: how long a period of {whole:.0f} us takes, us (median, 99.9 %, worst)",
            f"{1e6 * times.median:.0f}, {1e6 * times.nearly_all:.0f}, {1e6 * times.worst:.0f}", "-", True)
        row("engine's load meanwhile", f"{100 * load:.0f} %", "< 100 %", load < 1.0)
        guitarist.close()


_START = """
import os, sys, time
began = float(sys.argv[1])
import yellow_ember.app.launch as launch
from yellow_ember.shipped import DEMO
def watched():
    # The window's modules load here, as they do without a watch: while the server starts.
    start_server()
    from yellow_ember.app.main_window import MainWindow
    def shown(window):
        show(window)
        watch(window)
    show, MainWindow.show = MainWindow.show, shown
def watch(window):
    from PyQt6.QtCore import QTimer
    from PyQt6.QtWidgets import QApplication
    QApplication.processEvents()
    print("window", time.time() - began, flush=True)
    def look(state):
        engine = window.workspace.playback.engine
        if window.workspace.playback.engine is not None and not state.playing and not window.workspace.imports.busy:
            window.workspace.playback.toggle_play()
        reading = engine.reading("master") if engine is not None else None
        if reading is not None and float(reading.peak.max()) > 1e-4:
            print("sound", time.time() - began, flush=True)
            window.workspace.playback.frame.disconnect(look)
            QTimer.singleShot(0, window.close)
    window.workspace.playback.frame.connect(look)
start_server, launch.start_server = launch.start_server, watched
launch.launch([DEMO])
"""


def starting() -> None:
    times: dict[str, list[float]] = {"window": [], "sound": []}
    for _ in range(3):
        result = subprocess.run([sys.executable, "-c", _START, str(time.time())], capture_output=True, text=True,
                                check=True)
        for line in result.stdout.splitlines():
            name, value = line.split()
            times[name].append(float(value))
    for name, limit in (("window", 0.7), ("sound", 1.5)):
        row(f"first {name} of a warm start, median of 3, s", f"{sorted(times[name])[1]:.2f}", f"<= {limit:g}",
            sorted(times[name])[1] <= limit)


def long_files(count: int) -> list[Path]:
    """Stereo files of ten minutes."""
    block = np.random.default_rng(1).standard_normal((60 * RATE, 2)).astype(np.float32) * 0.1
    files = []
    for number in range(count):
        path = HOME / f"long {number}.wav"
        with soundfile.SoundFile(path, "w", RATE, 2, "PCM_16") as file:
            for _ in range(10):
                file.write(block)
        files.append(path)
    return files


def long_session(application: QApplication, count: int, limit: float) -> None:
    """Stereo tracks of ten minutes each, read and played; limit : MB of all processes"""
    files, what = long_files(count), f"{count} 10-minute stereo tracks"
    window = MainWindow(Workspace(Settings(match_lock=False, all_waves=True)))
    workspace = window.workspace
    window.show()
    workspace.start()
    wait(application, lambda: workspace.playback.state.blocks > 0, 60.0)
    began, most = time.monotonic(), 0.0
    workspace.sessions.adopt(session_from_audio(files, RATE), None)
    ready = False
    while not ready and time.monotonic() < began + 600.0:
        wait(application, lambda: False, 0.5)
        most = max(most, memory_of(os.getpid()))
        ready = all(workspace.imports.ready(path) for path in files)
    row(f"{what}: read from a cold cache, s a track", f"{(time.monotonic() - began) / count:.1f}", "-", ready)
    workspace.sessions.document.saved(HOME / "none.ember")
    started = time.monotonic()
    workspace.sessions.adopt(session_from_audio(files, RATE), None)
    workspace.playback.toggle_play()
    sounds = wait(application, lambda: workspace.playback.state.playing and workspace.playback.state.position > 0, 30.0)
    first = time.monotonic() - started
    row(f"{what}: first sound of the session opened again, s", f"{first:.1f}", "< 4", sounds and first < 4.0)
    for name, move in (("zoom", lambda step: workspace.time_view.zoom(1.5 if step % 24 < 12 else 1 / 1.5, 640.0)),
                       ("scroll", lambda _step: workspace.time_view.scroll(37.0))):
        workspace.time_view.show_stretch(60 * RATE, 120 * RATE)
        began = time.monotonic()
        for step in range(48):
            move(step)
            window.timeline.waves.repaint()
        rate = 48.0 / (time.monotonic() - began)
        row(f"{what}, a lane for each: {name}, draws a second", f"{rate:.0f}", ">= 60", rate >= 60.0)
    workspace.time_view.show_stretch(0, 8 * RATE)
    wait(application, lambda: False, 2.0)
    began, used = time.monotonic(), cpu_seconds(os.getpid())
    wait(application, lambda: False, 8.0)
    share = (cpu_seconds(os.getpid()) - used) / (time.monotonic() - began)
    most = max(most, memory_of(os.getpid()))
    row(f"{what}, played zoomed in: share of a core of the window", f"{100 * share:.0f} %", "< 25 %", share < 0.25)
    row(f"{what}, read and played: memory of all processes, MB", f"{most:.0f}", f"< {limit:.0f}", most < limit)
    workspace.sessions.document.saved(HOME / "none.ember")
    window.close()
    for path in files:
        path.unlink()


def large(strips: int, stages: int) -> Session:
    """A session of stereo tracks with stages of all kinds in turn."""
    files = []
    for number in range(strips):
        path = HOME / f"strip {number}.wav"
        soundfile.write(path, 0.05 * np.random.default_rng(number).standard_normal((10 * RATE, 2)), RATE)
        conform(path, RATE)
        files.append(path)
    session = session_from_audio(files, RATE).with_(loop=Loop(0, 10 * RATE))
    kinds = itertools.cycle(STAGES)
    for strip in session.strips[:-1]:
        for kind in itertools.islice(kinds, stages):
            session = add_stage(session, strip.id, new_stage(kind.kind))
    return session


def large_session(application: QApplication) -> None:
    """Sixty strips of five stages: opened, walked through, searched, and left alone."""
    path = HOME / "large.ember"
    write_session(large(60, 5), path)
    ahead = PicturesAhead()
    window = MainWindow(Workspace(Settings(match_lock=False, background_printing=False)))
    workspace = window.workspace
    window.show()
    workspace.start()
    wait(application, lambda: workspace.playback.state.blocks > 0, 60.0)
    ahead.wait()
    began = time.monotonic()
    workspace.sessions.open_path(path)
    opened = wait(application, lambda: workspace.playback.state.latency > 0, 60.0)
    what, taken = "60 strips of 5 stages", time.monotonic() - began
    row(f"{what}: opened and heard, s", f"{taken:.1f}", "< 3", opened and taken < 3.0)
    wait(application, lambda: False, 5.0)

    def milliseconds(act: Callable[[], None]) -> float:
        started = time.perf_counter()
        act()
        QApplication.sendPostedEvents()
        return 1000.0 * (time.perf_counter() - started)

    def one_by_one(acts: Iterable[Callable[[], None]]) -> list[float]:
        result = []
        for act in acts:
            result.append(milliseconds(act))
            wait(application, lambda: False, 0.2)
        return result

    select, session = workspace.selection.select, workspace.sessions.session
    for name, limit, times in (
            ("a strip chosen, ms (median, worst)", 50.0, one_by_one(
                functools.partial(select, strip.id) for strip in session.strips)),
            ("a stage chosen, the first of its kind too", 50.0, one_by_one(
                functools.partial(select, strip.id, stage.id)
                for strip in session.strips[:12] for stage in strip.chain)),
            ("a key typed in the presets' search", 16.0, one_by_one(
                functools.partial(workspace.tools.open(PresetBrowser).search.setText, "warm bass"[:count])
                for count in range(1, 10)))):
        row(f"{what}: {name}", f"{np.median(times):.0f}, {max(times):.0f}", f"< {limit:g}", max(times) < limit)
    window.work_area.close_all()
    # Strips are measured while nobody works; rest begins behind that.
    measured = wait(application, lambda: not workspace.imports.busy and not workspace.measurer.busy and all(
        workspace.measurer.latest(strip.id) for strip in session.strips if strip.chain), 600.0)
    wait(application, lambda: False, 10.0)
    resting(application, what if measured else f"{what}, some not measured yet")
    workspace.sessions.document.saved(path)
    window.close()


def resting(application: QApplication, what: str) -> None:
    """What all processes take while nobody plays or works."""
    pids = processes_of(os.getpid())
    began, used = time.monotonic(), [cpu_seconds(pid) for pid in pids]
    waked = sum(map(wake_ups, pids))
    end = time.monotonic() + 10.0
    while time.monotonic() < end:
        application.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
    passed = time.monotonic() - began
    share = sum(cpu_seconds(pid) - was for pid, was in zip(pids, used, strict=True)) / passed
    row(f"{what}, stopped and idle: share of a core, all processes", f"{100.0 * share:.1f} %", "< 2 %", share < 0.02)
    rate = (sum(map(wake_ups, pids)) - waked) / passed
    row(f"{what}, stopped and idle: wake-ups a second, all processes", f"{rate:.0f}", "< 10", rate < 10.0)
