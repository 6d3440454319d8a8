"""Compressor, over the whole sound or in three bands.  Source: Giannoulis, Massberg and Reiss, JAES 60 (2012)."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.compression import branches, compression
from yellow_ember.dsp.filters import BUTTERWORTH_Q, all_pass, high_pass, split
from yellow_ember.dsp.glyphs import line
from yellow_ember.dsp.kernels import dynamics, inlined
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.mixing import add, glide, put, silence
from yellow_ember.dsp.parameters import (
    Automation,
    Group,
    Number,
    Parameter,
    Switch,
    Taper,
    Values,
    as_number,
    as_number_or,
)
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    block_of,
    cube,
    matrix,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
)
from yellow_ember.dsp.stage import MOST_TURNS, STRAIGHT, Curve, Picture, Plot, Processor, Setup, StageKind

_NO_CUT = 20.0
_BANDS = ("low", "middle", "high")
_GROUPS = (Group.BAND_1, Group.BAND_2, Group.BAND_3)
_AS_ALL = "as for all"


def _figures(values: Values, rate: float, reference_dbfs: float, band: str = "") -> Samples:
    """What the whole, or a band, is held down by; what a band leaves open is as for all."""

    def figure(name: str) -> float:
        whole = as_number(values[name])
        return as_number_or(values[f"{band}_{name}"], whole) if band else whole

    return compression(figure("threshold_db") + reference_dbfs, 1.0 - 1.0 / figure("ratio"),
                       as_number(values["knee_db"]), figure("attack_ms") / 1000.0, figure("release_ms") / 1000.0, rate)


class CompRecord(Record):
    """Bands are split by Linkwitz-Riley filters, whose sum is an all-pass, and each has a detector of its own.

    Attributes
    ----------
    low_splits, high_splits : Samples
        Of the lower and the upper edge.
    cut : Samples
        Of what the detector hears.
    """

    linked: int = whole()
    banded: int = whole()
    hears_less: int = whole()
    figures: Samples = setting(dynamics.FIGURES)
    band_figures: Samples = setting(len(_BANDS), dynamics.FIGURES)
    branches: Samples = shared(2)
    cut: Samples = setting(1, 5)
    low_splits: Samples = setting(2, 2, 5)
    high_splits: Samples = setting(2, 2, 5)
    turning: Samples = setting(MOST_TURNS, 5)
    out: Samples = setting(4)
    gains: Samples = setting(len(_BANDS), 4)
    levels: Samples = state(len(_BANDS), "channels", dynamics.STATES)
    cut_state: Samples = state("channels", 1, 2)
    lower_low: Samples = state("channels", 2, 2)
    lower_high: Samples = state("channels", 2, 2)
    upper_low: Samples = state("channels", 2, 2)
    upper_high: Samples = state("channels", 2, 2)
    straight: Samples = state("channels", 1, 2)
    low: Samples = scratch("samples")
    middle: Samples = scratch("samples")
    high: Samples = scratch("samples")
    heard: Samples = scratch("samples")


@inlined
def compress_band(record: CompRecord, block: Samples, band: Samples, heard: Samples, index: int) -> None:
    """Hold a band down by its own level, and add it to the block."""
    put(heard, band)
    dynamics.compress(band, heard, matrix(record.band_figures)[index], record.linked == 1, matrix(record.branches),
                      cube(record.levels)[index])
    glide(band, matrix(record.gains)[index])
    add(block, band)


@inlined
def compress_in_bands(record: CompRecord, block: Samples) -> None:
    """Three bands, each by its own level, in place."""
    channels, frames = block.shape
    low, middle = block_of(record.low, channels, frames), block_of(record.middle, channels, frames)
    high, heard = block_of(record.high, channels, frames), block_of(record.heard, channels, frames)
    lower, upper = cube(record.low_splits), cube(record.high_splits)
    put(low, block)
    put(middle, block)
    biquads(low, lower[0], cube(record.lower_low))
    biquads(middle, lower[1], cube(record.lower_high))
    put(high, middle)
    biquads(middle, upper[0], cube(record.upper_low))
    biquads(high, upper[1], cube(record.upper_high))
    # The low band goes through what the upper split sums to, so that all stay in phase.
    biquads(low, matrix(record.turning)[1:2], cube(record.straight))
    silence(block)
    compress_band(record, block, low, heard, 0)
    compress_band(record, block, middle, heard, 1)
    compress_band(record, block, high, heard, 2)


@inlined
def process(record: CompRecord, block: Samples) -> None:
    """The compiled half."""
    if record.banded == 1:
        compress_in_bands(record, block)
    else:
        heard = block_of(record.heard, block.shape[0], block.shape[1])
        put(heard, block)
        if record.hears_less == 1:
            biquads(heard, matrix(record.cut), cube(record.cut_state))
        dynamics.compress(block, heard, vector(record.figures), record.linked == 1, matrix(record.branches),
                          cube(record.levels)[0])
    glide(block, vector(record.out))


class CompProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(CompRecord, process)

    def make_parts(self, setup: Setup) -> None:
        self.turning = self.record.turning
        self._out = self.ramp(1.0, self.record.out)
        self._gains = [self.ramp(1.0, gains) for gains in self.record.gains]
        self.record.branches = branches(setup.rate)
        self.settling = round(0.004 * setup.rate)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self.record.levels[..., dynamics.GAIN] = 1.0

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        record.figures = _figures(values, rate, self._setup.reference_dbfs)
        alone = any(values[f"{band}_solo"] for band in _BANDS)
        for index, band in enumerate(_BANDS):
            record.band_figures[index] = _figures(values, rate, self._setup.reference_dbfs, band)
            heard = bool(values[f"{band}_solo"]) or not alone
            self._gains[index].go(gain(as_number(values[f"{band}_gain_db"])) if heard else 0.0, at_once=at_once)
        record.linked, record.banded = int(bool(values["linked"])), int(bool(values["per_band"]))
        cut = as_number(values["detector_cut_hz"])
        record.hears_less = int(cut > _NO_CUT)
        record.cut[0] = high_pass(cut, BUTTERWORTH_Q, rate)
        low, high = as_number(values["low_edge_hz"]), _upper_edge(values)
        record.low_splits, record.high_splits = split(low, rate), split(high, rate)
        record.turning[:] = STRAIGHT
        if record.banded == 1:
            record.turning[0], record.turning[1] = (all_pass(hz, BUTTERWORTH_Q, rate) for hz in (low, high))
        self._out.go(gain(as_number(values["makeup_db"])), at_once=at_once)


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Level out against level in, both against 0 VU, of the whole or of each band; and the gain as it runs."""
    level = np.linspace(-48.0, 18.0, 133)

    def curve(label: str, band: str = "") -> Curve:
        figures = _figures(values, rate, reference_dbfs, band)
        held = np.array([dynamics.reduction_db(float(at) + reference_dbfs, figures) for at in level])
        own = as_number(values[f"{band}_gain_db"]) if band else 0.0
        return Curve(label, level, level - held + own + as_number(values["makeup_db"]))

    if values["per_band"]:
        curves = tuple(curve(label, band) for label, band in zip(("lows", "middle", "highs"), _BANDS, strict=True))
        edges: tuple[float, ...] = (as_number(values["low_edge_hz"]), _upper_edge(values))
    else:
        curves, edges = (curve("compressed"),), ()
    return (Plot("Level out against level in, dB against 0 VU", "levels", (
        Curve("untouched", level, level), *curves), x_label="in", y_label="out"),
        Plot("Gain over time, dB", "gain", (), edges=edges))


def _upper_edge(values: Values) -> float:
    """The bands' edges keep clear of each other."""
    return max(as_number(values["high_edge_hz"]), 1.5 * as_number(values["low_edge_hz"]))


def _idle(values: Values) -> frozenset[str]:
    own = {f"{band}_{name}" for band in _BANDS for name in (
        "threshold_db", "ratio", "attack_ms", "release_ms", "gain_db", "solo")}
    return frozenset() if values["per_band"] else frozenset({"low_edge_hz", "high_edge_hz", *own})


def _band(band: str, group: Group) -> tuple[Parameter, ...]:
    """A band's own settings; those that are not set are as for all."""
    return (
        Number(id=f"{band}_threshold_db", label="Threshold", group=group, unit="dB", minimum=-40.0, maximum=18.0,
               default=None, unset_word=_AS_ALL,
               help="Where this band begins to be held down, against 0 VU."),
        Number(id=f"{band}_ratio", label="Ratio", group=group, unit=": 1", minimum=1.0, maximum=20.0, default=None,
               taper=Taper.LOG, unset_word=_AS_ALL,
               help="How much this band is held down; at 1 it is left alone."),
        Number(id=f"{band}_attack_ms", label="Attack", group=group, unit="ms", minimum=0.1, maximum=200.0,
               default=None, taper=Taper.LOG, unset_word=_AS_ALL,
               help="How soon this band is gripped."),
        Number(id=f"{band}_release_ms", label="Release", group=group, unit="ms", minimum=10.0, maximum=2000.0,
               default=None, taper=Taper.LOG, decimals=0, unset_word=_AS_ALL,
               help="How soon this band is let go."),
        Number(id=f"{band}_gain_db", label="Gain", group=group, unit="dB", minimum=-24.0, maximum=24.0, default=0.0,
               automation=Automation.RAMP,
               help="The band's level behind its compression: lift the middle, keep the lows where they are."),
        Switch(id=f"{band}_solo", label="Solo", group=group, default=False, automation=Automation.RAMP,
               help="Hear this band alone, and others that are soloed."),
    )


COMP = StageKind(
    kind="comp",
    label="Compressor",
    glyph=(line((0.1, 0.95), (0.55, 0.4), (0.95, 0.25)), line((0.55, 0.4), (0.85, 0.05))),
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
        *(parameter for band, group in zip(_BANDS, _GROUPS, strict=True) for parameter in _band(band, group)),
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
