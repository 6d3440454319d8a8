"""Tape machine: record amplifier, biased tape, replay.  Model: docs/models/tape.md."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view, db, gain
from yellow_ember.dsp.filters import linear_phase, response
from yellow_ember.dsp.kernels.filters import biquads, fir
from yellow_ember.dsp.kernels.mixing import add, glide
from yellow_ember.dsp.kernels.noise import white
from yellow_ember.dsp.kernels.tape import record
from yellow_ember.dsp.lean import PARAMETERS as LEAN_PARAMETERS
from yellow_ember.dsp.lean import LeanAndCleanLows
from yellow_ember.dsp.oversampling import CHUNK, Oversampling
from yellow_ember.dsp.parameters import (
    Automation,
    Choice,
    Group,
    Number,
    Option,
    Switch,
    Values,
    as_number,
)
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind, frequency_axis
from yellow_ember.dsp.tape_model import (
    STANDARDS,
    STOCKS,
    Standard,
    Stock,
    demag_corner,
    head_bump,
    low_emphasis,
    noise_level_db,
    noise_spectrum,
    operating_field,
    record_curve,
    record_equalisation,
    remanence,
    replay,
    standard_in_use,
    weighted_noise,
)

_BINS = 513
_BY_ID = {stock.id: stock for stock in STOCKS}


def _machine(values: Values) -> tuple[Stock, float, Standard]:
    speed = as_number(values["speed_ips"])
    return (_BY_ID[str(values["stock"])], speed,
            STANDARDS[speed, standard_in_use(speed, str(values["standard"]))])


def _replay_gain_db(values: Values) -> float:
    linked = -as_number(values["record_db"]) if values["link_levels"] else 0.0
    return as_number(values["play_db"]) + linked


class TapeProcessor(Processor):
    """Two linear-phase filters at the base rate around the record process at the raised rate."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        self._grid = np.linspace(0.0, setup.rate / 2.0, _BINS)
        taps = min(2 * max(16, round(setup.rate / 1000.0)) + 1, _BINS)
        channels = setup.channels
        self._fast = Oversampling(setup.oversample, channels)
        self._record_taps: Samples = np.zeros(taps)
        self._play_taps: Samples = np.zeros(taps)
        self._noise_taps: Samples = np.zeros(taps)
        self._record_history: Samples = np.zeros((channels, taps - 1))
        self._play_history: Samples = np.zeros((channels, taps - 1))
        self._noise_history: Samples = np.zeros((channels, taps - 1))
        self._line: Samples = np.zeros(taps - 1 + setup.max_block)
        self._noise: Samples = np.zeros(channels * setup.max_block)
        self._generator: Samples = np.zeros((channels, 2))
        self._demag_state: Samples = np.zeros((channels, 2))
        self._low_states: Samples = np.zeros((2, channels, 1, 2))
        self._bump_state: Samples = np.zeros((channels, 2, 2))
        self._bump: Samples = np.zeros((2, 5))
        self._low_sections: Samples = np.zeros((2, 1, 5))
        self._record_gain = self.ramp(1.0, setup.rate)
        self._play_gain = self.ramp(1.0, setup.rate)
        self._hiss_gain = self.ramp(0.0, setup.rate)
        self.latency = taps - 1 + self._fast.latency
        self._guard = LeanAndCleanLows(setup, self.latency)
        self.carry(*self._fast.state(), *self._guard.state(), self._record_history, self._play_history,
                   self._noise_history, self._generator, self._demag_state, self._low_states,
                   self._bump_state)
        self.reset()

    def reset(self) -> None:
        super().reset()
        for channel in range(self._setup.channels):
            self._generator[channel] = (self._setup.seed % 2**32, 7919 * (channel + 1))

    def set(self, values: Values, *, at_once: bool = False) -> None:
        stock, speed, standard = _machine(values)
        rate, bias = self._setup.rate, as_number(values["bias_db"])
        taps = self._record_taps.size
        self._record_taps[:] = linear_phase(record_equalisation(self._grid, stock, speed, standard), taps)
        self._play_taps[:] = linear_phase(replay(self._grid, stock, speed, standard, bias), taps)
        self._noise_taps[:] = linear_phase(noise_spectrum(self._grid, stock, speed, standard), taps)
        self._bump[:] = head_bump(speed, as_number(values["bump_pct"]) / 100.0, rate)
        emphasis = low_emphasis(standard, rate)
        self._emphasised = emphasis is not None
        if emphasis is not None:
            self._low_sections[0, 0], self._low_sections[1, 0] = emphasis
        self._curve = record_curve(stock, bias)
        self._corner = demag_corner(stock, speed, rate * self._setup.oversample)
        self._limit = stock.demag_limit
        self._guard.set(values)

        reference = gain(self._setup.reference_dbfs)
        field, flux = operating_field(stock), stock.operating_magnetisation
        move = Ramp.jump if at_once else Ramp.move
        move(self._record_gain, field / reference * gain(as_number(values["record_db"])))
        move(self._play_gain, reference / flux * gain(_replay_gain_db(values)))
        # The noise filter's output for white input of unit power has density 1 / (rate / 2) a hertz.
        level = noise_level_db(stock, speed, standard) + as_number(values["hiss_db"])
        unit = weighted_noise(stock, speed, standard) * math.sqrt(2.0 / rate)
        amount = flux * math.sqrt(0.5) * gain(level) / unit if values["hiss"] else 0.0
        move(self._hiss_gain, amount)

    def process(self, block: Samples) -> None:
        self._guard.before(block)
        glide(block, self._record_gain.state)
        if self._emphasised:
            biquads(block, self._low_sections[0], self._low_states[0])
        fir(block, self._record_taps, self._record_history, self._line)
        record(block, self._curve, self._corner, self._limit, self._demag_state, CHUNK,
               *self._fast.buffers())
        fir(block, self._play_taps, self._play_history, self._line)
        if self._emphasised:
            biquads(block, self._low_sections[1], self._low_states[1])
        biquads(block, self._bump, self._bump_state)
        if self._hiss_gain.target != 0.0 or not self._hiss_gain.resting:
            noise = block_view(self._noise, *block.shape)
            white(noise, self._generator)
            fir(noise, self._noise_taps, self._noise_history, self._line)
            glide(noise, self._hiss_gain.state)
            add(block, noise)
        glide(block, self._play_gain.state)
        self._guard.after(block)


def _live_points(values: Values, reference_dbfs: float, samples: Samples) -> tuple[Samples, Samples]:
    stock, _, _ = _machine(values)
    field = samples * (operating_field(stock) * gain(as_number(values["record_db"]) - reference_dbfs))
    return field, remanence(field, stock, as_number(values["bias_db"]))


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Response of tape and whole machine, and the record curve with the aligned one behind it."""
    stock, speed, standard = _machine(values)
    bias = as_number(values["bias_db"])
    hz = frequency_axis(rate)
    bump = response(np.array(head_bump(speed, as_number(values["bump_pct"]) / 100.0, rate)), hz, rate)
    whole = record_equalisation(hz, stock, speed, standard) * replay(hz, stock, speed, standard, bias) * bump
    sensitivity = remanence(np.array([0.01]), stock, bias) / remanence(np.array([0.01]), stock, 0.0)
    field = np.linspace(-4.0, 4.0, 321)
    return (
        Plot("Response at low level", "response", (
            Curve("record eq", hz, db(record_equalisation(hz, stock, speed, standard))),
            Curve("tape, replay", hz, db(replay(hz, stock, speed, standard, bias) * bump * sensitivity)),
            Curve("whole", hz, db(whole * sensitivity)),
        )),
        Plot("Magnetisation", "transfer", (
            Curve("aligned bias", field, remanence(field, stock, 0.0)),
            Curve("this bias", field, remanence(field, stock, bias)),
        ), x_label="field / coercivity", y_label="magnetisation / saturation",
            live=lambda samples: _live_points(values, reference_dbfs, samples)),
    )


TAPE = StageKind(
    kind="tape",
    label="Tape machine",
    glyph="T",
    purpose="Glues, thickens and softens a sound as a studio tape machine does, from barely there to soaked.",
    parameters=(
        Option(id="stock", label="Stock", group=Group.MACHINE, default="harbour",
               choices=tuple(Choice(stock.id, stock.label) for stock in STOCKS),
               help="The kind of tape: later stocks stay clean to a higher level and hiss less."),
        Option(id="speed_ips", label="Speed", group=Group.MACHINE, default="15", unit="ips", numeric=True,
               choices=(Choice("7.5", "7.5 ips"), Choice("15", "15 ips"), Choice("30", "30 ips")),
               help="Slower tape is softer on top and hisses more; faster tape is more open, and its "
                    "bass bump lies higher."),
        Option(id="standard", label="Equalisation", group=Group.MACHINE, default="iec",
               choices=(Choice("nab", "NAB"), Choice("iec", "IEC"), Choice("aes", "AES")),
               help="Which highs and lows the tape has to carry, and so which distort and hiss first; "
                    "where a speed has no such standard, its usual one holds."),
        Number(id="bias_db", label="Bias", group=Group.MACHINE, unit="dB", minimum=-6.0, maximum=6.0,
               default=0.0,
               help="Under-bias is brighter and grittier, over-bias is darker and smoother."),
        Number(id="record_db", label="Record level", group=Group.DRIVE, unit="dB", minimum=-24.0,
               maximum=24.0, default=0.0, automation=Automation.RAMP,
               help="How hard the tape is driven: more is denser, rounder and more distorted."),
        Number(id="play_db", label="Play level", group=Group.OUTPUT, unit="dB", minimum=-24.0,
               maximum=24.0, default=0.0, automation=Automation.RAMP,
               help="The level that comes off the tape, without changing its sound."),
        Switch(id="link_levels", label="Link levels", group=Group.OUTPUT, default=True,
               automation=Automation.RAMP,
               help="Playback falls as record rises, so that driving harder does not get louder."),
        *LEAN_PARAMETERS,
        Number(id="bump_pct", label="Head bump", group=Group.TONE, unit="%", minimum=0.0, maximum=200.0,
               default=100.0, decimals=0,
               help="The swell in the bass that the replay head adds, lower at slower speeds."),
        Switch(id="hiss", label="Hiss", group=Group.NOISE, default=False, automation=Automation.RAMP,
               help="Adds the noise that this stock, speed and equalisation have."),
        Number(id="hiss_db", label="Hiss level", group=Group.NOISE, unit="dB", minimum=-30.0, maximum=30.0,
               default=0.0, automation=Automation.RAMP,
               help="Hiss below or above what the real tape would have."),
    ),
    processor=TapeProcessor,
    picture=picture,
    drive="record_db",
    makeup="play_db",
    nonlinear=True,
    comfort_db=(-10.0, 6.0),
)
