"""Where engines and workers come from.

A fork server is started once, loads the kernels, and forks each process ready to work: an
engine that died is replaced within a tenth of a second, where a fresh interpreter would
need more than one.  The server itself runs no threads and opens no devices.
"""

from __future__ import annotations

import functools
import multiprocessing
from multiprocessing.context import ForkServerContext


@functools.cache
def context() -> ForkServerContext:
    """The context that all processes of the program are started from."""
    found = multiprocessing.get_context("forkserver")
    found.set_forkserver_preload(["yellow_ember.engine.preload"])
    return found


def start_server() -> None:
    """Start the fork server now, so that it loads while the window is being made."""
    from multiprocessing import forkserver

    context()
    forkserver.ensure_running()
