"""Recording: the audio thread puts what came in into a ring, a thread of its own writes it to files.

Whoever plays along plays to what is heard.  What comes in while a frame is read therefore belongs to an earlier one:
by the graph's latency, and by the round trip from what goes out to what comes in.
"""

from __future__ import annotations

import itertools
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellow_ember.engine.live.messages import ArmedStrip, Record, Recorded, RecordedTake
from yellow_ember.engine.strip import StripNode
from yellow_ember.files.broadcast_wav import BroadcastWriter
from yellow_ember.files.conformed import Segment

RING_SECONDS = 10.0
"""So long the disk may take before sound is lost."""
_SETTLED_SECONDS = 0.5
"""How much of a recording is lost at most where the program is killed."""
_LOOKS_SECONDS = 0.05
_SHORTEST_SECONDS = 0.02
"""A shorter take is none."""
_PATH_CHANNELS = 2
_NOWHERE = -1


class _Stream:
    """What is written of one strip: its input, or what leaves its path.

    lag : frames by which it belongs earlier than what is read meanwhile
    """

    def __init__(self, strip: ArmedStrip, channels: int, lag: int, *, of_path: bool, ring: int) -> None:
        self.strip, self.lag, self.of_path = strip, lag, of_path
        self.sound: NDArray[np.float32] = np.zeros((channels, ring), np.float32)
        self.read = ring
        self.writer: BroadcastWriter | None = None
        self.begins = self.next = 0
        self.settled = 0
        self.was_inside = False


class Recorder:
    """Records some strips until playing stops.

    `capture` belongs to the audio thread, all else to others.

    Parameters
    ----------
    nodes : Mapping[str, StripNode]
        All strips; those that are armed and listen are recorded.
    latency : int
        Frames from what is read to what goes out.
    round_trip : int
        Frames from there to when it comes in.
    """

    def __init__(self, order: Record, nodes: Mapping[str, StripNode], rate: int, latency: int, round_trip: int) -> None:
        self._order, self._rate = order, rate
        self._ring = round(RING_SECONDS * rate)
        lag = latency + round_trip
        self._streams: list[_Stream] = []
        for strip in order.strips:
            node = nodes.get(strip.strip_id)
            if node is None or node.listener is None:
                continue
            self._streams.append(_Stream(strip, node.listener.channels, lag, of_path=False, ring=self._ring))
            if strip.path_too:
                self._streams.append(_Stream(strip, _PATH_CHANNELS, lag + node.live_delay, of_path=True,
                                             ring=self._ring))
        self._most_lag = max((stream.lag for stream in self._streams), default=0)
        self._positions: NDArray[np.int64] = np.full(self._ring, _NOWHERE)
        self._count = np.arange(max(self._ring, self._most_lag))
        self._written = self._ring
        self._begun = False
        self._takes: list[RecordedTake] = []
        self._trouble = "" if self._streams else "No armed strip listens to an input"
        self._ended = threading.Event()
        self._stopping = not self._streams
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    # -- the audio thread ---------------------------------------------------------------

    def capture(self, nodes: Mapping[str, StripNode], segments: Sequence[Segment], frames: int, heard: int) -> None:
        """Take in a block.

        Parameters
        ----------
        segments : Sequence[Segment]
            What of the session was read for it; none while it stands.
        heard : int
            How many frames before that were read in one piece.
        """
        if not self._begun:
            self._begun = True
            if segments:
                # Who begins while all plays is recorded from what was heard just then.
                back = min(heard, self._most_lag, self._ring)
                np.add(self._count[:back], segments[0][0] - back, out=self._positions[self._ring - back:])
        at = self._written % self._ring
        self._put_positions(at, segments, frames)
        for stream in self._streams:
            node = nodes.get(stream.strip.strip_id)
            if node is not None and (stream.of_path or node.listener is not None):
                source = node.out(frames) if stream.of_path or node.listener is None else node.listener.heard(frames)
                channels = len(stream.sound)
                first = min(frames, self._ring - at)
                stream.sound[:, at:at + first] = source[:channels, :first]
                stream.sound[:, :frames - first] = source[:channels, first:]
        self._written += frames

    def _put_positions(self, at: int, segments: Sequence[Segment], frames: int) -> None:
        for position, count in segments or ((_NOWHERE, frames),):
            while count > 0:
                some = min(count, self._ring - at)
                if position == _NOWHERE:
                    self._positions[at:at + some] = _NOWHERE
                else:
                    np.add(self._count[:some], position, out=self._positions[at:at + some])
                    position += some
                count -= some
                at = (at + some) % self._ring

    # -- the writing thread -------------------------------------------------------------

    def _work(self) -> None:
        while not self._stopping:
            self._ended.wait(_LOOKS_SECONDS)
            self._stopping = self._stopping or self._ended.is_set()
            try:
                self._write_down()
            except OSError as error:
                self._trouble = f"Recording ended: {error.strerror or error}. What was recorded before is kept"
                self._stopping = True
        for stream in self._streams:
            self._close(stream)

    def _write_down(self) -> None:
        written = self._written
        for stream in self._streams:
            if written - stream.read > self._ring - self._most_lag - 1:
                raise OSError(0, "the disk is too slow")
            while stream.read < written:
                self._write_some(stream, min(written - stream.read, self._ring - stream.read % self._ring))
        if self._streams and all(stream.was_inside and stream.writer is None for stream in self._streams):
            # All have stopped, or are behind the end: unless it goes round, nothing comes any more.
            last = self._positions[(written - 1) % self._ring]
            self._stopping = self._stopping or last == _NOWHERE or (
                self._order.end is not None and last > self._order.end + self._most_lag)

    def _write_some(self, stream: _Stream, count: int) -> None:
        at = stream.read % self._ring
        positions = self._positions[(stream.read - stream.lag + self._count[:count]) % self._ring]
        end = self._order.end if self._order.end is not None else np.iinfo(np.int64).max
        inside = (positions >= self._order.first) & (positions < end) & (positions != _NOWHERE)
        breaks = np.flatnonzero((np.diff(positions) != 1) | (np.diff(inside.astype(np.int8)) != 0)) + 1
        for first, behind in itertools.pairwise((0, *breaks.tolist(), count)):
            if not inside[first]:
                self._close(stream)
                continue
            if stream.writer is None or int(positions[first]) != stream.next:
                self._close(stream)
                self._open(stream, int(positions[first]))
            assert stream.writer is not None
            stream.writer.write(stream.sound[:, at + first:at + behind].T)
            stream.next += behind - first
        stream.read += count
        if stream.writer is not None and stream.writer.frames - stream.settled > _SETTLED_SECONDS * self._rate:
            stream.writer.settle()
            stream.settled = stream.writer.frames

    def _open(self, stream: _Stream, position: int) -> None:
        name = f"{stream.strip.name} path" if stream.of_path else stream.strip.name
        day = 24 * 3600 * self._rate
        for number in itertools.count(1):
            path: Path = self._order.folder / f"{name} {number}.wav"
            try:
                stream.writer = BroadcastWriter(path, self._rate, len(stream.sound),
                                                (self._order.starts_at + position) % day, name)
            except FileExistsError:
                continue
            break
        stream.begins = stream.next = position
        stream.settled, stream.was_inside = 0, True

    def _close(self, stream: _Stream) -> None:
        writer, stream.writer = stream.writer, None
        if writer is None:
            return
        try:
            writer.close()
        except OSError as error:
            self._trouble = self._trouble or f"Recording ended: {error.strerror}"
        if writer.frames < _SHORTEST_SECONDS * self._rate:
            writer.path.unlink(missing_ok=True)
        else:
            self._takes.append(RecordedTake(stream.strip.strip_id, writer.path, stream.begins, writer.frames,
                                            stream.of_path))

    # -- the end ------------------------------------------------------------------------

    @property
    def done(self) -> bool:
        """True where nothing more will be written."""
        return not self._thread.is_alive()

    def end(self) -> None:
        """Write what there is, and close all files; does not wait for that."""
        self._ended.set()

    def result(self) -> Recorded:
        """What was recorded; waits for the last of it."""
        self.end()
        self._thread.join()
        return Recorded(tuple(self._takes), self._trouble)
