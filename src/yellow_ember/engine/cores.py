"""How many threads and processes are worth running."""

from __future__ import annotations

import os


def cores() -> int:
    """How many cores this process may use."""
    return max(1, len(os.sched_getaffinity(0)))


def threads_to_play_with() -> int:
    """How many threads run strips while playing, where nothing else is asked for: one core is left to the window."""
    return max(min(2, cores()), cores() - 1)
