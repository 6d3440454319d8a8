"""How cost grows with strips, blocks, oversampling and length: docs/performance.md and its picture.

`script/growth` makes them again.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path

# First of all: it decides where everything is kept, before anything looks.
from measuring import HOME, best, dry_demo  # isort: skip
from charts import Chart, picture, tables  # isort: skip

import numpy as np
import soundfile

from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.speed import RATE
from yellow_ember.engine.plan import Crew
from yellow_ember.files.conformed import conform_all
from yellow_ember.session.values.model import MASTER, Session, master_strip, new_stage

_DOCS = Path(__file__).parents[1] / "docs"
_THREADS = (1, 2)
_STRIPS = (1, 2, 5, 10, 20, 50, 100, 200)
_BLOCKS = (32, 64, 128, 256, 512, 1024, 2048)
_FACTORS = (1, 2, 4, 8, 16)
_SECONDS = (10, 60, 600, 3600, 7200)


def session_of(strips: int) -> Session:
    """Tracks with a tape and a drive each."""
    tracks = [strip for strip in dry_demo().strips if strip.files]
    return Session(rate=RATE, strips=(*(tracks[number % len(tracks)].with_(
        id=f"track-{number}", out=MASTER, sends=(), chain=(new_stage("tape"), new_stage("drive")))
        for number in range(strips)), master_strip()))


def load_of(session: Session, factor: int, frames: int, threads: int) -> float:
    """Share of real time that a block takes."""
    graph, count = Graph(session, GraphSettings(factor, frames)), max(4, 4096 // frames)
    with Crew(threads) as crew:

        def run() -> None:
            for number in range(count):
                graph.process([(number * frames, frames)], frames, crew if threads > 1 else None)

        return best(run, 4) / count * RATE / frames


def by_threads(places: Sequence[int], load: Callable[[int, int], float]) -> dict[str, list[float]]:
    return {f"{threads} thread{'s' * (threads > 1)}": [load(place, threads) for place in places]
            for threads in _THREADS}


def printed(seconds: int) -> tuple[float, float]:
    """Seconds and MB at most that `yellow-ember process` takes for a file of that length."""
    source, target = HOME / "long.wav", HOME / "printed.wav"
    noise = (0.1 * np.random.default_rng(1).standard_normal(10 * RATE)).astype(np.float32)
    with soundfile.SoundFile(source, "w", RATE, 1, "PCM_16") as file:
        for _ in range(seconds // 10):
            file.write(noise)
    # The usage of resources would count what this process held before it became that one.
    program = ("import sys; from yellow_ember.cli import main; status = main(sys.argv[1:]); "
               "print(next(line.split()[1] for line in open('/proc/self/status') if 'VmHWM' in line)); "
               "sys.exit(status)")
    began = time.perf_counter()
    result = subprocess.run([sys.executable, "-c", program, "process", source, target, "--preset", "Keel weight",
                             "--oversample", "2", "--dtype", "pcm16"], check=True, capture_output=True, text=True)
    taken = time.perf_counter() - began
    source.unlink()
    target.unlink()
    return taken, float(result.stdout.split()[-1]) / 1024.0


def charts() -> list[Chart]:
    conform_all(dry_demo().files, RATE)
    two_dozen = session_of(24)
    made = [
        Chart("Strips of a tape and a drive, 4x, 256 frames", "strips", "share of real time", _STRIPS,
              by_threads(_STRIPS, lambda strips, threads: load_of(session_of(strips), 4, 256, threads))),
        Chart("24 such strips, 4x, by block", "frames in a block", "share of real time", _BLOCKS,
              by_threads(_BLOCKS, lambda frames, threads: load_of(two_dozen, 4, frames, threads))),
        Chart("24 such strips, 256 frames, by oversampling", "times the rate", "share of real time", _FACTORS,
              by_threads(_FACTORS, lambda factor, threads: load_of(two_dozen, factor, 256, threads)))]
    seconds, memory = zip(*(printed(length) for length in _SECONDS), strict=True)
    made.append(Chart("One file through the command line, 2x", "seconds of sound", "seconds, and MB of memory",
                      _SECONDS, {"time": seconds, "memory": memory}))
    return made


def main() -> None:
    page = _DOCS / "performance.md"
    made = charts()
    (_DOCS / "performance.svg").write_text(picture(made), encoding="utf-8")
    # What is said of them stands above the line, and is written by hand.
    head, line, _ = page.read_text(encoding="utf-8").partition("## Figures\n")
    machine = f"Measured on {len(os.sched_getaffinity(0))} cores by `script/growth`.\n\n"
    page.write_text(head + line + "\n" + machine + tables(made).rstrip() + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
