#!/usr/bin/env python3
"""How fast Yellow Ember is here: ratios taken in one run, as a table.

Usage: run.py [--quick]      --quick plays live for 10 s instead of 60
"""

from __future__ import annotations

import contextlib
import ctypes
import functools
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["JACK_DEFAULT_SERVER"] = "yellow-ember-bench"
_HOME = Path(tempfile.mkdtemp(prefix="yellow-ember-bench-"))
for variable in ("XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"):
    os.environ[variable] = str(_HOME / variable.lower())

import numpy as np
import soundfile
from PyQt6.QtWidgets import QApplication
from scipy.signal import oaconvolve, resample_poly

import yellow_ember
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.widgets import theme
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.lanes import Lane, Point
from yellow_ember.dsp.oversampling import CHUNK, OversamplingRecord, fall, oversampling_sizes, rise, set_oversampling
from yellow_ember.dsp.parameters import Number, Option, Value, Values
from yellow_ember.dsp.record import CompiledHalf, Record, cube, part, run_stage
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES, stage_kind
from yellow_ember.engine.forking import start_server
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.batch import DONE, BatchOrder, run_batch
from yellow_ember.engine.jobs.job import Job, wait_any
from yellow_ember.engine.jobs.printing import PrintOrder, print_session
from yellow_ember.engine.jobs.speed import RATE, seconds_taken, test_signal
from yellow_ember.engine.jobs.strip_prints import print_file
from yellow_ember.engine.jobs.variations import VariationOrder, dealt, render_variations
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import JACK, SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.engine.plan import Crew
from yellow_ember.engine.print_player import StripPrint
from yellow_ember.files.conformed import conform, conform_all
from yellow_ember.session.edits.edits import add_stage, set_parameter, use_chain
from yellow_ember.session.edits.live_edits import insert_input_track
from yellow_ember.session.edits.variation_plan import along, first_choice
from yellow_ember.session.io.presets import DEMO, find_preset
from yellow_ember.session.io.session_file import read_session, write_session
from yellow_ember.session.values.live_input import LiveInput
from yellow_ember.session.values.model import (
    MASTER,
    Loop,
    Quality,
    Session,
    master_strip,
    new_stage,
    session_from_audio,
)

QUICK = "--quick" in sys.argv[1:]
ROWS: list[tuple[str, str, str, str]] = []


def row(what: str, result: str, requested: str, good: bool) -> None:
    ROWS.append((what, result, requested, "yes" if good else "NO"))
    print(f"  {what}: {result} (wanted {requested})", flush=True)


def best(function: Callable[[], object], tries: int = 5) -> float:
    result = float("inf")
    for _ in range(tries):
        started = time.perf_counter()
        function()
        result = min(result, time.perf_counter() - started)
    return result


# -- kernels --------------------------------------------------------------------------------


def yardstick(signal: Samples) -> Callable[[], None] | None:
    """Runs the plain C loop over the signal at eight times its rate; None without gcc."""
    if shutil.which("gcc") is None:
        return None
    library = _HOME / "hysteresis.so"
    source = Path(__file__).with_name("hysteresis.c")
    subprocess.run(["gcc", "-O3", "-march=native", "-shared", "-fPIC", "-o", library, source, "-lm"], check=True)
    loop = ctypes.CDLL(str(library)).hysteresis
    pointer = ctypes.POINTER(ctypes.c_double)
    fast = np.ascontiguousarray(np.repeat(signal, 8, axis=1))
    out = np.zeros(fast.shape[1])

    def run() -> None:
        for channel in fast:
            loop(channel.ctypes.data_as(pointer), out.ctypes.data_as(pointer), ctypes.c_long(out.size))

    return run


def tape() -> None:
    """Machine and yardstick in turn, so that both meet the same weather."""
    seconds = 4.0
    signal = test_signal(seconds)
    everything = {"hiss": True, "lean_db": 3.0, "clean_lows_hz": 80.0, "standard": "nab", "record_db": 6.0,
                  "bias_db": -1.0}
    values = stage_kind("tape").complete(everything)
    plain = yardstick(signal)
    machine, loop = float("inf"), float("inf")
    for _ in range(4):
        machine = min(machine, seconds_taken("tape", values, signal, tries=2))
        loop = min(loop, best(plain, 1)) if plain is not None else loop
    faster = seconds / machine
    row("tape, 8x, stereo, all on: times real time on one core", f"{faster:.1f}", ">= 25", faster >= 25)
    if plain is not None:
        ratio = machine / loop
        row("tape against a plain C hysteresis over the same audio", f"{ratio:.3f}", "<= 0.16", ratio <= 0.16)


MACHINE: dict[str, Value] = {
    "own_faults": True, "hiss": True, "transformers": True, "squash_pct": 50.0, "noise_reduction": "on",
    "low_cut_hz": 60.0, "high_cut_hz": 12000.0, "return_cut": True, "record_low_db": 1.0, "record_high_db": 1.0,
    "play_low_db": -1.0, "play_high_db": -1.0, "lean_db": 3.0, "clean_lows_hz": 80.0, "standard": "nab",
    "bias_db": (-1.0, 0.5), "record_db": (6.0, 5.0), "azimuth_arcmin": 3.0}
MOTION: dict[str, Value] = {"scrape_pct": 0.1, "spread_pct": 50.0, "level_pct": 30.0, "smear_ms": 5.0}
WEAR: dict[str, Value] = {"ageing_pct": 50.0, "crease_pct": 60.0, "drop_mode": "random", "print_through_db": -50.0}


BITS: dict[str, Value] = {"anti_alias": True, "smooth": "band-limited", "dither": True, "noise_db": -60.0,
                          "jitter_pct": 20.0, "law": "companded"}


FIVE_BANDS: dict[str, Value] = {"edges_hz": (100.0, 400.0, 1500.0, 6000.0)}
IN_SERIES: dict[str, Value] = {**FIVE_BANDS, "order": "series"}
VINYL: dict[str, Value] = {"noises": True, "wear_pct": 30.0}
AMP: dict[str, Value] = {"voice": "lead", "gain": 8.0, "bright": True, "sag_pct": 50.0}


def stages() -> None:
    """Stages with everything on that makes them slower."""
    seconds = 4.0
    signal = test_signal(seconds)
    for kind, what, settings, requested in (
            ("tape", "everything on", MACHINE, 12.0), ("motion", "everything on", MOTION, 80.0),
            ("wear", "everything on", WEAR, 80.0), ("drive", "soft clip", {}, 60.0),
            ("bands", "five bands side by side", FIVE_BANDS, 12.0), ("bands", "five bands in series", IN_SERIES, 12.0),
            ("vinyl", "with dust and noise", VINYL, 40.0), ("bits", "everything on", BITS, 100.0),
            ("amp", "lead, sagging", AMP, 20.0), ("echo", "one head, wow and flutter", {}, 60.0),
            ("room", "room", {}, 60.0), ("texture", "texture", {}, 30.0)):
        values = stage_kind(kind).complete(settings)
        faster = seconds / min(seconds_taken(kind, values, signal) for _ in range(4))
        row(f"{kind}, 8x, stereo, {what}: times real time on one core", f"{faster:.1f}", f">= {requested:g}",
            faster >= requested)


def blocks() -> None:
    """What a stage costs a block beside its samples, and what short blocks cost a frame."""
    fixed, tape_cost = {}, {}
    for kind in STAGES:
        taken = {frames: block_seconds(kind.kind, frames) for frames in (16, 256)}
        fixed[kind.kind] = taken[16] - 16.0 * (taken[256] - taken[16]) / 240.0
    slowest = max(fixed, key=lambda kind: fixed[kind])
    middle = float(np.median([*fixed.values()]))
    for what, seconds in ((f"the dearest ({slowest})", fixed[slowest]), ("the median", middle)):
        row(f"what a stage costs a block beside its samples, us, {what}", f"{1e6 * seconds:.1f}", "< 2", seconds < 2e-6)
    for frames in (64, 4096):
        tape_cost[frames] = block_seconds("tape", frames) / frames
    ratio = tape_cost[64] / tape_cost[4096]
    row("tape at 4x: a frame in 64-frame blocks against 4096", f"{ratio:.2f}", "<= 1.25", ratio <= 1.25)


def new_values() -> None:
    """What a new value takes on the audio thread, once the thread beside it has worked it out."""
    dearest, slowest = 0.0, ""
    for kind in STAGES:
        settings = StageSettings(id="a", kind=kind.kind, params=kind.defaults())
        for parameter in kind.parameters:
            if not isinstance(parameter, Number | Option):
                continue
            value = parameter.at(0.61) if isinstance(parameter, Number) else parameter.value_at(1)
            changed = replace(settings, params={**settings.params, parameter.id: value})
            if changed.needs(48000.0) != settings.needs(48000.0):
                continue
            taken = min(seconds_of_change(settings, changed) for _ in range(3))
            if taken > dearest:
                dearest, slowest = taken, f"{kind.kind}, {parameter.id}"
    share = dearest / (256.0 / 48000.0)
    row(f"the dearest new value on the audio thread ({slowest}): share of a 256-frame block", f"{100 * share:.0f} %",
        "< 10 %", share < 0.1)


def seconds_of_change(before: StageSettings, after: StageSettings) -> float:
    """Seconds that a running chain of one stage takes to take up other settings, rehearsed."""
    chain = Chain(Setup(48000.0, 2, 256, 4), [before])
    chain.process(np.zeros((2, 256)))
    chain.rehearse([after])
    began = time.perf_counter()
    chain.update([after])
    return time.perf_counter() - began


def block_seconds(kind: str, frames: int) -> float:
    """Seconds that a stage takes for a block of two channels at 4x, as one of eight in a chain."""
    declared, count = stage_kind(kind), max(20, 20000 // frames)
    chain = Chain(Setup(48000.0, 2, frames, 4), [
        StageSettings(id=str(number), kind=kind, params=declared.defaults()) for number in range(8)])
    block = np.random.default_rng(1).normal(0.0, 0.01, (2, frames))

    def run() -> None:
        for _ in range(count):
            chain.process(block)

    return best(run) / count / 8.0


def cabinet() -> None:
    """Two microphones' responses of 200 ms, at 256-frame blocks, and the same work by overlap and add."""
    seconds, block = 4.0, 256
    signal = test_signal(seconds)
    values = stage_kind("cabinet").complete({"near_pan": -30.0, "far_pan": 30.0, "near_far": 50.0})
    response = np.random.default_rng(2).standard_normal((2, round(0.2 * 48000)))

    def overlap_and_add() -> None:
        tail = np.zeros((2, response.shape[1] - 1))
        for at in range(0, signal.shape[1], block):
            whole = oaconvolve(signal[:, at:at + block], response, axes=1)
            whole[:, :tail.shape[1]] += tail
            tail = np.ascontiguousarray(whole[:, block:])

    ours, theirs = float("inf"), float("inf")
    for _ in range(3):
        ours = min(ours, seconds_taken("cabinet", values, signal, block_frames=block))
        theirs = min(theirs, best(overlap_and_add, 1))
    row("cabinet, stereo, two responses of 200 ms, 256-frame blocks: times real time on one core",
        f"{seconds / ours:.1f}", ">= 60", seconds / ours >= 60)
    row("cabinet: times as fast as scipy.signal.oaconvolve", f"{theirs / ours:.1f}", ">= 1", theirs / ours >= 1)


class RoundTripRecord(Record):
    """A rise of the rate and its fall, with nothing between."""

    fast: OversamplingRecord = part(OversamplingRecord)


@inlined
def round_trip(record: RoundTripRecord, block: Samples) -> None:
    """Up and down again, in place."""
    up = cube(record.fast.up)
    for start in range(0, block.shape[1], CHUNK):
        piece = block[0, start:min(start + CHUNK, block.shape[1])]
        fall(record.fast, 0, rise(record.fast, up[0], piece), piece)


def oversampling() -> None:
    signal = test_signal(2.0)[:1].copy()
    there_and_back = CompiledHalf(RoundTripRecord, round_trip)
    record = RoundTripRecord.make(channels=1, **oversampling_sizes(8))
    set_oversampling(record.fast, 8)
    ours = best(lambda: run_stage(there_and_back.address, record.address, signal.copy()))
    theirs = best(lambda: resample_poly(resample_poly(signal[0], 8, 1), 1, 8))
    row("oversampling x8 and back: times as fast as scipy.signal.resample_poly", f"{theirs / ours:.1f}", ">= 10",
        theirs / ours >= 10)


# -- sessions -------------------------------------------------------------------------------


def dry_demo() -> Session:
    """The demo without its chains."""
    session = read_session(DEMO)
    for strip in session.strips:
        session = use_chain(session, strip.id, ())
    return session


def taped_demo() -> Session:
    session = dry_demo()
    for strip in session.strips:
        conform_all(strip.files, session.rate)
        session = add_stage(session, strip.id, new_stage("tape"))
    return session


def printing() -> None:
    session, folder = taped_demo(), _HOME / "prints"
    folder.mkdir()
    all_cores, taken = os.sched_getaffinity(0), {}
    for count in (1, 2):
        os.sched_setaffinity(0, sorted(all_cores)[:count])
        taken[count] = best(lambda: print_session(lambda _share: None, session, PrintOrder(folder)), 3)
    os.sched_setaffinity(0, all_cores)
    faster = 40.0 / taken[2]
    row("demo with a tape on every strip, printed at 8x: times real time", f"{faster:.1f}", ">= 4", faster >= 4)
    row("the same: times as fast on two cores as on one", f"{taken[1] / taken[2]:.2f}", ">= 1.8",
        taken[1] / taken[2] >= 1.8)


def seconds_of_graph(session: Session, frames: int, crew: Crew | None = None) -> float:
    """Seconds that a graph at 4x takes for a block."""
    graph, count = Graph(session, GraphSettings(4, frames)), max(10, 10000 // frames)

    def run() -> None:
        for number in range(count):
            graph.process([(number * frames, frames)], frames, crew)

    return best(run, 6) / count


def strips() -> None:
    """Two dozen tracks with a tape and a drive each, and as many with nothing, by one thread and by two."""
    tracks = [strip for strip in dry_demo().strips if strip.files]
    conform_all(dry_demo().files, RATE)
    bare = [tracks[number % len(tracks)].with_(id=f"track-{number}", out=MASTER, sends=()) for number in range(24)]
    full = [strip.with_(chain=(new_stage("tape"), new_stage("drive"))) for strip in bare]
    plain, coloured = (Session(rate=RATE, strips=(*some, master_strip())) for some in (bare, full))
    taken = {frames: seconds_of_graph(plain, frames) for frames in (16, 256)}
    fixed = (taken[16] - 16.0 * (taken[256] - taken[16]) / 240.0) / 25.0
    row("what a strip costs a block beside its samples, us", f"{1e6 * fixed:.1f}", "< 5", fixed < 5e-6)
    with Crew(2) as crew:
        for frames in (64, 256):
            one, two = seconds_of_graph(coloured, frames), seconds_of_graph(coloured, frames, crew)
            row(f"24 strips of tape and drive at 4x, {frames}-frame blocks, one thread: share of real time",
                f"{100 * one * RATE / frames:.0f} %", "< 50 %", one * RATE / frames < 0.5)
            row("the same: times as fast with two threads", f"{one / two:.2f}", ">= 1.75", one / two >= 1.75)


def lanes() -> None:
    """Fifty lanes that move all the time, on twenty-five drives."""
    conform_all(dry_demo().files, RATE)
    track, shares = dry_demo().strips[0], []
    for drawn in (False, True):
        strips = []
        for number in range(25):
            stage = replace(new_stage("drive"), id=f"drive-{number}")
            numbers = [stage.declaration.number(name) for name in ("drive_db", "out_db")]
            moved = tuple(Lane(parameter=one.id, points=tuple(
                Point(0.05 * step, one.at(0.3 + 0.3 * ((step + number) % 2))) for step in range(800)))
                for one in numbers) if drawn else ()
            strips.append(track.with_(id=f"track-{number}", out=MASTER, chain=(replace(stage, lanes=moved),)))
        shares.append(seconds_of_graph(Session(rate=RATE, strips=(*strips, master_strip())), 256) * RATE / 256)
    cost = shares[1] - shares[0]
    row("50 lanes that move: share of a core", f"{100 * cost:.1f} %", "< 3 %", cost < 0.03)


def adding() -> None:
    """How long after it was asked for a stage is heard that was added while playing."""
    session, record = taped_demo(), _HOME / "card"
    later = add_stage(session, session.strips[0].id, new_stage("drive"))
    client = EngineClient(DeviceSettings(SILENT_CARD, 256, record, 2))
    client.set_session(session)
    while client.poll().latency == 0:
        time.sleep(0.02)
    client.play(0)
    waits = []
    for asked in (later, session) * 5:
        time.sleep(1.0)
        at = client.poll().blocks * 256
        client.set_session(asked)
        time.sleep(0.5)
        # The sound fades out, is silent for a moment, and comes back with the stage.
        silent = np.abs(np.fromfile(record, np.float32).reshape(-1, 2)[at:at + 24000]).max(axis=1) == 0.0
        gap = np.flatnonzero(np.convolve(silent, np.ones(200), "valid") == 200)[0]
        waits.append(float(gap + np.flatnonzero(~silent[gap:])[0]) / RATE)
    client.close()
    middle = sorted(waits)[len(waits) // 2]
    row("a stage added while playing is heard after, ms, median of 10", f"{1e3 * middle:.0f}", "<= 60", middle <= 0.06)


def batches() -> None:
    """A thousand one-second files through a saturation, on one core and on two."""
    shots = _HOME / "shots"
    shots.mkdir()
    rng = np.random.default_rng(4)
    for number in range(1000):
        soundfile.write(shots / f"{number}.wav", 0.1 * rng.standard_normal(48000), 48000, subtype="PCM_16")
    taken = []
    for jobs in (1, 2):
        order = BatchOrder(_HOME / f"batch-{jobs}", find_preset("Keel weight").stages, jobs=jobs)
        started = time.perf_counter()
        done = sum(entry.state == DONE for entry in run_batch([shots], order))
        taken.append(time.perf_counter() - started)
        assert done == 1000
    row(f"batch of 1,000 files ({taken[0]:.0f} s on one core): times as fast on two", f"{taken[0] / taken[1]:.2f}",
        ">= 1.8", taken[0] / taken[1] >= 1.8)


def wait(application: QApplication, until: Callable[[], object], limit: float) -> bool:
    end = time.monotonic() + limit
    while not until():
        if time.monotonic() > end:
            return False
        application.processEvents()
        time.sleep(0.002)
    return True


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


def cpu_seconds(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def swept(session: Session, stage_id: str, share: float) -> Session:
    """Two controls of the tape on the rhythm, at a share of their ways."""
    for name, low, high in (("record_db", -12.0, 12.0), ("bias_db", -6.0, 6.0)):
        session = set_parameter(session, "rhythm", stage_id, name, low + (high - low) * share)
    return session


def live(application: QApplication, block: int) -> None:
    """Play the taped demo while the window is resized, repainted and its controls are swept."""
    path = _HOME / f"taped-{block}.ember"
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
    row("window playing undisturbed: share of one core", f"{100 * idle_share:.0f} %", "< 25 %", idle_share < 0.25)
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


def served(application: QApplication, period: int) -> None:
    """Play the demo with a live guitar through a JACK server, with the window dragged and controls swept."""
    if shutil.which("jackd") is None:
        print("  (no jackd: playing through a server is not measured)", flush=True)
        return
    seconds = 10.0 if QUICK else 60.0
    path = _HOME / f"served-{period}.ember"
    write_session(served_demo(), path)
    with jack_server(period):
        alone = subprocess.run([sys.executable, "-c", _EMPTY_CLIENT, str(seconds)], capture_output=True, text=True,
                               check=True)
        window = MainWindow(Workspace(Settings(device=JACK, match_lock=False)))
        workspace = window.workspace
        window.show()
        workspace.start()
        workspace.sessions.open_path(path)
        wait(application, lambda: workspace.playback.state.live_latency is not None, 60.0)
        workspace.selection.select("rhythm")
        workspace.playback.toggle_play()
        wait(application, lambda: workspace.playback.state.playing, 10.0)
        began = time.monotonic()
        wait(application, lambda: time.monotonic() > began + 3.0, 5.0)
        sweep, loads = workspace.sessions.document.trial("Sweep"), []
        missed, began = workspace.playback.state.missed, time.monotonic()
        while (now := time.monotonic() - began) < seconds:
            stage = workspace.selection.strip.chain[0]
            sweep.show(functools.partial(swept, stage_id=stage.id, share=abs((now * 0.7) % 2.0 - 1.0)))
            window.resize(1200 + int(80 * abs((now * 2.0) % 2.0 - 1.0)), 780 + int(20 * (now % 1.0)))
            application.processEvents()
            loads.append(workspace.playback.state.load)
        dropouts = workspace.playback.state.missed - missed
        row(f"live at 4x through a JACK server, periods of {period}, with a guitar: dropouts in {seconds:.0f} s",
            str(dropouts), f"<= {int(alone.stdout)} (an empty client's)", dropouts <= int(alone.stdout))
        row("engine's load meanwhile", f"{100 * float(np.mean(loads)):.0f} %", "< 100 %", float(np.mean(loads)) < 1.0)
        workspace.sessions.document.saved(path)
        window.close()


_START = """
import os, sys, time
began = float(sys.argv[1])
from PyQt6.QtCore import QTimer
from pathlib import Path
import yellow_ember.app.start as start
from yellow_ember.session.io.presets import DEMO
old = start.MainWindow.show
def show(window):
    old(window)
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
start.MainWindow.show = show
start.run([DEMO])
"""


def starting() -> None:
    times: dict[str, list[float]] = {"window": [], "sound": []}
    for _ in range(3):
        result = subprocess.run([sys.executable, "-c", _START, str(time.time())], capture_output=True, text=True,
                                check=True)
        for line in result.stdout.splitlines():
            name, value = line.split()
            times[name].append(float(value))
    for name, limit in (("window", 2.0), ("sound", 4.0)):
        row(f"first {name} of a warm start, median of 3, s", f"{sorted(times[name])[1]:.2f}", f"<= {limit:g}",
            sorted(times[name])[1] <= limit)


def compiling() -> None:
    # Compiled kernels are kept beside the sources: a copy without them has everything to compile.
    shutil.copytree(Path(yellow_ember.__file__).parent, _HOME / "cold" / "yellow_ember",
                    ignore=shutil.ignore_patterns("__pycache__"))
    environment = {**os.environ, "PYTHONPATH": str(_HOME / "cold")}
    taken = best(lambda: subprocess.run([sys.executable, "-m", "yellow_ember.engine.warm_up"], env=environment,
                                        capture_output=True, check=True), 1)
    row("all kernels compiled at set-up, s", f"{taken:.1f}", "<= 60", taken <= 60)


def memory_of(root: int) -> float:
    """MB of a process and all it started, shared pages counted once."""
    children: dict[int, list[int]] = {}
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            children.setdefault(int(stat.read_text().rpartition(")")[2].split()[1]), []).append(int(stat.parent.name))
        except OSError:
            continue
    result, waiting = 0.0, [root]
    while waiting:
        pid = waiting.pop()
        waiting += children.get(pid, [])
        try:
            for line in Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines():
                if line.startswith("Pss:"):
                    result += int(line.split()[1]) / 1024
        except OSError:
            continue
    return result


def long_files(count: int) -> list[Path]:
    """Stereo files of ten minutes."""
    block = np.random.default_rng(1).standard_normal((60 * RATE, 2)).astype(np.float32) * 0.1
    files = []
    for number in range(count):
        path = _HOME / f"long {number}.wav"
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
    workspace.sessions.document.saved(_HOME / "none.ember")
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
    workspace.sessions.document.saved(_HOME / "none.ember")
    window.close()
    for path in files:
        path.unlink()


def sixty_tracks() -> None:
    """Sixty stereo tracks with a tape machine each, at 16x, all of them printed: what playing costs."""
    files = []
    for number in range(60):
        path = _HOME / f"track {number}.wav"
        soundfile.write(path, 0.05 * np.random.default_rng(number).standard_normal((10 * RATE, 2)), RATE)
        conform(path, RATE)
        files.append(path)
    session = session_from_audio(files, RATE).with_(quality=Quality(live=16, printing=16), loop=Loop(0, 10 * RATE))
    for strip in session.strips[:-1]:
        session = add_stage(session, strip.id, new_stage("tape"))
    prints = []
    for strip in session.strips[:-1]:
        # What is on the prints does not change what playing them costs: a copy of the track stands for it.
        data = print_file(session, strip.id, 10 * RATE)
        shutil.copy(conform(strip.files[0], RATE).data, data)
        prints.append(StripPrint(strip.id, session.strip(strip.id).chain, data, 2, 10 * RATE))
    for block in (256, 512):
        client = EngineClient(DeviceSettings(SILENT_CARD, block))
        client.set_session(session)
        client.use_prints(tuple(prints))
        while client.poll().latency == 0:
            time.sleep(0.02)
        client.play(0)
        time.sleep(2.0)
        began, missed, started = cpu_seconds(client.pid), client.poll().missed, time.monotonic()
        while time.monotonic() < started + 5.0:
            client.poll()
            time.sleep(0.03)
        share = (cpu_seconds(client.pid) - began) / (time.monotonic() - started)
        row(f"60 stereo tracks, each a tape at 16x, from prints, {block}-frame blocks: share of one core",
            f"{100 * share:.0f} %", "< 30 %", share < 0.3)
        row(f"the same: blocks missed in 5 s, {block} frames", str(client.poll().missed - missed), "0",
            client.poll().missed == missed)
        client.close()


def variations() -> None:
    """Two dozen tapes on a stereo bus over eight seconds, and the first map of a drive's field."""
    session = dry_demo()
    conform_all(session.files, session.rate)
    session = session.with_(loop=Loop(10 * RATE, 18 * RATE))
    tape, drive = new_stage("tape"), new_stage("drive")
    session = add_stage(add_stage(session, "rhythm", tape), "upright-bass", drive)

    def seconds(order: VariationOrder, asked: list[Values]) -> float:
        started = time.perf_counter()
        jobs = [Job(render_variations, session, order, share) for share in dealt(asked)]
        while not all(job.done for job in jobs):
            wait_any(jobs, 1.0)
            for job in jobs:
                job.poll()
        for job in jobs:
            job.result()
        return time.perf_counter() - started

    kind = stage_kind("tape")
    plan = along(kind, tape.params, first_choice(kind))
    taken = seconds(VariationOrder("rhythm", tape.id), list(plan.values))
    row("24 variations of an 8 s stereo loop at 4x, two cores, s", f"{taken:.1f}", "< 10", taken < 10.0)
    grid = [{**drive.params, "drive_db": 12.0 * x, "bright_db": 6.0 * y - 9.0} for x in range(5) for y in range(4)]
    taken = seconds(VariationOrder("upright-bass", drive.id, 1.0, 2), list(grid))
    row("first map of the balance field, s", f"{taken:.2f}", "< 1.5", taken < 1.5)


def main() -> int:
    start_server()
    print("Measuring; this takes some minutes.", flush=True)
    compiling()
    tape()
    stages()
    blocks()
    new_values()
    cabinet()
    oversampling()
    printing()
    strips()
    lanes()
    adding()
    batches()
    sixty_tracks()
    variations()
    starting()
    application = QApplication(sys.argv[:1])
    theme.apply(application)
    live(application, 256)
    live(application, 128)
    served(application, 128)
    served(application, 64)
    long_session(application, 10, 700.0)
    long_session(application, 24, 900.0)
    shutil.rmtree(_HOME, ignore_errors=True)
    width = max(len(what) for what, *_ in ROWS)
    print(f"\n{'what':{width}}  {'result':>8}  {'requested':>8}  met")
    for what, result, requested, good in ROWS:
        print(f"{what:{width}}  {result:>8}  {requested:>8}  {good}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
