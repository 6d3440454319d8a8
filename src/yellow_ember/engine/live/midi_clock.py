"""MIDI clock: 24 ticks a beat while the session plays, with start, stop and song position (MIDI 1.0, real-time)."""

from __future__ import annotations

import math
from collections.abc import Sequence

from yellow_ember.files.conformed import Segment

TICK, START, CONTINUE, STOP = b"\xf8", b"\xfa", b"\xfb", b"\xfc"
_TICKS_A_BEAT, _PLACES_A_BEAT = 24, 4
_LAST_PLACE = (1 << 14) - 1
_ROUNDING = 1e-6


class MidiClock:
    """Says what is sent in each block."""

    def __init__(self) -> None:
        self._next: int | None = None
        """The frame of the session that would follow without a jump; None while it stands."""
        self._first_tick = 0
        """Whoever follows counts from here, so that none comes before it."""

    def events(self, segments: Sequence[Segment], frames: int, beat_frames: float, first_beat: float
               ) -> list[tuple[int, bytes]]:
        """Frames within the block and messages, in their order.

        Parameters
        ----------
        segments : Sequence[Segment]
            What of the session is heard at the block's end; none while it stands.
        frames : int
            The block's length.
        beat_frames, first_beat : float
            How long a beat is, and where bar 1 begins, in frames.
        """
        result: list[tuple[int, bytes]] = []
        if not segments:
            if self._next is not None:
                result.append((0, STOP))
            self._next = None
            return result
        at = frames - sum(count for _, count in segments)
        for position, count in segments:
            beats = (position - first_beat) / beat_frames
            if position != self._next:
                if self._next is not None:
                    result.append((at, STOP))
                place = min(max(math.ceil(beats * _PLACES_A_BEAT - _ROUNDING), 0), _LAST_PLACE)
                self._first_tick = place * _TICKS_A_BEAT // _PLACES_A_BEAT
                result += [(at, message) for message in _begin(place)]
            tick = max(self._first_tick, math.floor(beats * _TICKS_A_BEAT) - 1)
            while (frame := math.ceil(first_beat + tick * beat_frames / _TICKS_A_BEAT - _ROUNDING)) < position + count:
                if frame >= position:
                    result.append((at + frame - position, TICK))
                tick += 1
            at += count
            self._next = position + count
        return result


def _begin(place: int) -> tuple[bytes, ...]:
    """What is sent before the first tick: a start at bar 1, else the place, in sixteenths, and to go on from there."""
    if place == 0:
        return (START,)
    return bytes((0xF2, place & 0x7F, place >> 7)), CONTINUE
