"""Where playing is, and what comes next, loop included."""

from __future__ import annotations

from yellow_ember.files.conformed import Segment
from yellow_ember.session.values.model import Loop


class Transport:
    """Position in frames.  `advance` says which stretches the next block reads."""

    def __init__(self) -> None:
        self.position = 0
        self.playing = False
        self._since = 0

    def advance(self, frames: int, loop: Loop) -> list[Segment]:
        """The stretches that make up the next `frames`, going round the loop as often as needed."""
        segments: list[Segment] = []
        self._since += frames
        looping = loop.on and loop.end > loop.start
        while frames > 0:
            count = frames
            if looping and self.position < loop.end:
                count = min(frames, loop.end - self.position)
            segments.append((self.position, count))
            self.position += count
            frames -= count
            if looping and self.position == loop.end:
                self.position = loop.start
        return segments

    @property
    def run(self) -> int:
        """Frames that were read in one piece since the last `go`, round the loop or not."""
        return self._since

    def go(self, position: int) -> None:
        """Read on from another place."""
        self.position = position
        self._since = 0

    def heard(self, latency: int, loop: Loop) -> int:
        """The frame that is at the output now, `latency` behind what is read since the last `go`."""
        heard = self.position - min(latency, self._since)
        if loop.on and loop.start <= self.position < loop.end and heard < loop.start:
            heard += loop.end - loop.start
        return max(0, heard)

    def heard_block(self, frames: int, latency: int, loop: Loop) -> list[Segment]:
        """The stretches that are at the output in the last `frames` that were read; fewer until anything arrives."""
        count = min(frames, self._since - latency)
        if count <= 0:
            return []
        end = self.heard(latency, loop)
        before = loop.start - (end - count)
        if loop.on and 0 < before < count and loop.start <= end < loop.end:
            return [(loop.end - before, before), (loop.start, count - before)]
        return [(end - count, count)]
