"""Every kind's picture computed once before it is asked for: the first of a kind loads kernels and works out tables."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterable

from yellow_ember.dsp.stage import StageKind
from yellow_ember.dsp.stages import STAGES

_RATE, _REFERENCE_DBFS = 48000.0, -18.0
_NICENESS = 10


class PicturesAhead:
    """Computes the pictures in a thread of its own, as slowly as the rest of the program wants.

    kinds : which, in their order; all where nothing is said
    """

    def __init__(self, kinds: Iterable[StageKind] = STAGES) -> None:
        self._kinds = tuple(kinds)
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def _work(self) -> None:
        # On Linux a thread has a niceness of its own.
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _NICENESS)
        for kind in self._kinds:
            if self._stopping.is_set():
                return
            kind.picture(kind.defaults(), _RATE, _REFERENCE_DBFS)

    def wait(self) -> None:
        """Return when all are computed."""
        self._thread.join()

    def close(self) -> None:
        """Leave the rest, and wait for the one that is being computed."""
        self._stopping.set()
        self._thread.join()
