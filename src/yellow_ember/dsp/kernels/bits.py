"""Sampling at a low rate and quantising, one sample after the other."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.noise import INCREMENT, LOW_HALF, MULTIPLIER, as_noise, joined

RATIO, STEP, MU, JITTER, NOISE, DITHER = range(6)
"""What `reduce` takes: low rate over rate (1 or more: every frame is a sample), size of a step (0:
none), constant of the compander (0: linear), share of a period by which samples come early or
late, rms of noise before, 1 for dither."""
FIGURES = 6
PHASE, THRESHOLD, BEFORE, OLD, NEW, WAITING, SEED, SEED_LOW = range(8)
STATES = 8
HOLD, STRAIGHT = 0, 1
REDUCE_DELAY = 1


@kernel
def quantised(x: float, step: float, mu: float) -> float:
    """Nearest of the steps within full scale, on a straight or a companded scale (ITU-T G.711's law)."""
    if step == 0.0:
        return x
    y = min(max(x, -1.0), 1.0)
    if mu > 0.0:
        y = math.copysign(math.log1p(mu * abs(y)) / math.log1p(mu), y)
    y = min(max(step * np.floor(y / step + 0.5), -1.0), 1.0)
    if mu > 0.0:
        y = math.copysign(math.expm1(abs(y) * math.log1p(mu)) / mu, y)
    return float(y)


@kernel
def reduce(block: Samples, figures: Samples, smooth: int, state: Samples) -> None:
    """Sample, quantise and hold (or join by straight lines), in place; delays by `REDUCE_DELAY` frames.

    A held step that falls between two frames is rounded over both of them, so that it alone is
    heard and not its place on the grid (two-point band-limited step: Valimaki and Huovilainen,
    CMJ 30(2), 2006).  state : (channels, STATES)
    """
    ratio, step, mu = figures[RATIO], figures[STEP], figures[MU]
    for c in range(block.shape[0]):
        own = state[c]
        phase, threshold, before = own[PHASE], own[THRESHOLD], own[BEFORE]
        old, new, waiting = own[OLD], own[NEW], own[WAITING]
        seed = joined(own[SEED], own[SEED_LOW])
        for i in range(block.shape[1]):
            x = block[c, i]
            if figures[NOISE] > 0.0:
                seed = seed * MULTIPLIER + INCREMENT
                x += figures[NOISE] * as_noise(seed)
            shaken = 0.0
            if figures[DITHER] > 0.0:
                seed = seed * MULTIPLIER + INCREMENT
                shaken = as_noise(seed)
                seed = seed * MULTIPLIER + INCREMENT
                # Two even numbers make the triangle of two steps' width.
                shaken = step * (shaken + as_noise(seed)) * 0.28867513459481287
            if ratio >= 1.0:
                y = quantised(x + shaken, step, mu)
                block[c, i], waiting = waiting, y
                before, old, new = x, y, y
                continue
            phase += ratio
            y = new if smooth == HOLD else old + (new - old) * min(phase / threshold, 1.0)
            if phase >= threshold:
                delay = min((phase - threshold) / ratio, 1.0)
                taken = quantised(x - delay * (x - before) + shaken, step, mu)
                phase -= threshold
                threshold = 1.0
                if figures[JITTER] > 0.0:
                    seed = seed * MULTIPLIER + INCREMENT
                    threshold += 0.5 * figures[JITTER] * as_noise(seed) * 0.5773502691896258
                old, new = new, taken
                if smooth == HOLD:
                    waiting += 0.5 * (new - old) * delay * delay
                    y = new - 0.5 * (new - old) * (1.0 - delay) * (1.0 - delay)
                else:
                    y = old + (new - old) * min(phase / threshold, 1.0)
            block[c, i], waiting = waiting, y
            before = x
        own[PHASE], own[THRESHOLD], own[BEFORE] = phase, threshold, before
        own[OLD], own[NEW], own[WAITING] = old, new, waiting
        own[SEED], own[SEED_LOW] = np.float64(seed >> np.uint64(32)), np.float64(seed & LOW_HALF)
