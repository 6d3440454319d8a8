"""Bit reduction: a converter of few bits and a low rate.  Model: docs/models/bits.md."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.filters import steep_low_pass
from yellow_ember.dsp.glyphs import line
from yellow_ember.dsp.kernels import bits as kernels
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.parameters import Automation, Choice, Group, Number, Option, Switch, Taper, Values, as_number
from yellow_ember.dsp.record import CompiledHalf, Record, cube, matrix, part, setting, state, vector, whole
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind
from yellow_ember.dsp.tone_around import LEAN_PARAMETERS, TONE_HZ, ToneRecord, set_tone, tone_after, tone_before

_ALL_BITS, _OPEN_HZ, _NO_NOISE = 24.0, 48000.0, -100.0
_MU = 255.0
_EDGE = 0.45
"""Where filters before and behind begin to cut, over the low rate."""
_BUTTERWORTH = tuple(0.5 / math.cos(math.pi * (2 * k + 1) / 16.0) for k in range(4))
"""Quality factors of an eighth-order Butterworth filter's sections."""


def _figures(values: Values, rate: float) -> Samples:
    """What `kernels.reduce` takes."""
    result = np.zeros(kernels.FIGURES)
    low, bits = as_number(values["rate_hz"]), as_number(values["bits"])
    result[kernels.RATIO] = 1.0 if low >= _OPEN_HZ else low / rate
    result[kernels.STEP] = 0.0 if bits >= _ALL_BITS else 2.0 ** (1.0 - bits)
    result[kernels.MU] = _MU if values["law"] == "companded" else 0.0
    result[kernels.JITTER] = as_number(values["jitter_pct"]) / 100.0
    noise = as_number(values["noise_db"])
    result[kernels.NOISE] = gain(noise) if noise > _NO_NOISE else 0.0
    result[kernels.DITHER] = 1.0 if values["dither"] and bits < _ALL_BITS else 0.0
    return result


class BitsRecord(Record):
    """A filter before, the converter, a filter behind, tone."""

    filtered_before: int = whole()
    filtered_behind: int = whole()
    smooth: int = whole()
    reduction: Samples = setting(kernels.FIGURES)
    filters: Samples = setting(4, 5)
    drive: Samples = setting(4)
    out: Samples = setting(4)
    tone: ToneRecord = part(ToneRecord)
    converter: Samples = state("channels", kernels.STATES)
    before_state: Samples = state("channels", 4, 2)
    behind_state: Samples = state("channels", 4, 2)


@inlined
def process(record: BitsRecord, block: Samples) -> None:
    """The compiled half."""
    tone_before(record.tone, block)
    glide(block, vector(record.drive))
    if record.filtered_before == 1:
        biquads(block, matrix(record.filters), cube(record.before_state))
    kernels.reduce(block, vector(record.reduction), record.smooth, matrix(record.converter))
    if record.filtered_behind == 1:
        biquads(block, matrix(record.filters), cube(record.behind_state))
    glide(block, vector(record.out))
    tone_after(record.tone, block)


class BitsProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(BitsRecord, process)

    def sizes(self, setup: Setup) -> dict[str, int]:
        return {"inner": kernels.REDUCE_DELAY}

    def make_parts(self, setup: Setup) -> None:
        self._drive = self.ramp(1.0, self.record.drive)
        self._out = self.ramp(1.0, self.record.out)
        self.turning = self.record.tone.turning
        self.latency = kernels.REDUCE_DELAY
        self.settling = round(0.004 * setup.rate)
        self.reset()

    def reset(self) -> None:
        super().reset()
        converter = self.record.converter
        converter[:, kernels.THRESHOLD] = 1.0
        for channel in range(self._setup.channels):
            converter[channel, kernels.SEED] = seed_from(self._setup.seed, "dither", channel)
        converter[:, kernels.SEED_LOW] = 0x2545F491

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        record.reduction = _figures(values, rate)
        low = as_number(values["rate_hz"])
        sampled = record.reduction[kernels.RATIO] < 1.0
        record.filtered_before = int(sampled and bool(values["anti_alias"]))
        record.filtered_behind = int(sampled and values["smooth"] == "band-limited")
        record.filters = [steep_low_pass(_EDGE * low, q, rate) for q in _BUTTERWORTH]
        record.smooth = kernels.STRAIGHT if values["smooth"] == "straight" else kernels.HOLD
        set_tone(record.tone, values, rate)
        self._drive.go(gain(as_number(values["drive_db"])), at_once=at_once)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)


_SHOWN_RATE, _SHOWN_HZ = 96000.0, 400.0


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """A turn of a 400 Hz sine, its peak 6 dB under full scale, before and after."""
    turn = round(_SHOWN_RATE / _SHOWN_HZ)
    sine = 0.5 * np.sin(2.0 * np.pi * np.arange(3 * turn) / turn)
    shown = {**values, "noise_db": _NO_NOISE, "jitter_pct": 0.0}
    wave = (gain(as_number(values["drive_db"])) * sine)[None, :].copy()
    state = np.zeros((1, kernels.STATES))
    state[0, kernels.THRESHOLD] = 1.0
    smooth = kernels.HOLD if values["smooth"] == "hold" else kernels.STRAIGHT
    kernels.reduce(wave, _figures(shown, _SHOWN_RATE), smooth, state)
    x = np.arange(turn) / turn
    return (Plot("A turn of 400 Hz at -6 dBFS", "wave", (
        Curve("before", x, sine[turn:2 * turn]), Curve("after", x, wave[0, turn + 1:2 * turn + 1])),
        x_label="one turn", y_label="level"),)


BITS = StageKind(
    kind="bits",
    label="Bit reduction",
    glyph=(line((0.05, 0.9), (0.05, 0.65), (0.35, 0.65), (0.35, 0.4), (0.65, 0.4), (0.65, 0.15), (0.95, 0.15)),),
    purpose="Makes a sound coarse as an early sampler or a toy does: fewer bits, fewer samples.",
    front=("drive_db", "bits", "rate_hz", "law", "anti_alias", "dither", "tone_hz", "out_db"),
    neighbours=("eq", "tame"),
    varied=("bits", "rate_hz"),
    lean="lean_db",
    remedies={"boom": ("clean_lows_hz",), "crowd": ("lean_db",), "hiss": ("tone_hz",)},
    parameters=(
        Number(id="drive_db", label="Level in", group=Group.DRIVE, unit="dB", minimum=-24.0, maximum=36.0, default=0.0,
               automation=Automation.RAMP,
               help="How far the sound reaches up the steps: low levels crumble, high ones clip."),
        Number(id="bits", label="Bits", group=Group.DRIVE, unit="", minimum=1.0, maximum=_ALL_BITS, default=12.0,
               top_word="all",
               help="How many steps there are: 12 grains quiet tails, 8 hisses and buzzes, 3 tears the wave."),
        Number(id="rate_hz", label="Sample rate", group=Group.DRIVE, unit="Hz", minimum=200.0, maximum=_OPEN_HZ,
               default=26000.0, taper=Taper.LOG, decimals=0, top_word="open",
               help="How often a sample is taken: lower mirrors the highs down as metallic tones."),
        Option(id="law", label="Quantiser", group=Group.DRIVE, default="linear",
               choices=(Choice("linear", "linear"), Choice("companded", "companded")),
               help="Companded steps are finer for quiet sounds and coarser for loud ones, as in telephony."),
        Number(id="jitter_pct", label="Jitter", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=0.0,
               decimals=0, floor_word="off",
               help="Samples come early or late by chance: a gritty noise on bright sounds."),
        *LEAN_PARAMETERS,
        Switch(id="anti_alias", label="Anti-alias filter", group=Group.TONE, default=False,
               help="Takes off what the low sample rate would mirror down: duller and cleaner."),
        Option(id="smooth", label="Interpolation", group=Group.TONE, default="hold",
               choices=(Choice("hold", "hold"), Choice("straight", "straight lines"),
                        Choice("band-limited", "band-limited")),
               help="Held samples are bright and edgy, straight lines softer, band-limited ones round."),
        TONE_HZ,
        Number(id="noise_db", label="Input noise", group=Group.NOISE, unit="dB", minimum=_NO_NOISE, maximum=-20.0,
               default=_NO_NOISE, floor_word="off", automation=Automation.CROSSFADE,
               help="Noise under the sound keeps the steps from sticking, as an old converter's own hiss does."),
        Switch(id="dither", label="Dither", group=Group.NOISE, default=False,
               help="Turns the grain of quiet tails into a steady hiss."),
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-48.0, maximum=24.0, default=0.0,
               automation=Automation.RAMP,
               help="The level after the reduction, without changing its sound."),
    ),
    processor=BitsProcessor,
    picture=picture,
    rest={"bits": _ALL_BITS, "rate_hz": _OPEN_HZ},
    drive="drive_db",
    tone="tone_hz",
    makeup="out_db",
    nonlinear=True,
    comfort_db=(-6.0, 15.0),
)
