"""A saturation shape at the raised rate over whole blocks, with what it loses of the highs given back."""

from __future__ import annotations

from yellow_ember.dsp.arrays import Counts, Samples
from yellow_ember.dsp.filters import past_length
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.filters import fir
from yellow_ember.dsp.kernels.shapes import BEND_DELAY, BEND_STATES, CHUNK, MOST_STEPS, bend
from yellow_ember.dsp.oversampling import (
    OversamplingRecord,
    fall,
    oversampling_latency,
    oversampling_sizes,
    rise,
    set_oversampling,
)
from yellow_ember.dsp.record import (
    Record,
    cube,
    matrix,
    part,
    real,
    scratch,
    shared,
    state,
    vector,
    whole,
    whole_state,
    whole_vector,
)
from yellow_ember.dsp.shapes import CORRECTION_TAPS, Shape
from yellow_ember.dsp.stage import Setup

_HELD = CORRECTION_TAPS - 1


class ShaperRecord(Record):
    """A shape, and what it remembers of the signal.  Sizes: `shaper_sizes`."""

    kind: int = whole()
    steps: int = whole()
    knee: float = real()
    offset: float = real()
    rest: float = real()
    table: Samples = shared(2)
    correction: Samples = shared(1)
    fast: OversamplingRecord = part(OversamplingRecord)
    past: Samples = state("channels", "shaper_past")
    past_index: Counts = whole_state(1)
    bent_before: Samples = state("channels", BEND_STATES)
    places: Samples = scratch("sub_steps")
    values: Samples = scratch("sub_steps")
    seconds: Samples = scratch("sub_steps")
    bent: Samples = scratch("sub_steps")


def shaper_sizes(setup: Setup) -> dict[str, int]:
    """Sizes in a record with a `ShaperRecord` in it."""
    return {"shaper_past": past_length(CORRECTION_TAPS, setup.max_block),
            "sub_steps": CHUNK * max(MOST_STEPS, setup.oversample), **oversampling_sizes(setup.oversample)}


def set_up_shaper(record: ShaperRecord, setup: Setup) -> int:
    """Make a record ready for its first shape, and return the latency in frames."""
    set_oversampling(record.fast, setup.oversample, BEND_DELAY)
    return shaper_latency(setup)


def shaper_latency(setup: Setup) -> int:
    """Frames by which a shaper delays."""
    return _HELD // 2 + oversampling_latency(setup.oversample, BEND_DELAY)


def set_shape(record: ShaperRecord, setup: Setup, shape: Shape, drive: float, knee: float = 0.0,
              offset: float = 0.0) -> None:
    """Take a shape.

    Parameters
    ----------
    drive : float
        The gain into the shape, which says how finely it has to be followed.
    knee : float
        Half the width over which corners are rounded.
    offset : float
        Added to the input.
    """
    record.kind, record.steps = shape.kernel_kind, shape.steps(drive, setup.oversample)
    record.knee, record.offset, record.rest = knee, offset, shape.rest(offset, knee)
    record.table, record.correction = shape.table, shape.correction(setup.oversample)


@inlined
def bend_block(record: ShaperRecord, block: Samples) -> None:
    """Bend a block (channels, frames) in place."""
    fast = record.fast
    up = cube(fast.up)
    for c in range(block.shape[0]):
        for start in range(0, block.shape[1], CHUNK):
            part = block[c, start:min(start + CHUNK, block.shape[1])]
            high = rise(fast, up[c], part)
            bend(high, part.shape[0] << fast.levels, record.kind, matrix(record.table), record.steps, record.knee,
                 record.offset, record.rest, matrix(record.bent_before)[c], vector(fast.line), vector(record.places),
                 vector(record.values), vector(record.seconds), vector(record.bent))
            fall(fast, c, high, part)
    fir(block, vector(record.correction), matrix(record.past), whole_vector(record.past_index))
