"""Motion: how a transport's speed varies, and the line that reads at that speed.

One implementation for the motion stage and the tape machine.  Causes: the reel (its rate
falls as the pack grows), capstan or pinch roller, the tape scraping at guides and heads,
drift.  Each has its own irregularity, from a seed.  Model: docs/models/motion.md.
"""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import band_pass
from yellow_ember.dsp.flutter import weight
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels import motion as kernels
from yellow_ember.dsp.record import (
    Record,
    block_of,
    cube,
    matrix,
    real,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
)
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.stage import CLOCK_DELAY, CLOCK_FRAME, Setup

CENTRE_SECONDS = 0.018
"""Delay at rest where speed varies as real transports do."""
MARGIN_FRAMES = kernels.TAPS
"""How near to the present it is read at most."""
LOW_CENTRE_FRAMES, LOW_MARGIN_FRAMES = 22, kernels.TAPS // 2 + 1
"""Frames of delay at rest where sound comes in live, and how near it is read then; what moves further is held back."""
FAR_CENTRE_SECONDS = 0.12
"""Delay at rest with the extended range."""
_MOST_BEHIND = 2.5
"""Seconds that a slowed tape may fall behind before a splice brings it back."""
_MOTOR_INERTIA, _SPLICE_SECONDS = 0.05, 0.02
_REACH = 0.9
_LEAK_HZ = 0.02
_SCRAPE_HZ, _SCRAPE_Q = 3200.0, 1.6
_WANDER_HZ, _DRIFT_HZ = 0.6, 0.12


@dataclass(frozen=True, slots=True)
class SpeedFigures:
    """Causes of speed variation.

    Attributes
    ----------
    wow_pct, flutter_pct : float
        Weighted peak, IEC 60386.
    drift_pct, scrape_pct : float
        Peak, unweighted.
    wow_hz : float
        Rate at a pack radius of 1.
    unsteady : float
        0 to 1.
    pack : float
        Square of the pack's radius at the session's start, in units of that radius.
    pack_growth : float
        By how much it grows a second.
    """

    wow_pct: float = 0.0
    wow_hz: float = 0.8
    flutter_pct: float = 0.0
    flutter_hz: float = 7.0
    drift_pct: float = 0.0
    scrape_pct: float = 0.0
    unsteady: float = 0.0
    pack: float = 1.0
    pack_growth: float = 0.0

    @property
    def still(self) -> bool:
        return self.wow_pct == self.flutter_pct == self.drift_pct == self.scrape_pct == 0.0


def _kernel_figures(figures: SpeedFigures, rate: float, wow: float, flutter: float) -> Samples:
    """What `kernels.vary` takes, with amplitudes of wow and flutter that are not weighted."""
    tick = kernels.TICK / rate
    result = np.zeros(kernels.FIGURES)
    result[kernels.WOW], result[kernels.FLUTTER] = wow, flutter
    result[kernels.WOW_STEP] = 2.0 * math.pi * figures.wow_hz / rate
    result[kernels.FLUTTER_STEP] = 2.0 * math.pi * figures.flutter_hz / rate
    # Both are near Gaussian: a peak is where two sigma lie.
    result[kernels.DRIFT] = 0.5 * figures.drift_pct / 100.0
    result[kernels.SCRAPE] = 0.5 * figures.scrape_pct / 100.0 * math.sqrt(rate * _SCRAPE_Q / (math.pi * _SCRAPE_HZ))
    result[kernels.UNSTEADY] = figures.unsteady
    result[kernels.PACK], result[kernels.PACK_GROWTH] = figures.pack, figures.pack_growth / rate
    result[kernels.WANDER] = 1.0 - math.exp(-2.0 * math.pi * _WANDER_HZ * tick)
    result[kernels.DRIFT_RATE] = 1.0 - math.exp(-2.0 * math.pi * _DRIFT_HZ * tick)
    return result


def _fresh_state(seed: int, turned: float = 0.0) -> Samples:
    """A transport that starts to run, its wheels turned by some angle; its first tick sets everything else."""
    state = np.zeros(kernels.STATES)
    state[kernels.WOW_C] = state[kernels.FLUTTER_C] = math.cos(turned)
    state[kernels.WOW_S] = state[kernels.FLUTTER_S] = math.sin(turned)
    state[kernels.SEED], state[kernels.SEED_LOW] = seed, 0x9E3779B9
    return state


def _amplitude(weighted_pct: float, hz: float, unsteady: float) -> float:
    """Unweighted amplitude of a component at that rate which reads as a weighted peak.

    An unsteady one swells, and strays to rates that weigh more: fitted to the generator itself
    within 4 % from 0.4 Hz up, which tests/test_motion.py holds it to.
    """
    swell = 1.0 + unsteady * (0.28 + 0.46 * (0.5 / hz) ** 3)
    return 0.01 * weighted_pct / (float(weight(hz)) * swell)


def calibrated(figures: SpeedFigures, rate: float) -> Samples:
    """What `kernels.vary` takes for weighted figures."""
    wow = _amplitude(figures.wow_pct, figures.wow_hz / math.sqrt(figures.pack), figures.unsteady)
    return _kernel_figures(figures, rate, wow, _amplitude(figures.flutter_pct, figures.flutter_hz, figures.unsteady))


def _scrape_band(rate: float) -> Samples:
    return np.array(band_pass(_SCRAPE_HZ, _SCRAPE_Q, rate))


def speed_curve(figures: SpeedFigures, seconds: float, rate: float, seed: int = 0, *, at: float = 0.0) -> Samples:
    """Deviation from nominal speed over time, (frames,), from the session's second `at` on."""
    curve = np.zeros(round(seconds * rate))
    kernels.vary(curve, round(at * rate), calibrated(figures, rate), _scrape_band(rate), _fresh_state(seed))
    return curve


@functools.cache
def interpolator() -> Samples:
    """(PHASES, 2, TAPS) windowed sinc and its steps.

    Kaiser window; from 0 to 0.31 of the rate its error is below -100 dB.
    """
    phase = np.arange(kernels.PHASES + 1)[:, None] / kernels.PHASES
    offset = np.arange(kernels.TAPS)[None, :] - (kernels.TAPS // 2 - 1) - phase
    inside = np.clip(1.0 - (offset / (kernels.TAPS / 2.0)) ** 2, 0.0, None)
    window = np.i0(10.0 * np.sqrt(inside)) / np.i0(10.0)
    h = np.sinc(offset) * window
    return np.ascontiguousarray(np.stack((h[:-1], np.diff(h, axis=0)), axis=1))


def centre_frames(rate: float, *, far: bool) -> int:
    """Frames of delay at rest."""
    return round(rate * (FAR_CENTRE_SECONDS if far else CENTRE_SECONDS)) + kernels.TAPS


class MotorRecord(Record):
    """A motor that can be slowed.  Sizes: `motor_sizes`."""

    runs: int = whole()
    pull: float = real()
    inertia: float = real()
    splice: float = real()
    table: Samples = shared(3)
    ring: Samples = state("channels", "motor_ring")
    turns: Samples = state("channels", 4)


def motor_lookahead(*, slows: bool) -> int:
    """Frames of the future that a motor which can be slowed must see."""
    return kernels.SEES if slows else 0


def motor_sizes(setup: Setup) -> dict[str, int]:
    """Sizes in a record with a `MotorRecord` in it; only one with a look-ahead can be slowed"""
    return {"motor_ring": round(_MOST_BEHIND * setup.rate) + kernels.GUARD if setup.lookahead else 1}


def set_up_motor(record: MotorRecord, setup: Setup) -> None:
    """Make a record ready."""
    record.runs = int(setup.lookahead > 0)
    record.inertia = 1.0 - math.exp(-1.0 / (_MOTOR_INERTIA * setup.rate))
    record.splice = 1.0 / (_SPLICE_SECONDS * setup.rate)
    record.table = interpolator()
    record.pull = 1.0


def start_motor(record: MotorRecord) -> None:
    """Start at the speed that is set; called after the record's state was emptied."""
    record.turns[:, kernels.PULLED] = record.pull


@inlined
def pull(record: MotorRecord, block: Samples) -> None:
    """Play a block as the motor pulls it, in place."""
    if record.runs == 1:
        kernels.run_motor(block, record.pull, record.inertia, record.splice, cube(record.table), matrix(record.ring),
                          matrix(record.turns))


class MotionRecord(Record):
    """A signal at a varying speed.  Sizes: `motion_sizes`."""

    still: int = whole()
    centre: int = whole()
    reach: float = real()
    leak: float = real()
    spread: float = real()
    level: float = real()
    skew: float = real()
    clock: Samples = shared(1)
    table: Samples = shared(3)
    band: Samples = shared(1)
    figures: Samples = setting(kernels.FIGURES)
    transports: Samples = state(2, kernels.STATES)
    ring: Samples = state("channels", "moving_ring")
    index: Samples = state(1)
    ahead: Samples = state("channels", 1)
    speed: Samples = scratch("two_sides")


def motion_sizes(setup: Setup, centre: int) -> dict[str, int]:
    """Sizes in a record with a `MotionRecord` in it; centre : frames of delay at rest"""
    return {"moving_ring": 2 * (2 * centre + kernels.TAPS), "two_sides": 2 * setup.max_block}


def set_up_motion(record: MotionRecord, setup: Setup, centre: int, margin: int = MARGIN_FRAMES) -> None:
    """Make a record ready; `centre` frames pass at rest, and it comes no nearer to the present than `margin`."""
    record.centre = centre
    record.reach = _REACH * (centre - margin)
    record.leak = 1.0 - math.exp(-2.0 * math.pi * _LEAK_HZ / setup.rate)
    record.clock, record.table, record.band = setup.clock.times, interpolator(), _scrape_band(setup.rate)
    record.figures = calibrated(SpeedFigures(), setup.rate)


def start_motion(record: MotionRecord, setup: Setup) -> None:
    """Start both transports again; called after the record's state was emptied."""
    for index, transport in enumerate(record.transports):
        transport[:] = _fresh_state(seed_from(setup.seed, "transport", index), 2.0 * index)


def set_motion(record: MotionRecord, figures: SpeedFigures, rate: float, *, spread: float = 0.0, level: float = 0.0,
               skew: float = 0.0) -> None:
    """Take new figures.

    Parameters
    ----------
    spread : float
        0 to 1, how far the right channel goes its own way.
    level : float
        0 to 1, how far it moves.
    skew : float
        Frames by which the left channel is read ahead and the right one behind.
    """
    record.still = int(figures.still and skew == 0.0)
    record.skew, record.spread = skew, spread
    record.figures = calibrated(figures, rate)
    most = record.figures[kernels.WOW] + record.figures[kernels.FLUTTER] + record.figures[kernels.DRIFT]
    record.level = 0.4 * level / most if most > 0.0 else 0.0


@inlined
def move(record: MotionRecord, block: Samples) -> None:
    """Read a block at the varying speed, in place."""
    ring, index, ahead = matrix(record.ring), vector(record.index), matrix(record.ahead)
    if record.still == 1:
        index[0] = kernels.read_still(block, record.centre, ring, int(index[0]), ahead)
        return
    channels, frames = block.shape
    apart = record.spread > 0.0 and channels == 2
    speed = block_of(record.speed, 2 if apart else 1, frames)
    clock, transports = vector(record.clock), matrix(record.transports)
    here = int(clock[CLOCK_FRAME] - clock[CLOCK_DELAY])
    for row in range(speed.shape[0]):
        kernels.vary(speed[row], here, vector(record.figures), vector(record.band), transports[row])
    if apart:
        for i in range(frames):
            speed[1, i] = speed[0, i] + record.spread * (speed[1, i] - speed[0, i])
    index[0] = kernels.read_moving(block, speed, record.centre, record.reach, record.leak, record.level, record.skew,
                                   cube(record.table), ring, int(index[0]), ahead)
