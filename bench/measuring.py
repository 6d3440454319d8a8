"""What all rows of the measurements share: where they are written, and how time, load and memory are taken."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["JACK_DEFAULT_SERVER"] = "yellow-ember-bench"
HOME = Path(tempfile.mkdtemp(prefix="yellow-ember-bench-"))
for variable in ("XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"):
    os.environ[variable] = str(HOME / variable.lower())

from PyQt6.QtWidgets import QApplication

from yellow_ember.files.conformed import conform_all
from yellow_ember.session.edits.edits import add_stage, use_chain
from yellow_ember.session.io.session_file import read_session
from yellow_ember.session.values.model import Session, new_stage
from yellow_ember.shipped import DEMO

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


def wait(application: QApplication, until: Callable[[], object], limit: float) -> bool:
    end = time.monotonic() + limit
    while not until():
        if time.monotonic() > end:
            return False
        application.processEvents()
        time.sleep(0.002)
    return True


def cpu_seconds(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def processes_of(root: int) -> list[int]:
    """A process and all that it started, directly or not."""
    children: dict[int, list[int]] = {}
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            children.setdefault(int(stat.read_text().rpartition(")")[2].split()[1]), []).append(int(stat.parent.name))
        except OSError:
            continue
    result = [root]
    for pid in result:
        result += children.get(pid, [])
    return result


def wake_ups(pid: int) -> int:
    """How often the threads of a process have gone to sleep and come back."""
    result = 0
    for status in Path(f"/proc/{pid}/task").glob("*/status"):
        result += int(status.read_text().partition("\nvoluntary_ctxt_switches:")[2].split()[0])
    return result


def memory_of(root: int) -> float:
    """MB of a process and all it started, shared pages counted once."""
    result = 0.0
    for pid in processes_of(root):
        try:
            for line in Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines():
                if line.startswith("Pss:"):
                    result += int(line.split()[1]) / 1024
        except OSError:
            continue
    return result


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
