"""How soon a thread gets a core when it wants one."""

from __future__ import annotations

import contextlib
import os
import threading

_REAL_TIME_PRIORITY = 10
_NICENESS = -10


def be_on_time() -> None:
    """Ask for real-time scheduling of the calling thread, or at least a better priority; both may be refused.

    A thread that has it already, as from a sound server that runs in real time, keeps its place.
    """
    if os.sched_getscheduler(0) in (os.SCHED_FIFO, os.SCHED_RR):
        return
    try:
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(_REAL_TIME_PRIORITY))
    except OSError:
        with contextlib.suppress(OSError):
            os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _NICENESS)
