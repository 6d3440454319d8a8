"""Compressor, over the whole sound or in three bands.  Source: Giannoulis, Massberg and Reiss, JAES 60 (2012)."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view, gain
from yellow_ember.dsp.compression import compression
from yellow_ember.dsp.filters import BUTTERWORTH_Q, high_pass, split
from yellow_ember.dsp.kernels import dynamics
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.mixing import add, glide
from yellow_ember.dsp.parameters import Automation, Group, Number, Switch, Taper, Values, as_number
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind

_NO_CUT = 20.0
_BANDS = 3


def _figures(values: Values, rate: float, reference_dbfs: float) -> Samples:
    return compression(as_number(values["threshold_db"]) + reference_dbfs, 1.0 - 1.0 / as_number(values["ratio"]),
                       as_number(values["knee_db"]), as_number(values["attack_ms"]) / 1000.0,
                       as_number(values["release_ms"]) / 1000.0, rate)


class CompProcessor(Processor):
    """Bands are split by Linkwitz-Riley filters, whose sum is an all-pass, and each has a detector of its own."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        channels, size = setup.channels, setup.channels * setup.max_block
        self._parts: Samples = np.zeros((_BANDS, size))
        self._heard: Samples = np.zeros(size)
        self._levels: Samples = np.zeros((_BANDS, channels, 4))
        self._cut: Samples = np.zeros((1, 5))
        self._cut_state: Samples = np.zeros((channels, 1, 2))
        self._splits: Samples = np.zeros((2, 2, 2, 5))
        self._split_states: Samples = np.zeros((4, channels, 2, 2))
        self._straight: Samples = np.zeros((2, 5))
        self._straight_states: Samples = np.zeros((2, channels, 2, 2))
        self._out = self.ramp(1.0, setup.rate)
        self.settling = round(0.004 * setup.rate)
        self.carry(self._levels, self._cut_state, self._split_states, self._straight_states)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self._levels[:, :, 1] = 1.0

    def set(self, values: Values, *, at_once: bool = False) -> None:
        rate = self._setup.rate
        self._figures = _figures(values, rate, self._setup.reference_dbfs)
        self._linked = bool(values["linked"])
        self._banded = bool(values["per_band"])
        cut = as_number(values["detector_cut_hz"])
        self._hears_less = cut > _NO_CUT
        self._cut[0] = high_pass(cut, BUTTERWORTH_Q, rate)
        low, high = as_number(values["low_edge_hz"]), as_number(values["high_edge_hz"])
        for index, hz in enumerate((low, max(high, 1.5 * low))):
            self._splits[index, 0], self._splits[index, 1] = split(hz, rate)
        self._out.go(gain(as_number(values["makeup_db"])), at_once=at_once)

    def process(self, block: Samples) -> None:
        if self._banded:
            self._in_bands(block)
        else:
            heard = block_view(self._heard, *block.shape)
            heard[...] = block
            if self._hears_less:
                biquads(heard, self._cut, self._cut_state)
            dynamics.compress(block, heard, self._figures, self._linked, self._levels[0])
        glide(block, self._out.state)

    def _in_bands(self, block: Samples) -> None:
        low, middle, high = (block_view(part, *block.shape) for part in self._parts)
        for part in (low, middle, high):
            part[...] = block
        states = self._split_states
        biquads(low, self._splits[0, 0], states[0])
        biquads(middle, self._splits[0, 1], states[1])
        high[...] = middle
        biquads(middle, self._splits[1, 0], states[2])
        biquads(high, self._splits[1, 1], states[3])
        # The low band goes through the upper split as well, both halves summed, so that all stay in phase.
        heard = block_view(self._heard, *block.shape)
        heard[...] = low
        biquads(low, self._splits[1, 0], self._straight_states[0])
        biquads(heard, self._splits[1, 1], self._straight_states[1])
        add(low, heard)
        block.fill(0.0)
        for part, levels in zip((low, middle, high), self._levels, strict=True):
            heard[...] = part
            dynamics.compress(part, heard, self._figures, self._linked, levels)
            add(block, part)


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Level out against level in, both against 0 VU."""
    figures = _figures(values, rate, reference_dbfs)
    level = np.linspace(-48.0, 18.0, 133)
    held = np.array([dynamics.reduction_db(float(at) + reference_dbfs, figures) for at in level])
    makeup = as_number(values["makeup_db"])
    return (Plot("Level out against level in, dB against 0 VU", "levels", (
        Curve("untouched", level, level), Curve("compressed", level, level - held + makeup)),
        x_label="in", y_label="out"),
        Plot("Gain over time, dB", "gain", ()))


def _idle(values: Values) -> frozenset[str]:
    return frozenset() if values["per_band"] else frozenset({"low_edge_hz", "high_edge_hz"})


COMP = StageKind(
    kind="comp",
    label="Compressor",
    glyph="C",
    purpose="Holds loud notes down so that a drive after it works evenly, or glues what is behind it.",
    front=("threshold_db", "ratio", "attack_ms", "release_ms", "makeup_db"),
    neighbours=("drive", "tape"),
    parameters=(
        Number(id="threshold_db", label="Threshold", group=Group.DRIVE, unit="dB", minimum=-40.0, maximum=18.0,
               default=0.0,
               help="Where it begins to hold down, against 0 VU."),
        Number(id="ratio", label="Ratio", group=Group.DRIVE, unit=": 1", minimum=1.0, maximum=20.0, default=3.0,
               taper=Taper.LOG,
               help="How much it holds down: 2 leans on the sound, 4 grips it, 20 is a wall."),
        Number(id="knee_db", label="Knee", group=Group.DRIVE, unit="dB", minimum=0.0, maximum=24.0, default=6.0,
               help="How gradually it sets in about the threshold."),
        Number(id="attack_ms", label="Attack", group=Group.DRIVE, unit="ms", minimum=0.1, maximum=200.0, default=10.0,
               taper=Taper.LOG,
               help="How soon it grips: slow lets the stroke through, fast takes it."),
        Number(id="release_ms", label="Release", group=Group.DRIVE, unit="ms", minimum=10.0, maximum=2000.0,
               default=120.0, taper=Taper.LOG, decimals=0,
               help="How soon it lets go: fast lifts tails and pumps, slow only rides the level."),
        Switch(id="linked", label="Left and right linked", group=Group.DRIVE, default=True,
               help="Both channels are held down together, so that the stereo picture stays still."),
        Number(id="detector_cut_hz", label="Detector low cut", group=Group.TONE, unit="Hz", minimum=_NO_CUT,
               maximum=500.0, default=_NO_CUT, taper=Taper.LOG, decimals=0, floor_word="off",
               help="Lets it overlook the bass, so that a kick does not duck everything."),
        Switch(id="per_band", label="Three bands", group=Group.TONE, default=False,
               help="Holds lows, middle and highs down each by itself."),
        Number(id="low_edge_hz", label="Low crossover", group=Group.TONE, unit="Hz", minimum=40.0, maximum=1000.0,
               default=160.0, taper=Taper.LOG, decimals=0,
               help="Where the low band ends."),
        Number(id="high_edge_hz", label="High crossover", group=Group.TONE, unit="Hz", minimum=1000.0, maximum=12000.0,
               default=3500.0, taper=Taper.LOG, decimals=0,
               help="Where the high band begins."),
        Number(id="makeup_db", label="Make-up", group=Group.OUTPUT, unit="dB", minimum=-12.0, maximum=24.0, default=0.0,
               automation=Automation.RAMP,
               help="The level behind it, to take back what was held down."),
    ),
    processor=CompProcessor,
    picture=picture,
    rest={"ratio": 1.0},
    idle=_idle,
    comfort_db=(-6.0, 9.0),
)
