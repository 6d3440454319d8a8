"""Playing a strip from its print, and changing between that and its running chain without a click."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.kernels import inlined, kernel
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.mixing import LEFT, aim, crossfade, jump, print_to_sides, put
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.record import (
    Record,
    block_of,
    matrix,
    record_at,
    scratch,
    setting,
    state,
    vector,
    whole,
    whole_state,
    whole_vector,
)
from yellow_ember.dsp.slot import FADE_SECONDS, SETTLE_SECONDS
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.raw_reader import RawReader, ReaderRecord, read_block, read_raw

LIVE, COMING, FADING_IN, PRINT, WARMING, FADING_OUT = range(6)
"""Phases of a player.

LIVE : the chain is heard, and there is no print
COMING : what is heard goes on, and the next print runs until it is as late as the chain
FADING_IN : from the chain, or another print, to the next print
PRINT : the print alone is heard, and the chain rests
WARMING : the print is heard, and the chain runs until what it is given has reached its end
FADING_OUT : from the print to the chain
"""


@dataclass(frozen=True, slots=True)
class StripPrint:
    """What comes out of a strip's chain.

    Attributes
    ----------
    chain : tuple[StageSettings, ...]
        The settings that it was made with.
    data : Path
        Raw interleaved float32 (frames, channels) at the session's rate.
    start : int
        The session's frame that it begins with.
    stays : bool
        It is played until it is taken away, whatever becomes of the settings (the added part alone).
    """

    strip_id: str
    chain: tuple[StageSettings, ...]
    data: Path
    channels: int
    frames: int
    start: int = 0
    stays: bool = False


class DeckRecord(Record):
    """A print that runs, as late as the chain is; reader : where the record of its file lies."""

    reader: int = whole()
    ring: Samples = state("channels", "latency")
    index: Samples = whole_state(1)


class PlayerRecord(Record):
    """What is heard of a strip: its chain, a print, or something between them.

    Attributes
    ----------
    deck : int
        Where the record of what is heard beside the chain or in place of it lies, 0 for none.
    next : int
        What comes.
    left : int
        Frames until what is awaited has come through.
    fade_frames : int
        How long a fade takes.
    """

    phase: int = whole()
    left: int = whole()
    fade_frames: int = whole()
    deck: int = whole()
    next: int = whole()
    share: Samples = setting(4)
    own: Samples = scratch("samples")


_READER, _DECK = ReaderRecord.dtype, DeckRecord.dtype


@inlined
def chain_runs(player: PlayerRecord) -> bool:
    """False while prints alone are heard."""
    return bool(player.deck == 0 or player.phase in (WARMING, FADING_OUT))


@kernel
def is_broken(player: PlayerRecord) -> bool:
    """Whether the print that is heard was damaged on disk."""
    return bool(player.deck != 0 and record_at(record_at(player.deck, _DECK).reader, _READER).broken == 1)


@kernel
def _run_deck(address: int, segments: NDArray[np.int64], count: int, block: Samples) -> None:
    """Read the next block (channels, frames) of a print, as late as the chain is."""
    deck = record_at(address, _DECK)
    read_block(record_at(deck.reader, _READER), segments, count, block)
    index = whole_vector(deck.index)
    index[0] = delay(block, matrix(deck.ring), index[0])


@kernel
def play_to_sides(player: PlayerRecord, start: int, match: Samples, left: Samples, right: Samples,
                  out: Samples) -> None:
    """Play the print alone from a frame on, at three gains, as `out` (2, frames): most strips, most of the time."""
    deck = record_at(player.deck, _DECK)
    raw = read_raw(record_at(deck.reader, _READER), start, out.shape[1])
    index = whole_vector(deck.index)
    index[0] = print_to_sides(raw, matrix(deck.ring), index[0], match, left, right, out)


@kernel
def play(player: PlayerRecord, segments: NDArray[np.int64], count: int, block: Samples) -> None:
    """Put the print, as far as it is wanted, into the block (channels, frames) that the chain has made."""
    if player.phase == LIVE:
        return
    share, own = vector(player.share), block_of(player.own, block.shape[0], block.shape[1])
    if player.deck != 0 and player.phase != FADING_OUT:
        _run_deck(player.deck, segments, count, block)
    if player.phase in (COMING, WARMING):
        if player.next != 0:
            _run_deck(player.next, segments, count, own)
        player.left -= block.shape[1]
        if player.left <= 0:
            player.phase = FADING_IN if player.next != 0 else FADING_OUT
            jump(share, 0.0)
            aim(share, 1.0, player.fade_frames)
    elif player.phase == FADING_IN:
        _run_deck(player.next, segments, count, own)
        crossfade(block, own, share)
        if share[LEFT] == 0.0:
            player.deck, player.next, player.phase = player.next, 0, PRINT
    elif player.phase == FADING_OUT:
        _run_deck(player.deck, segments, count, own)
        crossfade(own, block, share)
        put(block, own)
        if share[LEFT] == 0.0:
            player.deck, player.phase = 0, LIVE


class _Deck:
    """The Python half of a print that runs."""

    def __init__(self, strip_print: StripPrint, latency: int, max_block: int) -> None:
        self.strip_print = strip_print
        self.reader = RawReader(strip_print.data, strip_print.channels, strip_print.frames, max_block,
                                strip_print.start)
        self.record = DeckRecord.make(channels=strip_print.channels, latency=latency)
        self.record.reader = self.reader.record.address


class PrintPlayer:
    """The Python half of a player, which stands in for a chain while there is a print of it, as late as the chain is.

    Parameters
    ----------
    record : PlayerRecord
        The player's, in the strip's.
    """

    def __init__(self, record: PlayerRecord, chain: Chain, latency: int, rate: float, max_block: int) -> None:
        self._record = record
        self._chain = chain
        self._latency, self._max_block = latency, max_block
        self._warming = chain.latency + round(SETTLE_SECONDS * rate)
        record.phase, record.deck, record.next = LIVE, 0, 0
        record.fade_frames = Ramp(0.0, rate, FADE_SECONDS, state=record.share).frames
        self._deck: _Deck | None = None
        self._next: _Deck | None = None
        self._requested: StripPrint | None = None

    @property
    def stays(self) -> bool:
        """True where what is wanted is played whatever becomes of the settings."""
        return self._requested is not None and self._requested.stays

    @property
    def moves(self) -> bool:
        """True between one thing that is heard and another."""
        return self._record.phase not in (LIVE, PRINT)

    def use(self, requested: StripPrint | None, *, at_once: bool = False) -> None:
        """Play from this print from now on; None for the chain.

        Parameters
        ----------
        at_once : bool
            Nothing of the strip is heard yet.

        Raises
        ------
        OSError
            Where the print's file is gone.
        """
        self._requested = requested
        if at_once:
            self._hold(self._opened(requested), None)
            self._record.phase = LIVE if requested is None else PRINT
        else:
            self.go_on()

    def _hold(self, deck: _Deck | None, following: _Deck | None) -> None:
        self._deck, self._next = deck, following
        self._record.deck = 0 if deck is None else deck.record.address
        self._record.next = 0 if following is None else following.record.address

    def _opened(self, requested: StripPrint | None) -> _Deck | None:
        return None if requested is None else _Deck(requested, self._latency, self._max_block)

    def go_on(self) -> None:
        """Go, between two blocks, from where it is towards what is wanted."""
        record = self._record
        if self._next is not None and record.deck == self._next.record.address:
            self._hold(self._next, None)
        elif record.deck == 0:
            self._hold(None, self._next)
        heard = None if self._deck is None else self._deck.strip_print
        phase, requested = record.phase, self._requested
        if phase in (LIVE, PRINT) and requested is not None and requested != heard:
            self._hold(self._deck, self._opened(requested))
            record.phase, record.left = COMING, self._latency
        elif phase == PRINT and requested is None:
            self._chain.reset()
            record.phase, record.left = WARMING, self._warming
        elif (phase == COMING and (self._next is None or requested != self._next.strip_print)) or (
                # The chain was not heard yet.
                phase == WARMING and requested is not None):
            self._turn_back()
        # A fade comes to its end first.

    def _turn_back(self) -> None:
        """Leave what is on its way, and go on from what is heard."""
        self._hold(self._deck, None)
        self._record.phase = LIVE if self._deck is None else PRINT
        self.go_on()

    def reset(self) -> None:
        """Forget what was played, and finish every change: playing starts again."""
        if self._record.phase != LIVE:
            kept = next((deck for deck in (self._next, self._deck) if deck is not None
                         and deck.strip_print == self._requested), None)
            self._hold(kept, None)
            self._record.phase = LIVE if kept is None else PRINT
            if kept is not None:
                kept.record.carried.fill(0.0)
            self.go_on()
