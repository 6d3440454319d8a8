"""How many threads and processes are worth running."""

from __future__ import annotations

import os


def cores() -> int:
    """How many cores this process may use."""
    return max(1, len(os.sched_getaffinity(0)))
