"""What is wrong with a tape at each place of it, and a signal read from there."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY
from yellow_ember.dsp.kernels.motion import TAPS, read_at
from yellow_ember.dsp.kernels.noise import hashed

TICK = 32
"""Frames between two looks at the tape, on a grid of the session's time line."""
AGEING, AGEING_HZ, AGEING_SPREAD, CREASE, CREASE_HZ, CREASE_SPREAD, SEED, STEP_SECONDS, DEPTH_DB, FIRST = range(10)
"""What `damage` takes: shares from 0 to 1, rates, length of a dropout step, its depth."""
FIGURES = 10
LOSS_DB, OCTAVES, STUMBLE, DROP_DB = range(4)
"""What `damage` gives: level lost, octaves of highs lost, displacement in s, dropout before its edges."""
LEFT, GAIN, GAIN_SLOPE, LETS, LETS_SLOPE, AHEAD, AHEAD_SLOPE, DROP, LOSS, LOST, LOW_1, LOW_2 = range(12)
STATES = 12
CLING = 0.25
"""Share of the way, a tick, that level and highs go when the damage jumps: a tape bends, it does not break."""
FASTEST = 0.1
"""The most that a stumble changes the speed."""


@kernel
def wandering(seed: float, t: float, hz: float) -> float:
    """A smooth random value between 0 and 1 at a place in time."""
    position = t * hz
    cell = np.floor(position)
    u = position - cell
    u = u * u * (3.0 - 2.0 * u)
    a = hashed(seed, cell)
    return float(a + u * (hashed(seed, cell + 1.0) - a))


@kernel
def crumpled(seed: float, t: float, hz: float, share: float) -> float:
    """How deep in a crease the place is, 0 to 1: one crease in a cell of time, or none."""
    cell = np.floor(t * hz)
    # A share that grows lets creases come up one by one, not spring up.
    there = min(1.0, 8.0 * (0.3 + 0.8 * share - hashed(seed + 11.0, cell)))
    if there <= 0.0:
        return 0.0
    length = min(0.8 / hz, 0.06 + 0.3 * hashed(seed + 12.0, cell))
    start = cell / hz + (1.0 / hz - length) * hashed(seed + 13.0, cell)
    u = (t - start) / length
    if u <= 0.0 or u >= 1.0:
        return 0.0
    hollow = math.sin(math.pi * u)
    wrinkles = 0.65 + 0.35 * math.sin(2.0 * math.pi * u * (2.0 + 5.0 * hashed(seed + 14.0, cell)))
    return there * hollow * hollow * wrinkles * (0.4 + 0.6 * hashed(seed + 15.0, cell))


@kernel
def damage(t: float, channel: int, figures: Samples, steps: Samples, result: Samples) -> None:
    """What is wrong at session second `t`; result : (4,)

    Parameters
    ----------
    steps : Samples
        Depth of each dropout step, 0 to 1.
    """
    seed = figures[SEED]
    age = 0.0
    if figures[AGEING] > 0.0:
        own = figures[AGEING_SPREAD] if channel == 1 else 0.0
        age = wandering(seed, t, figures[AGEING_HZ])
        age += own * (wandering(seed + 101.0, t, figures[AGEING_HZ]) - age)
    crease = 0.0
    if figures[CREASE] > 0.0:
        own = figures[CREASE_SPREAD] if channel == 1 else 0.0
        crease = crumpled(seed, t, figures[CREASE_HZ], figures[CREASE])
        crease += own * (crumpled(seed + 201.0, t, figures[CREASE_HZ], figures[CREASE]) - crease)
    result[LOSS_DB] = figures[AGEING] * 7.0 * age * age + figures[CREASE] * 26.0 * crease
    result[OCTAVES] = figures[AGEING] * (1.2 + 2.8 * age) + figures[CREASE] * 5.0 * crease
    result[STUMBLE] = 0.0025 * figures[CREASE] * crease
    result[DROP_DB] = 0.0
    if figures[DEPTH_DB] > 0.0:
        step = np.floor((t - figures[FIRST]) / figures[STEP_SECONDS])
        result[DROP_DB] = figures[DEPTH_DB] * steps[int(step - steps.size * np.floor(step / steps.size))]


@kernel
def lets_through(octaves: float, rate: float) -> float:
    """One-pole coefficient of highs that begin to be lost so many octaves below 20 kHz; 1 for none."""
    if octaves < 1e-3:
        return 1.0
    lost = 1.0 - math.exp(-2.0 * math.pi * 20000.0 * 2.0**-octaves / rate)
    # The first half octave fades the filter in.
    share = min(1.0, 2.0 * octaves)
    return 1.0 + share * (lost - 1.0)


@kernel
def read_worn(block: Samples, here: int, rate: float, centre: int, figures: Samples, steps: Samples, attack: float,
              release: float, table: Samples, history: Samples, line: Samples, result: Samples,
              state: Samples) -> None:
    """A block from a worn tape, in place.

    Parameters
    ----------
    here : int
        Session frame of the first value.
    centre : int
        Frames of delay where the tape lies flat.
    attack, release : float
        One-pole coefficients, a tick, of the edges of dropouts.
    history : Samples
        (channels, 2 centre + TAPS).
    result : Samples
        (4,), scratch.
    state : Samples
        (channels, STATES).
    """
    held, n = history.shape[1], block.shape[1]
    stumbles = figures[CREASE] > 0.0
    for c in range(block.shape[0]):
        row, own = block[c], state[c]
        for i in range(held):
            line[i] = history[c, i]
        for i in range(n):
            line[held + i] = row[i]
        at = 0
        while at < n:
            if own[LEFT] == 0.0:
                frame = here + at
                left = TICK - frame % TICK
                damage((frame + left) / rate, c, figures, steps, result)
                to = result[DROP_DB]
                own[DROP] += (attack if to > own[DROP] else release) * (to - own[DROP])
                own[LOSS] += CLING * (result[LOSS_DB] - own[LOSS])
                own[LOST] += CLING * (result[OCTAVES] - own[LOST])
                lost = own[LOSS] + own[DROP]
                own[GAIN_SLOPE] = (10.0 ** (-lost / 20.0) - own[GAIN]) / left
                lets = lets_through(own[LOST] + 0.08 * own[DROP], rate)
                own[LETS_SLOPE] = (lets - own[LETS]) / left
                own[AHEAD_SLOPE] = min(max((result[STUMBLE] * rate - own[AHEAD]) / left, -FASTEST), FASTEST)
                own[LEFT] = left
            run = min(int(own[LEFT]), n - at)
            gain, lets, ahead = own[GAIN], own[LETS], own[AHEAD]
            first, second = own[LOW_1], own[LOW_2]
            for i in range(at, at + run):
                gain += own[GAIN_SLOPE]
                lets += own[LETS_SLOPE]
                ahead += own[AHEAD_SLOPE]
                if stumbles:
                    index = held + i - centre - ahead - (TAPS // 2 - 1)
                    whole = int(index)
                    x = read_at(line, table, whole, index - whole)
                else:
                    x = line[held + i - centre]
                first += lets * (x - first)
                second += lets * (first - second)
                row[i] = gain * second
            own[GAIN], own[LETS], own[AHEAD] = gain, lets, ahead
            own[LOW_1] = first if abs(first) > TINY else 0.0
            own[LOW_2] = second if abs(second) > TINY else 0.0
            own[LEFT] -= run
            at += run
        for i in range(held):
            history[c, i] = line[n + i]


@kernel
def along(seconds: Samples, figures: Samples, steps: Samples, result: Samples, loss_db: Samples,
          octaves: Samples) -> None:
    """`damage` of the first channel at many places, all (points,); `result` (4,) is worked out in."""
    for i in range(seconds.size):
        damage(seconds[i], 0, figures, steps, result)
        loss_db[i] = result[LOSS_DB] + result[DROP_DB]
        octaves[i] = result[OCTAVES] + 0.08 * result[DROP_DB]
