"""A layer under an envelope that strokes set off: detector, texture, oscillator, pitch."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY

FAST_RISE, FAST_FALL, SLOW_RISE, SLOW_FALL, ATTACK, DECAY, SENSE, FLOOR, HOLD = range(9)
"""One-pole coefficients of two followers; by how much of its height the envelope rises a frame, and what it keeps
a frame; how far the fast follower must pass the slow one; the least level; frames until the next stroke counts."""
FIGURES = 9
FAST, SLOW, STAGE, SHAPE, PEAK, SINCE = range(6)
STATES = 6
_SILENT = 3e-5
"""Where the envelope ends, -90 dB."""
_SETTLES = 144.0
"""Frames after a stroke in which its height is still sought."""


@kernel
def strokes(block: Samples, figures: Samples, envelope: Samples, states: Samples) -> None:
    """The envelope that the strokes in a block set off, (channels, frames); states : (channels, STATES)."""
    for c in range(block.shape[0]):
        own = states[c]
        fast, slow, shape, peak = own[FAST], own[SLOW], own[SHAPE], own[PEAK]
        stage, since = own[STAGE], own[SINCE]
        for i in range(block.shape[1]):
            x = abs(block[c, i])
            fast += (figures[FAST_RISE] if x > fast else figures[FAST_FALL]) * (x - fast)
            slow += (figures[SLOW_RISE] if fast > slow else figures[SLOW_FALL]) * (fast - slow)
            since += 1.0
            if fast > figures[SENSE] * slow and fast > figures[FLOOR] and since > figures[HOLD]:
                # It goes on from where it is: a stroke upon a tail does not begin with a gap.
                shape = min(shape * peak / fast, 1.0)
                peak, stage, since = fast, 1.0, 0.0
            if stage > 0.0:
                if since < _SETTLES and fast > peak:
                    shape *= peak / fast
                    peak = fast
                if stage == 1.0:
                    shape += figures[ATTACK]
                    if shape >= 1.0:
                        shape, stage = 1.0, 2.0
                else:
                    shape *= figures[DECAY]
                    if shape < _SILENT:
                        shape, stage = 0.0, 0.0
            envelope[c, i] = shape * peak
        own[FAST], own[SLOW] = (fast if fast > TINY else 0.0), (slow if slow > TINY else 0.0)
        own[STAGE], own[SHAPE], own[PEAK], own[SINCE] = stage, shape, peak, min(since, 1e9)


@kernel
def lay(envelope: Samples, texture: Samples, step: float, places: Samples, out: Samples) -> None:
    """The texture under the envelope into `out`; step : samples of it a frame; places : (channels,)."""
    length = texture.size
    for c in range(out.shape[0]):
        index = places[c]
        for i in range(out.shape[1]):
            whole = int(index)
            t = index - whole
            following = whole + 1 if whole + 1 < length else 0
            out[c, i] = envelope[c, i] * (texture[whole] + t * (texture[following] - texture[whole]))
            index += step
            if index >= length:
                index -= length
        places[c] = index


SINE, TRIANGLE, SAW = range(3)


@kernel
def oscillate(envelope: Samples, wave: int, level: float, hz: Samples, phases: Samples, out: Samples) -> None:
    """Add an oscillator under the envelope; hz : (channels, frames), over the rate; phases : (channels,)."""
    for c in range(out.shape[0]):
        phase = phases[c]
        for i in range(out.shape[1]):
            step = hz[c, i]
            phase += step
            phase -= np.floor(phase)
            if wave == SINE:
                y = math.sin(2.0 * math.pi * phase)
            elif wave == TRIANGLE:
                y = 4.0 * abs(phase - 0.5) - 1.0
            else:
                # The jump is rounded over a sample on either side (Valimaki and Huovilainen, 2007).
                y = 2.0 * phase - 1.0
                if phase < step:
                    t = phase / step
                    y -= t + t - t * t - 1.0
                elif phase > 1.0 - step:
                    t = (phase - 1.0) / step
                    y -= t * t + t + t + 1.0
            out[c, i] += level * envelope[c, i] * y
        phases[c] = phase


WINDOW, LONGEST, SHORTEST, HOP = 128, 150, 14, 32
"""Of the pitch tracker, in samples at its own low rate."""
LINE = WINDOW + LONGEST + 1
COUNT, TURN, HEARD, LOW_1, LOW_2 = range(5)
TRACKED = 5
_SURE = 0.15


@kernel
def track(block: Samples, every: int, keep: float, rate: float, start: float, lines: Samples, differences: Samples,
          states: Samples, hz: Samples) -> None:
    """The pitch of each channel, over the rate, (channels, frames); by YIN (de Cheveigne and Kawahara, JASA 111, 2002).

    Parameters
    ----------
    every : int
        Frames for one sample of the tracker.
    keep : float
        One-pole coefficient of the low-pass before.
    start : float
        Pitch in Hz before any is heard.
    lines : Samples
        (channels, LINE), the last samples.
    differences : Samples
        Scratch of LONGEST + 1.
    states : Samples
        (channels, TRACKED).
    """
    for c in range(block.shape[0]):
        own, line = states[c], lines[c]
        if own[HEARD] == 0.0:
            own[HEARD] = start / rate
        for i in range(block.shape[1]):
            own[LOW_1] += keep * (block[c, i] - own[LOW_1])
            own[LOW_2] += keep * (own[LOW_1] - own[LOW_2])
            own[COUNT] += 1.0
            if own[COUNT] >= every:
                own[COUNT] = 0.0
                for k in range(LINE - 1):
                    line[k] = line[k + 1]
                line[LINE - 1] = own[LOW_2]
                own[TURN] += 1.0
                if own[TURN] >= HOP:
                    own[TURN] = 0.0
                    period = yin(line, differences)
                    if period > 0.0:
                        result = 1.0 / (period * every)
                        # An octave's leap is taken at once, all else glides.
                        near = abs(math.log(result / own[HEARD])) < 0.35
                        own[HEARD] += (0.5 if near else 1.0) * (result - own[HEARD])
            hz[c, i] = own[HEARD]


@kernel
def yin(line: Samples, differences: Samples) -> float:
    """The period of what stands in a line, in samples, or 0 where there is none."""
    total = 0.0
    power = 0.0
    for k in range(WINDOW):
        power += line[LINE - 1 - k] ** 2
    if power < 1e-8:
        return 0.0
    for lag in range(1, LONGEST + 1):
        sum_ = 0.0
        for k in range(WINDOW):
            gap = line[LINE - 1 - k] - line[LINE - 1 - k - lag]
            sum_ += gap * gap
        total += sum_
        differences[lag] = sum_ * lag / max(total, 1e-30)
    for lag in range(SHORTEST, LONGEST):
        if differences[lag] < _SURE and differences[lag] <= differences[lag + 1]:
            a, b, d = differences[lag - 1], differences[lag], differences[lag + 1]
            bend = a - 2.0 * b + d
            return lag + (0.5 * (a - d) / bend if bend > 1e-12 else 0.0)
    return 0.0
