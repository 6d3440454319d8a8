"""Cabinets and small speakers with two microphones, or an impulse response.  Model: docs/models/cabinet.md."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.convolution import ConvolutionRecord, convolution_sizes, convolve_block, set_response
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.glyphs import arc, box
from yellow_ember.dsp.kernels import cone, inlined
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.parameters import (
    Automation,
    Choice,
    Group,
    Impulse,
    Number,
    Option,
    Taper,
    Values,
    as_number,
)
from yellow_ember.dsp.record import CompiledHalf, Record, matrix, part, real, setting, state, vector
from yellow_ember.dsp.speakers import MICROPHONES, SECONDS, SPEAKER_BY_ID, SPEAKERS, levelled, response
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind, frequency_axis

_WARM_SECONDS = 1.2
"""How long a coil takes to warm and to cool."""
_MAX_TRAVEL = 3.5
"""Travel at a break-up of 100 % that a unit of signal makes; 0 VU lies at an eighth of a unit."""


def _microphone(values: Values, which: str, rate: float) -> Samples:
    return response(str(values["speaker"]), str(values[f"{which}_type"]), as_number(values[f"{which}_angle_deg"]),
                    as_number(values[f"{which}_distance_cm"]) / 100.0, which == "far", rate)


def _balance(values: Values, which: str, channel: int) -> float:
    """A microphone's share of one channel: by near and far, by its place from left to right."""
    at = as_number(values["near_far"]) / 100.0 * math.pi / 2.0
    position = as_number(values[f"{which}_pan"]) / 100.0
    side = min(1.0, 1.0 - position) if channel == 0 else min(1.0, 1.0 + position)
    return side * (math.cos(at) if which == "near" else math.sin(at))


def impulse_of(values: Values, rate: float, channels: int, own: Samples | None) -> Samples:
    """The response of every channel, (channels, taps); `own` is the user's, where there is one."""
    if own is not None:
        result = levelled(own, rate)
        return result if result.shape[0] == channels else np.repeat(result.mean(axis=0)[None, :], channels, axis=0)
    near, far = (_microphone(values, which, rate) for which in ("near", "far"))
    if channels == 1:
        # One channel has no left and right.
        values = {**values, "near_pan": 0.0, "far_pan": 0.0}
    return np.stack([_balance(values, "near", c) * near + _balance(values, "far", c) * far for c in range(channels)])


class CabinetRecord(Record):
    """The cone, then everything linear as one response a channel."""

    reach: float = real()
    stiffness: float = real()
    loss: float = real()
    warming: float = real()
    out: Samples = setting(4)
    response: ConvolutionRecord = part(ConvolutionRecord)
    cone: Samples = state("channels", cone.STATES)


@inlined
def process(record: CabinetRecord, block: Samples) -> None:
    """The compiled half."""
    if record.reach > 0.0:
        cone.travel(block, record.reach, record.stiffness, record.loss, record.warming, matrix(record.cone))
    convolve_block(record.response, block)
    glide(block, vector(record.out))


class CabinetProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(CabinetRecord, process, wide=True)

    def sizes(self, setup: Setup) -> dict[str, int]:
        own = setup.impulse
        return convolution_sizes(round(SECONDS * setup.rate) if own is None else own.shape[1])

    def make_parts(self, setup: Setup) -> None:
        self._out = self.ramp(1.0, self.record.out)
        self.settling = round(0.004 * setup.rate)

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        set_response(record.response, impulse_of(values, rate, self._setup.channels, self._setup.impulse))
        speaker = SPEAKER_BY_ID[str(values["speaker"])]
        turn = min(2.0 * math.pi * speaker.resonance / rate, 0.5)
        record.reach = _MAX_TRAVEL * as_number(values["breakup_pct"]) / 100.0
        record.stiffness, record.loss = turn * turn, turn / speaker.q
        record.warming = one_pole(_WARM_SECONDS, rate)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)


_SHOWN_RATE = 48000.0


def _level(impulse: Samples, hz: Samples, rate: float) -> Samples:
    """A response's mean magnitude over a sixth of an octave about some frequencies, in dB."""
    size = max(impulse.size, round(rate / 4.0))
    power = np.abs(np.fft.rfft(impulse, size)) ** 2
    sums = np.concatenate(([0.0], np.cumsum(power)))
    low, high = (np.clip(np.round(hz * side * size / rate).astype(int), 0, power.size)
                 for side in (2.0 ** (-1.0 / 12.0), 2.0 ** (1.0 / 12.0)))
    high = np.maximum(high, low + 1)
    return np.asarray(np.maximum(db(np.sqrt((sums[high] - sums[low]) / (high - low))), -60.0))


def _first_moments(impulse: Samples, rate: float) -> Plot:
    shown = min(round(0.012 * rate), impulse.size)
    time = np.arange(shown) / rate * 1000.0
    return Plot("Impulse response", "time", (Curve("heard", time, impulse[:shown]),), x_label="ms", y_label="level")


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Responses of both microphones and of what is heard, and the first moments of the impulse response."""
    hz = frequency_axis(_SHOWN_RATE, 240)
    near, far = (_microphone(values, which, _SHOWN_RATE) for which in ("near", "far"))
    heard = impulse_of(values, _SHOWN_RATE, 2, None).mean(axis=0)
    curves = (("near", near), ("far", far), ("heard", heard))
    return (Plot("Response, dB", "response", tuple(
        Curve(label, hz, _level(impulse, hz, _SHOWN_RATE)) for label, impulse in curves)),
        _first_moments(heard, _SHOWN_RATE))


def impulse_picture(own: Samples, rate: float) -> Picture:
    """Response of the user's impulse response, as loud as it is used, and its first moments."""
    hz = frequency_axis(rate, 240)
    heard = levelled(own, rate).mean(axis=0)
    return (Plot("Response, dB", "response", (Curve("impulse response", hz, _level(heard, hz, rate)),)),
            _first_moments(heard, rate))


def _mic_parameters(which: str, group: Group, type_: str, nearest: float, farthest: float, distance: float,
                    angle: float) -> tuple[Option | Number, ...]:
    return (
        Option(id=f"{which}_type", label="Type", group=group, default=type_,
               choices=tuple(Choice(kind.id, kind.label) for kind in MICROPHONES),
               help="Dynamic is forward in the upper middle, condenser open, ribbon round and soft."),
        Number(id=f"{which}_distance_cm", label="Distance", group=group, unit="cm", minimum=nearest, maximum=farthest,
               default=distance, taper=Taper.LOG,
               help="Closer is louder, bassier and sooner; farther takes the room's floor in."),
        Number(id=f"{which}_angle_deg", label="Angle", group=group, unit="deg", minimum=0.0, maximum=90.0,
               default=angle, decimals=0,
               help="How far off the cone's axis it looks: further is duller."),
        Number(id=f"{which}_pan", label="Pan", group=group, unit="", minimum=-100.0, maximum=100.0, default=0.0,
               decimals=0,
               help="Where this microphone stands from left to right; a single channel has only one place."),
    )


def _idle(values: Values) -> frozenset[str]:
    """With an impulse response of one's own both microphones rest, and the speaker is no more than its cone."""
    if not values["ir"]:
        return frozenset()
    unmoved = ["speaker"] if values["breakup_pct"] == 0.0 else []
    return frozenset([*unmoved, "near_far", *(f"{which}_{what}" for which in ("near", "far")
                                        for what in ("type", "distance_cm", "angle_deg", "pan"))])


def _spreads(values: Values) -> bool:
    """Microphones at places off the centre."""
    return values["near_pan"] != values["far_pan"] or values["near_pan"] != 0.0


def _load(values: Values) -> str:
    """The speaker; what stands behind a file is not known."""
    return "" if values["ir"] else str(values["speaker"])


CABINET = StageKind(
    kind="cabinet",
    label="Cabinet",
    glyph=(box(0.1, 0.05, 0.9, 0.95), arc(0.5, 0.5, 0.27), arc(0.5, 0.5, 0.07)),
    purpose="Plays the sound through a speaker, from a stack to a toy, and listens with two microphones.",
    front=("speaker", "ir", "near_far", "near_type", "near_distance_cm", "out_db"),
    neighbours=("room", "tame"),
    varied=("speaker", "near_far", "near_type"),
    parameters=(
        Option(id="speaker", label="Speaker", group=Group.MACHINE, default="1x12-closed",
               choices=tuple(Choice(speaker.id, speaker.label) for speaker in SPEAKERS),
               help="The box and its cones: size sets the weight, where a cone breaks up the bite, small ones squawk."),
        Impulse(id="ir", label="Impulse response", group=Group.MACHINE,
                help="A file of your own in place of the speaker: WAV or FLAC, any rate, up to ten seconds."),
        Number(id="breakup_pct", label="Break-up", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=0.0,
               decimals=0, floor_word="off",
               help="Drives the cone past its travel: growl in the lows, and highs that flutter with them."),
        Number(id="near_far", label="Near to far", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0,
               default=20.0, decimals=0, floor_word="near", top_word="far",
               help="Goes from the near microphone to the far one: level, time and place together."),
        *_mic_parameters("near", Group.NEAR, "dynamic", 1.0, 60.0, 5.0, 0.0),
        *_mic_parameters("far", Group.FAR, "condenser", 30.0, 500.0, 120.0, 10.0),
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-48.0, maximum=24.0, default=0.0,
               automation=Automation.RAMP,
               help="The level behind the speaker."),
    ),
    spreads=_spreads,
    load=_load,
    processor=CabinetProcessor,
    picture=picture,
    idle=_idle,
    impulse_picture=impulse_picture,
)
