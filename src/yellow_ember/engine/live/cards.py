"""What sound is played with: the protocol of all cards, and the silent card that is always there."""

from __future__ import annotations

import math
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from yellow_ember.engine.live.feedback import Wire
from yellow_ember.engine.live.ports import MASTER_CHANNELS, Crossing, Ports
from yellow_ember.session.values.model import MASTER

QUEUED_SECONDS = 0.07
"""Sound that waits in a card's queue while nothing comes in live, so that a late wake-up of some
tens of milliseconds, as busy desktops and virtual machines have them, need not be heard."""
LIVE_BLOCKS = 2
"""So many blocks wait in it else."""


def queued_frames(rate: int, block: int, *, live: bool = False) -> int:
    """Length of a card's queue: whole blocks, at least three where nothing comes in live."""
    return LIVE_BLOCKS * block if live else max(3, math.ceil(QUEUED_SECONDS * rate / block)) * block


class DeviceError(Exception):
    """A device that can't be used; the message says why."""


Turn = Callable[[Crossing], None]
"""Makes what goes out of what came in, for one block."""
Attend = Callable[[float], bool]
"""Sees to all else, between blocks or beside them, and waits so many seconds for something to do; False where the
card is to stop."""


@dataclass(frozen=True, slots=True)
class Beat:
    """What a server's transport is told of bars: beats a minute and a bar, and the frame at which bar 1 begins."""

    tempo: float = 120.0
    beats_per_bar: int = 4
    first_frame: float = 0.0


class Card(Protocol):
    """A way in and out for sound.

    Attributes
    ----------
    rate, block : int
        Frames a second, and of a turn; the device may have chosen them.
    missed : int
        How often sound was not ready in time, as far as the device tells.
    delay : int
        Frames from a turn to when what it made is heard.
    wires : frozenset[Wire]
        What of ours is connected to ours outside the session.
    moved : deque[bytes]
        MIDI messages that came in from controllers.
    beat : Beat
        Of the session.
    """

    rate: int
    block: int
    missed: int
    wires: frozenset[Wire]
    moved: deque[bytes]
    beat: Beat

    @property
    def delay(self) -> int: ...

    @property
    def round_trip(self) -> int:
        """Frames from what goes out to when it would come in again, as far as the device tells."""
        ...

    def use(self, ports: Ports) -> bool:
        """Take these ways in and out; False where the card has to be opened again for them."""
        ...

    def run(self, turn: Turn, attend: Attend) -> None:
        """Call `turn` for every block until `attend` says no.  DeviceError where the device goes away."""
        ...

    def send(self, message: bytes) -> None:
        """Send a MIDI message to controllers, with the next block."""
        ...

    def place(self) -> tuple[bool, int] | None:
        """Whether the server's transport rolls, and the frame of the present block; None where there is none."""
        ...

    def go(self, frame: int | None, *, rolls: bool) -> None:
        """Ask the server's transport to go to a frame (None to stay), and to roll or to stand."""
        ...

    def pause(self) -> None:
        """Nothing sounds: the next block comes whenever it comes, and that is no dropout."""
        ...

    def close(self) -> None: ...


class QueuedCard:
    """A card with a queue, into which blocks are written one by one, from the thread that attends to all else."""

    def __init__(self, rate: int, block: int, ports: Ports, *, live: bool) -> None:
        self.rate, self.block = rate, block
        self.missed = 0
        self.delay = queued_frames(rate, block, live=live)
        self.wires: frozenset[Wire] = frozenset()
        self.moved: deque[bytes] = deque()
        self.beat = Beat()
        self._crossing = Crossing(ports, block)
        self._interleaved: NDArray[np.float32] = np.zeros((block, MASTER_CHANNELS), np.float32)

    @property
    def round_trip(self) -> int:
        return self.delay

    def use(self, ports: Ports) -> bool:
        if ports != self._crossing.ports:
            self._crossing = Crossing(ports, self.block)
        return True

    def run(self, turn: Turn, attend: Attend) -> None:
        while attend(0.0):
            crossing = self._crossing
            self.read(crossing)
            turn(crossing)
            self._interleaved[:] = crossing.goes_out[:MASTER_CHANNELS].T
            self.write(self._interleaved)

    def send(self, message: bytes) -> None:
        """There are no controllers."""

    def place(self) -> tuple[bool, int] | None:
        return None

    def go(self, frame: int | None, *, rolls: bool) -> None:
        """There is no server."""

    def pause(self) -> None:
        """Let the queue run dry."""
        raise NotImplementedError

    def read(self, crossing: Crossing) -> None:
        """Fill `came_in`; waits where the device does."""

    def write(self, block: NDArray[np.float32]) -> None:
        """Put a block (frames, 2) into the queue; waits until there is room."""
        raise NotImplementedError

    def _deal(self, crossing: Crossing, sound: NDArray[np.float32]) -> None:
        """Hand out what came in by the card's channels (frames, channels); what it has not got is silence."""
        row = 0
        for port in crossing.ports.ins:
            for index in range(port.channels):
                channel = port.card[index] - 1 if port.card else sound.shape[1]
                if channel < sound.shape[1]:
                    crossing.came_in[row] = sound[:, channel]
                else:
                    crossing.came_in[row] = 0.0
                row += 1


class SilentCard(QueuedCard):
    """Keeps real time like a card and makes no sound; can record what it is sent.

    Parameters
    ----------
    record : Path | None
        File for raw interleaved float32, or None.
    source : NDArray[np.float32] | None
        (frames, channels) that comes in, over and over; None for silence.
    loops_back : bool
        What goes out comes in again, once it was heard.
    """

    def __init__(self, rate: int, block: int, record: Path | None = None, ports: Ports | None = None, *,
                 live: bool = False, source: NDArray[np.float32] | None = None, loops_back: bool = False) -> None:
        super().__init__(rate, block, ports or Ports(), live=live)
        self._source = source
        self._source_at = 0
        self._ring: NDArray[np.float32] | None = np.zeros((self.delay, MASTER_CHANNELS), np.float32) if (
            loops_back) else None
        self._ring_at = 0
        self._started = 0.0
        self._written = 0
        self._file = record.open("wb", buffering=0) if record is not None else None
        self._gather = np.zeros((block, source.shape[1] if source is not None else 0), np.float32)

    def use(self, ports: Ports) -> bool:
        if self._ring is not None:
            self.wires = frozenset((MASTER, port.strip_id) for port in ports.ins if port.card)
        return super().use(ports)

    def read(self, crossing: Crossing) -> None:
        if self._ring is not None:
            self._deal(crossing, self._ring[self._ring_at:self._ring_at + self.block])
        elif self._source is not None and crossing.ports.ins:
            done = 0
            while done < self.block:
                count = min(self.block - done, len(self._source) - self._source_at)
                self._gather[done:done + count] = self._source[self._source_at:self._source_at + count]
                self._source_at = (self._source_at + count) % len(self._source)
                done += count
            self._deal(crossing, self._gather)

    def write(self, block: NDArray[np.float32]) -> None:
        now = time.monotonic()
        if self._written == 0 or now > self._started + self._written / self.rate:
            # The queue ran dry before this block came.
            self.missed += self._written > 0
            self._started = now
            self._written = 0
        if self._file is not None:
            self._file.write(block.data)
        if self._ring is not None:
            self._ring[self._ring_at:self._ring_at + self.block] = block
            self._ring_at = (self._ring_at + self.block) % len(self._ring)
        self._written += len(block)
        wait = self._started + (self._written - self.delay) / self.rate - now
        if wait > 0.0:
            time.sleep(wait)

    def pause(self) -> None:
        self._written = 0

    def close(self) -> None:
        if self._file is not None:
            self._file.close()
