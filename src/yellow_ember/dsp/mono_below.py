"""Bass in the middle: what lies below a frequency made the same in both channels."""

from __future__ import annotations

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import BUTTERWORTH_Q, all_pass, split
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.mixing import put
from yellow_ember.dsp.parameters import Group, Number, Taper
from yellow_ember.dsp.record import Record, block_of, cube, matrix, scratch, setting, state, whole
from yellow_ember.dsp.stage import MOST_TURNS, STRAIGHT

MONO_BELOW = Number(
    id="mono_below_hz", label="Mono below", group=Group.TONE, unit="Hz", minimum=20.0, maximum=500.0, default=20.0,
    taper=Taper.LOG, decimals=0, floor_word="off",
    help="Puts everything below this frequency in the middle, so that the bass stands firm.")


class MonoBelowRecord(Record):
    """A Linkwitz-Riley split whose lower part is summed."""

    splitting: int = whole()
    low: Samples = setting(2, 5)
    high: Samples = setting(2, 5)
    turning: Samples = setting(MOST_TURNS, 5)
    low_state: Samples = state("channels", 2, 2)
    high_state: Samples = state("channels", 2, 2)
    lows: Samples = scratch("samples")


def set_mono_below(record: MonoBelowRecord, hz: float, rate: float, channels: int) -> None:
    """Have all below that frequency in the middle; at the bottom of the range nothing is."""
    record.turning[:] = STRAIGHT
    record.splitting = int(hz > MONO_BELOW.minimum and channels == 2)
    if record.splitting:
        record.low, record.high = split(hz, rate)
        record.turning[0] = all_pass(hz, BUTTERWORTH_Q, rate)


@inlined
def make_lows_mono(record: MonoBelowRecord, block: Samples) -> None:
    """Put the lows of a block of two channels in the middle, in place."""
    if record.splitting == 0:
        return
    lows = block_of(record.lows, block.shape[0], block.shape[1])
    put(lows, block)
    biquads(lows, matrix(record.low), cube(record.low_state))
    biquads(block, matrix(record.high), cube(record.high_state))
    for i in range(block.shape[1]):
        middle = 0.5 * (lows[0, i] + lows[1, i])
        block[0, i] += middle
        block[1, i] += middle
