"""A track's live input in compiled code: what the card put there for a block, with its gain, watched for clipping."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples, block_view, gain
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.mixing import clean_input, glide, put
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.record import Record, block_of, record_at, scratch, setting, state, vector, whole
from yellow_ember.session.values.live_input import LiveInput

CLIPS = 0.9999
"""A sample that is as high as that came from a converter at its end."""


class ListenerRecord(Record):
    """A live input.

    Attributes
    ----------
    sound : Samples
        (channels, frames) of the block that is run next, as it comes in; behind that run, as the path got it.
    peaks : Samples
        The highest of each channel since it was looked at.
    clipped : int
        1 where a sample clipped since that was taken back.
    """

    clipped: int = whole()
    level: Samples = setting(4)
    peaks: Samples = state("channels")
    sound: Samples = scratch("samples")


_LISTENER = ListenerRecord.dtype


@kernel
def take_in_listened(address: int, block: Samples) -> None:
    """Put what comes in into a block (channels, frames)."""
    listener = record_at(address, _LISTENER)
    sound, peaks = block_of(listener.sound, block.shape[0], block.shape[1]), vector(listener.peaks)
    put(block, sound)
    clean_input(block)
    for c in range(block.shape[0]):
        for i in range(block.shape[1]):
            peaks[c] = max(peaks[c], abs(block[c, i]))
        if peaks[c] >= CLIPS:
            listener.clipped = 1
    glide(block, vector(listener.level))
    put(sound, block)


class Listener:
    """The Python half.

    Parameters
    ----------
    max_block : int
        The most frames that come at once.
    """

    def __init__(self, live: LiveInput, rate: float, max_block: int) -> None:
        self.channels = len(live.channels)
        self.record = ListenerRecord.make(channels=self.channels, samples=self.channels * max_block)
        self._level = Ramp(_level_of(live), rate, state=self.record.level)
        self._sound: Samples = self.record.sound
        self._peaks: Samples = self.record.peaks

    def feed(self, sound: NDArray[Any]) -> None:
        """Take what came in for the next block, (channels, frames)."""
        block_view(self._sound, *sound.shape)[:] = sound

    def heard(self, frames: int) -> Samples:
        """What the path got in the last block, (channels, frames)."""
        return block_view(self._sound, self.channels, frames)

    def set(self, live: LiveInput, *, at_once: bool) -> None:
        """Take another gain or polarity."""
        self._level.go(_level_of(live), at_once=at_once)

    def reset(self) -> None:
        self._level.jump(self._level.target)

    def take_peak(self) -> float:
        """The highest since the last look."""
        peak = float(self._peaks.max())
        self._peaks.fill(0.0)
        return peak

    @property
    def clipped(self) -> bool:
        """True where it clipped since `forget_clips`."""
        return bool(self.record.clipped)

    def forget_clips(self) -> None:
        self._peaks.fill(0.0)
        self.record.clipped = 0


def _level_of(live: LiveInput) -> float:
    return gain(live.input_db) * (-1.0 if live.inverted else 1.0)
