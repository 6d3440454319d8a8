"""The running tape machine: electronics, biased tape, heads, transport.  Model: docs/models/tape.md."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Counts, Samples, gain
from yellow_ember.dsp.filters import (
    BUTTERWORTH_Q,
    Section,
    high_pass,
    high_shelf,
    low_pass,
    low_shelf,
    one_pole,
    past_length,
    response,
    soonest,
    zero_and_pole,
)
from yellow_ember.dsp.kernels import electronics, inlined, kernel
from yellow_ember.dsp.kernels.filters import biquads, delay, fir, fir_each
from yellow_ember.dsp.kernels.mixing import LEFT, TARGET, add, glide, put
from yellow_ember.dsp.kernels.noise import white
from yellow_ember.dsp.kernels.plain_fir import plain_fir_each
from yellow_ember.dsp.kernels.tape import magnetise_block
from yellow_ember.dsp.motion import (
    LOW_CENTRE_FRAMES,
    LOW_MARGIN_FRAMES,
    MARGIN_FRAMES,
    MotionRecord,
    MotorRecord,
    centre_frames,
    motion_sizes,
    motor_sizes,
    move,
    pull,
    set_motion,
    set_up_motion,
    set_up_motor,
    start_motion,
    start_motor,
)
from yellow_ember.dsp.oversampling import (
    OversamplingRecord,
    oversampling_latency,
    oversampling_sizes,
    set_oversampling,
)
from yellow_ember.dsp.parameters import (
    Values,
    as_number,
    as_pair,
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
    whole_matrix,
    whole_state,
)
from yellow_ember.dsp.stage import Processor, Setup
from yellow_ember.dsp.tape.machine import Machine, machine, replay_filter
from yellow_ember.dsp.tape.model import (
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
from yellow_ember.dsp.tone_around import ToneRecord, set_tone, tone_after, tone_before

_NO_CURVE: Samples = np.zeros((2, 0, 4))
_NO_LIMIT = 1e12
RECORDING, PLAYING, HISSING = range(3)
"""Filters with taps, by their places in `past_indices`."""
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
_ROUGHNESS = ((60.0, 0.9), (1500.0, 0.45))
"""Corners in Hz of the two parts of a tape's roughness, and how strong each is."""
_OWN_MODULATION_DB = -56.0


def _replay_gain_db(made: Machine, side: int) -> float:
    linked = 0.0
    if made.values["link_levels"]:
        linked = made.linked_db() - as_pair(made.values["record_db"])[side]
    return made.pair("play_db")[side] + linked


class TapeRecord(Record):
    """Two linear-phase filters at the base rate around the record process at the raised rate.

    Attributes
    ----------
    cores, companders : Samples
        Of the record side (0) and of the replay side (1).
    """

    cuts: int = whole()
    returns: int = whole()
    encodes: int = whole()
    decodes: int = whole()
    iron: int = whole()
    emphasised: int = whole()
    bumps: int = whole()
    crosses: int = whole()
    record_shelved: int = whole()
    play_shelved: int = whole()
    rough: int = whole()
    soon: int = whole()
    squash_level: float = real()
    squash_share: float = real()
    squash_rise: float = real()
    squash_fall: float = real()
    corner: float = real()
    limit: float = real()
    hum_step: float = real()
    curves: Samples = shared(3)
    hum_wave: Samples = shared(1)
    offsets: Samples = setting("channels", 2)
    record_gains: Samples = setting("channels", 4)
    play_gains: Samples = setting("channels", 4)
    roughness: Samples = setting(electronics.ROUGHNESS)
    hiss_gain: Samples = setting(4)
    hum_gain: Samples = setting(4)
    record_taps: Samples = setting("channels", "taps")
    play_taps: Samples = setting("channels", "taps")
    noise_taps: Samples = setting("taps")
    record_emphasis: Samples = setting(1, 5)
    play_emphasis: Samples = setting(1, 5)
    bump: Samples = setting(2, 5)
    record_shelves: Samples = setting("channels", 2, 5)
    play_shelves: Samples = setting("channels", 2, 5)
    cut: Samples = setting(2, 5)
    core: Samples = setting(electronics.CORE)
    compander: Samples = setting(electronics.COMPANDER)
    cross: Samples = setting(1, 5)
    fast: OversamplingRecord = part(OversamplingRecord)
    motion: MotionRecord = part(MotionRecord)
    motor: MotorRecord = part(MotorRecord)
    tone: ToneRecord = part(ToneRecord)
    record_past: Samples = state("channels", "past")
    play_past: Samples = state("channels", "past")
    noise_past: Samples = state("channels", "past")
    past_indices: Counts = whole_state(3, 1)
    generator: Samples = state("channels", 2)
    modulation: Samples = state("channels", 4)
    demagnetised: Samples = state("channels", 2)
    record_emphasis_state: Samples = state("channels", 1, 2)
    play_emphasis_state: Samples = state("channels", 1, 2)
    bump_state: Samples = state("channels", 2, 2)
    record_shelf_state: Samples = state("channels", 2, 2)
    play_shelf_state: Samples = state("channels", 2, 2)
    cut_state: Samples = state("channels", 2, 2)
    cores: Samples = state(2, "channels", 1 + electronics.CORE_STATES)
    companders: Samples = state(2, "channels", 2)
    squashed: Samples = state("channels", 4)
    cross_state: Samples = state("channels", 1, 2)
    hum_index: Samples = state(1)
    cut_index: Samples = state(1)
    cut_ring: Samples = state("channels", "inner")
    erased: Samples = scratch("raised")
    side: Samples = scratch("samples")
    cut_off: Samples = scratch("samples")


@inlined
def cut_away(record: TapeRecord, block: Samples) -> None:
    """Take lows and highs off; what was taken waits in step with the tape."""
    cut_off = block_of(record.cut_off, block.shape[0], block.shape[1])
    put(cut_off, block)
    biquads(block, matrix(record.cut), cube(record.cut_state))
    for c in range(block.shape[0]):
        for i in range(block.shape[1]):
            cut_off[c, i] -= block[c, i]
    index = vector(record.cut_index)
    index[0] = delay(cut_off, matrix(record.cut_ring), int(index[0]))


@kernel
def amplify(block: Samples, gains: Samples, shelved: int, shelves: Samples, shelf_state: Samples) -> None:
    """Level and shelves of the record or the replay amplifier, each channel its own."""
    for side in range(block.shape[0]):
        one = block[side:side + 1]
        glide(one, gains[side])
        if shelved == 1:
            biquads(one, shelves[side], shelf_state[side:side + 1])


@inlined
def run_tape(record: TapeRecord, block: Samples) -> None:
    """From the record amplifier to the replay amplifier."""
    indices = whole_matrix(record.past_indices)
    if record.emphasised == 1:
        biquads(block, matrix(record.record_emphasis), cube(record.record_emphasis_state))
    if record.soon == 1:
        plain_fir_each(block, matrix(record.record_taps), matrix(record.record_past), indices[RECORDING])
    else:
        fir_each(block, matrix(record.record_taps), matrix(record.record_past), indices[RECORDING])
    magnetise_block(block, cube(record.curves), matrix(record.offsets), record.corner, record.limit,
                    matrix(record.demagnetised), vector(record.erased), record.fast)
    if record.rough == 1:
        electronics.modulate(block, vector(record.roughness), matrix(record.modulation))
    if record.soon == 1:
        plain_fir_each(block, matrix(record.play_taps), matrix(record.play_past), indices[PLAYING])
    else:
        fir_each(block, matrix(record.play_taps), matrix(record.play_past), indices[PLAYING])
    if record.emphasised == 1:
        biquads(block, matrix(record.play_emphasis), cube(record.play_emphasis_state))
    if record.bumps == 1:
        biquads(block, matrix(record.bump), cube(record.bump_state))


@inlined
def cross_talk(record: TapeRecord, block: Samples) -> None:
    """Let each channel of two into the other."""
    other = block_of(record.side, block.shape[0], block.shape[1])
    put(other[:1], block[1:])
    put(other[1:], block[:1])
    biquads(other, matrix(record.cross), cube(record.cross_state))
    add(block, other)


@inlined
def add_noises(record: TapeRecord, block: Samples) -> None:
    """Add hiss and hum, where there is any or some is fading out."""
    noise = block_of(record.side, block.shape[0], block.shape[1])
    hiss, hum = vector(record.hiss_gain), vector(record.hum_gain)
    if hiss[TARGET] != 0.0 or hiss[LEFT] != 0.0:
        white(noise, matrix(record.generator))
        fir(noise, vector(record.noise_taps), matrix(record.noise_past), whole_matrix(record.past_indices)[HISSING])
        glide(noise, hiss)
        add(block, noise)
    if hum[TARGET] != 0.0 or hum[LEFT] != 0.0:
        electronics.repeat(noise, vector(record.hum_wave), record.hum_step, vector(record.hum_index))
        glide(noise, hum)
        add(block, noise)


@inlined
def process(record: TapeRecord, block: Samples) -> None:
    """The compiled half."""
    cores, companders = cube(record.cores), cube(record.companders)
    tone_before(record.tone, block)
    if record.cuts == 1:
        cut_away(record, block)
    if record.encodes == 1:
        electronics.compand(block, vector(record.compander), False, companders[0])
    if record.iron == 1:
        electronics.transformer(block, vector(record.core), cores[0])
    amplify(block, matrix(record.record_gains), record.record_shelved, cube(record.record_shelves),
            cube(record.record_shelf_state))
    if record.squash_share > 0.0:
        electronics.squash(block, record.squash_level, record.squash_share, record.squash_rise, record.squash_fall,
                           matrix(record.squashed))
    run_tape(record, block)
    if record.crosses == 1:
        cross_talk(record, block)
    add_noises(record, block)
    move(record.motion, block)
    pull(record.motor, block)
    amplify(block, matrix(record.play_gains), record.play_shelved, cube(record.play_shelves),
            cube(record.play_shelf_state))
    if record.iron == 1:
        electronics.transformer(block, vector(record.core), cores[1])
    if record.decodes == 1:
        electronics.compand(block, vector(record.compander), True, companders[1])
    if record.returns == 1:
        add(block, block_of(record.cut_off, block.shape[0], block.shape[1]))
    tone_after(record.tone, block)


class TapeProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(TapeRecord, process, wide=True)

    def sizes(self, setup: Setup) -> dict[str, int]:
        self._taps = min(2 * max(16, round(setup.rate / 1000.0)) + 1, FILTER_BINS)
        self._centre = LOW_CENTRE_FRAMES if setup.low_delay else centre_frames(setup.rate, far=False)
        filters = 0 if setup.low_delay else self._taps - 1
        self.latency = filters + oversampling_latency(setup.oversample) + self._centre + setup.lookahead
        self.settling = self.latency + round(_RINGING_SECONDS * setup.rate)
        return {"taps": self._taps, "past": past_length(self._taps, setup.max_block),
                "inner": self.latency, **oversampling_sizes(setup.oversample), **motion_sizes(setup, self._centre),
                **motor_sizes(setup)}

    def make_parts(self, setup: Setup) -> None:
        record = self.record
        set_oversampling(record.fast, setup.oversample)
        record.soon = int(setup.low_delay)
        set_up_motion(record.motion, setup, self._centre, LOW_MARGIN_FRAMES if setup.low_delay else MARGIN_FRAMES)
        set_up_motor(record.motor, setup)
        record.hum_wave = _hum_wave()
        self.turning = record.tone.turning
        self._record_gains = [self.ramp(1.0, gains) for gains in record.record_gains]
        self._play_gains = [self.ramp(1.0, gains) for gains in record.play_gains]
        self._hiss_gain = self.ramp(0.0, record.hiss_gain)
        self._hum_gain = self.ramp(0.0, record.hum_gain)
        self.reset()

    def reset(self) -> None:
        super().reset()
        start_motion(self.record.motion, self._setup)
        start_motor(self.record.motor)
        for channel in range(self._setup.channels):
            self.record.generator[channel] = (self._setup.seed, 7919 * (channel + 1))
            self.record.modulation[channel] = (self._setup.seed, 104729 * (channel + 1), 0.0, 0.0)

    # -- settings -----------------------------------------------------------------------

    def set(self, values: Values, *, at_once: bool = False) -> None:
        made = machine(values)
        self._through_tape = values["monitor"] != "input"
        self._set_tape(made)
        self._set_electronics(made)
        self._set_faults(made)
        set_tone(self.record.tone, values, self._setup.rate)
        reference = gain(self._setup.reference_dbfs)
        for side in range(self._setup.channels):
            self._record_gains[side].go(made.field / reference * gain(made.pair("record_db")[side]), at_once=at_once)
            level = reference / (made.flux if self._through_tape else made.field)
            self._play_gains[side].go(level * gain(_replay_gain_db(made, side)), at_once=at_once)
        self._set_noises(made, at_once=at_once)

    def _set_tape(self, made: Machine) -> None:
        rate = self._setup.rate
        taps = self._taps
        bias = made.pair("bias_db")
        for side in range(self._setup.channels):
            if self._through_tape:
                filters = (record_filter(made.stock, made.speed, made.standard, rate, taps),
                           replay_filter(made.heads, round(bias[side], 2), rate, taps))
                if self._setup.low_delay:
                    filters = soonest(filters[0]), soonest(filters[1])
                self.record.record_taps[side], self.record.play_taps[side] = filters
            else:
                for unchanged in (self.record.record_taps, self.record.play_taps):
                    unchanged[side] = 0.0
                    unchanged[side, 0 if self._setup.low_delay else taps // 2] = 1.0
        if self._through_tape:
            self.record.curves = np.array([record_curve(made.stock, round(bias[side], 3))
                                                 for side in range(self._setup.channels)])
            self.record.offsets = [made.offset(round(bias[side], 3)) for side in range(self._setup.channels)]
        else:
            self.record.curves = _NO_CURVE
            self.record.offsets = 0.0
        self.record.corner = demag_corner(made.coating, made.speed, rate * self._setup.oversample)
        self.record.limit = made.stock.demag_limit if self._through_tape else _NO_LIMIT
        self.record.bumps = int(made.values["monitor"] == "play")
        self.record.bump = bump_sections(made, rate)
        emphasis = low_emphasis(made.standard, rate)
        self.record.emphasised = int(emphasis is not None and self._through_tape)
        if emphasis is not None:
            self.record.record_emphasis[0], self.record.play_emphasis[0] = emphasis
        skew = made.width.apart_mm * 1e-3 * math.tan(math.radians(made.azimuth / 60.0)) / (made.speed * IPS) * rate
        self.record.motor.pull = as_number(made.values["motor_pct"]) / 100.0
        set_motion(self.record.motion, made.speed_figures(), rate, skew=0.5 * skew if self._through_tape else 0.0)

    def _set_electronics(self, made: Machine) -> None:
        record, rate, values = self.record, self._setup.rate, made.values
        record.record_shelved = _set_shelves(record.record_shelves, made, "record", rate)
        record.play_shelved = _set_shelves(record.play_shelves, made, "play", rate)
        low_cut, high_cut = as_number(values["low_cut_hz"]), as_number(values["high_cut_hz"])
        record.cuts = int(low_cut > MIN_CUT_HZ or high_cut < MAX_CUT_HZ)
        record.returns = int(record.cuts == 1 and bool(values["return_cut"]))
        through = (1.0, 0.0, 0.0, 0.0, 0.0)
        record.cut[0] = high_pass(low_cut, BUTTERWORTH_Q, rate) if low_cut > MIN_CUT_HZ else through
        record.cut[1] = low_pass(high_cut, BUTTERWORTH_Q, rate) if high_cut < MAX_CUT_HZ else through
        record.iron = int(bool(values["transformers"]))
        record.core = made.core(rate)
        reference = gain(self._setup.reference_dbfs)
        # A transformer before the record amplifier and one behind the replay amplifier see line level: 0 VU is one.
        record.core[electronics.LOST] /= reference
        record.encodes = int(values["noise_reduction"] != "off")
        record.decodes = int(values["noise_reduction"] == "on")
        figures = record.compander
        figures[electronics.RISE] = one_pole(_COMPANDER_RISE, rate)
        figures[electronics.FALL] = one_pole(_COMPANDER_FALL, rate)
        figures[electronics.SENSITIVITY] = 1.0 / (reference * gain(_COMPANDER_DB))
        figures[electronics.SLIDE] = math.tan(math.pi * min(_COMPANDER_HZ / rate, 0.4))
        figures[electronics.BOOST] = _COMPANDER_BOOST
        record.squash_share = 0.75 * as_number(values["squash_pct"]) / 100.0
        record.squash_level = made.field * gain(_SQUASH_OVER_DB)
        record.squash_rise = one_pole(_SQUASH_RISE, rate)
        record.squash_fall = one_pole(as_number(values["recover_ms"]) / 1000.0, rate)

    def _set_faults(self, made: Machine) -> None:
        rate = self._setup.rate
        crosstalk = made.crosstalk_db()
        self.record.crosses = int(crosstalk > SILENT_DB and self._setup.channels == 2)
        if self.record.crosses:
            # Flux between the cores grows towards long wavelengths, which faster tape has higher up.
            shift = made.speed / 15.0
            section = np.array([zero_and_pole(650.0 * shift, 90.0 * shift, rate)])
            section[0, :3] *= gain(crosstalk) / response(section, np.array([1000.0]), rate)[0]
            self.record.cross = section
        level = made.fault("mod_noise_db", _OWN_MODULATION_DB, -math.inf)
        self.record.rough = int(level > SILENT_MODULATION_DB and self._through_tape)
        self.record.roughness = _roughness(gain(level), rate)

    def _set_noises(self, made: Machine, *, at_once: bool) -> None:
        rate = self._setup.rate
        flux = made.stock.magnetisation(made.stock.operating_nwb)
        hissing = made.values["hiss"] and self._through_tape
        if hissing:
            self.record.noise_taps[:] = noise_filter(made.stock, made.speed, made.standard, rate, self._taps)
        # The noise filter's output for white input of unit power has density 1 / (rate / 2) a hertz.
        level = noise_level_db(made.stock, made.speed, made.standard, made.width.track_mm)
        unit = weighted_noise(made.stock, made.speed, made.standard) * math.sqrt(2.0 / rate)
        hiss = flux * math.sqrt(0.5) * gain(level + as_number(made.values["hiss_db"])) / unit
        self._hiss_gain.go(hiss if hissing else 0.0, at_once=at_once)
        hum = made.fault("hum_db", made.deck.hum_db, -math.inf)
        requested = made.flux if self._through_tape else made.field
        self._hum_gain.go(requested * gain(hum) if hum > SILENT_DB else 0.0, at_once=at_once)
        self.record.hum_step = as_number(made.values["hum_hz"]) / rate

def _roughness(amount: float, rate: float) -> Samples:
    """What `electronics.modulate` takes for modulation noise of that amplitude."""
    (slow, strong), (quick, weak) = ((1.0 - math.exp(-2.0 * math.pi * hz / rate), share) for hz, share in _ROUGHNESS)
    # Both parts come of the same white noise: their power, and what they have in common.
    one, other = strong * math.sqrt((2.0 - slow) / slow), weak * math.sqrt((2.0 - quick) / quick)
    common = slow * quick / (1.0 - (1.0 - slow) * (1.0 - quick))
    scale = amount / math.sqrt(strong**2 + weak**2 + 2.0 * one * other * common)
    return np.array([slow, scale * one, quick, scale * other])


def _set_shelves(shelves: Samples, made: Machine, side: str, rate: float) -> int:
    """Set the shelves of the record or the play amplifier; 1 where any of them does something."""
    lows, highs = made.pair(f"{side}_low_db"), made.pair(f"{side}_high_db")
    for channel in range(shelves.shape[0]):
        shelves[channel] = (low_shelf(SHELF_LOW_HZ, lows[channel], rate),
                            high_shelf(SHELF_HIGH_HZ, highs[channel], rate))
    return int(any((*lows, *highs)))


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
