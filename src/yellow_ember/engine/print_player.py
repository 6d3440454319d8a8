"""Playing a strip from its print, and changing between that and its running chain without a click."""

from __future__ import annotations

import enum
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view
from yellow_ember.dsp.chain import FADE_SECONDS, SETTLE_SECONDS, Chain
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.mixing import crossfade, print_to_sides
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.files.conformed import RawReader, Segment


@dataclass(frozen=True, slots=True)
class StripPrint:
    """What comes out of a strip's chain.

    chain : the settings that it was made with
    data : raw interleaved float32 (frames, channels) at the session's rate
    start : the session's frame that it begins with
    stays : it is played until it is taken away, whatever becomes of the settings (the added part alone)
    """

    strip_id: str
    chain: tuple[StageSettings, ...]
    data: Path
    channels: int
    frames: int
    start: int = 0
    stays: bool = False


class _Deck:
    """A print that runs, as late as the chain is."""

    def __init__(self, strip_print: StripPrint, latency: int, max_block: int) -> None:
        self.strip_print = strip_print
        self.reader = RawReader(strip_print.data, strip_print.channels, strip_print.frames, max_block,
                                strip_print.start)
        self.ring: Samples = np.zeros((strip_print.channels, latency))
        self.index = 0

    def read(self, segments: Sequence[Segment], block: Samples) -> None:
        """The next block (channels, frames)."""
        self.reader.read_segments(segments, block)
        self.index = delay(block, self.ring, self.index)

    def reset(self) -> None:
        self.ring.fill(0.0)
        self.index = 0


class _Phase(enum.Enum):
    LIVE = "the chain is heard, and there is no print"
    COMING = "what is heard goes on, and the next print runs until it is as late as the chain"
    FADING_IN = "from the chain, or another print, to the next print"
    PRINT = "the print alone is heard, and the chain rests"
    WARMING = "the print is heard, and the chain runs until what it is given has reached its end"
    FADING_OUT = "from the print to the chain"


class PrintPlayer:
    """Stands in for a chain while there is a print of it, as late as the chain is."""

    def __init__(self, chain: Chain, channels: int, latency: int, rate: float, max_block: int) -> None:
        self._chain = chain
        self._latency, self._max_block = latency, max_block
        self._warming = chain.latency + round(SETTLE_SECONDS * rate)
        self._phase = _Phase.LIVE
        self._left = 0
        self._share = Ramp(0.0, rate, FADE_SECONDS)
        self._block: Samples = np.zeros(channels * max_block)
        self._deck: _Deck | None = None
        """What is heard beside the chain or in place of it."""
        self._next: _Deck | None = None
        self._requested: StripPrint | None = None

    @property
    def chain_runs(self) -> bool:
        """False while prints alone are heard."""
        return self._deck is None or self._phase in (_Phase.WARMING, _Phase.FADING_OUT)

    @property
    def alone(self) -> bool:
        """True where one print is heard, and nothing is on its way."""
        return self._phase is _Phase.PRINT

    @property
    def stays(self) -> bool:
        """True where what is wanted is played whatever becomes of the settings."""
        return self._requested is not None and self._requested.stays

    def use(self, requested: StripPrint | None, *, at_once: bool = False) -> None:
        """Play from this print from now on; None for the chain.

        at_once : nothing of the strip is heard yet.  OSError where the print's file is gone.
        """
        self._requested = requested
        if at_once:
            self._deck, self._next = self._opened(requested), None
            self._phase = _Phase.LIVE if requested is None else _Phase.PRINT
        else:
            self._go_on()

    def _opened(self, requested: StripPrint | None) -> _Deck | None:
        return None if requested is None else _Deck(requested, self._latency, self._max_block)

    @property
    def _heard(self) -> StripPrint | None:
        return None if self._deck is None else self._deck.strip_print

    def _go_on(self) -> None:
        """From where it is towards what is wanted."""
        match self._phase:
            case _Phase.LIVE | _Phase.PRINT if self._requested is not None and self._requested != self._heard:
                self._next = self._opened(self._requested)
                self._phase, self._left = _Phase.COMING, self._latency
            case _Phase.PRINT if self._requested is None:
                self._chain.reset()
                self._phase, self._left = _Phase.WARMING, self._warming
            case _Phase.COMING if self._next is None or self._requested != self._next.strip_print:
                self._next = None
                self._phase = _Phase.LIVE if self._deck is None else _Phase.PRINT
                self._go_on()
            case _Phase.WARMING if self._requested is not None:
                # The chain was not heard yet.
                self._phase = _Phase.PRINT
                self._go_on()
            case _:
                # A fade comes to its end first.
                pass

    def reset(self) -> None:
        """Forget what was played, and finish every change: playing starts again."""
        if self._phase is not _Phase.LIVE:
            kept = next((deck for deck in (self._next, self._deck) if deck is not None
                         and deck.strip_print == self._requested), None)
            self._deck, self._next = kept, None
            self._phase = _Phase.LIVE if kept is None else _Phase.PRINT
            if kept is not None:
                kept.reset()
            self._go_on()

    def leave_broken(self) -> None:
        """Go back to the chain where the print that is played was damaged on disk."""
        if self._deck is not None and self._deck.reader.broken and self._requested is not None:
            self.use(None)

    def play_to_sides(self, start: int, match: Ramp, left: Ramp, right: Ramp, out: Samples) -> None:
        """The print alone from a frame on, at three gains, as `out` (2, frames): most strips, most of the time."""
        deck = self._deck
        assert deck is not None
        raw = deck.reader.raw(start, out.shape[1])
        deck.index = print_to_sides(raw, deck.ring, deck.index, match.state, left.state, right.state, out)

    def play(self, segments: Sequence[Segment], block: Samples) -> None:
        """Put the print, as far as it is wanted, into the block (channels, frames) that the chain has made."""
        if self._phase is _Phase.LIVE:
            return
        frames = block.shape[1]
        own = block_view(self._block, *block.shape)
        if self._deck is not None and self._phase is not _Phase.FADING_OUT:
            self._deck.read(segments, block)
        match self._phase:
            case _Phase.COMING | _Phase.WARMING:
                if self._next is not None:
                    self._next.read(segments, own)
                self._left -= frames
                if self._left <= 0:
                    self._phase = _Phase.FADING_IN if self._next is not None else _Phase.FADING_OUT
                    self._share.jump(0.0)
                    self._share.move(1.0)
            case _Phase.FADING_IN:
                assert self._next is not None
                self._next.read(segments, own)
                crossfade(block, own, self._share.state)
                if self._share.resting:
                    self._deck, self._next = self._next, None
                    self._phase = _Phase.PRINT
                    self._go_on()
            case _Phase.FADING_OUT:
                assert self._deck is not None
                self._deck.read(segments, own)
                crossfade(own, block, self._share.state)
                block[...] = own
                if self._share.resting:
                    self._deck, self._phase = None, _Phase.LIVE
                    self._go_on()
