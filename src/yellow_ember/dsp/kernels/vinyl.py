"""A record: the stylus tracing its groove, the platter that turns it, and what lies in the groove."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.motion import TAPS, read_at
from yellow_ember.dsp.kernels.noise import hashed
from yellow_ember.dsp.oversampling import OversamplingRecord, fall, rise
from yellow_ember.dsp.record import cube

CHUNK = 128
"""Base-rate frames worked on at once."""


@kernel
def touch(high: Samples, n: int, centre: int, far: float, steep: float, held: Samples, groove: Samples,
          shifts: Samples) -> None:
    """Where the stylus touches one wall, for n samples in place.

    Parameters
    ----------
    far : float
        Its radius over the groove's speed in samples, of the wall's sign.
    held : Samples
        (2 centre + 4,).
    groove, shifts : Samples
        Scratch of that and n more.
    """
    kept = held.size
    for i in range(kept):
        groove[i] = held[i]
    for i in range(n):
        groove[kept + i] = high[i]
    for i in range(kept + n):
        slope = steep * groove[i]
        shifts[i] = far * slope / np.sqrt(1.0 + slope * slope)
    first = np.uintp(kept - centre - 2)
    for i in range(np.uintp(n)):
        # One Newton step from the shift that is due here; where the groove bends more than the stylus,
        # there is no single answer, and the step stays short.
        at = first + np.float64(i) + shifts[first + i]
        whole = np.int32(at)
        index = np.uintp(whole)
        before, rise = shifts[index], shifts[index + np.uintp(1)] - shifts[index]
        missed = before + (at - whole) * rise - shifts[first + i]
        at += missed / max(1.0 - rise, 0.4)
        at = min(max(at, 1.0), kept + n - 3.0)
        whole = np.int32(at)
        t = at - whole
        index = np.uintp(whole)
        a, b = groove[index - np.uintp(1)], groove[index]
        d, e = groove[index + np.uintp(1)], groove[index + np.uintp(2)]
        high[i] = b + 0.5 * t * (d - a + t * (2.0 * a - 5.0 * b + 4.0 * d - e + t * (3.0 * (b - d) + e - a)))
    for i in range(kept):
        held[i] = groove[n + i]


@kernel
def trace(block: Samples, steep: float, reach: float, centre: int, cut: Samples, play: Samples, cut_state: Samples,
          play_state: Samples, held: Samples, groove: Samples, shifts: Samples, walls: Samples,
          fast: OversamplingRecord) -> None:
    """Cut a block into a groove and play it with a round stylus, at the raised rate, in place.

    A stylus of radius R rides on the curve that lies R beside the groove's wall.  Both curves have the same
    slope at corresponding points, which lie R sin(slope angle) apart along the groove: so the velocity
    that is played is the one that was cut, at another time (after Corrington, RCA Review 10, 1949).

    Parameters
    ----------
    steep : float
        Slope that a signal of one has.
    reach : float
        R over the groove's speed, in frames at the raised rate.
    centre : int
        Frames of delay there.
    cut, play : Samples
        Sections of the equalisers; the second channel is the other wall.
    held : Samples
        (channels, 2 centre + 4).
    groove, shifts : Samples
        Scratch of that and CHUNK at the raised rate.
    walls : Samples
        Scratch, channels times CHUNK at the raised rate.
    """
    channels, up = block.shape[0], cube(fast.up)
    for start in range(0, block.shape[1], CHUNK):
        n = min(CHUNK, block.shape[1] - start)
        count = n << fast.levels
        high = walls[:channels * count].reshape(channels, count)
        for c in range(channels):
            raised = rise(fast, up[c], block[c, start:start + n])
            for i in range(count):
                high[c, i] = raised[i]
        biquads(high, cut, cut_state)
        for c in range(channels):
            touch(high[c], count, centre, reach if c == 0 else -reach, steep, held[c], groove, shifts)
        biquads(high, play, play_state)
        for c in range(channels):
            fall(fast, c, high[c], block[c, start:start + n])


TURNS, OFF_CENTRE, WARP, BEGINS, EVERY, STOPPING, RESTING, STARTING = range(8)
"""What `turn` takes: turns a second; deviation of the speed by a hole off the centre and by a warp (0.01 = 1 %);
of the gesture its first second (below zero for none), the seconds until it comes again (0 for never), and how long
stopping, standing and starting last."""
FIGURES = 8


@kernel
def gesture(seconds: float, figures: Samples) -> tuple[float, float]:
    """By how many seconds the gesture holds the record back, and the platter's speed, 1 at the full one."""
    since = seconds - figures[BEGINS]
    if figures[BEGINS] < 0.0 or since < 0.0:
        return 0.0, 1.0
    if figures[EVERY] > 0.0:
        since -= figures[EVERY] * np.floor(since / figures[EVERY])
    stopping, starting = figures[STOPPING], figures[STARTING]
    if since < stopping:
        return 0.5 * since * since / stopping, 1.0 - since / stopping
    since -= stopping
    if since < figures[RESTING]:
        return 0.5 * stopping, 0.0
    since -= figures[RESTING]
    if since < starting:
        # It is let go ahead of the music, so that at full speed both are together again.
        left = starting - since
        return -0.5 * left * left / starting, since / starting
    return 0.0, 1.0


@kernel
def turn(block: Samples, here: int, turned: int, rate: float, centre: int, figures: Samples, table: Samples,
         ring: Samples, index: int, speeds: Samples) -> int:
    """Play a block from a platter, in place; returns the ring's new place.

    Parameters
    ----------
    here : int
        Session frame of the first value, for the gesture.
    turned : int
        Frames that the platter has run by then.
    centre : int
        Frames of delay at rest.
    ring : Samples
        (channels, 2 length), every sample written twice.
    speeds : Samples
        (frames,), the platter's speed.
    """
    length = ring.shape[1] // 2
    round_ = 2.0 * math.pi * figures[TURNS]
    for i in range(block.shape[1]):
        angle = round_ * (turned + i) / rate
        delay, speed = gesture((here + i) / rate, figures)
        ahead = (figures[OFF_CENTRE] * math.sin(angle) + 0.5 * figures[WARP] * math.sin(2.0 * angle + 1.0)) / round_
        speeds[i] = speed
        # The tap before the place read is TAPS / 2 - 1 from the first one in use.
        at = index + i + length - centre - (delay - ahead) * rate - (TAPS // 2 - 1)
        whole = int(np.floor(at))
        part = at - whole
        first = whole % length
        for c in range(block.shape[0]):
            now = (index + i) % length
            ring[c, now] = block[c, i]
            ring[c, now + length] = block[c, i]
            block[c, i] = speed * read_at(ring[c], table, first, part) if speed > 0.0 else 0.0
    return int((index + block.shape[1]) % length)


CELLS, DUST, POPS, DUST_LEVEL, POP_LEVEL, SEED = range(6)
"""What `dirt` takes: cells a turn; chance of dust and of a pop in a cell; their levels; a seed."""
DIRT = 6
DUST_TURNS, POP_TURNS = 3.0, 12.0
"""For how many turns a piece of dust stays, and over how many a scratch runs."""
_KEY = 65536.0


@kernel
def lies(kind: float, cell: float, turn_: float, chance: float, lasting: float, seed: float) -> float:
    """The number of what lies in a cell of the record in some turn, or -1 for nothing.

    Each cell has a turn of its own at which what lies there changes.
    """
    epoch = np.floor((turn_ + lasting * hashed(seed + kind, cell)) / lasting)
    number = cell + _KEY * epoch
    return number if hashed(seed + kind + 1.0, number) < chance else -1.0


@kernel
def dirt(here: int, rate: float, turns: float, figures: Samples, dust: Samples, pops: Samples) -> None:
    """Fill with a pulse for each event, (channels, frames) both.

    Parameters
    ----------
    here : int
        Frames that the platter has run by the first value.
    turns : float
        Turns a second.
    """
    frames, seed = dust.shape[1], figures[SEED]
    for c in range(dust.shape[0]):
        for i in range(frames):
            dust[c, i] = 0.0
            pops[c, i] = 0.0
    cells = figures[CELLS]
    scale = turns * cells / rate
    for q in range(int(np.floor(here * scale)), int(np.floor((here + frames) * scale)) + 1):
        turn_ = np.floor(q / cells)
        cell = q - turn_ * cells
        for kind in range(2):
            chance = figures[DUST] if kind == 0 else figures[POPS]
            if chance <= 0.0:
                continue
            number = lies(10.0 * kind, cell, turn_, chance, DUST_TURNS if kind == 0 else POP_TURNS, seed)
            if number < 0.0:
                continue
            at = int(np.floor((q + hashed(seed + 10.0 * kind + 2.0, number)) / scale)) - here
            if at < 0 or at >= frames:
                continue
            # Most are small, a few stand out: 30 dB between them.
            loud = hashed(seed + 10.0 * kind + 3.0, number)
            level = (figures[DUST_LEVEL] if kind == 0 else figures[POP_LEVEL]) * 10.0 ** (1.5 * (loud * loud - 1.0))
            side = 2.0 * hashed(seed + 10.0 * kind + 4.0, number) - 1.0
            up = 1.0 if hashed(seed + 10.0 * kind + 5.0, number) < 0.5 else -1.0
            for c in range(dust.shape[0]):
                share = 1.0 - 0.7 * max(side if c == 0 else -side, 0.0)
                if kind == 0:
                    dust[c, at] += up * level * share
                else:
                    pops[c, at] += up * level * share
