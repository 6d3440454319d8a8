"""FIR filters that are not symmetric."""

from __future__ import annotations

from yellow_ember.dsp.arrays import Counts, Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import make_room


@kernel
def plain_fir_each(block: Samples, taps: Samples, past: Samples, index: Counts) -> None:
    """A filter of its own for each channel, in place; taps (channels, length), past and index as for `filters.fir`."""
    held, frames = taps.shape[1] - 1, block.shape[1]
    at = make_room(past, held, index, frames)
    for c in range(block.shape[0]):
        row, line = block[c], past[c, at - held:at + frames]
        for i in range(frames):
            line[held + i] = row[i]
            row[i] = 0.0
        for k in range(held + 1):
            weight, late = taps[c, k], line[held - k:held - k + frames]
            for i in range(frames):
                row[i] += weight * late[i]
