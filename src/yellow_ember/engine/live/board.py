"""What the engine publishes in shared memory: position, meters, scope.

The memory has no name in the file system, so that nothing of it is left however its processes end.
"""

from __future__ import annotations

import mmap
import os
from dataclasses import dataclass
from multiprocessing import reduction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.session.values.limits import MAXIMUM_STAGES, MAXIMUM_STRIPS

MAXIMUM_POINTS = MAXIMUM_STAGES + 1
SCOPE_FRAMES = 2048

HEAD = np.dtype([
    ("beat", "i8"), ("position", "i8"), ("playing", "i8"), ("load", "f8"), ("missed", "i8"),
    ("blocks", "i8"), ("ceiling_gain", "f8"), ("latency", "i8"), ("delay", "i8"), ("live_latency", "i8")])
"""`delay` : frames from the engine to the ear; `live_latency` : -1 where nothing comes in live."""
STRIP = np.dtype([
    ("vu", "f8", 2), ("peak", "f8", 2), ("true_peak", "f8", 2), ("programme", "f8", 2),
    ("momentary", "f8"), ("short_term", "f8"), ("integrated", "f8"),
    ("input_peak", "f8"), ("clipped", "i8"), ("live_latency", "i8"),
    ("point_vu", "f8", MAXIMUM_POINTS), ("point_peak", "f8", MAXIMUM_POINTS)])
SCOPE = np.dtype([("before", "f8", (2, SCOPE_FRAMES)), ("after", "f8", (2, SCOPE_FRAMES))])
_SIZE = HEAD.itemsize + MAXIMUM_STRIPS * STRIP.itemsize + SCOPE.itemsize


@dataclass(frozen=True, slots=True)
class StripReading:
    """Levels of one strip: amplitudes of left and right; loudness in LUFS; level at each point of its path.

    Attributes
    ----------
    true_peak : Samples
        The highest since playing began.
    programme : Samples
        Quasi-peak.
    input_peak, clipped : float, bool
        Of its live input: the highest lately, and whether it clipped since that was forgotten.
    live_latency : int
        Frames from the live input that reaches it last to the card, -1 where none does.
    """

    vu: Samples
    peak: Samples
    true_peak: Samples
    programme: Samples
    momentary: float
    short_term: float
    integrated: float
    input_peak: float
    clipped: bool
    live_latency: int
    point_vu: Samples
    point_peak: Samples


class Board:
    """One writer (the engine), one reader (the interface); values are small and read as they are.

    Can be handed to a process that is being started, which then sees the same memory.
    """

    def __init__(self, handle: int | None = None) -> None:
        owner = handle is None
        if handle is None:
            handle = os.memfd_create("yellow-ember-board")
            os.ftruncate(handle, _SIZE)
        self._handle = handle
        self._memory = buffer = mmap.mmap(handle, _SIZE)
        self.head: NDArray[np.void] = np.ndarray((1,), HEAD, buffer)
        self.strips: NDArray[np.void] = np.ndarray((MAXIMUM_STRIPS,), STRIP, buffer, HEAD.itemsize)
        self.scope: NDArray[np.void] = np.ndarray(
            (1,), SCOPE, buffer, HEAD.itemsize + MAXIMUM_STRIPS * STRIP.itemsize)

        if owner:
            # The engine is seen alive before its first block.
            self.head["ceiling_gain"], self.head["live_latency"] = 1.0, -1
            self.strips["live_latency"] = -1
            for name in ("momentary", "short_term", "integrated"):
                self.strips[name] = -np.inf

    def reading(self, row: int) -> StripReading:
        """A copy of one strip's levels."""
        entry = self.strips[row].copy()
        return StripReading(entry["vu"], entry["peak"], entry["true_peak"], entry["programme"],
                            float(entry["momentary"]), float(entry["short_term"]), float(entry["integrated"]),
                            float(entry["input_peak"]), bool(entry["clipped"]), int(entry["live_latency"]),
                            entry["point_vu"], entry["point_peak"])

    def scope_copy(self) -> tuple[Samples, Samples]:
        """The watched stage's last input and output, (2, SCOPE_FRAMES) each."""
        return self.scope[0]["before"].copy(), self.scope[0]["after"].copy()

    def close(self) -> None:
        """Let go of the memory."""
        del self.head, self.strips, self.scope
        self._memory.close()
        os.close(self._handle)

    def __reduce__(self) -> tuple[Any, ...]:
        return _received, (reduction.DupFd(self._handle),)


def _received(handle: Any) -> Board:
    return Board(handle.detach())
