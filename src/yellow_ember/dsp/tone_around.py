"""Lean, clean lows and the tone behind: what every non-linear stage does around its non-linearity."""

from __future__ import annotations

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import BUTTERWORTH_Q, all_pass, low_pass, split, tilt
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.filters import biquads, delay
from yellow_ember.dsp.kernels.mixing import add, put
from yellow_ember.dsp.parameters import Group, Number, Taper, Values, as_number
from yellow_ember.dsp.record import Record, block_of, cube, matrix, scratch, setting, state, vector, whole
from yellow_ember.dsp.stage import MOST_TURNS, STRAIGHT

LEAN_DB = Number(
    id="lean_db", label="Lean", unit="dB", minimum=-12.0, maximum=12.0, default=0.0, group=Group.DRIVE,
    help="Moves the distortion towards highs (up) or lows (down) while the tone of the clean sound stays.")
LEAN_HZ = Number(
    id="lean_hz", label="Lean pivot", unit="Hz", minimum=100.0, maximum=5000.0, default=700.0,
    taper=Taper.LOG, decimals=0, group=Group.DRIVE,
    help="The frequency about which Lean tips the drive from lows to highs.")
CLEAN_LOWS_HZ = Number(
    id="clean_lows_hz", label="Clean lows", unit="Hz", minimum=20.0, maximum=500.0, default=20.0,
    taper=Taper.LOG, decimals=0, floor_word="off", group=Group.DRIVE,
    help="Everything below this frequency passes untouched, so that sub bass and kicks stay firm.")
LEAN_PARAMETERS = (LEAN_DB, LEAN_HZ, CLEAN_LOWS_HZ)
TONE_HZ = Number(
    id="tone_hz", label="Tone", unit="Hz", minimum=500.0, maximum=20000.0, default=20000.0, taper=Taper.LOG,
    decimals=0, top_word="open", group=Group.TONE,
    help="Rolls off the fizz right after the distortion.")


class ToneRecord(Record):
    """What tips the signal before a non-linearity and back after it, rolls highs off, and leads lows past it all.

    Lean's two filters are exact inverses; the split is a Linkwitz-Riley crossover of
    fourth order, whose sum is flat.  `inner` is the latency of what lies between.

    Attributes
    ----------
    turning : Samples
        The all-pass that the split sums to, then those of what lies between, if that `turns_within`.
    """

    leaning: int = whole()
    splitting: int = whole()
    toned: int = whole()
    turns_within: int = whole()
    tip: Samples = setting(1, 5)
    back: Samples = setting(1, 5)
    tone: Samples = setting(1, 5)
    low: Samples = setting(2, 5)
    high: Samples = setting(2, 5)
    turning: Samples = setting(MOST_TURNS, 5)
    ring: Samples = state("channels", "inner")
    ring_index: Samples = state(1)
    low_state: Samples = state("channels", 2, 2)
    high_state: Samples = state("channels", 2, 2)
    tip_state: Samples = state("channels", 1, 2)
    back_state: Samples = state("channels", 1, 2)
    tone_state: Samples = state("channels", 1, 2)
    turned_state: Samples = state("channels", MOST_TURNS - 1, 2)
    lows: Samples = scratch("samples")


def set_tone(record: ToneRecord, values: Values, rate: float) -> None:
    """Take `lean_db`, `lean_hz`, `clean_lows_hz` and, where the stage has it, `tone_hz`.

    All are moved by the host's crossfade.
    """
    lean, corner = as_number(values["lean_db"]), as_number(values["clean_lows_hz"])
    record.leaning, record.splitting = int(lean != 0.0), int(corner > CLEAN_LOWS_HZ.minimum)
    if record.leaning:
        pivot = as_number(values["lean_hz"])
        record.tip[0], record.back[0] = tilt(pivot, lean, rate), tilt(pivot, -lean, rate)
    record.turning[:] = STRAIGHT
    record.turns_within = 0
    if record.splitting:
        record.low, record.high = split(corner, rate)
        record.turning[0] = all_pass(corner, BUTTERWORTH_Q, rate)
    tone = as_number(values.get("tone_hz", TONE_HZ.maximum))
    record.toned = int(tone < TONE_HZ.maximum)
    if record.toned:
        record.tone[0] = low_pass(tone, BUTTERWORTH_Q, rate)


@inlined
def tone_before(record: ToneRecord, block: Samples) -> None:
    """What comes before the non-linearity, in place."""
    if record.splitting == 1:
        lows = block_of(record.lows, block.shape[0], block.shape[1])
        put(lows, block)
        biquads(lows, matrix(record.low), cube(record.low_state))
        biquads(block, matrix(record.high), cube(record.high_state))
    if record.leaning == 1:
        biquads(block, matrix(record.tip), cube(record.tip_state))


@inlined
def tone_after(record: ToneRecord, block: Samples) -> None:
    """What comes after the non-linearity, in place."""
    if record.leaning == 1:
        biquads(block, matrix(record.back), cube(record.back_state))
    if record.toned == 1:
        biquads(block, matrix(record.tone), cube(record.tone_state))
    if record.splitting == 1:
        lows = block_of(record.lows, block.shape[0], block.shape[1])
        index = vector(record.ring_index)
        index[0] = delay(lows, matrix(record.ring), int(index[0]))
        if record.turns_within == 1:
            biquads(lows, matrix(record.turning)[1:], cube(record.turned_state))
        add(block, lows)
