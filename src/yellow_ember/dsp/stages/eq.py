"""Equaliser: six bands, cuts and a tilt, before or after the colour.  Sections: `dsp/filters.py`."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.filters import (
    BUTTERWORTH_Q,
    THROUGH,
    Section,
    high_pass,
    high_shelf,
    low_pass,
    low_shelf,
    peak,
    response,
    tilt,
)
from yellow_ember.dsp.glyphs import arc, line
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.parameters import Automation, Group, Number, Taper, Values, as_number
from yellow_ember.dsp.record import CompiledHalf, Record, cube, matrix, setting, state, vector
from yellow_ember.dsp.stage import Curve, Handle, Picture, Plot, Processor, Setup, StageKind, frequency_axis

BANDS = (("Low shelf", 100.0), ("Band 2", 250.0), ("Band 3", 700.0), ("Band 4", 1800.0), ("Band 5", 4500.0),
         ("High shelf", 9000.0))
_GROUPS = (Group.BAND_1, Group.BAND_2, Group.BAND_3, Group.BAND_4, Group.BAND_5, Group.BAND_6)
_NO_LOW_CUT, _NO_HIGH_CUT = 20.0, 20000.0
TILT_HZ = 700.0
_SECTIONS = len(BANDS) + 3


def _sections(values: Values, rate: float) -> Samples:
    """All sections in series, those that do nothing as a plain wire."""
    result: list[Section] = []
    for number in range(1, len(BANDS) + 1):
        hz, by = as_number(values[f"band{number}_hz"]), as_number(values[f"band{number}_db"])
        if by == 0.0:
            result.append(THROUGH)
        elif number == 1:
            result.append(low_shelf(hz, by, rate))
        elif number == len(BANDS):
            result.append(high_shelf(hz, by, rate))
        else:
            result.append(peak(hz, by, as_number(values[f"band{number}_q"]), rate))
    low, high, tip = (as_number(values[name]) for name in ("low_cut_hz", "high_cut_hz", "tilt_db"))
    result.append(high_pass(low, BUTTERWORTH_Q, rate) if low > _NO_LOW_CUT else THROUGH)
    result.append(low_pass(high, BUTTERWORTH_Q, rate) if high < _NO_HIGH_CUT else THROUGH)
    result.append(tilt(TILT_HZ, tip, rate) if tip != 0.0 else THROUGH)
    return np.array(result)


class EqRecord(Record):
    """Sections in series, then a level."""

    sections: Samples = setting(_SECTIONS, 5)
    memory: Samples = state("channels", _SECTIONS, 2)
    out: Samples = setting(4)


@inlined
def process(record: EqRecord, block: Samples) -> None:
    """The compiled half."""
    biquads(block, matrix(record.sections), cube(record.memory))
    glide(block, vector(record.out))


class EqProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(EqRecord, process)

    def make_parts(self, setup: Setup) -> None:
        self.record.sections = THROUGH
        self._out = self.ramp(1.0, self.record.out)
        self.settling = round(0.004 * setup.rate)

    def set(self, values: Values, *, at_once: bool = False) -> None:
        self.record.sections = _sections(values, self._setup.rate)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """The response, with the spectra before and after behind it."""
    hz = frequency_axis(rate)
    level = db(response(_sections(values, rate), hz, rate)) + as_number(values["out_db"])
    handles = tuple(
        Handle(label, as_number(values[f"band{number}_hz"]), as_number(values[f"band{number}_db"]),
               f"band{number}_hz", f"band{number}_db", "" if "shelf" in label else f"band{number}_q")
        for number, (label, _) in enumerate(BANDS, 1))
    return (Plot("Response, dB; behind it the spectra before and after", "response", (Curve("response", hz, level),),
                 spectra=True, handles=handles),)


def _band(number: int, label: str, hz: float) -> tuple[Number, ...]:
    group = _GROUPS[number - 1]
    level = Number(
        id=f"band{number}_db", label=label if "shelf" in label else "Gain", group=group, unit="dB", minimum=-18.0,
        maximum=18.0, default=0.0,
        help="How much this part of the sound comes up or goes down.")
    frequency = Number(
        id=f"band{number}_hz", label="Frequency", group=group, unit="Hz", minimum=20.0, maximum=20000.0, default=hz,
        taper=Taper.LOG, decimals=0,
        help="Where this band works: below 200 Hz is weight, about 3 kHz bite, above 8 kHz air.")
    if "shelf" in label:
        return level, frequency
    return level, frequency, Number(
        id=f"band{number}_q", label="Q", group=group, unit="", minimum=0.2, maximum=12.0, default=0.9,
        taper=Taper.LOG, decimals=2,
        help="How narrow this band is: broad changes the tone, narrow takes out a single ring.")


EQ = StageKind(
    kind="eq",
    label="Equaliser",
    glyph=(line((0.05, 0.65), (0.25, 0.65), (0.42, 0.2), (0.58, 0.2), (0.75, 0.65), (0.95, 0.65)),
           arc(0.5, 0.2, 0.08)),
    purpose="Sets the tone before a drive, or puts it right after it.",
    front=("low_cut_hz", "high_cut_hz", "tilt_db", "out_db"),
    neighbours=("comp", "drive"),
    lean="tilt_db",
    remedies={"boom": ("low_cut_hz",), "hiss": ("high_cut_hz",)},
    against={"boom": {"low_cut_hz": 90.0}, "hiss": {"high_cut_hz": 9000.0}},
    parameters=(
        Number(id="low_cut_hz", label="Low cut", group=Group.TONE, unit="Hz", minimum=_NO_LOW_CUT, maximum=1000.0,
               default=_NO_LOW_CUT, taper=Taper.LOG, decimals=0, floor_word="off",
               help="Takes off rumble and boom below this frequency, 12 dB an octave."),
        Number(id="high_cut_hz", label="High cut", group=Group.TONE, unit="Hz", minimum=500.0, maximum=_NO_HIGH_CUT,
               default=_NO_HIGH_CUT, taper=Taper.LOG, decimals=0, top_word="off",
               help="Takes off fizz and hiss above this frequency, 12 dB an octave."),
        Number(id="tilt_db", label="Tilt", group=Group.TONE, unit="dB", minimum=-12.0, maximum=12.0, default=0.0,
               help="Tips the whole sound: up is brighter and thinner, down is darker and fuller."),
        *(parameter for number, (label, hz) in enumerate(BANDS, 1) for parameter in _band(number, label, hz)),
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-24.0, maximum=24.0, default=0.0,
               automation=Automation.RAMP,
               help="The level behind the equaliser."),
    ),
    processor=EqProcessor,
    picture=picture,
    rest={},
)
