"""A valve amplifier's circuit at the raised rate: two triodes, tone stack, phase splitter, push-pull output.

All voltages are what a node moves away from its rest, so silence is exactly zero.  Slow charges
(coupling and cathode capacitors, the supply's reservoir) are states.  What has no memory is a table; of a triode's
and of the plates' swing each sample takes the mean since the one before (Parker, Zavalishin and Le Bivic, DAFx 2016).
That mean and the pole of the capacitance before or after it are together that pole's bilinear transform, so it delays
nothing and takes no highs.
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
triode's cathode what its voltage keeps from sample to sample and takes a volt of plate voltage; how far
its grid's capacitance would go in a sample."""
GRID = 7

(SUPPLY, LOAD, FEEDBACK, PRESENCE, PRESENCE_POLE, SAG_GAIN, SAG_KEEP, IDLE, LEAKAGE, LOADED, RESONANCE, TURN, LOSS,
 RISE, COIL_POLE) = range(15)
"""Power stage: supply voltage, load of one half over that voltage, share of the output that is fed back,
how much of its highs is not, that corner's coefficient; of the reservoir, the volts an ampere takes a
sample, what it keeps, and the current at rest; share of the way that the output transformer's leakage
lets the swing go each sample.  Of the speaker, where there is one: 1; how much its impedance rises at the
resonance, that resonance's angle (as a tangent) and loss; how much it rises by the coil, that corner's coefficient."""
POWER = 15

CHARGE, CATHODE, VOLTS, REACH, PLACE, SUM = range(6)
"""State of a triode: its coupling capacitor's charge, cathode, grid; what stood before the grid; the last place in the
table and the sum there."""
FIRST_TRIODE, SECOND_TRIODE = 0, 6
(B1, T1, T2, T3, PI, PUSHED, S1, P1, P2, V1, V2, W1, FW, OUT, BACK, DROP, R1, R2, COIL) = range(12, 31)
"""State of one channel behind both triodes': the bright capacitor; the tone stack's three; the splitter's charge, what
stood before its grid, and that; both power grids' charges and voltages; wanted swing's place and sum; plate swing;
feedback's low-pass; the supply's drop; the speaker's resonance and coil."""
STATES = 31
SPLITTER, VALVE, PLATE, FIRST, SECOND = range(5)
"""Tables, as rows of `ranges`: low end, cells a unit, last place."""
_STILL = 1e-4
"""Cells: over less than this a mean is taken by the slope."""


@kernel
def within(position: float, last: float) -> float:
    """A place held between a table's ends."""
    position = position if position > 0.0 else 0.0
    return position if position < last else last


@kernel
def find(low: float, scale: float, last: float, x: float) -> float:
    """Place of `x` among a table's even cells; the ends are held."""
    return within((x - low) * scale, last)


@kernel
def cubic(a: float, b: float, c: float, d: float, t: float) -> float:
    return (a + t * b) + t * t * (c + t * d)


@kernel
def cubic_slope(b: float, c: float, d: float, t: float) -> float:
    return b + t * (2.0 * c + 3.0 * t * d)


@kernel
def charge_grid(pushed: float, share: float, pole: float, diode: float, threshold: float) -> float:
    """Voltage of a grid whose capacitance is charged through a source resistance, and that conducts.

    Above its threshold a grid draws the square of the excess.  One implicit step of the charge is a quadratic equation
    (its smaller branch).

    Parameters
    ----------
    pushed : float
        The last voltage, and `pole` times the one that it would go to in the end.
    share : float
        Leak over leak and source resistance.
    diode : float
        4 times source resistance and conductance.
    """
    over = pushed - (1.0 + pole) * threshold
    if over <= 0.0:
        return pushed / (1.0 + pole)
    return threshold + 2.0 * over / (1.0 + pole + math.sqrt((1.0 + pole) ** 2 + pole * share * diode * over))


@kernel
def charge_in_halves(volts: float, was: float, reach: float, share: float, pole: float, diode: float,
                     threshold: float) -> float:
    """`charge_grid` over a sample in two steps, of which the first ends halfway from `was` to `reach`."""
    half = 0.5 * pole
    volts = charge_grid(volts + half * share * 0.5 * (was + reach), share, half, diode, threshold)
    return charge_grid(volts + half * share * reach, share, half, diode, threshold)


@kernel
def current_at(valve: Samples, ranges: Samples, volts: float) -> float:
    """A power valve's current at a grid voltage from its bias."""
    position = find(ranges[VALVE, 0], ranges[VALVE, 1], ranges[VALVE, 2], volts)
    cell = int(position)
    return cubic(valve[cell, 0], valve[cell, 1], valve[cell, 2], valve[cell, 3], position - cell)


@kernel
def integral(total: float, a: float, b: float, c: float, d: float, t: float) -> float:
    """Sum of a cell's cubic up to t, and of all cells before."""
    return total + t * (a + t * (0.5 * b + t * (c * (1.0 / 3.0) + 0.25 * t * d)))


@kernel
def mean_since(moved: float, change: float, value: float, slope: float) -> float:
    """A table's mean over the cells that were moved since the last sample, its sum having changed by so much.

    Where it hardly moved, by the value now and the slope.
    """
    return change / moved if abs(moved) > _STILL else value - 0.5 * moved * slope


@kernel
def triode_stage(fast: Samples, channels: int, n: int, scale: float, g: Samples, row: int, table: Samples,
                 ranges: Samples, state: Samples, at: int) -> None:
    """A triode on n samples (channels, ...), in place; what it keeps stands at state[c, at...].

    In this loop and the next the channels take turns at every sample: that hides each other's waiting.
    """
    share, diode, threshold, charging = g[row, SHARE], g[row, DIODE], g[row, THRESHOLD], g[row, CHARGING]
    pole, keep, take = g[row, GRID_POLE], g[row, CATHODE_KEEP], g[row, CATHODE_GAIN]
    low, cells, last = ranges[FIRST + row, 0], ranges[FIRST + row, 1], ranges[FIRST + row, 2]
    begin = low * cells
    for i in range(n):
        for c in range(channels):
            reach = scale * fast[c, i] - state[c, at + CHARGE]
            v = charge_in_halves(state[c, at + VOLTS], state[c, at + REACH], reach, share, pole, diode, threshold)
            state[c, at + REACH], state[c, at + VOLTS] = reach, v
            state[c, at + CHARGE] += charging * (reach - v)
            held = state[c, at + CATHODE]
            here = (v - held) * cells
            raw = here - begin
            position = within(raw, last)
            index = np.int64(position)
            cell, t = np.uintp(index), position - np.float64(index)
            a, b, d, f = table[cell, 0], table[cell, 1], table[cell, 2], table[cell, 3]
            value = cubic(a, b, d, f, t)
            total = integral(table[cell, 4], a, b, d, f, t) + (raw - position) * value
            e = mean_since(here - state[c, at + PLACE], total - state[c, at + SUM], value, cubic_slope(b, d, f, t))
            state[c, at + PLACE], state[c, at + SUM] = here, total
            # The cathode's capacitor is slow against a sample: its voltage follows one later.
            state[c, at + CATHODE] = keep * held - take * e
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
            v = charge_in_halves(state[c, S1], state[c, PUSHED], reach, share, pole, diode, threshold)
            state[c, PI] += charging * (reach - v)
            state[c, PUSHED], state[c, S1] = reach, v
            fast[c, i] = v


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
    pole = g[3, GRID_POLE]
    s_low, s_cells, s_last = ranges[SPLITTER, 0], ranges[SPLITTER, 1], ranges[SPLITTER, 2]
    v_low, v_cells, v_last = ranges[VALVE, 0], ranges[VALVE, 1], ranges[VALVE, 2]
    p_low, p_cells, p_last = ranges[PLATE, 0], ranges[PLATE, 1], ranges[PLATE, 2]
    loaded, resonance, turn, loss = power[LOADED] == 1.0, power[RESONANCE], power[TURN], power[LOSS]
    coiled, coil_pole = power[RISE], power[COIL_POLE]
    r1 = 1.0 / (1.0 + turn * (turn + loss))
    r2 = turn * r1
    loop = supply * p_cells * load * v_cells * s_cells * fed * (1.0 - unfed)
    if loaded:
        loop *= 1.0 + resonance * loss * r2 + coiled * (1.0 - coil_pole)
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
            v1 = charge_grid(state[c, V1] + pole * share * reach1, share, pole, diode, threshold)
            v2 = charge_grid(state[c, V2] + pole * share * reach2, share, pole, diode, threshold)
            s1 = pole * share / (1.0 + pole + 0.5 * pole * share * diode * max(v1 - threshold, 0.0))
            s2 = pole * share / (1.0 + pole + 0.5 * pole * share * diode * max(v2 - threshold, 0.0))
            state[c, V1], state[c, V2] = v1, v2
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
            wanted = load * weaker * (a1 - a2)
            if loaded:
                # The impedance of a cone on its spring, and of a coil: a band-pass and what is above a low-pass.
                band = r1 * state[c, R1] + r2 * (wanted - state[c, R2])
                low = state[c, R2] + turn * band
                state[c, R1], state[c, R2] = 2.0 * band - state[c, R1], 2.0 * low - state[c, R2]
                coil = state[c, COIL] + coil_pole * (wanted - state[c, COIL])
                state[c, COIL] = coil
                wanted += resonance * loss * band + coiled * (wanted - coil)
            here = wanted * p_cells
            raw = here - p_low * p_cells
            position = within(raw, p_last)
            cell = np.uintp(np.int64(position))
            t = position - np.float64(np.int64(position))
            a, b, d, f = plate[cell, 0], plate[cell, 1], plate[cell, 2], plate[cell, 3]
            value, slope = cubic(a, b, d, f, t), cubic_slope(b, d, f, t)
            total = integral(plate[cell, 4], a, b, d, f, t) + (raw - position) * value
            made = supply * left * mean_since(here - state[c, W1], total - state[c, FW], value, slope)
            state[c, W1], state[c, FW] = here, total
            # This sample moves a mean by half of what it moves the value.
            steep = loop * 0.5 * slope * (m1 * s1 * d1 - m2 * s2 * d2)
            out += leak * (made - out) / (1.0 + leak * steep)
            state[c, OUT] = out
            state[c, BACK] = back + unfed_pole * (out - back)
            state[c, DROP] = keep * state[c, DROP] + give * (left * weaker * (a1 + a2) - idle)
            fast[c, i] = level * out


@kernel
def circuit(fast: Samples, channels: int, n: int, drive: Samples, grids: Samples, first: Samples,
            second: Samples, bright: Samples, tone: Samples, power: Samples, splitter: Samples, valve: Samples,
            plate: Samples, ranges: Samples, state: Samples) -> None:
    """The whole circuit on n samples at the raised rate (channels, ...), in place."""
    triode_stage(fast, channels, n, drive[0], grids, 0, first, ranges, state, FIRST_TRIODE)
    scale = bright[0]
    if bright[1] != 0.0 or bright[2] != 0.0:
        bright_gain(fast, channels, n, bright, state)
        scale = 1.0
    triode_stage(fast, channels, n, scale, grids, 1, second, ranges, state, SECOND_TRIODE)
    tone_stack(fast, channels, n, tone, drive[1], grids, state)
    power_stage(fast, channels, n, drive[2], power, grids, splitter, valve, plate, ranges, state)


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
    first, second, plate : Samples
        (cells, 5): plate voltage against grid voltage, swing that a wanted one leaves, both over the supply.
    bright : Samples
        First-order section b0 b1 a1.
    tone : Samples
        Third-order b0...b3 a1...a3.
    splitter : Samples
        (cells, 8), both outputs against the difference of its inputs.
    valve : Samples
        (cells, 4), current against grid voltage.
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
        circuit(voltages, channels, count, drive, grids, first, second, bright, tone, power, splitter,
                valve, plate, ranges, state)
        for c in range(channels):
            fall(fast, c, voltages[c], block[c, start:start + n])
    for c in range(channels):
        for k in range(STATES):
            if abs(state[c, k]) < TINY:
                state[c, k] = 0.0
