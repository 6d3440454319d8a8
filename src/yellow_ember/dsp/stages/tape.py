"""Tape machine: electronics, biased tape, heads, transport.  Model: docs/models/tape.md."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view, db, gain
from yellow_ember.dsp.filters import (
    BUTTERWORTH_Q,
    Section,
    high_pass,
    high_shelf,
    linear_phase,
    low_pass,
    low_shelf,
    response,
    zero_and_pole,
)
from yellow_ember.dsp.kernels import electronics
from yellow_ember.dsp.kernels.filters import biquads, delay, fir
from yellow_ember.dsp.kernels.mixing import add, glide
from yellow_ember.dsp.kernels.noise import white
from yellow_ember.dsp.kernels.tape import record
from yellow_ember.dsp.lean import PARAMETERS as LEAN_PARAMETERS
from yellow_ember.dsp.lean import LeanAndCleanLows
from yellow_ember.dsp.motion import MotionLine, centre_frames
from yellow_ember.dsp.oversampling import CHUNK, Oversampling
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
    as_pair,
)
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Reels, Setup, StageKind, frequency_axis
from yellow_ember.dsp.tape_machine import DECKS, MOST_BIAS, MOST_SHELF, Machine, follow, machine
from yellow_ember.dsp.tape_model import (
    CURVE_CELLS,
    IPS,
    SPEED_CHOICES,
    STOCKS,
    demag_corner,
    head_bump,
    low_emphasis,
    noise_level_db,
    noise_spectrum,
    record_curve,
    remanence,
    weighted_noise,
)

_BINS = 513
_NO_CURVE: Samples = np.zeros((2, 0, 4))
_NO_LIMIT = 1e12
SHELF_LOW_HZ, SHELF_HIGH_HZ = 160.0, 4000.0
_NO_CUT_LOW, _NO_CUT_HIGH = 20.0, 20000.0
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


def _pole(seconds: float, rate: float) -> float:
    """One-pole coefficient a frame of a time constant."""
    return 1.0 - math.exp(-1.0 / (max(seconds, 1e-5) * rate))


class TapeProcessor(Processor):
    """Two linear-phase filters at the base rate around the record process at the raised rate."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        self._grid = np.linspace(0.0, setup.rate / 2.0, _BINS)
        taps = min(2 * max(16, round(setup.rate / 1000.0)) + 1, _BINS)
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
        self._hum_place: Samples = np.zeros(1)
        self._place: Samples = np.zeros(1)
        self._record_gains = [self.ramp(1.0, setup.rate) for _ in range(channels)]
        self._play_gains = [self.ramp(1.0, setup.rate) for _ in range(channels)]
        self._hiss_gain = self.ramp(0.0, setup.rate)
        self._hum_gain = self.ramp(0.0, setup.rate)
        self.latency = taps - 1 + self._fast.latency + self._motion.latency
        self.settling = self.latency + round(_RINGING_SECONDS * setup.rate)
        self._cut_ring: Samples = np.zeros((channels, self.latency))
        self._guard = LeanAndCleanLows(setup, self.latency)
        self.carry(*self._fast.state(), *self._guard.state(), *self._motion.state(), self._record_history,
                   self._play_history, self._noise_history, self._generator, self._modulation, self._demag_state,
                   self._low_states, self._bump_state, self._shelf_states, self._cut_state, self._cores,
                   self._companders, self._squashed, self._cross_state, self._hum_place, self._place, self._cut_ring)
        self.reset()

    def reset(self) -> None:
        super().reset()
        self._motion.reset()
        for channel in range(self._setup.channels):
            self._generator[channel] = (self._setup.seed % 2**32, 7919 * (channel + 1))
            self._modulation[channel] = (self._setup.seed % 2**32, 104729 * (channel + 1), 0.0)

    # -- settings -----------------------------------------------------------------------

    def set(self, values: Values, *, at_once: bool = False) -> None:
        made = machine(values)
        self._through_tape = values["monitor"] != "input"
        self._set_tape(made)
        self._set_electronics(made)
        self._set_faults(made)
        self._guard.set(values)
        move = Ramp.jump if at_once else Ramp.move
        reference = gain(self._setup.reference_dbfs)
        for side in range(self._setup.channels):
            move(self._record_gains[side], made.field / reference * gain(made.pair("record_db")[side]))
            level = reference / (made.flux if self._through_tape else made.field)
            move(self._play_gains[side], level * gain(_replay_gain_db(made, side)))
        self._move_noises(made, move)

    def _set_tape(self, made: Machine) -> None:
        rate, grid = self._setup.rate, self._grid
        taps = self._noise_taps.size
        bias = made.pair("bias_db")
        for side in range(self._setup.channels):
            if self._through_tape:
                self._record_taps[side] = linear_phase(made.record_amplifier(grid), taps)
                self._play_taps[side] = linear_phase(made.replay(grid, bias[side]), taps)
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
        for place, (low, high) in enumerate((("record_low_db", "record_high_db"), ("play_low_db", "play_high_db"))):
            lows, highs = made.pair(low), made.pair(high)
            self._shelved[place] = any((*lows, *highs))
            for side in range(self._setup.channels):
                self._shelves[place, side] = (low_shelf(SHELF_LOW_HZ, lows[side], rate),
                                              high_shelf(SHELF_HIGH_HZ, highs[side], rate))
        low_cut, high_cut = as_number(values["low_cut_hz"]), as_number(values["high_cut_hz"])
        self._cuts = low_cut > _NO_CUT_LOW or high_cut < _NO_CUT_HIGH
        self._returns = self._cuts and bool(values["return_cut"])
        through = (1.0, 0.0, 0.0, 0.0, 0.0)
        self._cut[0] = high_pass(low_cut, BUTTERWORTH_Q, rate) if low_cut > _NO_CUT_LOW else through
        self._cut[1] = low_pass(high_cut, BUTTERWORTH_Q, rate) if high_cut < _NO_CUT_HIGH else through
        self._iron = bool(values["transformers"])
        self._core = made.core(rate)
        reference = gain(self._setup.reference_dbfs)
        # A transformer before the record amplifier and one behind the replay amplifier see line level.
        self._core[electronics.STEP] *= gain(-18.0) / reference
        self._encodes = values["noise_reduction"] != "off"
        self._decodes = values["noise_reduction"] == "on"
        figures = np.zeros(electronics.COMPANDER)
        figures[electronics.RISE] = _pole(_COMPANDER_RISE, rate)
        figures[electronics.FALL] = _pole(_COMPANDER_FALL, rate)
        figures[electronics.SENSITIVITY] = 1.0 / (reference * gain(_COMPANDER_DB))
        figures[electronics.SLIDE] = math.tan(math.pi * min(_COMPANDER_HZ / rate, 0.4))
        figures[electronics.BOOST] = _COMPANDER_BOOST
        self._compander = figures
        self._squash_share = 0.75 * as_number(values["squash_pct"]) / 100.0
        self._squash_level = made.field * gain(_SQUASH_OVER_DB)
        self._squash_rise = _pole(_SQUASH_RISE, rate)
        self._squash_fall = _pole(as_number(values["recover_ms"]) / 1000.0, rate)

    def _set_faults(self, made: Machine) -> None:
        rate = self._setup.rate
        crosstalk = made.crosstalk_db()
        self._crosses = crosstalk > CROSSTALK.minimum and self._setup.channels == 2
        if self._crosses:
            # Flux between the cores grows towards long wavelengths, which faster tape has higher up.
            shift = made.speed / 15.0
            section = np.array([zero_and_pole(650.0 * shift, 90.0 * shift, rate)])
            section[0, :3] *= gain(crosstalk) / response(section, np.array([1000.0]), rate)[0]
            self._cross[:] = section
        level = made.fault("mod_noise_db", _OWN_MODULATION_DB, -math.inf)
        self._mod_amount = gain(level) if level > MODULATION.minimum and self._through_tape else 0.0
        self._mod_smooth = 1.0 - math.exp(-2.0 * math.pi * _MODULATION_HZ / rate)

    def _move_noises(self, made: Machine, move: Callable[[Ramp, float], None]) -> None:
        rate = self._setup.rate
        flux = made.stock.magnetisation(made.stock.operating_nwb)
        hissing = made.values["hiss"] and self._through_tape
        if hissing:
            self._noise_taps[:] = linear_phase(noise_spectrum(self._grid, made.stock, made.speed, made.standard),
                                               self._noise_taps.size)
        # The noise filter's output for white input of unit power has density 1 / (rate / 2) a hertz.
        level = noise_level_db(made.stock, made.speed, made.standard, made.width.track_mm)
        unit = weighted_noise(made.stock, made.speed, made.standard) * math.sqrt(2.0 / rate)
        hiss = flux * math.sqrt(0.5) * gain(level + as_number(made.values["hiss_db"])) / unit
        move(self._hiss_gain, hiss if hissing else 0.0)
        hum = made.fault("hum_db", made.deck.hum_db, -math.inf)
        wanted = made.flux if self._through_tape else made.field
        move(self._hum_gain, wanted * gain(hum) if hum > HUM.minimum else 0.0)
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
        self._place[0] = delay(cut_off, self._cut_ring, int(self._place[0]))

    def _amplify(self, block: Samples, gains: list[Ramp], place: int) -> None:
        """Level and shelves of the record (0) or the replay amplifier (1)."""
        for side, ramp in enumerate(gains):
            one = block[side:side + 1]
            glide(one, ramp.state)
            if self._shelved[place]:
                biquads(one, self._shelves[place, side], self._shelf_states[place, side:side + 1])

    def _tape(self, block: Samples) -> None:
        """From the record amplifier to the replay amplifier."""
        channels = range(self._setup.channels)
        if self._emphasised:
            biquads(block, self._low_sections[0], self._low_states[0])
        for side in channels:
            fir(block[side:side + 1], self._record_taps[side], self._record_history[side:side + 1], self._line)
        record(block, self._curves, self._corner, self._limit, self._demag_state, CHUNK, *self._fast.buffers())
        if self._mod_amount > 0.0:
            electronics.modulate(block, self._mod_amount, self._mod_smooth, self._modulation)
        for side in channels:
            fir(block[side:side + 1], self._play_taps[side], self._play_history[side:side + 1], self._line)
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
            electronics.repeat(noise, self._hum_wave, self._hum_step, self._hum_place)
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


# -- picture --------------------------------------------------------------------------------


def _live_points(made: Machine, reference_dbfs: float, samples: Samples) -> tuple[Samples, Samples]:
    field = samples * (made.field * gain(made.pair("record_db")[0] - reference_dbfs))
    return field, remanence(field, made.stock, made.pair("bias_db")[0])


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Reels, response of record, tape, play and all, and the record curve with the aligned one behind it."""
    made = machine(values)
    bias = made.pair("bias_db")[0]
    hz = frequency_axis(rate)
    shelves = [np.array([low_shelf(SHELF_LOW_HZ, made.pair(f"{side}_low_db")[0], rate),
                         high_shelf(SHELF_HIGH_HZ, made.pair(f"{side}_high_db")[0], rate)])
               for side in ("record", "play")]
    bump = np.array(bump_sections(made, rate))
    middle = np.array([1000.0])

    def from_1k(magnitude: Samples, at_1k: Samples) -> Samples:
        return db(magnitude / at_1k)

    recorded = from_1k(made.record_amplifier(hz), made.record_amplifier(middle)) + db(response(shelves[0], hz, rate))
    tape = from_1k(made.off_tape(hz, bias), made.off_tape(middle, bias))
    played = (from_1k(made.play_amplifier(hz), made.play_amplifier(middle))
              + db(response(shelves[1], hz, rate) * response(bump, hz, rate)))
    sensitivity = remanence(np.array([0.01]), made.stock, bias) / remanence(np.array([0.01]), made.stock, 0.0)
    whole = db(made.record_amplifier(hz) * made.replay(hz, bias) * response(bump, hz, rate) * sensitivity
               * response(shelves[0], hz, rate) * response(shelves[1], hz, rate))
    field = np.linspace(-4.0, 4.0, 321)
    name = next(stock.label for stock in STOCKS if stock.id == values["stock"])
    return (
        Reels(f"{name} at {made.speed:g} ips", made.speed * IPS, 52e-6, 30.0),
        Plot("Response at low level, dB", "response", (
            Curve("record", hz, recorded), Curve("tape", hz, tape), Curve("play", hz, played),
            Curve("whole", hz, whole))),
        Plot("Magnetisation", "transfer", (
            Curve("aligned bias", field, remanence(field, made.stock, 0.0)),
            Curve("this bias", field, remanence(field, made.stock, bias)),
        ), x_label="field / coercivity", y_label="magnetisation / saturation",
            live=lambda samples: _live_points(made, reference_dbfs, samples)),
    )


# -- declaration ----------------------------------------------------------------------------

_MACHINES = "machine's"


def _shelf(name: str, label: str, help_text: str) -> Number:
    return Number(id=name, label=label, group=Group.TONE, unit="dB", minimum=-MOST_SHELF, maximum=MOST_SHELF,
                  default=0.0, per_channel=True, help=help_text)


def _fault(name: str, label: str, most: float, realistic: float, help_text: str) -> Number:
    return Number(id=name, label=label, group=Group.MOTION, unit="%", minimum=0.0, maximum=most, default=None,
                  decimals=2, taper=Taper.ROOT, realistic=realistic, unset_word=_MACHINES, help=help_text)


HUM = Number(
    id="hum_db", label="Hum", group=Group.NOISE, unit="dB", minimum=-90.0, maximum=-20.0, default=None,
    floor_word="off", unset_word=_MACHINES, automation=Automation.RAMP,
    help="Mains hum below operating level, with the harmonics that a supply leaves.")
CROSSTALK = Number(
    id="crosstalk_db", label="Crosstalk", group=Group.NOISE, unit="dB", minimum=-90.0, maximum=-20.0, default=None,
    floor_word="off", unset_word=_MACHINES,
    help="How much of each channel leaks into the other at 1 kHz; it leaks more in the bass.")
MODULATION = Number(
    id="mod_noise_db", label="Modulation noise", group=Group.NOISE, unit="dB", minimum=-80.0, maximum=-30.0,
    default=None, floor_word="off", unset_word=_MACHINES,
    help="Noise that rides on the sound and vanishes with it: a grain around held notes.")

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
               choices=SPEED_CHOICES,
               help="Slower tape is softer on top and hisses more; faster tape is more open, and its "
                    "bass bump lies higher."),
        Option(id="standard", label="Equalisation", group=Group.MACHINE, default="iec",
               choices=(Choice("nab", "NAB"), Choice("iec", "IEC"), Choice("aes", "AES")),
               help="Which highs and lows the tape has to carry, and so which distort and hiss first; "
                    "where a speed has no such standard, its usual one holds."),
        Option(id="width", label="Width", group=Group.MACHINE, default="quarter",
               choices=(Choice("quarter", "1/4 inch"), Choice("half", "1/2 inch"), Choice("inch", "1 inch")),
               help="Wider tape hisses and leaks less and is touchier about azimuth; below 7.5 ips there is "
                    "only quarter-inch tape."),
        Option(id="deck", label="Deck", group=Group.MACHINE, default="first-mate",
               choices=tuple(Choice(deck.id, deck.label) for deck in DECKS),
               help="The machine: where its bass swells, how far its highs reach, how steady and how noisy it runs."),
        Option(id="monitor", label="Monitor", group=Group.MACHINE, default="play",
               choices=(Choice("input", "input"), Choice("sync", "sync"), Choice("play", "play")),
               help="What one hears: the electronics alone, the record head's narrow sound, or the tape."),
        Option(id="line_up", label="Line-up", group=Group.MACHINE, default="auto",
               choices=(Choice("auto", "auto"), Choice("manual", "manual")),
               help="On auto another tape is aligned at once; on manual its adjustments stay as they were, "
                    "and the sound goes off as it would."),
        Number(id="bias_db", label="Bias", group=Group.MACHINE, unit="dB", minimum=-MOST_BIAS, maximum=MOST_BIAS,
               default=0.0, per_channel=True,
               help="Under-bias is brighter and grittier, over-bias is darker and smoother."),
        Number(id="record_db", label="Record level", group=Group.DRIVE, unit="dB", minimum=-24.0,
               maximum=24.0, default=0.0, automation=Automation.RAMP, per_channel=True,
               help="How hard the tape is driven: more is denser, rounder and more distorted."),
        Option(id="operating_nwb", label="Operating level", group=Group.DRIVE, default="stock",
               choices=(Choice("stock", "stock's own"), *(Choice(str(level), f"{level} nWb/m")
                                                          for level in (185, 250, 320, 355, 510))),
               help="The flux that 0 VU records: higher keeps above the hiss and distorts earlier."),
        Number(id="squash_pct", label="Squash", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=0.0,
               decimals=0, floor_word="off",
               help="How much more than the tape itself the machine holds peaks down."),
        Number(id="recover_ms", label="Recovery", group=Group.DRIVE, unit="ms", minimum=10.0, maximum=1000.0,
               default=120.0, taper=Taper.LOG, decimals=0,
               help="How fast the squash lets go: short pumps and thickens, long only leans on the level."),
        *LEAN_PARAMETERS,
        Number(id="low_cut_hz", label="Low cut", group=Group.DRIVE, unit="Hz", minimum=_NO_CUT_LOW, maximum=500.0,
               default=_NO_CUT_LOW, taper=Taper.LOG, decimals=0, floor_word="off",
               help="Keeps what lies below off the tape."),
        Number(id="high_cut_hz", label="High cut", group=Group.DRIVE, unit="Hz", minimum=1000.0, maximum=_NO_CUT_HIGH,
               default=_NO_CUT_HIGH, taper=Taper.LOG, decimals=0, top_word="off",
               help="Keeps what lies above off the tape."),
        Switch(id="return_cut", label="Return the cut", group=Group.DRIVE, default=False,
               help="Puts what the cuts kept off the tape back behind it, untouched."),
        _shelf("record_low_db", "Record lows", "Lows onto the tape: more makes the bass thick before anything else."),
        _shelf("record_high_db", "Record highs", "Highs onto the tape: more makes them crisp, then held down."),
        _shelf("play_low_db", "Playback lows", "Lows off the tape, without changing how they distort."),
        _shelf("play_high_db", "Playback highs", "Highs off the tape, hiss and all."),
        Number(id="bump_pct", label="Head bump", group=Group.TONE, unit="%", minimum=0.0, maximum=200.0,
               default=100.0, decimals=0,
               help="The swell in the bass that the replay head adds, lower at slower speeds."),
        Switch(id="transformers", label="Transformers", group=Group.TONE, default=False,
               help="Iron at input and output: thickens low notes and holds their level together."),
        Number(id="gap_um", label="Head gap", group=Group.HEADS, unit="\u00b5m", minimum=0.5, maximum=20.0,
               default=None, unset_word="deck's",
               help="The replay head's slit: wider swallows the highs, from the top down."),
        Number(id="spacing_um", label="Spacing", group=Group.HEADS, unit="\u00b5m", minimum=0.0, maximum=20.0,
               default=None, unset_word="deck's",
               help="Dirt between tape and head: the sound goes dull, the more the higher it is."),
        Number(id="coating_um", label="Coating", group=Group.HEADS, unit="\u00b5m", minimum=2.0, maximum=30.0,
               default=None, unset_word="stock's",
               help="Thickness of the magnetic coat: thicker weighs towards the lows."),
        Number(id="azimuth_arcmin", label="Azimuth", group=Group.HEADS, unit="'", minimum=-30.0, maximum=30.0,
               default=0.0,
               help="Tilt of the replay head in minutes of arc: highs go, and left and right drift apart."),
        _fault("wow_pct", "Wow", 0.5, 0.35, "Slow wavering of the pitch from the reels, as a weighted peak."),
        _fault("flutter_pct", "Flutter", 0.5, 0.35, "Fast trembling of the pitch from the capstan, as weighted peak."),
        _fault("drift_pct", "Drift", 1.0, 0.4, "The speed wanders off and back over many seconds."),
        _fault("scrape_pct", "Scrape", 0.5, 0.15, "The tape sings at guides and heads: a haze around bright sounds."),
        Switch(id="own_faults", label="Its own faults", group=Group.MOTION, default=False,
               help="Brings in the motion, hum, leakage and mismatch that this deck, width and speed really have, "
                    "wherever they are left to the machine."),
        Switch(id="hiss", label="Hiss", group=Group.NOISE, default=False, automation=Automation.RAMP,
               help="Adds the noise that this stock, speed, width and equalisation have."),
        Number(id="hiss_db", label="Hiss level", group=Group.NOISE, unit="dB", minimum=-30.0, maximum=30.0,
               default=0.0, automation=Automation.RAMP,
               help="Hiss below or above what the real tape would have."),
        MODULATION,
        HUM,
        Option(id="hum_hz", label="Mains", group=Group.NOISE, default="50", unit="Hz", numeric=True,
               choices=(Choice("50", "50 Hz"), Choice("60", "60 Hz")),
               help="The pitch of the hum: a low G for 50 Hz, between B and B flat for 60 Hz."),
        CROSSTALK,
        Number(id="channel_spread_pct", label="Channel spread", group=Group.NOISE, unit="%", minimum=0.0, maximum=300.0,
               default=None, decimals=0, unset_word=_MACHINES,
               help="How far left and right differ in bias, level and azimuth; at 0 they are the same."),
        Option(id="noise_reduction", label="Noise reduction", group=Group.NOISE, default="off",
               choices=(Choice("off", "off"), Choice("on", "on"), Choice("encode", "encode only")),
               help="A compander against hiss: off its level it breathes, and encode only stays bright and airy."),
        Number(id="play_db", label="Play level", group=Group.OUTPUT, unit="dB", minimum=-24.0,
               maximum=24.0, default=0.0, automation=Automation.RAMP, per_channel=True,
               help="The level that comes off the tape, without changing its sound."),
        Switch(id="link_levels", label="Link levels", group=Group.OUTPUT, default=True,
               automation=Automation.RAMP,
               help="Playback falls as record rises, so that driving harder does not get louder."),
    ),
    processor=TapeProcessor,
    picture=picture,
    follow=follow,
    wavers=True,
    drive="record_db",
    makeup="play_db",
    nonlinear=True,
    comfort_db=(-10.0, 6.0),
)
