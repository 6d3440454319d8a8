"""Tags that say which process a file belongs to, and whether that process still runs."""

from __future__ import annotations

import os
from pathlib import Path


def own_tag() -> str:
    """This process: its number and when it started, so that a reused number is not taken for it."""
    return f"{os.getpid()}-{_start_of(os.getpid())}"


def is_running(tag: str) -> bool:
    """True while the process that gave the tag runs."""
    pid, _, start = tag.partition("-")
    return pid.isdigit() and bool(start) and _start_of(int(pid)) == start


def _start_of(pid: int) -> str:
    """When a process started, in the system's ticks; empty where it is gone."""
    try:
        status = Path(f"/proc/{pid}/stat").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return ""
    return status.rpartition(")")[2].split()[19]
