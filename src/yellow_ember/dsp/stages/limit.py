"""Limiter: true peaks stay under a ceiling, seen before they come.  True peak: ITU-R BS.1770-5, annex 2."""

from __future__ import annotations

import functools
import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.glyphs import line, wave
from yellow_ember.dsp.kernels import dynamics, inlined
from yellow_ember.dsp.kernels.meters import true_peaks
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.metering import true_peak_phases
from yellow_ember.dsp.parameters import Automation, Group, Number, Switch, Taper, Values, as_number
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    block_of,
    matrix,
    real,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
)
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind

_AHEAD_SECONDS = 0.0015
_MARGIN_DB = 0.06
"""What an interpolator of 48 taps may miss of a peak near the top of the band, and a moving gain adds."""
_TOP, _TOP_WIDTH, _TOP_DECIBELS = 0.44, 0.035, 80.0
"""Where the top that can't be limited begins, over the rate; the filter that finds it: its slope, and how far down
the rest is."""
_TOP_FADE, _TOP_HELD = 0.001, 0.01


@functools.cache
def _top_filter() -> Samples:
    """A linear-phase high-pass (taps,), for any rate, by Kaiser's window and his rule for its length."""
    taps = math.ceil((_TOP_DECIBELS - 7.95) / (2.285 * 2.0 * np.pi * _TOP_WIDTH) + 1.0) | 1
    window = np.kaiser(taps, 0.1102 * (_TOP_DECIBELS - 8.7))
    n, cut = np.arange(taps) - taps // 2, 2.0 * _TOP + _TOP_WIDTH
    response = (np.sinc(n) - cut * np.sinc(cut * n)) * window
    # 1 at half the rate.
    return np.ascontiguousarray(response / np.sum(response * np.cos(np.pi * n)))


class LimitRecord(Record):
    """Drive, the very top lowered, true-peak detector, delay with a smoothed gain."""

    linked: int = whole()
    ceiling: float = real()
    fall: float = real()
    phases: Samples = shared(2)
    fade: int = whole()
    held: float = real()
    top: Samples = shared(1)
    drive: Samples = setting(4)
    top_past: Samples = state("channels", "top_past")
    tops: Samples = state("channels", "top_fade")
    top_shares: Samples = state("channels", "top_fade")
    top_state: Samples = state("channels", dynamics.TOP_STATES)
    last: Samples = state("channels", 2)
    history: Samples = state("channels", "peak_held")
    ring: Samples = state("channels", "ahead")
    targets: Samples = state("channels", "ahead")
    gains: Samples = state("channels", "gain_states")
    peaks: Samples = scratch("samples")
    fine: Samples = scratch("peak_fine")
    line: Samples = scratch("peak_line")


@inlined
def process(record: LimitRecord, block: Samples) -> None:
    """The compiled half."""
    glide(block, vector(record.drive))
    peaks = block_of(record.peaks, block.shape[0], block.shape[1])
    dynamics.lower_top(block, vector(record.top), record.ceiling, record.fade, record.held, matrix(record.top_past),
                       matrix(record.tops), matrix(record.top_shares), matrix(record.top_state), vector(record.line))
    true_peaks(block, matrix(record.phases), matrix(record.history), matrix(record.last), vector(record.line),
               vector(record.fine), peaks)
    dynamics.limit(block, peaks, record.ceiling, record.fall, record.linked == 1, matrix(record.ring),
                   matrix(record.targets), matrix(record.gains))


class LimitProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(LimitRecord, process)

    def sizes(self, setup: Setup) -> dict[str, int]:
        count, taps = true_peak_phases().shape
        span, fade = max(4, round(_AHEAD_SECONDS * setup.rate)), max(4, round(_TOP_FADE * setup.rate))
        past = _top_filter().size - 1 + fade
        ahead = span + taps // 2 + 1
        self.latency = ahead + _top_filter().size // 2 + fade
        return {"ahead": ahead, "gain_states": dynamics.RECENT + span, "peak_held": taps - 1,
                "peak_line": max(taps, past) + setup.max_block, "peak_fine": count * setup.max_block + 2,
                "top_past": past, "top_fade": fade}

    def make_parts(self, setup: Setup) -> None:
        self.record.phases = true_peak_phases()
        self.record.top = _top_filter()
        self.record.fade = self.record.top_shares.shape[1]
        self.record.held = 1.0 - one_pole(_TOP_HELD, setup.rate)
        self._drive = self.ramp(1.0, self.record.drive)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self.record.targets = 1.0
        gains = self.record.gains
        gains[:, dynamics.LETTING] = gains[:, dynamics.SMOOTHED] = gains[:, dynamics.RECENT:] = 1.0

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record = self.record
        record.ceiling = gain(as_number(values["ceiling_dbtp"]) - _MARGIN_DB)
        record.fall = one_pole(as_number(values["release_ms"]) / 1000.0, self._setup.rate)
        record.linked = int(bool(values["linked"]))
        self._drive.go(gain(as_number(values["drive_db"])), at_once=at_once)


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Level out against level in, and the gain over time."""
    level = np.linspace(-36.0, 6.0, 85)
    driven = level + as_number(values["drive_db"])
    return (Plot("Peak out against peak in, dBFS", "levels", (
        Curve("untouched", level, level),
        Curve("limited", level, np.minimum(driven, as_number(values["ceiling_dbtp"])))), x_label="in", y_label="out"),
        Plot("Gain over time, dB", "gain", ()))


LIMIT = StageKind(
    kind="limit",
    label="Limiter",
    glyph=(line((0.05, 0.2), (0.95, 0.2)), wave(0.05, 0.95, 0.6, 0.3, 1.5, 37)),
    purpose="Keeps peaks under a ceiling, between the samples as well, without adding an edge.",
    front=("drive_db", "ceiling_dbtp", "release_ms"),
    neighbours=("trim",),
    parameters=(
        Number(id="drive_db", label="Level in", group=Group.DRIVE, unit="dB", minimum=-12.0, maximum=24.0, default=0.0,
               automation=Automation.RAMP,
               help="How far the sound is pushed up against the ceiling: louder and flatter."),
        Number(id="ceiling_dbtp", label="Ceiling", group=Group.DRIVE, unit="dBTP", minimum=-24.0, maximum=0.0,
               default=-1.0,
               help="No peak passes this level, not even between samples."),
        Number(id="release_ms", label="Release", group=Group.DRIVE, unit="ms", minimum=5.0, maximum=1000.0,
               default=80.0, taper=Taper.LOG, decimals=0,
               help="How soon it lets go: fast is loud and can grumble in the bass, slow stays clean."),
        Switch(id="linked", label="Left and right linked", group=Group.DRIVE, default=True,
               help="Both channels are held down together, so that the stereo picture stays still."),
    ),
    processor=LimitProcessor,
    picture=picture,
    rest=None,
    drive="drive_db",
    comfort_db=(-6.0, 12.0),
)
