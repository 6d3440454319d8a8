"""The running tape machine: electronics, biased tape, heads, transport.  Model: docs/models/tape.md."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view, gain
from yellow_ember.dsp.filters import (
    BUTTERWORTH_Q,
    Section,
    high_pass,
    high_shelf,
    low_pass,
    low_shelf,
    one_pole,
    response,
    zero_and_pole,
)
from yellow_ember.dsp.kernels import electronics
from yellow_ember.dsp.kernels.filters import biquads, delay, fir, fir_each
from yellow_ember.dsp.kernels.mixing import add, glide
from yellow_ember.dsp.kernels.noise import white
from yellow_ember.dsp.kernels.tape import record
from yellow_ember.dsp.motion import MotionLine, centre_frames
from yellow_ember.dsp.oversampling import CHUNK, Oversampling
from yellow_ember.dsp.parameters import (
    Values,
    as_number,
    as_pair,
)
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.stage import Processor, Setup
from yellow_ember.dsp.tape.machine import Machine, machine, replay_filter
from yellow_ember.dsp.tape.model import (
    CURVE_CELLS,
    FILTER_BINS,
    IPS,
    demag_corner,
    head_bump,
    low_emphasis,
    noise_filter,
    noise_level_db,
    record_curve,
    record_filter,
    weighted_noise,
)
from yellow_ember.dsp.tone_around import ToneAround

_NO_CURVE: Samples = np.zeros((2, 0, 4))
_NO_LIMIT = 1e12
SHELF_LOW_HZ, SHELF_HIGH_HZ = 160.0, 4000.0
SILENT_DB, SILENT_MODULATION_DB = -90.0, -80.0
"""Leakage, hum and modulation noise at these levels are none."""
MIN_CUT_HZ, MAX_CUT_HZ = 20.0, 20000.0
"""Cuts at these frequencies cut nothing."""
_HUM_PARTS = (1.0, 0.6, 0.35, 0.12, 0.16, 0.05)
_COMPANDER_HZ, _COMPANDER_BOOST, _COMPANDER_DB = 1500.0, 2.16, -32.0
_COMPANDER_RISE, _COMPANDER_FALL = 0.002, 0.06
_SQUASH_RISE, _SQUASH_OVER_DB = 0.001, -4.0
_RINGING_SECONDS = 0.004
_MODULATION_HZ, _OWN_MODULATION_DB = 1200.0, -56.0


def _replay_gain_db(made: Machine, side: int) -> float:
    linked = 0.0
    if made.values["link_levels"]:
        linked = made.linked_db() - as_pair(made.values["record_db"])[side]
    return made.pair("play_db")[side] + linked


class TapeProcessor(Processor):
    """Two linear-phase filters at the base rate around the record process at the raised rate."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        taps = min(2 * max(16, round(setup.rate / 1000.0)) + 1, FILTER_BINS)
        channels, most = setup.channels, setup.max_block
        self._fast = Oversampling(setup.oversample, channels)
        self._motion = MotionLine(setup, centre_frames(setup.rate, far=False))
        shape, held = (channels, taps), (channels, taps - 1)
        self._record_taps: Samples = np.zeros(shape)
        self._play_taps: Samples = np.zeros(shape)
        self._noise_taps: Samples = np.zeros(taps)
        self._record_history: Samples = np.zeros(held)
        self._play_history: Samples = np.zeros(held)
        self._noise_history: Samples = np.zeros(held)
        self._line: Samples = np.zeros(taps - 1 + most)
        self._side: Samples = np.zeros(channels * most)
        self._cut_off: Samples = np.zeros(channels * most)
        self._curves: Samples = np.zeros((channels, CURVE_CELLS, 4))
        self._generator: Samples = np.zeros((channels, 2))
        self._modulation: Samples = np.zeros((channels, 3))
        self._demag_state: Samples = np.zeros((channels, 2))
        self._low_sections: Samples = np.zeros((2, 1, 5))
        self._low_states: Samples = np.zeros((2, channels, 1, 2))
        self._bump: Samples = np.zeros((2, 5))
        self._bump_state: Samples = np.zeros((channels, 2, 2))
        self._shelves: Samples = np.zeros((2, channels, 2, 5))
        self._shelf_states: Samples = np.zeros((2, channels, 2, 2))
        self._cut: Samples = np.zeros((2, 5))
        self._cut_state: Samples = np.zeros((channels, 2, 2))
        self._cores: Samples = np.zeros((2, channels, 3))
        self._companders: Samples = np.zeros((2, channels, 2))
        self._squashed: Samples = np.zeros((channels, 4))
        self._cross: Samples = np.zeros((1, 5))
        self._cross_state: Samples = np.zeros((channels, 1, 2))
        self._hum_wave = _hum_wave()
        self._hum_index: Samples = np.zeros(1)
        self._index: Samples = np.zeros(1)
        self._record_gains = [self.ramp(1.0, setup.rate) for _ in range(channels)]
        self._play_gains = [self.ramp(1.0, setup.rate) for _ in range(channels)]
        self._hiss_gain = self.ramp(0.0, setup.rate)
        self._hum_gain = self.ramp(0.0, setup.rate)
        self.latency = taps - 1 + self._fast.latency + self._motion.latency
        self.settling = self.latency + round(_RINGING_SECONDS * setup.rate)
        self._cut_ring: Samples = np.zeros((channels, self.latency))
        self._guard = ToneAround(setup, self.latency)
        self.carry(*self._fast.state(), *self._guard.state(), *self._motion.state(), self._record_history,
                   self._play_history, self._noise_history, self._generator, self._modulation, self._demag_state,
                   self._low_states, self._bump_state, self._shelf_states, self._cut_state, self._cores,
                   self._companders, self._squashed, self._cross_state, self._hum_index, self._index, self._cut_ring)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self._motion.reset()
        for channel in range(self._setup.channels):
            self._generator[channel] = (self._setup.seed, 7919 * (channel + 1))
            self._modulation[channel] = (self._setup.seed, 104729 * (channel + 1), 0.0)

    # -- settings -----------------------------------------------------------------------

    def set(self, values: Values, *, at_once: bool = False) -> None:
        made = machine(values)
        self._through_tape = values["monitor"] != "input"
        self._set_tape(made)
        self._set_electronics(made)
        self._set_faults(made)
        self._guard.set(values)
        reference = gain(self._setup.reference_dbfs)
        for side in range(self._setup.channels):
            self._record_gains[side].go(made.field / reference * gain(made.pair("record_db")[side]), at_once=at_once)
            level = reference / (made.flux if self._through_tape else made.field)
            self._play_gains[side].go(level * gain(_replay_gain_db(made, side)), at_once=at_once)
        self._set_noises(made, at_once=at_once)

    def _set_tape(self, made: Machine) -> None:
        rate = self._setup.rate
        taps = self._noise_taps.size
        bias = made.pair("bias_db")
        for side in range(self._setup.channels):
            if self._through_tape:
                self._record_taps[side] = record_filter(made.stock, made.speed, made.standard, rate, taps)
                self._play_taps[side] = replay_filter(made.heads, round(bias[side], 2), rate, taps)
            else:
                for filters in (self._record_taps, self._play_taps):
                    filters[side] = 0.0
                    filters[side, taps // 2] = 1.0
        if self._through_tape:
            self._curves = np.ascontiguousarray([record_curve(made.stock, round(bias[side], 3))
                                                 for side in range(self._setup.channels)])
        else:
            self._curves = _NO_CURVE
        self._corner = demag_corner(made.coating, made.speed, rate * self._setup.oversample)
        self._limit = made.stock.demag_limit if self._through_tape else _NO_LIMIT
        self._bumps = made.values["monitor"] == "play"
        self._bump[:] = bump_sections(made, rate)
        emphasis = low_emphasis(made.standard, rate)
        self._emphasised = emphasis is not None and self._through_tape
        if emphasis is not None:
            self._low_sections[0, 0], self._low_sections[1, 0] = emphasis
        skew = made.width.apart_mm * 1e-3 * math.tan(math.radians(made.azimuth / 60.0)) / (made.speed * IPS) * rate
        self._motion.set(made.speed_figures(), skew=0.5 * skew if self._through_tape else 0.0)

    def _set_electronics(self, made: Machine) -> None:
        rate, values = self._setup.rate, made.values
        self._shelved = [False, False]
        for index, (low, high) in enumerate((("record_low_db", "record_high_db"), ("play_low_db", "play_high_db"))):
            lows, highs = made.pair(low), made.pair(high)
            self._shelved[index] = any((*lows, *highs))
            for side in range(self._setup.channels):
                self._shelves[index, side] = (low_shelf(SHELF_LOW_HZ, lows[side], rate),
                                              high_shelf(SHELF_HIGH_HZ, highs[side], rate))
        low_cut, high_cut = as_number(values["low_cut_hz"]), as_number(values["high_cut_hz"])
        self._cuts = low_cut > MIN_CUT_HZ or high_cut < MAX_CUT_HZ
        self._returns = self._cuts and bool(values["return_cut"])
        through = (1.0, 0.0, 0.0, 0.0, 0.0)
        self._cut[0] = high_pass(low_cut, BUTTERWORTH_Q, rate) if low_cut > MIN_CUT_HZ else through
        self._cut[1] = low_pass(high_cut, BUTTERWORTH_Q, rate) if high_cut < MAX_CUT_HZ else through
        self._iron = bool(values["transformers"])
        self._core = made.core(rate)
        reference = gain(self._setup.reference_dbfs)
        # A transformer before the record amplifier and one behind the replay amplifier see line level.
        self._core[electronics.STEP] *= gain(-18.0) / reference
        self._encodes = values["noise_reduction"] != "off"
        self._decodes = values["noise_reduction"] == "on"
        figures = np.zeros(electronics.COMPANDER)
        figures[electronics.RISE] = one_pole(_COMPANDER_RISE, rate)
        figures[electronics.FALL] = one_pole(_COMPANDER_FALL, rate)
        figures[electronics.SENSITIVITY] = 1.0 / (reference * gain(_COMPANDER_DB))
        figures[electronics.SLIDE] = math.tan(math.pi * min(_COMPANDER_HZ / rate, 0.4))
        figures[electronics.BOOST] = _COMPANDER_BOOST
        self._compander = figures
        self._squash_share = 0.75 * as_number(values["squash_pct"]) / 100.0
        self._squash_level = made.field * gain(_SQUASH_OVER_DB)
        self._squash_rise = one_pole(_SQUASH_RISE, rate)
        self._squash_fall = one_pole(as_number(values["recover_ms"]) / 1000.0, rate)

    def _set_faults(self, made: Machine) -> None:
        rate = self._setup.rate
        crosstalk = made.crosstalk_db()
        self._crosses = crosstalk > SILENT_DB and self._setup.channels == 2
        if self._crosses:
            # Flux between the cores grows towards long wavelengths, which faster tape has higher up.
            shift = made.speed / 15.0
            section = np.array([zero_and_pole(650.0 * shift, 90.0 * shift, rate)])
            section[0, :3] *= gain(crosstalk) / response(section, np.array([1000.0]), rate)[0]
            self._cross[:] = section
        level = made.fault("mod_noise_db", _OWN_MODULATION_DB, -math.inf)
        self._mod_amount = gain(level) if level > SILENT_MODULATION_DB and self._through_tape else 0.0
        self._mod_smooth = 1.0 - math.exp(-2.0 * math.pi * _MODULATION_HZ / rate)

    def _set_noises(self, made: Machine, *, at_once: bool) -> None:
        rate = self._setup.rate
        flux = made.stock.magnetisation(made.stock.operating_nwb)
        hissing = made.values["hiss"] and self._through_tape
        if hissing:
            self._noise_taps[:] = noise_filter(made.stock, made.speed, made.standard, rate, self._noise_taps.size)
        # The noise filter's output for white input of unit power has density 1 / (rate / 2) a hertz.
        level = noise_level_db(made.stock, made.speed, made.standard, made.width.track_mm)
        unit = weighted_noise(made.stock, made.speed, made.standard) * math.sqrt(2.0 / rate)
        hiss = flux * math.sqrt(0.5) * gain(level + as_number(made.values["hiss_db"])) / unit
        self._hiss_gain.go(hiss if hissing else 0.0, at_once=at_once)
        hum = made.fault("hum_db", made.deck.hum_db, -math.inf)
        requested = made.flux if self._through_tape else made.field
        self._hum_gain.go(requested * gain(hum) if hum > SILENT_DB else 0.0, at_once=at_once)
        self._hum_step = as_number(made.values["hum_hz"]) / rate

    # -- sound --------------------------------------------------------------------------

    def process(self, block: Samples) -> None:
        self._guard.before(block)
        if self._cuts:
            self._cut_away(block)
        if self._encodes:
            electronics.compand(block, self._compander, False, self._companders[0])
        if self._iron:
            electronics.transformer(block, self._core, self._cores[0])
        self._amplify(block, self._record_gains, 0)
        if self._squash_share > 0.0:
            electronics.squash(block, self._squash_level, self._squash_share, self._squash_rise, self._squash_fall,
                               self._squashed)
        self._tape(block)
        if self._crosses:
            self._cross_talk(block)
        self._add_noises(block)
        self._motion.process(block)
        self._amplify(block, self._play_gains, 1)
        if self._iron:
            electronics.transformer(block, self._core, self._cores[1])
        if self._decodes:
            electronics.compand(block, self._compander, True, self._companders[1])
        if self._returns:
            add(block, block_view(self._cut_off, *block.shape))
        self._guard.after(block)

    def _cut_away(self, block: Samples) -> None:
        """Take lows and highs off; what was taken waits in step with the tape."""
        cut_off = block_view(self._cut_off, *block.shape)
        cut_off[...] = block
        biquads(block, self._cut, self._cut_state)
        np.subtract(cut_off, block, out=cut_off)
        self._index[0] = delay(cut_off, self._cut_ring, int(self._index[0]))

    def _amplify(self, block: Samples, gains: list[Ramp], index: int) -> None:
        """Level and shelves of the record (0) or the replay amplifier (1)."""
        for side, ramp in enumerate(gains):
            one = block[side:side + 1]
            glide(one, ramp.state)
            if self._shelved[index]:
                biquads(one, self._shelves[index, side], self._shelf_states[index, side:side + 1])

    def _tape(self, block: Samples) -> None:
        """From the record amplifier to the replay amplifier."""
        if self._emphasised:
            biquads(block, self._low_sections[0], self._low_states[0])
        fir_each(block, self._record_taps, self._record_history, self._line)
        record(block, self._curves, self._corner, self._limit, self._demag_state, CHUNK, *self._fast.buffers())
        if self._mod_amount > 0.0:
            electronics.modulate(block, self._mod_amount, self._mod_smooth, self._modulation)
        fir_each(block, self._play_taps, self._play_history, self._line)
        if self._emphasised:
            biquads(block, self._low_sections[1], self._low_states[1])
        if self._bumps:
            biquads(block, self._bump, self._bump_state)

    def _cross_talk(self, block: Samples) -> None:
        other = block_view(self._side, *block.shape)
        other[0], other[1] = block[1], block[0]
        biquads(other, self._cross, self._cross_state)
        add(block, other)

    def _add_noises(self, block: Samples) -> None:
        noise = block_view(self._side, *block.shape)
        if self._hiss_gain.target != 0.0 or not self._hiss_gain.resting:
            white(noise, self._generator)
            fir(noise, self._noise_taps, self._noise_history, self._line)
            glide(noise, self._hiss_gain.state)
            add(block, noise)
        if self._hum_gain.target != 0.0 or not self._hum_gain.resting:
            electronics.repeat(noise, self._hum_wave, self._hum_step, self._hum_index)
            glide(noise, self._hum_gain.state)
            add(block, noise)


def bump_sections(made: Machine, rate: float) -> list[Section]:
    """The replay head's bump and dip as set; the record head in its place (sync) has none."""
    amount = as_number(made.values["bump_pct"]) / 100.0 if made.values["monitor"] == "play" else 0.0
    return head_bump(made.deck.bump_hz * made.speed / 15.0, made.deck.bump_db, made.deck.dip_db, amount, rate)


def _hum_wave() -> Samples:
    """A period of mains hum with its harmonics, as strong as a sine of unit peak; a table that ends where it began."""
    phase = 2.0 * np.pi * np.arange(2049) / 2048
    order = np.arange(1, len(_HUM_PARTS) + 1)[:, None]
    wave = np.array(_HUM_PARTS) @ np.sin(order * phase + order - 1)
    return np.asarray(wave / np.sqrt(2.0 * np.mean(wave[:-1] ** 2)))
