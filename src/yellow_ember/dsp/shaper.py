"""A saturation shape at the raised rate over whole blocks, with what it loses of the highs given back."""

from __future__ import annotations

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.filters import fir
from yellow_ember.dsp.kernels.halfband import delay_short, lower_rate, raise_rate
from yellow_ember.dsp.kernels.shapes import BEND_DELAY, CHUNK, MAX_STEPS, bend
from yellow_ember.dsp.oversampling import (
    CASCADE,
    OversamplingRecord,
    oversampling_latency,
    oversampling_sizes,
    set_oversampling,
)
from yellow_ember.dsp.record import Record, cube, matrix, part, real, scratch, shared, state, vector, whole
from yellow_ember.dsp.shapes import CORRECTION_TAPS, Shape
from yellow_ember.dsp.stage import Setup

_HELD = CORRECTION_TAPS - 1


class ShaperRecord(Record):
    """A shape, and what it remembers of the signal.  Sizes: `shaper_sizes`."""

    kind: int = whole()
    steps: int = whole()
    knee: float = real()
    offset: float = real()
    table: Samples = shared(2)
    correction: Samples = shared(1)
    fast: OversamplingRecord = part(OversamplingRecord)
    history: Samples = state("channels", _HELD)
    bent_before: Samples = state("channels", 8)
    line: Samples = scratch("shaper_line")
    places: Samples = scratch("sub_steps")
    values: Samples = scratch("sub_steps")
    bent: Samples = scratch("sub_steps")


def shaper_sizes(setup: Setup) -> dict[str, int]:
    """Sizes in a record with a `ShaperRecord` in it."""
    return {"shaper_line": _HELD + setup.max_block, "sub_steps": CHUNK * setup.oversample * MAX_STEPS,
            **oversampling_sizes(setup.oversample)}


def set_up_shaper(record: ShaperRecord, setup: Setup) -> int:
    """Make a record ready for its first shape, and return the latency in frames."""
    set_oversampling(record.fast, setup.oversample, BEND_DELAY)
    return shaper_latency(setup)


def shaper_latency(setup: Setup) -> int:
    """Frames by which a shaper delays."""
    return _HELD // 2 + oversampling_latency(setup.oversample, BEND_DELAY)


def set_shape(record: ShaperRecord, setup: Setup, shape: Shape, knee: float = 0.0, offset: float = 0.0) -> None:
    """Take a shape; knee : half the width over which corners are rounded; offset : added to the input"""
    record.kind, record.steps, record.knee, record.offset = shape.kernel_kind, shape.steps, knee, offset
    record.table, record.correction = shape.table, shape.correction(setup.oversample)


@inlined
def bend_block(record: ShaperRecord, block: Samples) -> None:
    """Bend a block (channels, frames) in place."""
    fast = record.fast
    levels, frames = fast.levels, block.shape[1]
    ping, pong, line, odd_line = vector(fast.ping), vector(fast.pong), vector(fast.line), vector(fast.odd_line)
    up, down, odd, pads = cube(fast.up), cube(fast.down), cube(fast.odd), matrix(fast.pads)
    for c in range(block.shape[0]):
        row = block[c]
        for start in range(0, frames, CHUNK):
            n = min(CHUNK, frames - start)
            piece = row[start:start + n]
            high = raise_rate(piece, n, levels, CASCADE, up[c], ping, pong, line, vector(fast.total))
            other = pong if levels % 2 == 0 else ping
            bend(high, n << levels, record.kind, matrix(record.table), record.steps, record.knee, record.offset,
                 matrix(record.bent_before)[c], line, vector(record.places), vector(record.values),
                 vector(record.bent))
            delay_short(high, n << levels, pads[c], fast.pad, line)
            lower_rate(high, other, n, levels, CASCADE, down[c], odd[c], line, odd_line, piece)
    fir(block, vector(record.correction), matrix(record.history), vector(record.line))
