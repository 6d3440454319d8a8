"""Programs that tests start: the window, asked and driven from outside, and displays for it."""

from __future__ import annotations

import json
import os
import select
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

_DRIVEN = Path(__file__).with_name("driven.py")
HAVE_DISPLAY = all(shutil.which(name) for name in ("Xvfb", "openbox", "xdotool"))


def own_folders(home: Path) -> dict[str, str]:
    """An environment whose folders all lie below `home`; the kernels stay where they are compiled."""
    home.mkdir(parents=True, exist_ok=True)
    environment = {name: value for name, value in os.environ.items()
                   if not name.startswith(("XDG_", "YELLOW_EMBER")) and name not in ("DISPLAY", "WAYLAND_DISPLAY")}
    runtime = home / "runtime"
    runtime.mkdir(mode=0o700, exist_ok=True)
    (home / "tmp").mkdir(exist_ok=True)
    return environment | {"HOME": str(home), "XDG_RUNTIME_DIR": str(runtime), "TMPDIR": str(home / "tmp"),
                          "QT_QPA_PLATFORM": "offscreen"}


class Program:
    """The window in a process of its own."""

    def __init__(self, environment: Mapping[str, str], words: Sequence[object] = ("demo",), *,
                 preexec: Any = None, user: int | None = None) -> None:
        self.process = subprocess.Popen(
            [sys.executable, str(_DRIVEN), *map(str, words)], env=dict(environment), stdin=subprocess.PIPE,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, errors="replace", preexec_fn=preexec, user=user)
        self.started = time.monotonic()

    @property
    def pid(self) -> int:
        return self.process.pid

    def ask(self, question: str, seconds: float = 20.0) -> Any:
        """What a line of Python about `window` and `workspace` comes to."""
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.write(question + "\n")
        self.process.stdin.flush()
        ready, _, _ = select.select([self.process.stdout], [], [], seconds)
        assert ready, f"no answer to {question}"
        line = self.process.stdout.readline()
        assert line, f"the program has ended: {self.process.stderr.read() if self.process.stderr else ''}"
        answer = json.loads(line)
        assert not isinstance(answer, dict) or "trouble" not in answer, answer["trouble"]
        return answer

    def wait_for(self, question: str, seconds: float = 30.0) -> Any:
        """Wait until the answer is true."""
        end = time.monotonic() + seconds
        while not (answer := self.ask(question, seconds)):
            assert time.monotonic() < end, f"waited too long for {question}"
            time.sleep(0.03)
        return answer

    def ready(self) -> Program:
        """Wait until it plays."""
        self.wait_for("workspace.playback.engine is not None and not workspace.imports.busy")
        return self

    def end(self, number: signal.Signals = signal.SIGTERM, seconds: float = 10.0) -> tuple[int, float, str]:
        """Send a signal; the exit status, how long it took, and what was written to standard error."""
        begun = time.monotonic()
        self.process.send_signal(number)
        status = self.process.wait(seconds)
        took = time.monotonic() - begun
        return status, took, self.errors()

    def errors(self) -> str:
        assert self.process.stderr is not None
        # Whoever holds the other end may still be ending.
        return self.process.stderr.read()

    def family(self) -> list[int]:
        """Numbers of all processes that it has started, and those have."""
        return descendants(self.pid)


def descendants(pid: int) -> list[int]:
    """Numbers of all processes below one."""
    parents = {int(path.name): parent for path in Path("/proc").iterdir()
               if path.name.isdigit() and (parent := _parent_of(int(path.name))) is not None}
    below, waiting = [], [pid]
    while waiting:
        parent = waiting.pop()
        children = [child for child, its_parent in parents.items() if its_parent == parent]
        below += children
        waiting += children
    return below


def _parent_of(pid: int) -> int | None:
    try:
        return int(Path(f"/proc/{pid}/stat").read_text(errors="replace").rpartition(")")[2].split()[1])
    except OSError:
        return None


def are_gone(pids: Sequence[int], seconds: float) -> bool:
    """True where none of these processes runs after so long at most."""
    end = time.monotonic() + seconds
    while True:
        left = [pid for pid in pids if _runs(pid)]
        if not left or time.monotonic() > end:
            return not left
        time.sleep(0.02)


def _runs(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


@contextmanager
def running(environment: Mapping[str, str], words: Sequence[object] = ("demo",), **more: Any) -> Iterator[Program]:
    """A program that is ended at the latest when the block is."""
    program = Program(environment, words, **more)
    try:
        yield program
    finally:
        family = program.family()
        if program.process.poll() is None:
            program.process.kill()
            program.process.wait()
        assert are_gone(family, 5.0)
        for stream in (program.process.stdin, program.process.stdout, program.process.stderr):
            if stream is not None:
                stream.close()


class Display:
    """An X server with a window manager, and a hand on its mouse and keys."""

    def __init__(self, size: str = "1280x800") -> None:
        reads, writes = os.pipe()
        self.server = subprocess.Popen(
            ["Xvfb", "-displayfd", str(writes), "-screen", "0", f"{size}x24", "-nolisten", "tcp"],
            pass_fds=(writes,), stderr=subprocess.DEVNULL)
        os.close(writes)
        with os.fdopen(reads) as told:
            self.name = f":{told.readline().strip()}"
        self.manager = subprocess.Popen(["openbox"], env={**os.environ, "DISPLAY": self.name},
                                        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def environment(self, home: Path) -> dict[str, str]:
        """As `own_folders`, with a window on this display."""
        result = own_folders(home)
        del result["QT_QPA_PLATFORM"]
        return result | {"DISPLAY": self.name}

    def hand(self, *words: object) -> str:
        """What xdotool does and says."""
        return subprocess.run(["xdotool", *map(str, words)], env={**os.environ, "DISPLAY": self.name},
                              capture_output=True, text=True, check=True, timeout=20).stdout.strip()

    def close(self) -> None:
        for process in (self.manager, self.server):
            process.kill()
            process.wait()
