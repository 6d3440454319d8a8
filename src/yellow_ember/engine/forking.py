"""Where engines and workers come from.

A fork server is started once, loads the kernels, and forks each process ready to work: an
engine that died is replaced within a tenth of a second, where a fresh interpreter would
need more than one.  The server itself runs no threads and opens no devices.

Whatever ends the program, its processes end with it: the server by the pipe that it holds to the program,
the others by a signal that the system sends them when the server is gone.
"""

from __future__ import annotations

import contextlib
import ctypes
import functools
import multiprocessing
import os
import signal
import tempfile
from multiprocessing import forkserver, util
from multiprocessing.context import ForkServerContext
from pathlib import Path

from yellow_ember.files.process_tags import own_tag
from yellow_ember.folders import Base, folder

_PROGRESS_VARIABLE = "YELLOW_EMBER_PROGRESS"
_PR_SET_PDEATHSIG = 1
_SHORT_FOLDER, _LONGEST_FOLDER = "/tmp", 75
"""What is no longer leaves room for the names of sockets, whose paths hold 107 bytes (unix(7))."""


@functools.cache
def context() -> ForkServerContext:
    """The context that all processes of the program are started from."""
    _have_short_paths()
    result = multiprocessing.get_context("forkserver")
    result.set_forkserver_preload(["yellow_ember.engine.preload"])
    return result


def _have_short_paths() -> None:
    """Have the sockets between all processes where their paths are short enough, whatever TMPDIR is."""
    usual = tempfile.gettempdir()
    if len(os.fsencode(usual)) > _LONGEST_FOLDER:
        tempfile.tempdir = _SHORT_FOLDER
        with contextlib.suppress(OSError):
            # It is chosen when it is first asked for.
            util.get_temp_dir()
        tempfile.tempdir = usual


def start_server() -> None:
    """Start the fork server now, so that it loads while the window is being made."""
    context()
    with contextlib.suppress(OSError):
        os.environ[_PROGRESS_VARIABLE] = str(folder(Base.RUNTIME) / f"kernels-{own_tag()}")
    forkserver.ensure_running()


def end_server() -> None:
    """End the fork server at once, whatever it is doing, and with it all that it has started."""
    pid = forkserver._forkserver._forkserver_pid  # type: ignore[attr-defined]
    if pid is not None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
    forget_progress()


def end_with_parent(number: signal.Signals | None) -> None:
    """Have the system send this signal to the process when its parent ends; None for no signal."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, 0 if number is None else int(number), 0, 0, 0)
    if number is not None and os.getppid() == 1:
        os.kill(os.getpid(), number)


def be_a_child(number: signal.Signals) -> None:
    """Called first in every process that the server forks: end with the program, by this signal.

    A child is handed the pipe by which the server learns that the program is gone, to start others by itself;
    as none does, it lets go of it, or the server would wait for its children and they for the server.
    """
    alive = forkserver._forkserver._forkserver_alive_fd  # type: ignore[attr-defined]
    if alive is not None:
        forkserver._forkserver._forkserver_alive_fd = None  # type: ignore[attr-defined]
        os.close(alive)
    end_with_parent(number)


def write_progress(share: float) -> None:
    """Tell the program how far the loading of the kernels is; called in the server."""
    name = os.environ.get(_PROGRESS_VARIABLE)
    if name is not None:
        with contextlib.suppress(OSError):
            Path(name).write_text(f"{share:.3f}", encoding="ascii")


def read_progress() -> float | None:
    """How far the server is with the kernels, 0 to 1; None before it has begun and when it is done."""
    name = os.environ.get(_PROGRESS_VARIABLE)
    try:
        return None if name is None else float(Path(name).read_text(encoding="ascii"))
    except (OSError, ValueError):
        return None


def forget_progress() -> None:
    """The kernels are loaded, or never will be."""
    name = os.environ.get(_PROGRESS_VARIABLE)
    if name is not None:
        with contextlib.suppress(OSError):
            Path(name).unlink(missing_ok=True)
