"""Trim: level, place, width, polarity, and mono below a frequency."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.mono_below import MONO_BELOW, MonoBelow
from yellow_ember.dsp.parameters import Automation, Group, Number, Switch, Values, as_number
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind, frequency_axis


class TrimProcessor(Processor):
    """A 2x2 matrix of gliding gains, after the lows have been made mono."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        shape = (setup.channels, setup.max_block)
        self._gains = [self.ramp(1.0, setup.rate) for _ in range(4)]
        self._scratch: Samples = np.zeros((4, 1, shape[1]))
        self._lows = MonoBelow(setup)
        self.carry(*self._lows.state())

    def set(self, values: Values, *, at_once: bool = False) -> None:
        level = gain(as_number(values["gain_db"])) * (-1.0 if values["polarity"] else 1.0)
        width, pan = as_number(values["width_pct"]) / 100.0, as_number(values["pan"]) / 100.0
        left, right = level * min(1.0, 1.0 - pan), level * min(1.0, 1.0 + pan)
        same, cross = 0.5 * (1.0 + width), 0.5 * (1.0 - width)
        matrix = (left * same, left * cross, right * cross, right * same)
        if self._setup.channels == 1:
            matrix = (level, 0.0, 0.0, 0.0)
        for ramp, value in zip(self._gains, matrix, strict=True):
            ramp.go(value, at_once=at_once)
        self._lows.set(as_number(values["mono_below_hz"]))

    def process(self, block: Samples) -> None:
        frames = block.shape[1]
        self._lows.process(block)
        if block.shape[0] == 1:
            glide(block, self._gains[0].state)
            return
        parts = self._scratch[:, :, :frames]
        for index, ramp in enumerate(self._gains):
            part = self._scratch[index].reshape(-1)[:frames].reshape(1, frames)
            part[0] = block[index % 2]
            glide(part, ramp.state)
        np.add(parts[0, 0], parts[1, 0], out=block[0])
        np.add(parts[2, 0], parts[3, 0], out=block[1])


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
    glyph="G",
    purpose="Sets level, place, width and polarity without colouring the sound.",
    front=("gain_db", "pan", "width_pct"),
    neighbours=("limit", "comp"),
    remedies={"boom": ("mono_below_hz",)},
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
