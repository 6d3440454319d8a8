"""A valve amplifier's circuit at the raised rate: two triodes, tone stack, phase splitter, push-pull output.

All voltages are what a node moves away from its rest, so silence is exactly zero.  Slow charges
(coupling and cathode capacitors, the supply's reservoir) are states; what has no memory is solved
again at every sample.
"""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY
from yellow_ember.dsp.oversampling import OversamplingRecord, fall, rise
from yellow_ember.dsp.record import cube

CHUNK = 64
"""Base-rate frames worked on at once."""

SHARE, DIODE, THRESHOLD, CHARGING, CATHODE_KEEP, CATHODE_GAIN, GRID_POLE = range(7)
"""A grid behind a coupling capacitor: leak over leak and source resistance, of its diode 4 times source
resistance and conductance (A/V^2) and where it sets in, time step over source resistance and capacitance; of a
triode's cathode what its voltage keeps from sample to sample and takes a volt of plate voltage; share
of the way that its grid's capacitance goes each sample."""
GRID = 7

SUPPLY, LOAD, FEEDBACK, PRESENCE, PRESENCE_POLE, SAG_GAIN, SAG_KEEP, IDLE, LEAKAGE = range(9)
"""Power stage: supply voltage, load of one half over that voltage, share of the output that is fed back,
how much of its highs is not, that corner's coefficient; of the reservoir, the volts an ampere takes a
sample, what it keeps, and the current at rest; share of the way that the output transformer's leakage
lets the swing go each sample."""
POWER = 9

(G1, K1, L1, G2, K2, L2, T1, T2, T3, PI, S1, P1, P2, OUT, BACK, DROP, B1) = range(17)
"""State of one channel: coupling charge, cathode, grid capacitance of both triodes; the tone stack's three;
the splitter's charge and grid; both power grids' charges; plate swing; feedback's low-pass; the supply's
drop; the bright capacitor."""
STATES = 17
SPLITTER, VALVE, PLATE, FIRST, SECOND = range(5)
"""Tables, as rows of `ranges`: low end, cells a unit, last place."""


@kernel
def find(low: float, scale: float, last: float, x: float) -> float:
    """Place of `x` among a table's even cells; the ends are held."""
    position = (x - low) * scale
    position = position if position > 0.0 else 0.0
    return position if position < last else last


@kernel
def cubic(a: float, b: float, c: float, d: float, t: float) -> float:
    return a + t * (b + t * (c + t * d))


@kernel
def cubic_slope(b: float, c: float, d: float, t: float) -> float:
    return b + t * (2.0 * c + 3.0 * t * d)


@kernel
def grid(reach: float, share: float, diode: float, threshold: float) -> tuple[float, float]:
    """Voltage of a grid with `reach` before its source resistance, and its slope.

    Above its threshold a grid conducts by the square of the excess: then a quadratic equation
    is solved (its smaller branch).

    Parameters
    ----------
    share : float
        Leak over leak and source resistance.
    diode : float
        4 times source resistance and conductance.
    """
    v = reach * share
    over = v - threshold
    if over <= 0.0:
        return v, share
    root = math.sqrt(1.0 + share * diode * over)
    return threshold + 2.0 * over / (1.0 + root), share / root


@kernel
def current_at(valve: Samples, ranges: Samples, volts: float) -> float:
    """A power valve's current at a grid voltage from its bias."""
    position = find(ranges[VALVE, 0], ranges[VALVE, 1], ranges[VALVE, 2], volts)
    cell = int(position)
    return cubic(valve[cell, 0], valve[cell, 1], valve[cell, 2], valve[cell, 3], position - cell)


@kernel
def triode_stage(fast: Samples, channels: int, n: int, scale: float, g: Samples, row: int, table: Samples,
                 ranges: Samples, state: Samples, at: int) -> None:
    """A triode on n samples (channels, ...), in place; what it keeps stands at state[c, at...].

    In this loop and the next the channels take turns at every sample: that hides each other's waiting.
    """
    share, diode, threshold, charging = g[row, SHARE], g[row, DIODE], g[row, THRESHOLD], g[row, CHARGING]
    pole, keep, take = g[row, GRID_POLE], g[row, CATHODE_KEEP], g[row, CATHODE_GAIN]
    low, cells, last = ranges[FIRST + row, 0], ranges[FIRST + row, 1], ranges[FIRST + row, 2]
    for i in range(n):
        for c in range(channels):
            reach = scale * fast[c, i] - state[c, at]
            v, _ = grid(reach, share, diode, threshold)
            state[c, at] += charging * (reach - v)
            v = state[c, at + 2] + pole * (v - state[c, at + 2])
            state[c, at + 2] = v
            held = state[c, at + 1]
            position = find(low, cells, last, v - held)
            cell = np.uintp(np.int64(position))
            t = position - np.float64(np.int64(position))
            e = cubic(table[cell, 0], table[cell, 1], table[cell, 2], table[cell, 3], t)
            # The cathode's capacitor is slow against a sample: its voltage follows one later.
            state[c, at + 1] = keep * held - take * e
            fast[c, i] = e


@kernel
def tone_stack(fast: Samples, channels: int, n: int, tone: Samples, scale: float, g: Samples, state: Samples) -> None:
    """Tone stack, master and the splitter's grid on n samples (channels, ...), in place."""
    share, diode, threshold, charging, pole = g[2, SHARE], g[2, DIODE], g[2, THRESHOLD], g[2, CHARGING], g[2, GRID_POLE]
    for i in range(n):
        for c in range(channels):
            e = fast[c, i]
            y = tone[0] * e + state[c, T1]
            state[c, T1] = tone[1] * e - tone[4] * y + state[c, T2]
            state[c, T2] = tone[2] * e - tone[5] * y + state[c, T3]
            state[c, T3] = tone[3] * e - tone[6] * y
            reach = scale * y - state[c, PI]
            v, _ = grid(reach, share, diode, threshold)
            state[c, PI] += charging * (reach - v)
            v = state[c, S1] + pole * (v - state[c, S1])
            state[c, S1] = v
            fast[c, i] = v


@kernel
def power_stage(fast: Samples, channels: int, n: int, level: float, power: Samples, g: Samples, splitter: Samples,
                valve: Samples, plate: Samples, ranges: Samples, state: Samples) -> None:
    """Splitter and push-pull pair on n samples (channels, ...), in place.

    What is fed back depends on the swing itself: one Newton step from the last sample's swing.

    Parameters
    ----------
    splitter : Samples
        (cells, 8), both outputs against the difference of its inputs.
    valve : Samples
        Current against grid voltage.
    plate : Samples
        Swing that a wanted swing leaves, both over the supply.
    """
    supply, load, fed, unfed = power[SUPPLY], power[LOAD], power[FEEDBACK], power[PRESENCE] * (
        1.0 - power[PRESENCE_POLE])
    over_supply, unfed_pole, keep, give, idle, leak = 1.0 / supply, power[PRESENCE_POLE], power[SAG_KEEP], power[
        SAG_GAIN], power[IDLE], power[LEAKAGE]
    share, diode, threshold, charging = g[3, SHARE], g[3, DIODE], g[3, THRESHOLD], g[3, CHARGING]
    s_low, s_cells, s_last = ranges[SPLITTER, 0], ranges[SPLITTER, 1], ranges[SPLITTER, 2]
    v_low, v_cells, v_last = ranges[VALVE, 0], ranges[VALVE, 1], ranges[VALVE, 2]
    p_low, p_cells, p_last = ranges[PLATE, 0], ranges[PLATE, 1], ranges[PLATE, 2]
    loop = supply * p_cells * load * v_cells * s_cells * fed * (1.0 - unfed)
    for i in range(n):
        for c in range(channels):
            out, back = state[c, OUT], state[c, BACK]
            x = fast[c, i] - fed * (out - unfed * (out - back))
            position = find(s_low, s_cells, s_last, x)
            cell = np.uintp(np.int64(position))
            t = position - np.float64(np.int64(position))
            a, b, d, f = splitter[cell, 0], splitter[cell, 1], splitter[cell, 2], splitter[cell, 3]
            o1, d1 = cubic(a, b, d, f, t), cubic_slope(b, d, f, t)
            a, b, d, f = splitter[cell, 4], splitter[cell, 5], splitter[cell, 6], splitter[cell, 7]
            o2, d2 = cubic(a, b, d, f, t), cubic_slope(b, d, f, t)
            # As the supply gives way, the screens do: what cuts a valve off moves with them, and the
            # current goes by their power 1.35.
            left = 1.0 - state[c, DROP] * over_supply
            inverse, weaker = 2.0 - left, 0.65 + 0.35 * left
            reach1, reach2 = o1 - state[c, P1], o2 - state[c, P2]
            v1, s1 = grid(reach1, share, diode, threshold)
            v2, s2 = grid(reach2, share, diode, threshold)
            state[c, P1] += charging * (reach1 - v1)
            state[c, P2] += charging * (reach2 - v2)
            position = find(v_low, v_cells, v_last, v1 * inverse)
            cell = np.uintp(np.int64(position))
            t = position - np.float64(np.int64(position))
            a, b, d, f = valve[cell, 0], valve[cell, 1], valve[cell, 2], valve[cell, 3]
            a1, m1 = cubic(a, b, d, f, t), cubic_slope(b, d, f, t)
            position = find(v_low, v_cells, v_last, v2 * inverse)
            cell = np.uintp(np.int64(position))
            t = position - np.float64(np.int64(position))
            a, b, d, f = valve[cell, 0], valve[cell, 1], valve[cell, 2], valve[cell, 3]
            a2, m2 = cubic(a, b, d, f, t), cubic_slope(b, d, f, t)
            # The swing that their currents make, as far as the plates can go.
            position = find(p_low, p_cells, p_last, load * weaker * (a1 - a2))
            cell = np.uintp(np.int64(position))
            t = position - np.float64(np.int64(position))
            a, b, d, f = plate[cell, 0], plate[cell, 1], plate[cell, 2], plate[cell, 3]
            made = supply * left * cubic(a, b, d, f, t)
            steep = loop * cubic_slope(b, d, f, t) * (m1 * s1 * d1 - m2 * s2 * d2)
            out += leak * (made - out) / (1.0 + leak * steep)
            state[c, OUT] = out
            state[c, BACK] = back + unfed_pole * (out - back)
            state[c, DROP] = keep * state[c, DROP] + give * (left * weaker * (a1 + a2) - idle)
            fast[c, i] = level * out


@kernel
def bright_gain(fast: Samples, channels: int, n: int, bright: Samples, state: Samples) -> None:
    """The gain control with its bright capacitor on n samples (channels, ...), in place."""
    for c in range(channels):
        held = state[c, B1]
        for i in range(n):
            e = fast[c, i]
            y = bright[0] * e + held
            held = bright[1] * e - bright[2] * y
            fast[c, i] = y
        state[c, B1] = held


@kernel
def amplify(block: Samples, voltages: Samples, drive: Samples, grids: Samples, first: Samples, second: Samples,
            bright: Samples, tone: Samples, power: Samples, splitter: Samples, valve: Samples, plate: Samples,
            ranges: Samples, state: Samples, fast: OversamplingRecord) -> None:
    """The whole circuit but for the output transformer over a block, in place.

    Parameters
    ----------
    voltages : Samples
        Scratch, (channels, CHUNK at the raised rate).
    drive : Samples
        Volts at the input for full scale, what stands between tone stack and splitter, level a volt.
    grids : Samples
        (4, GRID), of both triodes, the splitter and the power valves.
    first, second : Samples
        (cells, 4).
    bright : Samples
        First-order section b0 b1 a1.
    tone : Samples
        Third-order b0...b3 a1...a3.
    state : Samples
        (channels, STATES).
    """
    channels, up = block.shape[0], cube(fast.up)
    for start in range(0, block.shape[1], CHUNK):
        n = min(CHUNK, block.shape[1] - start)
        count = n << fast.levels
        for c in range(channels):
            high = rise(fast, up[c], block[c, start:start + n])
            for i in range(count):
                voltages[c, i] = high[i]
        triode_stage(voltages, channels, count, drive[0], grids, 0, first, ranges, state, G1)
        bright_gain(voltages, channels, count, bright, state)
        triode_stage(voltages, channels, count, 1.0, grids, 1, second, ranges, state, G2)
        tone_stack(voltages, channels, count, tone, drive[1], grids, state)
        power_stage(voltages, channels, count, drive[2], power, grids, splitter, valve, plate, ranges, state)
        for c in range(channels):
            fall(fast, c, voltages[c], block[c, start:start + n])
    for c in range(channels):
        for k in range(STATES):
            if abs(state[c, k]) < TINY:
                state[c, k] = 0.0
