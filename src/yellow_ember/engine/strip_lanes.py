"""Lanes of a strip itself: volume, pan, mute and bypass, sample by sample on what comes out of its path."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.lanes import GRID, LANE, lane_at, lane_record, value_of
from yellow_ember.dsp.record import Record, record_at, setting, vector, whole
from yellow_ember.dsp.stage import CLOCK_FROM, in_session
from yellow_ember.dsp.stage_lanes import ROWS, between
from yellow_ember.engine.faders import fader_level, pan_gains
from yellow_ember.session.values.model import Strip
from yellow_ember.session.values.strip_values import BYPASS, MUTE, PAN, VOLUME


class StripLanesRecord(Record):
    """All lanes of a strip.

    Attributes
    ----------
    volume, pan, mute, bypass : int
        Where the lanes' records lie, 0 for none.
    volumes, lefts, rights : Samples
        Gains by place of the control.
    """

    volume: int = whole()
    pan: int = whole()
    mute: int = whole()
    bypass: int = whole()
    volumes: Samples = setting(ROWS)
    lefts: Samples = setting(ROWS)
    rights: Samples = setting(ROWS)


@kernel
def _gains_at(lanes: StripLanesRecord, frame: float) -> tuple[float, float, float]:
    """Left and right gain, and the path's share in what is heard, at a frame."""
    left, right, share = 1.0, 1.0, 1.0
    if lanes.pan != 0:
        place = lane_at(record_at(lanes.pan, LANE), frame)
        left, right = between(vector(lanes.lefts), place), between(vector(lanes.rights), place)
    level = 1.0
    if lanes.volume != 0:
        level = between(vector(lanes.volumes), lane_at(record_at(lanes.volume, LANE), frame))
    if lanes.mute != 0:
        level *= 1.0 - lane_at(record_at(lanes.mute, LANE), frame)
    if lanes.bypass != 0:
        share = 1.0 - lane_at(record_at(lanes.bypass, LANE), frame)
    return left * level, right * level, share


@kernel
def fill_gains(lanes: StripLanesRecord, clock: Samples, raw: float, gains: Samples, start: int, frames: int) -> None:
    """Write left and right gain and the path's share (3, frames) for what comes out, from a column on.

    They go in straight lines from one place of the grid to the next.

    Parameters
    ----------
    raw : float
        The frame of the strip's clock at which what comes out first was read.
    """
    i = 0
    while i < frames:
        frame = in_session(clock, raw + i)
        cell = math.floor(frame / GRID) * float(GRID)
        stop = min(frames, i + int(cell + GRID - frame))
        until = clock[CLOCK_FROM] - raw
        if i < until < stop:
            stop = int(until)
        first, last = _gains_at(lanes, cell), _gains_at(lanes, cell + GRID)
        for k in range(3):
            step = (last[k] - first[k]) / GRID
            for j in range(i, stop):
                gains[k, start + j] = first[k] + step * (frame - cell + j - i + 1)
        i = stop


@kernel
def blend(block: Samples, before: Samples, share: Samples) -> None:
    """Let the input through in place of what the chain made, as far as a share (frames,) says."""
    for c in range(block.shape[0]):
        source = before[min(c, before.shape[0] - 1)]
        for i in range(block.shape[1]):
            block[c, i] = source[i] + share[i] * (block[c, i] - source[i])


@kernel
def turn_down(out: Samples, gains: Samples) -> None:
    """Put left and right gain on a block (2, frames)."""
    for c in range(2):
        for i in range(out.shape[1]):
            out[c, i] *= gains[c, i]


class StripLanes:
    """The Python half: the lanes of a strip that are on.  drawn : ids of what has one"""

    def __init__(self, strip: Strip, channels: int, rate: float) -> None:
        lanes = {lane.parameter: lane for lane in strip.lanes if lane.on}
        record = self.record = StripLanesRecord.make()
        self._kept = []
        drawn = set()
        for parameter in (VOLUME, PAN, MUTE, BYPASS):
            if parameter.id in lanes:
                made = lane_record(lanes[parameter.id], parameter, rate, glides=True)
                self._kept.append(made)
                setattr(record, parameter.id.removesuffix("_db"), made.address)
                drawn.add(parameter.id)
        self.drawn = frozenset(drawn)
        places = [row / (ROWS - 1) for row in range(ROWS)]
        record.volumes = np.array([fader_level(value_of(VOLUME, place)) for place in places])
        record.lefts, record.rights = np.array([pan_gains(value_of(PAN, place), channels) for place in places]).T
