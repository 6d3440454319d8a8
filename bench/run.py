"""How fast Yellow Ember is here: ratios taken in one run, as a table."""

from __future__ import annotations

import argparse
import ctypes
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

# First of all: it decides where everything is kept, before anything looks.
from measuring import HOME, ROWS, best, cpu_seconds, dry_demo, row, taped_demo  # isort: skip
from comparing import KERNELS, compare, show  # isort: skip
from likeness import likeness  # isort: skip
from windows import large_session, live, long_session, served, starting  # isort: skip

import numpy as np
import soundfile
from PyQt6.QtWidgets import QApplication
from scipy.signal import oaconvolve, resample_poly

import yellow_ember
from yellow_ember.app.widgets import theme
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
from yellow_ember.engine.jobs.batch import run_batch
from yellow_ember.engine.jobs.batch_order import DONE, BatchOrder
from yellow_ember.engine.jobs.job import Job, wait_any
from yellow_ember.engine.jobs.printing import PrintOrder, print_session
from yellow_ember.engine.jobs.speed import RATE, seconds_taken, test_signal
from yellow_ember.engine.jobs.strip_prints import print_file
from yellow_ember.engine.jobs.variations import VariationOrder, dealt, render_variations
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.engine.plan import Crew
from yellow_ember.engine.print_player import StripPrint
from yellow_ember.files.conformed import conform, conform_all
from yellow_ember.session.edits.edits import add_stage
from yellow_ember.session.edits.variation_plan import along, first_choice
from yellow_ember.session.io.presets import find_preset
from yellow_ember.session.values.model import (
    MASTER,
    Loop,
    Quality,
    Session,
    master_strip,
    new_stage,
    session_from_audio,
)

# -- kernels --------------------------------------------------------------------------------


def yardstick(signal: Samples) -> Callable[[], None] | None:
    """Runs the plain C loop over the signal at eight times its rate; None without gcc."""
    if shutil.which("gcc") is None:
        return None
    library = HOME / "hysteresis.so"
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
    row("tape, 8x, stereo, all on: times real time on one core", f"{faster:.1f}", ">= 60", faster >= 60)
    if plain is not None:
        ratio = machine / loop
        row("tape against a plain C hysteresis over the same audio", f"{ratio:.3f}", "<= 0.085", ratio <= 0.085)


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
            ("tape", "everything on", MACHINE, 25.0), ("motion", "everything on", MOTION, 80.0),
            ("wear", "everything on", WEAR, 80.0), ("drive", "soft clip", {}, 120.0),
            ("bands", "five bands side by side", FIVE_BANDS, 30.0), ("bands", "five bands in series", IN_SERIES, 30.0),
            ("vinyl", "with dust and noise", VINYL, 40.0), ("bits", "everything on", BITS, 100.0),
            ("amp", "lead, sagging", AMP, 20.0), ("echo", "one head, wow and flutter", {}, 120.0),
            ("room", "room", {}, 60.0), ("texture", "texture", {}, 30.0)):
        values = stage_kind(kind).complete(settings)
        faster = seconds / min(seconds_taken(kind, values, signal) for _ in range(4))
        row(f"{kind}, 8x, stereo, {what}: times real time on one core", f"{faster:.1f}", f">= {requested:g}",
            faster >= requested)


def blocks() -> None:
    """What a stage costs a block beside its samples, and what short blocks cost a frame."""
    fixed = {}
    for kind in STAGES:
        taken = {frames: block_seconds(kind.kind, frames) for frames in (16, 256)}
        fixed[kind.kind] = taken[16] - 16.0 * (taken[256] - taken[16]) / 240.0
    slowest = max(fixed, key=lambda kind: fixed[kind])
    middle = float(np.median([*fixed.values()]))
    for what, seconds in ((f"the dearest ({slowest})", fixed[slowest]), ("the median", middle)):
        row(f"what a stage costs a block beside its samples, us, {what}", f"{1e6 * seconds:.1f}", "< 2", seconds < 2e-6)
    for frames, whole, most in ((64, 4096, 1.25), (32, 2048, 2.5)):
        ratio = block_seconds("tape", frames) * whole / (block_seconds("tape", whole) * frames)
        row(f"tape at 4x: a frame in {frames}-frame blocks against {whole}", f"{ratio:.2f}", f"<= {most:g}",
            ratio <= most)


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
        f"{seconds / ours:.1f}", ">= 120", seconds / ours >= 120)
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


def printing() -> None:
    session, folder = taped_demo(), HOME / "prints"
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
    session, record = taped_demo(), HOME / "card"
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
    shots = HOME / "shots"
    shots.mkdir()
    rng = np.random.default_rng(4)
    for number in range(1000):
        soundfile.write(shots / f"{number}.wav", 0.1 * rng.standard_normal(48000), 48000, subtype="PCM_16")
    taken = []
    for jobs in (1, 2):
        order = BatchOrder(HOME / f"batch-{jobs}", find_preset("Keel weight").stages, jobs=jobs)
        started = time.perf_counter()
        done = sum(entry.state == DONE for entry in run_batch([shots], order))
        taken.append(time.perf_counter() - started)
        assert done == 1000
    row(f"batch of 1,000 files ({taken[0]:.0f} s on one core): times as fast on two", f"{taken[0] / taken[1]:.2f}",
        ">= 1.9", taken[0] / taken[1] >= 1.9)
    try:
        import distributed
    except ImportError:
        print("  (no Dask: a cluster is not measured)", flush=True)
        return
    with distributed.LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster:
        order = BatchOrder(HOME / "batch-away", find_preset("Keel weight").stages, cluster=cluster.scheduler_address)
        # Its workers load the kernels with their first file, ours have them from the start.
        list(run_batch([shots / "0.wav"], replace(order, out=HOME / "batch-first")))
        started = time.perf_counter()
        assert sum(entry.state == DONE for entry in run_batch([shots], order)) == 1000
        away = time.perf_counter() - started
    row("the same by a Dask cluster of two workers: times as fast as our own two", f"{taken[1] / away:.2f}", ">= 1",
        away <= taken[1])


def compiling() -> None:
    # Compiled kernels are kept beside the sources: a copy without them has everything to compile.
    shutil.copytree(Path(yellow_ember.__file__).parent, HOME / "cold" / "yellow_ember",
                    ignore=shutil.ignore_patterns("__pycache__"))
    environment = {**os.environ, "PYTHONPATH": str(HOME / "cold")}
    taken = best(lambda: subprocess.run([sys.executable, "-m", "yellow_ember.engine.warm_up"], env=environment,
                                        capture_output=True, check=True), 1)
    row("all kernels compiled at set-up, s", f"{taken:.1f}", "<= 35", taken <= 35)


def commands() -> None:
    """Commands against importing NumPy and Numba alone, which nearly all of them need."""
    source, target = HOME / "second.wav", HOME / "second out.wav"
    soundfile.write(source, 0.1 * np.random.default_rng(1).standard_normal(RATE), RATE)

    def seconds(*words: str | Path) -> float:
        def run() -> None:
            target.unlink(missing_ok=True)
            subprocess.run([sys.executable, *words], check=True, capture_output=True)
        return best(run)

    imports = seconds("-c", "import numpy, numba")
    for what, words, most in (
            ("a one-second file processed", ("process", source, target, "--preset", "Keel weight"), 1.5),
            ("--help", ("--help",), 0.35)):
        ratio = seconds("-m", "yellow_ember", *words) / imports
        row(f"{what}: times what importing NumPy and Numba takes", f"{ratio:.2f}", f"<= {most:g}", ratio <= most)


def sixty_tracks() -> None:
    """Sixty stereo tracks with a tape machine each, at 16x, all of them printed: what playing costs."""
    files = []
    for number in range(60):
        path = HOME / f"track {number}.wav"
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
            f"{100 * share:.0f} %", "< 20 %", share < 0.2)
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
    row("24 variations of an 8 s stereo loop at 4x, two cores, s", f"{taken:.1f}", "< 4", taken < 4.0)
    grid = [{**drive.params, "drive_db": 12.0 * x, "bright_db": 6.0 * y - 9.0} for x in range(5) for y in range(4)]
    taken = seconds(VariationOrder("upright-bass", drive.id, 1.0, 2), list(grid))
    row("first map of the balance field, s", f"{taken:.2f}", "< 0.8", taken < 0.8)


PARTS: dict[str, Callable[[], None]] = {part.__name__: part for part in (
    compiling, tape, stages, blocks, new_values, cabinet, oversampling, printing, strips, lanes, adding, batches,
    commands, sixty_tracks, variations, starting)}
IN_WINDOW: dict[str, Callable[[QApplication], None]] = {
    "live": lambda application: [live(application, block) for block in (256, 128)],
    "served": lambda application: [served(application, period) for period in (128, 64)],
    "large": large_session,
    "long": lambda application: [long_session(application, *case) for case in ((10, 450.0), (24, 900.0))],
}
HIDDEN = "likeness"


def main() -> int:
    choice = argparse.ArgumentParser(description="Measure how fast it is here.")
    choice.add_argument("--quick", action="store_true",
                        help="play live for 10 s instead of 60, and hide 10 chains, not 40")
    choice.add_argument("--only", nargs="+", choices=[*PARTS, *IN_WINDOW, HIDDEN],
                        help=f"these parts alone; {HIDDEN}, which takes an hour, is measured only where it is named")
    other = choice.add_mutually_exclusive_group()
    other.add_argument("--compare", metavar="REV", help="measure another revision in turn with this tree, and compare")
    other.add_argument("--check", nargs="?", const="HEAD~1", metavar="REV",
                       help="fail where a kernel is over 10 %% slower than at a revision, by default the last but one")
    choice.add_argument("--times", type=int, default=3, metavar="N", help="how often each is measured to compare")
    choice.add_argument("--cluster", metavar="ADDRESS", default="",
                        help=f"{HIDDEN} on the workers of a Dask cluster, by its scheduler's address")
    arguments = choice.parse_args()
    only = arguments.only or [*PARTS, *IN_WINDOW]
    if arguments.compare or arguments.check:
        compared = compare(arguments.compare or arguments.check, only if arguments.compare else KERNELS,
                           arguments.times)
        show(compared)
        return int(bool(arguments.check) and any(line.slower for line in compared))
    start_server()
    # What any worker does is enough: from then on all of them come at once.
    ready = Job(callable)
    while not ready.wait(1.0):
        pass
    print("Measuring; this takes some minutes.", flush=True)
    for name in [name for name in PARTS if name in only]:
        PARTS[name]()
    if HIDDEN in only:
        likeness(10 if arguments.quick else 40, arguments.cluster)
    application = QApplication(sys.argv[:1])
    theme.apply(application)
    for name in [name for name in IN_WINDOW if name in only]:
        IN_WINDOW[name](application)
    shutil.rmtree(HOME, ignore_errors=True)
    width = max(len(what) for what, *_ in ROWS)
    print(f"\n{'what':{width}}  {'result':>8}  {'requested':>8}  met")
    for what, result, requested, good in ROWS:
        print(f"{what:{width}}  {result:>8}  {requested:>8}  {good}")
    return 0
