"""A transport's speed from its causes, and reading at a speed that varies."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel, summing_kernel
from yellow_ember.dsp.kernels.filters import TINY
from yellow_ember.dsp.kernels.noise import INCREMENT, LOW_HALF, MULTIPLIER, as_noise, draw, joined

TICK = 32
"""Frames between two looks at what changes slowly."""
WOW, WOW_STEP, FLUTTER, FLUTTER_STEP, SCRAPE, DRIFT, UNSTEADY, PACK, PACK_GROWTH, WANDER, DRIFT_RATE = range(11)
"""What `vary` takes: amplitudes; phase a frame of wow (at a pack radius of 1) and flutter; how
irregular (0 to 1); square of the pack's radius at the session's start and its growth a frame;
one-pole coefficients, a tick, of what wanders and of drift."""
FIGURES = 11
(COUNT, WOW_C, WOW_S, WOW_TURN_C, WOW_TURN_S, FLUTTER_C, FLUTTER_S, FLUTTER_TURN_C, FLUTTER_TURN_S, WOW_NOW, WOW_SLOPE,
 FLUTTER_NOW, FLUTTER_SLOPE, DRIFT_NOW, DRIFT_SLOPE, DRIFT_HALF, SEED, SEED_LOW) = range(18)
WANDERERS = 18
"""Where the states of four wandering numbers begin."""
SCRAPE_1, SCRAPE_2 = 22, 23
STATES = 24


@kernel
def vary(speed: Samples, here: int, figures: Samples, band: Samples, state: Samples) -> None:
    """Fill `speed` (frames,) with the deviation from nominal speed, 0.01 = 1 % fast.

    Parameters
    ----------
    here : int
        Session frame of the first value.
    figures : Samples
        (FIGURES,).
    state : Samples
        (STATES,).
    band : Samples
        One section, the resonance in which the tape scrapes.
    """
    at = 0
    while at < speed.size:
        if state[COUNT] == 0.0:
            look_again(here + at, figures, state)
        run = min(int(state[COUNT]), speed.size - at)
        state[COUNT] -= run
        steady_run(speed[at:at + run], state)
        if figures[SCRAPE] > 0.0:
            scrape(speed[at:at + run], figures[SCRAPE], band, state)
        at += run


@kernel
def look_again(here: int, figures: Samples, state: Samples) -> None:
    """Once a tick: what wanders, the rates that follow it, and where amplitudes go until the next tick."""
    generator = state[SEED:SEED + 2]
    state[COUNT] = TICK
    for k in range(WANDERERS, WANDERERS + 4):
        state[k] += figures[WANDER] * (draw(generator) - state[k])
    spread = figures[UNSTEADY] / np.sqrt(figures[WANDER] / (2.0 - figures[WANDER]))
    radius = np.sqrt(max(figures[PACK] + figures[PACK_GROWTH] * max(here, 0), 1e-3))
    turn = figures[WOW_STEP] / radius * (1.0 + 0.12 * spread * state[WANDERERS])
    state[WOW_TURN_C], state[WOW_TURN_S] = math.cos(turn), math.sin(turn)
    turn = figures[FLUTTER_STEP] * (1.0 + 0.12 * spread * state[WANDERERS + 1])
    state[FLUTTER_TURN_C], state[FLUTTER_TURN_S] = math.cos(turn), math.sin(turn)
    for c in (WOW_C, FLUTTER_C):
        size = np.sqrt(state[c] ** 2 + state[c + 1] ** 2)
        state[c] /= size
        state[c + 1] /= size
    to = figures[WOW] * max(0.0, 1.0 + 0.35 * spread * state[WANDERERS + 2])
    state[WOW_SLOPE] = (to - state[WOW_NOW]) / TICK
    to = figures[FLUTTER] * max(0.0, 1.0 + 0.35 * spread * state[WANDERERS + 3])
    state[FLUTTER_SLOPE] = (to - state[FLUTTER_NOW]) / TICK
    rate = figures[DRIFT_RATE]
    state[DRIFT_HALF] += rate * (draw(generator) - state[DRIFT_HALF])
    # Two equal poles on white noise of unit power leave a quarter of the bandwidth.
    to = figures[DRIFT] * state[DRIFT_HALF] / np.sqrt(0.5 * rate)
    state[DRIFT_SLOPE] = rate * (to - state[DRIFT_NOW]) / TICK


@kernel
def steady_run(speed: Samples, state: Samples) -> None:
    """Wow, flutter and drift between two ticks: turning pointers of sliding length."""
    wow_c, wow_s, turn_c, turn_s = state[WOW_C], state[WOW_S], state[WOW_TURN_C], state[WOW_TURN_S]
    flutter_c, flutter_s = state[FLUTTER_C], state[FLUTTER_S]
    fast_c, fast_s = state[FLUTTER_TURN_C], state[FLUTTER_TURN_S]
    wow, wow_slope = state[WOW_NOW], state[WOW_SLOPE]
    flutter, flutter_slope = state[FLUTTER_NOW], state[FLUTTER_SLOPE]
    drift, drift_slope = state[DRIFT_NOW], state[DRIFT_SLOPE]
    for i in range(speed.size):
        wow_c, wow_s = wow_c * turn_c - wow_s * turn_s, wow_s * turn_c + wow_c * turn_s
        flutter_c, flutter_s = flutter_c * fast_c - flutter_s * fast_s, flutter_s * fast_c + flutter_c * fast_s
        wow += wow_slope
        flutter += flutter_slope
        drift += drift_slope
        speed[i] = wow * wow_s + flutter * flutter_s + drift
    state[WOW_C], state[WOW_S], state[FLUTTER_C], state[FLUTTER_S] = wow_c, wow_s, flutter_c, flutter_s
    state[WOW_NOW], state[FLUTTER_NOW], state[DRIFT_NOW] = wow, flutter, drift


@kernel
def scrape(speed: Samples, amount: float, band: Samples, state: Samples) -> None:
    """Add noise in a narrow band."""
    seed = joined(state[SEED], state[SEED_LOW])
    first, second = state[SCRAPE_1], state[SCRAPE_2]
    for i in range(speed.size):
        seed = seed * MULTIPLIER + INCREMENT
        x = amount * as_noise(seed)
        y = band[0] * x + first
        first = band[1] * x - band[3] * y + second
        second = band[2] * x - band[4] * y
        speed[i] += y
    state[SEED], state[SEED_LOW] = np.float64(seed >> np.uint64(32)), np.float64(seed & LOW_HALF)
    state[SCRAPE_1], state[SCRAPE_2] = first, second


TAPS = 22
PHASES = 512


@summing_kernel
def read_at(line: Samples, table: Samples, whole: int, part: float) -> float:
    """The signal between two samples.

    Parameters
    ----------
    table : Samples
        (PHASES, 2, TAPS), windowed sinc at each phase, and the step to the next.
    """
    phase = part * PHASES
    row = np.uintp(int(phase))
    t = phase - row
    first = np.uintp(whole)
    total = 0.0
    for k in range(np.uintp(TAPS)):
        total += (table[row, np.uintp(0), k] + t * table[row, np.uintp(1), k]) * line[first + k]
    return total


@kernel
def read_moving(block: Samples, speed: Samples, centre: int, reach: float, leak: float, level: float, skew: float,
                table: Samples, ring: Samples, index: int, state: Samples) -> int:
    """Read a block at a varying speed, in place; returns the ring's new index.

    Parameters
    ----------
    speed : Samples
        (1 or channels, frames), deviation from nominal.
    centre : int
        Frames of delay at rest.
    reach : float
        The most that the delay may move either way.
    leak : float
        Share of the displacement that returns to rest each frame.
    level : float
        Gain for each unit of deviation.
    skew : float
        Frames by which the first channel is read ahead, and the second behind.
    ring : Samples
        (channels, 2 length), every sample written twice, length 2 centre + TAPS.
    state : Samples
        (channels, 1), displacement in frames.
    """
    length = ring.shape[1] // 2
    knee = 0.75 * reach
    at = index
    for c in range(block.shape[0]):
        moves = speed[min(c, speed.shape[0] - 1)]
        row, line = block[c], ring[c]
        ahead, aside = state[c, 0], skew if c == 0 else -skew
        at = index
        for i in range(row.size):
            line[at] = line[at + length] = row[i]
            ahead += moves[i] - leak * ahead
            shown = ahead
            if abs(ahead) > knee:
                over = (abs(ahead) - knee) / (reach - knee)
                far = knee + (reach - knee) * over / (1.0 + over)
                shown = far if ahead > 0.0 else -far
            # The tap before the place read is TAPS / 2 - 1 from the first one in use.
            place = at + length - centre + shown + aside - (TAPS // 2 - 1)
            whole = int(place)
            row[i] = read_at(line, table, whole, place - whole) * (1.0 + level * moves[i])
            at = at + 1 if at + 1 < length else 0
        state[c, 0] = ahead if abs(ahead) > TINY else 0.0
    return at


@kernel
def read_still(block: Samples, centre: int, ring: Samples, index: int, state: Samples) -> int:
    """The same at nominal speed."""
    length = ring.shape[1] // 2
    at = index
    for c in range(block.shape[0]):
        row, line = block[c], ring[c]
        at = index
        for i in range(row.size):
            line[at] = line[at + length] = row[i]
            row[i] = line[at + length - centre]
            at = at + 1 if at + 1 < length else 0
        state[c, 0] = 0.0
    return at


PULLED, BEHIND, SPLICED, WRITTEN = range(4)
"""State of a motor: its speed, how many frames the tape is behind, how far the splice back is, where the ring is."""
GUARD = 2 * TAPS
"""Frames at a ring's beginning that are written again behind its end, so that no reading has to wrap."""
SEES = TAPS // 2
"""Frames of the future that reading between two samples takes."""
_FULL_SPEED, _STOPPING = 0.995, 0.1


@kernel
def run_motor(block: Samples, pull: float, inertia: float, splice: float, table: Samples, ring: Samples,
              state: Samples) -> None:
    """Play a block as a motor pulls it, `SEES` frames late, in place.

    Below full speed the tape falls behind.  Back at full speed, or with the ring full, a splice brings it back in
    step.  Near standing still the replay amplifier hears nothing.

    Parameters
    ----------
    pull : float
        The speed that the motor goes to, 0 to 1.
    inertia : float
        How much of the way to it goes by in a frame.
    splice : float
        Share of a splice a frame.
    ring : Samples
        (channels, length + GUARD).
    state : Samples
        (channels, 4).
    """
    length = ring.shape[1] - GUARD
    for c in range(block.shape[0]):
        row, line = block[c], ring[c]
        speed, behind, spliced, at = state[c, PULLED], state[c, BEHIND], state[c, SPLICED], int(state[c, WRITTEN])
        for i in range(row.size):
            line[at] = row[i]
            if at < GUARD:
                line[at + length] = row[i]
            speed += inertia * (pull - speed)
            if pull == 1.0 and 1.0 - speed < 1e-6:
                speed = 1.0
            behind += 1.0 - speed
            now = line[at - SEES if at >= SEES else at - SEES + length]
            if behind > 0.0:
                if spliced > 0.0 or (pull == 1.0 and speed > _FULL_SPEED) or behind > length - GUARD - 2.0 / splice:
                    spliced += splice
                if spliced >= 1.0:
                    behind = spliced = 0.0
                else:
                    # The tap before the place read is TAPS / 2 - 1 from the first one in use.
                    place = at - SEES - behind - (TAPS // 2 - 1)
                    if place < 0.0:
                        place += length
                    whole = int(place)
                    late = read_at(line, table, whole, place - whole) * min(1.0, speed / _STOPPING)
                    now = late + spliced * (now - late)
            row[i] = now
            at = at + 1 if at + 1 < length else 0
        state[c, PULLED], state[c, BEHIND], state[c, SPLICED], state[c, WRITTEN] = speed, behind, spliced, at


@kernel
def soften_attacks(block: Samples, fast_rise: float, slow_rise: float, fall: float, state: Samples) -> None:
    """Hold a rising level back to what a slower rise allows, in place.

    Parameters
    ----------
    fast_rise, slow_rise, fall : float
        Coefficients a frame of two followers.
    state : Samples
        (channels, 2), their levels.
    """
    for c in range(block.shape[0]):
        fast, slow = state[c, 0], state[c, 1]
        for i in range(block.shape[1]):
            x = abs(block[c, i])
            fast += (fast_rise if x > fast else fall) * (x - fast)
            slow += (slow_rise if fast > slow else fall) * (fast - slow)
            block[c, i] *= (slow + 1e-6) / (max(fast, slow) + 1e-6)
        state[c, 0] = fast if fast > TINY else 0.0
        state[c, 1] = slow if slow > TINY else 0.0
