"""What the engine publishes in shared memory: position, meters, scope."""

from __future__ import annotations

from dataclasses import dataclass
from multiprocessing.shared_memory import SharedMemory

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples

MOST_STRIPS = 128
MOST_STAGES = 16
"""In a strip's path."""
MOST_POINTS = MOST_STAGES + 1
SCOPE_FRAMES = 2048

HEAD = np.dtype([
    ("beat", "i8"), ("position", "i8"), ("playing", "i8"), ("load", "f8"), ("missed", "i8"),
    ("blocks", "i8"), ("ceiling_gain", "f8"), ("latency", "i8"), ("scope_writes", "i8")])
STRIP = np.dtype([
    ("vu", "f8", 2), ("peak", "f8", 2), ("true_peak", "f8", 2), ("programme", "f8", 2),
    ("momentary", "f8"), ("short_term", "f8"), ("integrated", "f8"),
    ("point_vu", "f8", MOST_POINTS), ("point_peak", "f8", MOST_POINTS)])
SCOPE = np.dtype([("before", "f8", (2, SCOPE_FRAMES)), ("after", "f8", (2, SCOPE_FRAMES))])
_SIZE = HEAD.itemsize + MOST_STRIPS * STRIP.itemsize + SCOPE.itemsize


@dataclass(frozen=True, slots=True)
class StripReading:
    """Levels of one strip: amplitudes of left and right; loudness in LUFS; level at each ladder point.

    true_peak : the highest since playing began; programme : quasi-peak
    """

    vu: Samples
    peak: Samples
    true_peak: Samples
    programme: Samples
    momentary: float
    short_term: float
    integrated: float
    point_vu: Samples
    point_peak: Samples


class Board:
    """One writer (the engine), one reader (the interface); values are small and read as they are."""

    def __init__(self, name: str | None = None) -> None:
        if name is None:
            self._memory = SharedMemory(create=True, size=_SIZE)
        else:
            self._memory = SharedMemory(name=name)
        self.name = self._memory.name
        self._owner = name is None
        buffer = self._memory.buf
        self.head: NDArray[np.void] = np.ndarray((1,), HEAD, buffer)
        self.strips: NDArray[np.void] = np.ndarray((MOST_STRIPS,), STRIP, buffer, HEAD.itemsize)
        self.scope: NDArray[np.void] = np.ndarray(
            (1,), SCOPE, buffer, HEAD.itemsize + MOST_STRIPS * STRIP.itemsize)

        if self._owner:
            for name in ("momentary", "short_term", "integrated"):
                self.strips[name] = -np.inf

    def reading(self, row: int) -> StripReading:
        """A copy of one strip's levels."""
        entry = self.strips[row].copy()
        return StripReading(entry["vu"], entry["peak"], entry["true_peak"], entry["programme"],
                            float(entry["momentary"]), float(entry["short_term"]), float(entry["integrated"]),
                            entry["point_vu"], entry["point_peak"])

    def scope_copy(self) -> tuple[Samples, Samples]:
        """The watched stage's last input and output, (2, SCOPE_FRAMES) each."""
        return self.scope[0]["before"].copy(), self.scope[0]["after"].copy()

    def close(self) -> None:
        """Let go of the memory, and remove it where this side made it."""
        del self.head, self.strips, self.scope
        self._memory.close()
        if self._owner:
            self._memory.unlink()
