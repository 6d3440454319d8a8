"""Limiter: true peaks stay under a ceiling, seen before they come.  True peak: ITU-R BS.1770-5, annex 2."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view, gain
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.kernels import dynamics
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.metering import true_peak_phases
from yellow_ember.dsp.parameters import Automation, Group, Number, Switch, Taper, Values, as_number
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind

_AHEAD_SECONDS = 0.0015
_MARGIN_DB = 0.2
"""What an interpolator of 12 taps may miss of a peak near the top of the band, and a moving gain adds."""


class LimitProcessor(Processor):
    """Drive, true-peak detector, delay with a smoothed gain."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        channels = setup.channels
        self._phases = true_peak_phases()
        found_late = (self._phases.shape[1] - 1) // 2
        span = max(4, round(_AHEAD_SECONDS * setup.rate))
        ahead = span + found_late + 1
        self._peaks: Samples = np.zeros(channels * setup.max_block)
        self._line: Samples = np.zeros(self._phases.shape[1] + setup.max_block)
        self._history: Samples = np.zeros((channels, self._phases.shape[1] - 1))
        self._ring: Samples = np.zeros((channels, ahead))
        self._targets: Samples = np.ones((channels, ahead))
        self._state: Samples = np.zeros((channels, dynamics.RECENT + span))
        self._drive = self.ramp(1.0, setup.rate)
        self.latency = ahead
        self.carry(self._history, self._ring, self._targets, self._state)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self._targets.fill(1.0)
        self._state[:, dynamics.LETTING] = self._state[:, dynamics.SMOOTHED] = 1.0
        self._state[:, dynamics.RECENT:] = 1.0

    def set(self, values: Values, *, at_once: bool = False) -> None:
        self._ceiling = gain(as_number(values["ceiling_dbtp"]) - _MARGIN_DB)
        self._fall = one_pole(as_number(values["release_ms"]) / 1000.0, self._setup.rate)
        self._linked = bool(values["linked"])
        self._drive.go(gain(as_number(values["drive_db"])), at_once=at_once)

    def process(self, block: Samples) -> None:
        glide(block, self._drive.state)
        peaks = block_view(self._peaks, *block.shape)
        dynamics.true_peaks(block, self._phases, self._history, self._line, peaks)
        dynamics.limit(block, peaks, self._ceiling, self._fall, self._linked, self._ring, self._targets, self._state)


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
    glyph="L",
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
