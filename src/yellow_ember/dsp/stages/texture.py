"""Texture layer: strokes set off a texture or an oscillator under an envelope.  Model: docs/models/texture.md."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.filters import BUTTERWORTH_Q, high_pass, low_pass, one_pole
from yellow_ember.dsp.glyphs import line
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels import texture as kernels
from yellow_ember.dsp.kernels.filters import biquads, delay
from yellow_ember.dsp.kernels.mixing import LEFT, STEP, TARGET, VALUE, add, glide
from yellow_ember.dsp.parameters import (
    Automation,
    Choice,
    Group,
    Number,
    Option,
    Switch,
    Taper,
    Values,
    as_number,
)
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    block_of,
    cube,
    matrix,
    part,
    real,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
)
from yellow_ember.dsp.shaper import ShaperRecord, bend_block, set_shape, set_up_shaper, shaper_latency, shaper_sizes
from yellow_ember.dsp.shapes import SHAPE_BY_ID
from yellow_ember.dsp.stage import STRAIGHT, Curve, Picture, Plot, Processor, Setup, StageKind, frequency_axis
from yellow_ember.dsp.textures import FRAMES, RATE, TEXTURES, texture
from yellow_ember.dsp.tone_around import LEAN_PARAMETERS, ToneRecord, set_tone, tone_after, tone_before

_OFF_DB = -60.0
_WAVES = {"sine": kernels.SINE, "triangle": kernels.TRIANGLE, "saw": kernels.SAW}
_FAST_SECONDS, _FALL_SECONDS, _SLOW_SECONDS, _SLOW_FALL_SECONDS, _HOLD_SECONDS = 0.0005, 0.03, 0.04, 0.15, 0.03
_TRACKED_HZ, _TRACK_LOW_HZ = 6000.0, 700.0


def _figures(values: Values, rate: float) -> Samples:
    result = np.zeros(kernels.FIGURES)
    result[kernels.FAST_RISE], result[kernels.FAST_FALL] = one_pole(_FAST_SECONDS, rate), one_pole(_FALL_SECONDS, rate)
    result[kernels.SLOW_RISE], result[kernels.SLOW_FALL] = (one_pole(_SLOW_SECONDS, rate),
                                                            one_pole(_SLOW_FALL_SECONDS, rate))
    result[kernels.ATTACK] = 1.0 / max(as_number(values["attack_ms"]) / 1000.0 * rate, 1.0)
    result[kernels.DECAY] = 10.0 ** (-3.0 / (as_number(values["decay_ms"]) / 1000.0 * rate))
    result[kernels.SENSE] = 4.0 - 2.6 * as_number(values["sense_pct"]) / 100.0
    result[kernels.FLOOR] = gain(as_number(values["floor_db"]))
    result[kernels.HOLD] = _HOLD_SECONDS * rate
    return result


def _level(decibels: float) -> float:
    return 0.0 if decibels <= _OFF_DB else gain(decibels)


class TextureRecord(Record):
    """Envelope, layer with its cuts, the original beside it, and a last drive over both.

    Attributes
    ----------
    every : int
        Frames from one look at the pitch to the next.
    """

    every: int = whole()
    sounds: int = whole()
    wave: int = whole()
    follows: int = whole()
    driven: int = whole()
    keep: float = real()
    rate: float = real()
    step: float = real()
    osc_level: float = real()
    osc_hz: float = real()
    table: Samples = shared(1)
    figures: Samples = setting(kernels.FIGURES)
    cuts: Samples = setting(2, 5)
    amount: Samples = setting(4)
    body: Samples = setting(4)
    drive: Samples = setting(4)
    out: Samples = setting(4)
    shaper: ShaperRecord = part(ShaperRecord)
    tone: ToneRecord = part(ToneRecord)
    strokes: Samples = state("channels", kernels.STATES)
    places: Samples = state("channels")
    phases: Samples = state("channels")
    heard: Samples = state("channels", kernels.LINE)
    tracked: Samples = state("channels", kernels.TRACKED)
    cut_state: Samples = state("channels", 2, 2)
    ring: Samples = state("channels", "inner")
    ring_index: Samples = state(1)
    envelope: Samples = scratch("samples")
    layer: Samples = scratch("samples")
    hz: Samples = scratch("samples")
    differences: Samples = scratch(kernels.LONGEST + 1)


@inlined
def lay_texture(record: TextureRecord, block: Samples) -> Samples:
    """The layer under a block: the texture and the oscillator under the envelope of the strokes, cut."""
    envelope = block_of(record.envelope, block.shape[0], block.shape[1])
    layer: Samples = block_of(record.layer, block.shape[0], block.shape[1])
    kernels.strokes(block, vector(record.figures), envelope, matrix(record.strokes))
    kernels.lay(envelope, vector(record.table), record.step, vector(record.places), layer)
    if record.sounds == 1:
        hz = block_of(record.hz, block.shape[0], block.shape[1])
        if record.follows == 1:
            kernels.track(block, record.every, record.keep, record.rate, record.osc_hz, matrix(record.heard),
                          vector(record.differences), matrix(record.tracked), hz)
        else:
            hz[:] = record.osc_hz / record.rate
        kernels.oscillate(envelope, record.wave, record.osc_level, hz, vector(record.phases), layer)
    biquads(layer, matrix(record.cuts), cube(record.cut_state))
    return layer


@inlined
def process(record: TextureRecord, block: Samples) -> None:
    """The compiled half."""
    layer = lay_texture(record, block)
    glide(layer, vector(record.amount))
    glide(block, vector(record.body))
    add(block, layer)
    drive = vector(record.drive)
    if record.driven == 1:
        tone_before(record.tone, block)
        glide(block, drive)
        bend_block(record.shaper, block)
        tone_after(record.tone, block)
    else:
        drive[VALUE], drive[STEP], drive[LEFT] = drive[TARGET], 0.0, 0.0
        index = vector(record.ring_index)
        index[0] = delay(block, matrix(record.ring), int(index[0]))
    glide(block, vector(record.out))


class TextureProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(TextureRecord, process)

    def sizes(self, setup: Setup) -> dict[str, int]:
        return {"inner": shaper_latency(setup), **shaper_sizes(setup)}

    def make_parts(self, setup: Setup) -> None:
        record, rate = self.record, setup.rate
        self.latency = self.settling = set_up_shaper(record.shaper, setup)
        self.turning = record.tone.turning
        record.every, record.rate = max(1, round(rate / _TRACKED_HZ)), rate
        record.keep = one_pole(1.0 / (2.0 * math.pi * _TRACK_LOW_HZ), rate)
        self._amount, self._body, self._drive, self._out = (
            self.ramp(1.0, ramp) for ramp in (record.amount, record.body, record.drive, record.out))
        self.reset()

    def reset(self) -> None:
        super().reset()
        # Long since the last stroke.
        self.record.strokes[:, kernels.SINCE] = 1e9

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        record.figures = _figures(values, rate)
        record.table = texture(str(values["texture"]))
        record.step = 2.0 ** (as_number(values["pitch_st"]) / 12.0) * RATE / rate
        record.cuts[0] = high_pass(as_number(values["low_cut_hz"]), BUTTERWORTH_Q, rate)
        record.cuts[1] = low_pass(min(as_number(values["high_cut_hz"]), 0.45 * rate), BUTTERWORTH_Q, rate)
        record.sounds = int(values["osc"] != "off")
        record.wave = _WAVES.get(str(values["osc"]), kernels.SINE)
        record.osc_level, record.osc_hz = gain(as_number(values["osc_db"])), as_number(values["osc_hz"])
        record.follows = int(record.sounds == 1 and bool(values["osc_follow"]))
        set_shape(record.shaper, self._setup, SHAPE_BY_ID["soft"], gain(as_number(values["drive_db"])))
        record.driven = int(as_number(values["drive_db"]) > 0.0)
        set_tone(record.tone, values, rate)
        if record.driven == 0:
            record.tone.turning[:] = STRAIGHT
        self._amount.go(_level(as_number(values["amount_db"])), at_once=at_once)
        self._body.go(_level(as_number(values["body_db"])), at_once=at_once)
        self._drive.go(gain(as_number(values["drive_db"])), at_once=at_once)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)


_SHOWN_RATE, _SHOWN_SECONDS = 12000.0, 0.8


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """The envelope that a stroke sets off, and the texture's spectrum behind its cuts."""
    frames = round(_SHOWN_SECONDS * _SHOWN_RATE)
    stroke = np.zeros((1, frames))
    time = np.arange(frames) / _SHOWN_RATE
    after = np.maximum(time - 0.1, 0.0)
    stroke[0] = 0.5 * np.exp(-after / 0.05) * np.sin(2.0 * np.pi * 200.0 * after) * (time >= 0.1)
    envelope = np.zeros((1, frames))
    kernels.strokes(stroke, _figures(values, _SHOWN_RATE), envelope, np.zeros((1, kernels.STATES)))
    hz = frequency_axis(RATE, 90)
    power = np.abs(np.fft.rfft(texture(str(values["texture"])))) ** 2
    edges = np.clip(np.round(np.append(hz, hz[-1] * 1.08) * FRAMES / RATE * 2.0 ** (
        -as_number(values["pitch_st"]) / 12.0)).astype(int), 1, power.size - 1)
    sums = np.concatenate(([0.0], np.cumsum(power)))
    level = (sums[np.maximum(edges[1:], edges[:-1] + 1)] - sums[edges[:-1]])
    low, high = as_number(values["low_cut_hz"]), as_number(values["high_cut_hz"])
    level = level / (1.0 + (low / hz) ** 4) / (1.0 + (hz / high) ** 4)
    shown = db(np.sqrt(level / max(float(level.max()), 1e-30)))
    return (Plot("A stroke, and the layer's envelope", "time", (Curve("layer", time, envelope[0]),), x_label="seconds",
                 y_label="level"),
            Plot("The texture, dB", "response", (Curve("texture", hz, np.maximum(shown, -40.0)),)))


def _idle(values: Values) -> frozenset[str]:
    result = set()
    if values["osc"] == "off":
        result |= {"osc_hz", "osc_follow", "osc_db"}
    elif values["osc_follow"]:
        result.add("osc_hz")
    if as_number(values["drive_db"]) == 0.0:
        result |= {parameter.id for parameter in LEAN_PARAMETERS}
    return frozenset(result)


TEXTURE = StageKind(
    kind="texture",
    label="Texture layer",
    glyph=(line((0.1, 0.9), (0.2, 0.2), (0.3, 0.75), (0.42, 0.45), (0.54, 0.8), (0.66, 0.62), (0.78, 0.84),
                (0.9, 0.76)),),
    purpose="Puts life on top of a dull sound: every stroke sets off a texture that follows it and is gone.",
    front=("texture", "amount_db", "attack_ms", "decay_ms", "sense_pct", "body_db", "out_db"),
    neighbours=("room", "eq"),
    varied=("texture", "amount_db"),
    lean="lean_db",
    remedies={"boom": ("clean_lows_hz",), "crowd": ("lean_db",), "hiss": ("high_cut_hz",)},
    parameters=(
        Option(id="texture", label="Texture", group=Group.MACHINE, default="paper",
               choices=tuple(Choice(entry.id, entry.label) for entry in TEXTURES),
               help="What lies on the strokes: spray and sparks are bright, gravel and rope rough, felt is soft."),
        Number(id="pitch_st", label="Pitch", group=Group.MACHINE, unit="st", minimum=-24.0, maximum=24.0, default=0.0,
               help="Plays the texture higher or lower, in semitones."),
        Number(id="amount_db", label="Amount", group=Group.DRIVE, unit="dB", minimum=_OFF_DB, maximum=12.0,
               default=-14.0, floor_word="off", automation=Automation.RAMP,
               help="How loud the texture is against the stroke that sets it off."),
        Number(id="attack_ms", label="Attack", group=Group.DRIVE, unit="ms", minimum=0.0, maximum=100.0, default=0.5,
               help="How fast the layer comes in after the stroke; it never comes before."),
        Number(id="decay_ms", label="Decay", group=Group.DRIVE, unit="ms", minimum=10.0, maximum=2000.0,
               default=160.0, taper=Taper.LOG, decimals=0,
               help="How soon it is gone: short is a tick on the stroke, long a wash behind it."),
        Number(id="sense_pct", label="Sense", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=60.0,
               decimals=0,
               help="How small a stroke still counts."),
        Number(id="floor_db", label="From", group=Group.DRIVE, unit="dB", minimum=-80.0, maximum=-10.0,
               default=-48.0,
               help="The level, against full scale, below which nothing is set off."),
        Number(id="low_cut_hz", label="Low cut", group=Group.TONE, unit="Hz", minimum=20.0, maximum=8000.0,
               default=60.0, taper=Taper.LOG, decimals=0,
               help="Takes lows off the layer, so that it stays out of the body."),
        Number(id="high_cut_hz", label="High cut", group=Group.TONE, unit="Hz", minimum=200.0, maximum=20000.0,
               default=16000.0, taper=Taper.LOG, decimals=0,
               help="Takes highs off the layer."),
        Option(id="osc", label="Oscillator", group=Group.TONE, default="off",
               choices=(Choice("off", "off"), *(Choice(name, name) for name in _WAVES)),
               help="A tone under the same envelope: a sine under a kick, a saw in a bass."),
        Number(id="osc_hz", label="Oscillator at", group=Group.TONE, unit="Hz", minimum=25.0, maximum=2000.0,
               default=60.0, taper=Taper.LOG, decimals=1,
               help="The oscillator's pitch."),
        Switch(id="osc_follow", label="Follow the pitch", group=Group.TONE, default=False,
               help="Lets the oscillator sing the note that is played, for single notes from 40 to 400 Hz."),
        Number(id="osc_db", label="Oscillator level", group=Group.TONE, unit="dB", minimum=-40.0, maximum=12.0,
               default=0.0,
               help="How loud the oscillator is beside the texture."),
        Number(id="body_db", label="Body", group=Group.OUTPUT, unit="dB", minimum=_OFF_DB, maximum=12.0, default=0.0,
               floor_word="silent", automation=Automation.RAMP,
               help="How loud the original is; fully down, only the layer is heard."),
        Number(id="drive_db", label="Last drive", group=Group.OUTPUT, unit="dB", minimum=0.0, maximum=36.0,
               default=0.0, floor_word="off",
               help="A soft drive over the original and its layer, so that both become one."),
        *LEAN_PARAMETERS,
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-36.0, maximum=12.0, default=0.0,
               automation=Automation.RAMP,
               help="The level behind everything."),
    ),
    processor=TextureProcessor,
    picture=picture,
    rest={"amount_db": _OFF_DB},
    nonlinear=True,
    idle=_idle,
)
