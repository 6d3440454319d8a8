"""Playing a strip from its print, and changing between that and its running chain without a click."""

from __future__ import annotations

import enum
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view
from yellow_ember.dsp.chain import FADE_SECONDS, SETTLE_SECONDS, Chain, StageSettings
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.mixing import crossfade, print_to_sides
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.files.conformed import RawReader, Segment


@dataclass(frozen=True, slots=True)
class StripPrint:
    """What comes out of a strip's chain, from the session's start on.

    chain : the settings that it was made with
    data : raw interleaved float32 (frames, channels) at the session's rate
    """

    strip_id: str
    chain: tuple[StageSettings, ...]
    data: Path
    channels: int
    frames: int


class _Phase(enum.Enum):
    LIVE = "the chain is heard, and there is no print"
    COMING = "the chain is heard, and the print runs until it is as late as the chain"
    FADING_IN = "from the chain to the print"
    PRINT = "the print alone is heard, and the chain rests"
    WARMING = "the print is heard, and the chain runs until what it is given has reached its end"
    FADING_OUT = "from the print to the chain"


class PrintPlayer:
    """Stands in for a chain while there is a print of it, as late as the chain is."""

    def __init__(self, chain: Chain, channels: int, latency: int, rate: float, max_block: int) -> None:
        self._chain = chain
        self._max_block = max_block
        self._warming = chain.latency + round(SETTLE_SECONDS * rate)
        self._phase = _Phase.LIVE
        self._left = 0
        self._share = Ramp(0.0, rate, FADE_SECONDS)
        self._block: Samples = np.zeros(channels * max_block)
        self._ring: Samples = np.zeros((channels, latency))
        self._place = 0
        self._reader: RawReader | None = None
        self._now: StripPrint | None = None
        self._wanted: StripPrint | None = None

    @property
    def chain_runs(self) -> bool:
        """False while nothing but the print is heard."""
        return self._phase is not _Phase.PRINT

    def use(self, wanted: StripPrint | None, *, at_once: bool = False) -> None:
        """Play from this print from now on; None for the chain.

        at_once : nothing of the strip is heard yet.  OSError where the print's file is gone.
        """
        self._wanted = wanted
        if at_once:
            self._open(wanted)
            self._phase = _Phase.LIVE if wanted is None else _Phase.PRINT
        else:
            self._go_on()

    def _go_on(self) -> None:
        """From where it is towards what is wanted."""
        match self._phase:
            case _Phase.LIVE if self._wanted is not None:
                self._open(self._wanted)
                self._phase, self._left = _Phase.COMING, self._ring.shape[1]
            case _Phase.COMING if self._wanted != self._now:
                self._phase = _Phase.LIVE
                self._open(None)
                self._go_on()
            case _Phase.FADING_IN if self._wanted != self._now:
                self._phase = _Phase.FADING_OUT
                self._share.move(0.0)
            case _Phase.PRINT if self._wanted != self._now:
                self._chain.reset()
                self._phase, self._left = _Phase.WARMING, self._warming
                self._share.jump(1.0)
            case _Phase.WARMING | _Phase.FADING_OUT if self._wanted is not None and self._wanted == self._now:
                self._phase = _Phase.FADING_IN
                self._share.move(1.0)
            case _:
                pass

    def _open(self, wanted: StripPrint | None) -> None:
        self._now, self._reader = None, None
        if wanted is not None:
            self._reader = RawReader(wanted.data, wanted.channels, wanted.frames, self._max_block)
            self._now = wanted
        self._ring.fill(0.0)
        self._place = 0
        self._share.jump(0.0)

    def reset(self) -> None:
        """Forget what was played, and finish every change: playing starts anew."""
        if self._phase is not _Phase.LIVE:
            wanted = self._now if self._wanted == self._now else None
            self._open(wanted)
            self._phase = _Phase.LIVE if wanted is None else _Phase.PRINT
            self._go_on()

    def play_to_sides(self, start: int, match: Ramp, left: Ramp, right: Ramp, out: Samples) -> None:
        """The print alone from a frame on, at three gains, as `out` (2, frames): most strips, most of the time."""
        assert self._reader is not None
        raw = self._reader.raw(start, out.shape[1])
        self._place = print_to_sides(raw, self._ring, self._place, match.state, left.state, right.state, out)

    def play(self, segments: Sequence[Segment], block: Samples) -> None:
        """Put the print, as far as it is wanted, into the block (channels, frames) that the chain has made."""
        if self._reader is None:
            return
        frames = block.shape[1]
        own = block_view(self._block, *block.shape)
        self._reader.read_segments(segments, own)
        self._place = delay(own, self._ring, self._place)
        match self._phase:
            case _Phase.PRINT:
                block[...] = own
            case _Phase.COMING:
                self._left -= frames
                if self._left <= 0:
                    self._phase = _Phase.FADING_IN
                    self._share.move(1.0)
            case _Phase.WARMING:
                block[...] = own
                self._left -= frames
                if self._left <= 0:
                    self._phase = _Phase.FADING_OUT
                    self._share.move(0.0)
            case _Phase.FADING_IN | _Phase.FADING_OUT:
                crossfade(block, own, self._share.state)
                if self._share.resting:
                    self._settle_down()

    def _settle_down(self) -> None:
        """A fade has come to its end."""
        if self._share.target == 1.0:
            self._phase = _Phase.PRINT
        else:
            self._phase = _Phase.LIVE
            self._open(None)
        self._go_on()
