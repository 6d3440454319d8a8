"""Amp: two triodes, tone stack, phase splitter, push-pull output, solved as circuits.  Model: docs/models/amp.md."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.amp_circuit import (
    UNITS_A_DB,
    VOICE_BY_ID,
    VOICES,
    bright_section,
    grids,
    load_with,
    plate_table,
    power_figures,
    ranges,
    splitter_table,
    taper,
    triode_table,
    valve_table,
)
from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.glyphs import arc, line
from yellow_ember.dsp.kernels import amp as kernels
from yellow_ember.dsp.kernels import electronics, inlined
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.oversampling import (
    OversamplingRecord,
    oversampling_latency,
    oversampling_sizes,
    set_oversampling,
)
from yellow_ember.dsp.parameters import Automation, Choice, Group, Number, Option, Switch, Values, as_number
from yellow_ember.dsp.record import CompiledHalf, Record, matrix, part, scratch, setting, shared, state, vector
from yellow_ember.dsp.speakers import SPEAKER_BY_ID
from yellow_ember.dsp.stage import LOAD, Curve, Picture, Plot, Processor, Setup, StageKind, frequency_axis
from yellow_ember.dsp.tone_around import LEAN_PARAMETERS, TONE_HZ, ToneRecord, set_tone, tone_after, tone_before
from yellow_ember.dsp.transformers import transformer_core

_LOST = 0.07
"""Share of its flux that a middling output transformer takes at full scale and 40 Hz."""


class AmpRecord(Record):
    """Lean, the circuit at the raised rate, output transformer, tone; the lows may pass clean.

    Attributes
    ----------
    volts : Samples
        `drive` of `kernels.amplify`; the tables are read by all amps of a voice.
    """

    volts: Samples = setting(3)
    grids: Samples = setting(4, kernels.GRID)
    bright: Samples = setting(3)
    stack: Samples = setting(7)
    power: Samples = setting(kernels.POWER)
    core: Samples = setting(electronics.CORE)
    out: Samples = setting(4)
    first: Samples = shared(2)
    second: Samples = shared(2)
    splitter: Samples = shared(2)
    valve: Samples = shared(2)
    plate: Samples = shared(2)
    ranges: Samples = shared(2)
    fast: OversamplingRecord = part(OversamplingRecord)
    tone: ToneRecord = part(ToneRecord)
    charges: Samples = state("channels", kernels.STATES)
    iron: Samples = state("channels", 1 + electronics.CORE_STATES)
    voltages: Samples = scratch("channels", "amp_chunk")


@inlined
def process(record: AmpRecord, block: Samples) -> None:
    """The compiled half."""
    tone_before(record.tone, block)
    kernels.amplify(block, matrix(record.voltages), vector(record.volts), matrix(record.grids), matrix(record.first),
                    matrix(record.second), vector(record.bright), vector(record.stack), vector(record.power),
                    matrix(record.splitter), matrix(record.valve), matrix(record.plate), matrix(record.ranges),
                    matrix(record.charges), record.fast)
    electronics.transformer(block, vector(record.core), matrix(record.iron))
    glide(block, vector(record.out))
    tone_after(record.tone, block)


class AmpProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(AmpRecord, process)

    def sizes(self, setup: Setup) -> dict[str, int]:
        return {"inner": oversampling_latency(setup.oversample), "amp_chunk": kernels.CHUNK * setup.oversample,
                **oversampling_sizes(setup.oversample)}

    def make_parts(self, setup: Setup) -> None:
        self.latency = set_oversampling(self.record.fast, setup.oversample)
        # The slow charges move to a new place over some hundredths of a second.
        self.settling = self.latency + round(0.03 * setup.rate)
        self._out = self.ramp(1.0, self.record.out)
        self.turning = self.record.tone.turning

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, voice = self.record, VOICE_BY_ID[str(values["voice"])]
        fast_rate = self._setup.rate * self._setup.oversample
        share = taper(as_number(values["gain"]))
        low, mid, high, presence = (as_number(values[name]) / 10.0 for name in ("low", "mid", "high", "presence"))
        record.volts = (voice.volts, voice.stack_loss * taper(as_number(values["master"])),
                        gain(voice.level_db) / voice.power.supply)
        record.grids = grids(voice, fast_rate)
        record.first, record.second = triode_table(voice.first), triode_table(voice.second)
        record.bright = bright_section(voice, share, bool(values["bright"]), fast_rate)
        record.stack = voice.tone.section(low, mid, high, fast_rate)
        record.power = power_figures(voice, presence, as_number(values["sag_pct"]) / 100.0, fast_rate)
        load_with(record.power, voice.power, SPEAKER_BY_ID.get(str(values.get(LOAD, ""))), fast_rate)
        record.splitter, record.ranges = splitter_table(), ranges()
        record.valve, record.plate = valve_table(voice.power), plate_table(voice.power)
        record.core = transformer_core(_LOST * voice.power.iron, self._setup.rate)
        set_tone(record.tone, values, self._setup.rate)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)


_SHOWN_RATE = 96000.0
_RAMP_HZ = 100.0


def _swept(values: Values, peak: float, frames: int) -> tuple[Samples, Samples]:
    """A turn of a sine and what the circuit has made of it after some, without filters, (frames,) each."""
    voice = VOICE_BY_ID[str(values["voice"])]
    turn = peak * np.sin(2.0 * np.pi * np.arange(12 * frames) / frames)
    out = turn[None, :].copy()
    state = np.zeros((1, kernels.STATES))
    share = taper(as_number(values["gain"]))
    low, mid, high, presence = (as_number(values[name]) / 10.0 for name in ("low", "mid", "high", "presence"))
    kernels.circuit(
        out, 1, turn.size, np.array([voice.volts, voice.stack_loss * taper(as_number(values["master"])),
                                     gain(voice.level_db) / voice.power.supply]),
        grids(voice, _SHOWN_RATE), triode_table(voice.first), triode_table(voice.second),
        bright_section(voice, share, bool(values["bright"]), _SHOWN_RATE),
        voice.tone.section(low, mid, high, _SHOWN_RATE),
        power_figures(voice, presence, as_number(values["sag_pct"]) / 100.0, _SHOWN_RATE), splitter_table(),
        valve_table(voice.power), plate_table(voice.power), ranges(), state)
    return turn[-frames:], out[0, -frames:] * gain(as_number(values["out_db"]))


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """The tone stack's response, and a low sine at 0 VU through the circuit with its harmonics."""
    voice = VOICE_BY_ID[str(values["voice"])]
    hz = frequency_axis(rate)
    s = 2j * np.pi * hz
    b, a = voice.tone.equation(*(as_number(values[name]) / 10.0 for name in ("low", "mid", "high")))
    stack = db(np.abs(np.polyval(b[::-1], s) / np.polyval(a[::-1], s)))
    frames = round(_SHOWN_RATE / _RAMP_HZ / 4.0)
    before, after = _swept(values, gain(reference_dbfs), frames)
    turn = np.linspace(0.0, 1.0, frames)
    top = max(float(np.abs(after).max()), 1e-9)
    spectrum = np.abs(np.fft.rfft(after))[1:11]
    return (Plot("Tone stack, dB", "response", (Curve("tone stack", hz, stack),)),
            Plot("A sine at 0 VU, as high before as after", "wave", (
                Curve("before", turn, before * top / gain(reference_dbfs)), Curve("after", turn, after)),
                x_label="one turn", y_label="level"),
            Plot("Its harmonics, dB", "harmonics", (Curve("harmonics", np.arange(1.0, 11.0), np.maximum(
                db(spectrum / max(float(spectrum[0]), 1e-12)), -90.0)),), x_label="order", y_label="dB"))


def _knob(name: str, label: str, group: Group, default: float, text: str) -> Number:
    return Number(id=name, label=label, group=group, unit="", minimum=0.0, maximum=10.0, default=default, help=text)


AMP = StageKind(
    kind="amp",
    label="Amp",
    glyph=(line((0.25, 0.95), (0.25, 0.35)), arc(0.5, 0.35, 0.25, 180.0, 360.0), line((0.75, 0.35), (0.75, 0.95)),
           line((0.38, 0.45), (0.62, 0.45)), line((0.5, 0.45), (0.5, 0.75))),
    purpose="A valve amplifier from input to output transformer: its stages load and drive each other.",
    front=("voice", "gain", "master", "low", "mid", "high", "presence", "out_db"),
    neighbours=("cabinet", "eq"),
    varied=("voice", "gain", "high"),
    lean="lean_db",
    remedies={"boom": ("clean_lows_hz",), "crowd": ("lean_db",), "hiss": ("tone_hz",)},
    parameters=(
        Option(id="voice", label="Voice", group=Group.MACHINE, default="crunch",
               choices=tuple(Choice(voice.id, voice.label) for voice in VOICES),
               help="The circuit: clean stays open, edge breaks up when struck, crunch barks, lead sings on, bass is "
                    "deep and firm."),
        _knob("gain", "Gain", Group.DRIVE, 5.0,
              "How hard the second triode is driven: the grain of the preamp."),
        _knob("master", "Master", Group.DRIVE, 6.0,
              "How hard the power valves are driven: the push and give of the whole amp."),
        Switch(id="bright", label="Bright", group=Group.DRIVE, default=False,
               help="Leads highs past the gain control: bites at low gain, does nothing with it fully up."),
        Number(id="sag_pct", label="Sag", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=30.0,
               decimals=0, floor_word="stiff",
               help="The supply gives way under loud notes: attacks come through, what follows is squeezed."),
        *LEAN_PARAMETERS,
        _knob("low", "Low", Group.TONE, 5.0, "Weight; turning it up takes a little off the middle, as the parts do."),
        _knob("mid", "Mid", Group.TONE, 5.0, "Body; fully down leaves the hollow that the other two stand around."),
        _knob("high", "High", Group.TONE, 5.0, "Edge; it decides how much of low and mid is heard at all."),
        _knob("presence", "Presence", Group.TONE, 3.0,
              "Takes highs out of the power stage's feedback: closer and rawer."),
        TONE_HZ,
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-48.0, maximum=24.0, default=0.0,
               automation=Automation.RAMP,
               help="The level after the amp, without changing its sound."),
    ),
    processor=AmpProcessor,
    picture=picture,
    drive="gain",
    tone="high",
    drive_units=UNITS_A_DB,
    makeup="out_db",
    nonlinear=True,
    feels_load=True,
    comfort_db=(-12.0, 9.0),
)
