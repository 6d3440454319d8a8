"""Trim: level, place, width, polarity, and mono below a frequency."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.glyphs import box, line
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.mixing import add_at_gain, glide, put, silence
from yellow_ember.dsp.mono_below import MONO_BELOW, MonoBelowRecord, make_lows_mono, set_mono_below
from yellow_ember.dsp.parameters import Automation, Group, Number, Switch, Values, as_number
from yellow_ember.dsp.record import CompiledHalf, Record, block_of, matrix, part, scratch, setting
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind, frequency_axis


class TrimRecord(Record):
    """A 2x2 matrix of gliding gains, after the lows have been made mono."""

    lows: MonoBelowRecord = part(MonoBelowRecord)
    gains: Samples = setting(4, 4)
    sides: Samples = scratch("samples")


@inlined
def process(record: TrimRecord, block: Samples) -> None:
    """The compiled half."""
    make_lows_mono(record.lows, block)
    gains = matrix(record.gains)
    if block.shape[0] == 1:
        glide(block, gains[0])
        return
    sides = block_of(record.sides, block.shape[0], block.shape[1])
    silence(sides)
    for side in range(2):
        for source in range(2):
            add_at_gain(sides[side], block[source], gains[2 * side + source])
    put(block, sides)


class TrimProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(TrimRecord, process)

    def make_parts(self, setup: Setup) -> None:
        self._gains = [self.ramp(1.0, gains) for gains in self.record.gains]
        self.turning = self.record.lows.turning

    def set(self, values: Values, *, at_once: bool = False) -> None:
        level = gain(as_number(values["gain_db"])) * (-1.0 if values["polarity"] else 1.0)
        width, pan = as_number(values["width_pct"]) / 100.0, as_number(values["pan"]) / 100.0
        left, right = level * min(1.0, 1.0 - pan), level * min(1.0, 1.0 + pan)
        same, cross = 0.5 * (1.0 + width), 0.5 * (1.0 - width)
        weights = (left * same, left * cross, right * cross, right * same)
        if self._setup.channels == 1:
            weights = (level, 0.0, 0.0, 0.0)
        for ramp, value in zip(self._gains, weights, strict=True):
            ramp.go(value, at_once=at_once)
        set_mono_below(self.record.lows, as_number(values["mono_below_hz"]), self._setup.rate, self._setup.channels)


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Level of middle and sides over frequency."""
    hz = frequency_axis(rate)
    level = np.full(hz.shape, as_number(values["gain_db"]))
    corner = as_number(values["mono_below_hz"])
    width = max(as_number(values["width_pct"]) / 100.0, 1e-3)
    sides = level + float(db(width))
    if corner > MONO_BELOW.minimum:
        sides = sides + db((hz / corner) ** 4 / (1.0 + (hz / corner) ** 4))
    return (Plot("Level", "response", (Curve("sides", hz, sides), Curve("middle", hz, level))),)


def _spreads(values: Values) -> bool:
    """A place off the centre."""
    return values["pan"] != 0.0


TRIM = StageKind(
    kind="trim",
    label="Trim",
    glyph=(line((0.5, 0.05), (0.5, 0.95)), box(0.25, 0.35, 0.75, 0.6)),
    purpose="Sets level, place, width and polarity without colouring the sound.",
    front=("gain_db", "pan", "width_pct"),
    neighbours=("limit", "comp"),
    remedies={"boom": ("mono_below_hz",)},
    clean_gain="gain_db",
    parameters=(
        MONO_BELOW,
        Number(id="gain_db", label="Gain", group=Group.OUTPUT, unit="dB", minimum=-24.0, maximum=24.0,
               default=0.0, automation=Automation.RAMP,
               help="Makes what follows louder or quieter, and so drives it harder or softer."),
        Number(id="pan", label="Pan", group=Group.OUTPUT, unit="", minimum=-100.0, maximum=100.0,
               default=0.0, decimals=0, automation=Automation.RAMP,
               help="Moves the sound to the left or the right."),
        Number(id="width_pct", label="Width", group=Group.OUTPUT, unit="%", minimum=0.0, maximum=200.0,
               default=100.0, decimals=0, automation=Automation.RAMP,
               help="Narrows the stereo picture to mono or widens it."),
        Switch(id="polarity", label="Polarity", group=Group.OUTPUT, default=False,
               automation=Automation.RAMP,
               help="Turns the wave upside down, which matters only beside another track."),
    ),
    spreads=_spreads,
    processor=TrimProcessor,
    picture=picture,
    rest={},
    drive="gain_db",
)
