"""Tame: bells that go down only while their band sticks out.  Section: `dsp/filters.py`; law: `dsp/kernels/tame.py`."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.filters import band_pass, one_pole, transfer
from yellow_ember.dsp.glyphs import line
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels import tame as kernels
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.parameters import Automation, Group, Number, Switch, Taper, Values, as_number
from yellow_ember.dsp.record import CompiledHalf, Record, cube, matrix, real, setting, state, vector, whole
from yellow_ember.dsp.stage import (
    Curve,
    Handle,
    Offer,
    Picture,
    Plot,
    Processor,
    Setup,
    StageKind,
    frequency_axis,
)

MAX_BANDS = 4
_GROUPS = (Group.BAND_1, Group.BAND_2, Group.BAND_3, Group.BAND_4)
_RATES = (2200.0, 3600.0, 5600.0, 8200.0)
_STEADY_SECONDS = 0.15


def _bands(values: Values) -> list[tuple[float, float, float]]:
    """Frequency in Hz, Q and most dB down of every band."""
    return [(as_number(values[f"band{n}_hz"]), as_number(values[f"band{n}_q"]), as_number(values[f"band{n}_depth_db"]))
            for n in range(1, MAX_BANDS + 1)]


class TameRecord(Record):
    """Bells that go down, then a level.  depths : dB at most, a band each"""

    linked: int = whole()
    above: float = real()
    sections: Samples = setting(MAX_BANDS, 5)
    depths: Samples = setting(MAX_BANDS)
    figures: Samples = setting(kernels.FIGURES)
    out: Samples = setting(4)
    filters: Samples = state("channels", MAX_BANDS + 1, 2)
    detectors: Samples = state("channels", MAX_BANDS, kernels.DETECTOR)
    whole: Samples = state("channels", 2)


@inlined
def process(record: TameRecord, block: Samples) -> None:
    """The compiled half."""
    kernels.tame(block, matrix(record.sections), vector(record.depths), record.above, vector(record.figures),
                 record.linked == 1, cube(record.filters), cube(record.detectors), matrix(record.whole))
    glide(block, vector(record.out))


class TameProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(TameRecord, process)

    def make_parts(self, setup: Setup) -> None:
        self._out = self.ramp(1.0, self.record.out)
        self.settling = round(0.004 * setup.rate)

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        for index, (hz, q, depth) in enumerate(_bands(values)):
            record.sections[index] = band_pass(hz, q, rate)
            record.depths[index] = depth
        record.above = as_number(values["above_db"])
        record.figures[kernels.RISE] = one_pole(as_number(values["attack_ms"]) / 1000.0, rate)
        record.figures[kernels.FALL] = one_pole(as_number(values["release_ms"]) / 1000.0, rate)
        record.figures[kernels.STEADY] = one_pole(_STEADY_SECONDS, rate)
        record.linked = int(bool(values["linked"]))
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """How far each band goes down at most, each with a handle, before the spectra before and after."""
    hz = frequency_axis(rate, 200)
    total = np.ones(hz.size, dtype=complex)
    handles = []
    for band, (at, q, depth) in enumerate(_bands(values), 1):
        total = total + (gain(-depth) - 1.0) * transfer(np.array(band_pass(at, q, rate)), hz, rate)
        handles.append(Handle(f"Band {band}", at, -depth, f"band{band}_hz", f"band{band}_depth_db",
                              f"band{band}_q", up_sign=-1.0))
    return (Plot("At most, dB; behind it the spectra before and after", "response",
                 (Curve("held down by", hz, db(np.abs(total))),), spectra=True, handles=tuple(handles)),
            Plot("Gain of the whole over time, dB", "gain", ()))


def _band(number: int) -> tuple[Number, ...]:
    group = _GROUPS[number - 1]
    return (
        Number(id=f"band{number}_depth_db", label="Depth", group=group, unit="dB", minimum=0.0, maximum=24.0,
               default=0.0, floor_word="off",
               help="How far this band goes down at most, while it sticks out."),
        Number(id=f"band{number}_hz", label="Frequency", group=group, unit="Hz", minimum=500.0, maximum=16000.0,
               default=_RATES[number - 1], taper=Taper.LOG, decimals=0,
               help="Where this band lies: 2 to 5 kHz is bite, 5 to 9 kHz hiss of words, above that fizz."),
        Number(id=f"band{number}_q", label="Q", group=group, unit="", minimum=0.5, maximum=8.0, default=2.0,
               taper=Taper.LOG, decimals=2,
               help="How narrow this band is: broad softens a region, narrow takes one ring."),
    )


TAME = StageKind(
    kind="tame",
    label="Tame",
    glyph=(line((0.05, 0.85), (0.3, 0.7), (0.42, 0.4), (0.58, 0.4), (0.7, 0.7), (0.95, 0.85)),
           line((0.25, 0.15), (0.75, 0.15))),
    purpose="Holds down what a drive made harsh, only where and while it sticks out.",
    front=("above_db", "band1_depth_db", "band2_depth_db", "band3_depth_db", "band4_depth_db", "out_db"),
    neighbours=("comp", "limit"),
    offers=frozenset({Offer.PROPOSE_BANDS}),
    against={"crowd": {}},
    parameters=(
        Number(id="above_db", label="Threshold", group=Group.DRIVE, unit="dB", minimum=-36.0, maximum=6.0,
               default=-15.0,
               help="How near a band may come to the whole sound before it is held: lower holds more and sooner."),
        Number(id="attack_ms", label="Attack", group=Group.DRIVE, unit="ms", minimum=0.2, maximum=50.0, default=2.0,
               taper=Taper.LOG,
               help="How soon a band goes down: fast takes the edge of strokes too."),
        Number(id="release_ms", label="Release", group=Group.DRIVE, unit="ms", minimum=5.0, maximum=500.0,
               default=60.0, taper=Taper.LOG, decimals=0,
               help="How soon a band comes back: fast is livelier, slow smoother."),
        Switch(id="linked", label="Left and right linked", group=Group.DRIVE, default=True,
               help="Both channels are held down together, so that the stereo picture stays still."),
        *(parameter for number in range(1, MAX_BANDS + 1) for parameter in _band(number)),
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-24.0, maximum=12.0, default=0.0,
               automation=Automation.RAMP,
               help="The level behind the taming."),
    ),
    processor=TameProcessor,
    picture=picture,
    rest={},
)
