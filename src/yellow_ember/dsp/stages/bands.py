"""Band saturation: two to five bands, a shape in each, feedback and a filter over all.  Model: docs/models/bands.md."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Counts, Samples, block_view, db, gain
from yellow_ember.dsp.compression import compression
from yellow_ember.dsp.convolution import Convolution
from yellow_ember.dsp.filters import (
    BUTTERWORTH_Q,
    Section,
    all_pass,
    band_pass,
    high_pass,
    high_pass_first,
    linear_phase,
    low_pass,
    low_pass_first,
    notch,
    one_pole,
    response,
    split,
    transfer,
)
from yellow_ember.dsp.kernels import bands as kernels
from yellow_ember.dsp.kernels import dynamics
from yellow_ember.dsp.kernels.bands import BENT, CLEAN, DRIVE, MOST
from yellow_ember.dsp.kernels.filters import biquads, delay
from yellow_ember.dsp.kernels.mixing import LOUDEST, add, glide
from yellow_ember.dsp.kernels.shapes import BEND_DELAY, CHUNK, MAX_STEPS
from yellow_ember.dsp.oversampling import Oversampling
from yellow_ember.dsp.parameters import (
    Automation,
    Choice,
    Edges,
    Group,
    Number,
    Option,
    Parameter,
    Switch,
    Taper,
    Values,
    as_edges,
    as_number,
)
from yellow_ember.dsp.shapes import CELLS, CORRECTION_TAPS, SHAPE_BY_ID, SHAPES, Shape
from yellow_ember.dsp.stage import Curve, Handle, Picture, Plot, Processor, Setup, StageKind, frequency_axis
from yellow_ember.dsp.tone_around import LEAN_PARAMETERS, TONE_HZ, ToneAround

_NUMBERS = range(1, MOST + 1)
_GROUPS = (Group.BAND_1, Group.BAND_2, Group.BAND_3, Group.BAND_4, Group.BAND_5)
_FADE_IN_DB = 3.0
"""A shape comes in over the first of its drive, so that no drive at all is the clean band."""
_SQUASH = {"threshold_db": -12.0, "knee_db": 12.0, "attack": 0.008, "release": 0.09, "slope": 0.85}
_INNER_DELAY = MOST * BEND_DELAY
_LOOP_FRAMES = 64
"""Feedback goes round in pieces of this many frames, and never sooner."""
_LONGEST_LOOP = 2.0 / 40.0
_LINEAR_SECONDS = 2048 / 48000
_DC_HZ = 5.0
_FINE_HZ = 4000.0
"""Bands that end below this need fewer sub-steps than the shape's own: their harmonics are as far from the rate."""
_FILTERS = {"low": low_pass, "high": high_pass, "band": band_pass, "notch": notch}


def _linear(values: Values) -> bool:
    return values["split"] == "linear" and values["order"] == "parallel"


def _lookahead(values: Values, rate: float) -> int:
    """Half the length of the filters that part bands without turning their phase."""
    return round(_LINEAR_SECONDS * rate) if _linear(values) else 0


def _linear_bands(edges: tuple[float, ...], half: int, rate: float) -> list[Samples]:
    """Symmetric filters (2 half + 1,) whose sum is a delayed impulse; slopes as a Linkwitz-Riley split's."""
    taps = 2 * half + 1
    size = 1 << (2 * taps - 1).bit_length()
    hz = np.arange(size // 2 + 1) * (rate / size)
    below = [linear_phase(np.asarray(1.0 / (1.0 + (hz / edge) ** 4)), taps) for edge in edges]
    whole = np.zeros(taps)
    whole[half] = 1.0
    return [upper - lower for lower, upper in zip([np.zeros(taps), *below], [*below, whole], strict=True)]


def _series_section(edges: tuple[float, ...], band: int, rate: float) -> Section:
    """A band's part of the whole signal; gentle, so that what replaces it adds up with the rest."""
    if band == 0:
        return low_pass_first(edges[0], rate)
    if band == len(edges):
        return high_pass_first(edges[-1], rate)
    low, high = edges[band - 1], edges[band]
    middle = math.sqrt(low * high)
    return band_pass(middle, middle / (high - low), rate)


class _Band:
    """A band's settings as the kernels take them."""

    def __init__(self, values: Values, number: int, reference_dbfs: float, alone: bool) -> None:
        def figure(name: str) -> float:
            return as_number(values[f"band{number}_{name}"])

        on = bool(values[f"band{number}_on"])
        self.solo = bool(values[f"band{number}_solo"])
        self.shape: Shape = SHAPE_BY_ID[str(values[f"band{number}_shape"])]
        drive_db = max(figure("drive_db") + as_number(values["drive_db"]), 0.0) if on else 0.0
        share = figure("mix_pct") / 100.0 * min(drive_db / _FADE_IN_DB, 1.0)
        self.squash = figure("squash_pct") / 100.0 if on else 0.0
        level = gain(figure("gain_db")) if on else 1.0
        held = dynamics.reduction_db(reference_dbfs, self.figures(48000.0, reference_dbfs))
        makeup = gain(float(held))
        self.drive = gain(drive_db) * makeup
        self.heard = not alone or self.solo
        self.clean = level * (1.0 - share) * makeup
        self.bent = level * share

    def figures(self, rate: float, reference_dbfs: float) -> Samples:
        """For `kernels.dynamics.compress`."""
        return compression(reference_dbfs + _SQUASH["threshold_db"], _SQUASH["slope"] * self.squash,
                           _SQUASH["knee_db"], _SQUASH["attack"], _SQUASH["release"], rate)


def _bands(values: Values, reference_dbfs: float) -> list[_Band]:
    count = len(as_edges(values["edges_hz"])) + 1
    alone = any(bool(values[f"band{number}_solo"]) for number in _NUMBERS[:count])
    return [_Band(values, number, reference_dbfs, alone) for number in _NUMBERS[:count]]


class BandsProcessor(Processor):
    """Lean, the bands, a filter, round again by the feedback; then glue.  The lows may pass clean."""

    def prepare(self, setup: Setup) -> None:
        self._setup = setup
        channels, size = setup.channels, setup.channels * setup.max_block
        factor = setup.oversample
        self._fast = Oversampling(factor, channels, _INNER_DELAY)
        self._ups: Samples = np.zeros((MOST, *self._fast.up_history.shape))
        self._bend_states: Samples = np.zeros((MOST, channels, 8))
        self._active: Counts = np.zeros(MOST, dtype=np.int64)
        self._wait: Samples = np.zeros((channels, _INNER_DELAY - BEND_DELAY))
        most = CHUNK * factor * MAX_STEPS
        self._places, self._values, self._bent = np.zeros(most), np.zeros(most), np.zeros(most)
        self._high, self._own, self._held = (np.zeros(CHUNK * factor) for _ in range(3))
        self._waits: Samples = np.zeros((2, MOST, channels, BEND_DELAY))
        self._section_states: Samples = np.zeros((MOST, channels, 1, 2))
        self._held_states: Samples = np.zeros((2, MOST, channels, 4))

        held = CORRECTION_TAPS - 1
        self._histories: Samples = np.zeros((MOST, channels, held))
        self._line: Samples = np.zeros(held + setup.max_block)
        self._parts: Samples = np.zeros((2, MOST * size))
        self._clean: Samples = np.zeros(size)
        self._spare: Samples = np.zeros(size)
        inner = held // 2 + self._fast.latency
        self._clean_ring: Samples = np.zeros((channels, inner))
        self._early_ring: Samples = np.zeros((channels, held // 2))
        self._at: Samples = np.zeros(4)
        self._split_states: Samples = np.zeros((2, 2, MOST - 1, channels, 2, 2))
        self._pass_states: Samples = np.zeros((2, MOST - 1, MOST - 1, channels, 1, 2))
        self._convolutions: list[Convolution] = []
        if setup.lookahead:
            self._convolutions = [Convolution(channels, 2 * setup.lookahead + 1) for _ in range(MOST)]

        self._inner = inner
        self._loop: Samples = np.zeros((channels, round(_LONGEST_LOOP * setup.rate) + 2 * _LOOP_FRAMES))
        self._followed: Samples = np.zeros(channels)
        self._turn: Samples = np.zeros(size)
        self._coming: Samples = np.zeros(size)
        self._filter: Samples = np.zeros((1, 5))
        self._filter_state: Samples = np.zeros((channels, 1, 2))
        self._dc: Samples = np.array([high_pass(_DC_HZ, BUTTERWORTH_Q, setup.rate)])
        self._dc_state: Samples = np.zeros((channels, 1, 2))
        self._glue_state: Samples = np.zeros((channels, 4))
        self._glides: Samples = np.zeros((3, MOST, 4))
        self._moving = [[self.ramp(0.0, setup.rate, self._glides[row, band]) for band in range(MOST)]
                        for row in range(3)]
        self._out = self.ramp(1.0, setup.rate)
        self.latency = setup.lookahead + inner
        self._guard = ToneAround(setup, self.latency)
        self.settling = self.latency + round(0.005 * setup.rate)
        self.carry(*self._fast.state(), self._ups, self._bend_states, self._wait, self._waits, self._section_states,
                   self._held_states, self._histories, self._clean_ring, self._early_ring, self._at,
                   self._split_states, self._pass_states, self._loop, self._followed, self._filter_state,
                   self._dc_state, self._glue_state, *self._guard.state(),
                   *(array for convolution in self._convolutions for array in convolution.state()))
        self.reset()

    def reset(self) -> None:
        super().reset()
        self._held_states[..., 1] = 1.0
        self._glue_state[:, 1] = 1.0

    def set(self, values: Values, *, at_once: bool = False) -> None:
        setup, rate = self._setup, self._setup.rate
        reference = setup.reference_dbfs
        edges = as_edges(values["edges_hz"])
        bands = _bands(values, reference)
        self._count = len(bands)
        self._series = values["order"] == "series"
        self._alone = any(band.solo for band in bands)
        fast_rate = rate * setup.oversample
        self._solos = np.array([band.solo for band in bands], dtype=np.int64)
        self._squashed = np.array([band.squash > 0.0 for band in bands], dtype=np.int64)
        self._figures = np.array([band.figures(fast_rate if self._series else rate, reference) for band in bands])
        tops = (*edges, rate)
        steps = [max(1, math.ceil(band.shape.steps * min(top / _FINE_HZ, 1.0)))
                 for band, top in zip(bands, tops, strict=True)]
        self._shapes = np.array([[band.shape.kernel_kind, count] for band, count in zip(bands, steps, strict=True)],
                                dtype=np.int64)
        self._curves = np.zeros((self._count, CELLS, 4))
        for band, curve in zip(bands, self._curves, strict=True):
            curve[:] = band.shape.table
        self._corrections = np.array([band.shape.correction(setup.oversample, count)
                                      for band, count in zip(bands, steps, strict=True)])
        self._lows, self._highs = (np.array(part) for part in zip(*(split(hz, rate) for hz in edges), strict=True))
        self._passes = np.array([[all_pass(hz, BUTTERWORTH_Q, rate)] for hz in edges])
        self._sections = np.array([[_series_section(edges, band, fast_rate)] for band in range(self._count)])
        if self._convolutions:
            filters = _linear_bands(edges, setup.lookahead, rate)
            for convolution, taps in zip(self._convolutions, filters, strict=False):
                convolution.set(np.tile(taps, (setup.channels, 1)))
        self._has_dc = any(band.shape.lopsided for band in bands if band.bent > 0.0)

        kind = str(values["filter"])
        self._filtered = kind != "off"
        if self._filtered:
            self._filter[0] = _FILTERS[kind](as_number(values["filter_hz"]), as_number(values["filter_q"]), rate)
        self._loop_figures = np.zeros(kernels.FIGURES)
        amount = as_number(values["feedback_pct"]) / 100.0
        self._loops = amount > 0.0
        self._loop_figures[kernels.AMOUNT] = amount
        self._loop_figures[kernels.FOLLOW] = as_number(values["follow_pct"]) / 100.0
        for index, name in ((kernels.RISE, "follow_attack_ms"), (kernels.FALL, "follow_release_ms")):
            self._loop_figures[index] = one_pole(as_number(values[name]) / 1000.0, rate)
        self._loop_figures[kernels.FULL] = gain(reference + 6.0)
        self._delay = self._loop_delay(as_number(values["feedback_hz"]))
        self._glue = _glue(values, rate, reference)
        self._glued = as_number(values["glue_ratio"]) > 1.0

        self._guard.set(values)
        for index, band in enumerate(bands):
            hears = band.heard or self._series
            for row, value in ((DRIVE, band.drive), (CLEAN, band.clean * hears), (BENT, band.bent * hears)):
                self._moving[row][index].go(value, at_once=at_once)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)

    def _loop_delay(self, pitch: float) -> int:
        """Frames that the output waits before it comes round, so that the whole loop rings at a pitch in Hz."""
        rate = self._setup.rate
        turning = [] if self._series else list(self._passes[:, 0])
        if self._filtered:
            turning.append(self._filter[0])
        turn = float(np.angle(transfer(np.array(turning), np.array([pitch]), rate)[0])) if turning else 0.0
        period = rate / pitch
        requested = period * (1.0 + turn / (2.0 * math.pi)) - self._inner
        while requested < _LOOP_FRAMES:
            requested += period
        return int(min(round(requested), self._loop.shape[1] - _LOOP_FRAMES))

    def process(self, block: Samples) -> None:
        self._guard.before(block)
        channels, frames = block.shape
        if self._loops:
            for start in range(0, frames, _LOOP_FRAMES):
                piece = block[:, start:start + _LOOP_FRAMES]
                turn = block_view(self._turn, channels, piece.shape[1])
                turn[...] = piece
                self._once_round(turn)
                piece[...] = turn
        else:
            self._run(block, None)
        if self._glued:
            heard = block_view(self._clean, channels, frames)
            heard[...] = block
            dynamics.compress(block, heard, self._glue, False, self._glue_state)
        glide(block, self._out.state)
        self._guard.after(block)

    def _once_round(self, piece: Samples) -> None:
        """A piece no longer than the loop, with what comes back to it."""
        coming = block_view(self._coming, *piece.shape)
        index = int(self._at[3])
        kernels.feed_back(piece, self._loop_figures, self._delay, self._loop, index, self._followed, coming)
        self._run(piece, coming)
        self._at[3] = kernels.keep(piece, self._loop, index)

    def _run(self, block: Samples, coming: Samples | None) -> None:
        """Bands and filter, in place; `coming` is added to what goes in."""
        if coming is not None and not self._convolutions:
            add(block, coming)
        if self._series:
            self._in_series(block)
        else:
            self._side_by_side(block, coming)
        if self._has_dc:
            biquads(block, self._dc, self._dc_state)
        if self._filtered:
            biquads(block, self._filter, self._filter_state)
        kernels.hold_within(block, LOUDEST)

    def _in_series(self, block: Samples) -> None:
        count = self._count
        self._at[2] = delay(block, self._early_ring, int(self._at[2]))
        for k, bent in enumerate(self._moving[BENT][:count]):
            self._active[k] = bent.target != 0.0 or not bent.resting
        kernels.bend_in_series(
            block, count, self._active, self._alone, self._solos, self._sections, self._figures,
            self._squashed, self._shapes, self._curves, self._glides, self._section_states, self._held_states[1],
            self._bend_states, self._waits[0], self._waits[1], self._own, self._held, self._places, self._values,
            self._bent, self._high, *self._fast.buffers())

    def _split(self, parts: Samples, states: int) -> None:
        kernels.split_up(parts, self._lows, self._highs, self._passes, self._split_states[states, 0],
                         self._split_states[states, 1], self._pass_states[states])

    def _side_by_side(self, block: Samples, coming: Samples | None) -> None:
        count, (channels, frames) = self._count, block.shape
        parts = self._parts[0, :count * channels * frames].reshape(count, channels, frames)
        if self._convolutions:
            parts[...] = block
            for part, convolution in zip(parts, self._convolutions, strict=False):
                convolution.process(part)
            if coming is not None:
                # What comes round can't wait for the long filters.
                others = self._parts[1, :count * channels * frames].reshape(count, channels, frames)
                others[0] = coming
                self._split(others, 1)
                parts += others
        else:
            parts[0] = block
            self._split(parts, 0)
        clean, spare = block_view(self._clean, channels, frames), block_view(self._spare, channels, frames)
        active = kernels.part_ways(parts, spare, self._squashed, self._figures, self._held_states[0], self._glides,
                                   self._corrections, self._histories, self._line, self._active, clean)
        self._at[0] = delay(clean, self._clean_ring, int(self._at[0]))
        if active == 0:
            block[...] = clean
            return
        kernels.bend_side_by_side(
            parts, self._active[:active], self._shapes, self._curves, self._glides, self._bend_states, self._ups,
            self._wait, self._places, self._values, self._bent, self._high, *self._fast.buffers(), block)
        add(block, clean)


def _glue(values: Values, rate: float, reference_dbfs: float) -> Samples:
    return compression(reference_dbfs + as_number(values["glue_threshold_db"]),
                       1.0 - 1.0 / as_number(values["glue_ratio"]), 9.0, as_number(values["glue_attack_ms"]) / 1000.0,
                       as_number(values["glue_release_ms"]) / 1000.0, rate)


_HELD_DB = -30.0


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """The bands' responses with their edges to be moved, and what each band's shape does."""
    hz = frequency_axis(rate, 160)
    edges = as_edges(values["edges_hz"])
    bands = _bands(values, reference_dbfs)
    curves, rest = [], np.ones(hz.size)
    for k, band in enumerate(bands):
        magnitude = rest
        if k < len(edges):
            low, high = split(edges[k], rate)
            magnitude, rest = rest * response(low, hz, rate), rest * response(high, hz, rate)
        level = (band.clean + band.bent * band.drive) if band.heard else 0.0
        curves.append(Curve(f"{k + 1}", hz, np.maximum(db(magnitude * level), _HELD_DB)))
    handles = tuple(Handle(f"{edge:.0f} Hz", edge, 0.0, "edges_hz", place=index) for index, edge in enumerate(edges))
    x = np.linspace(-1.0, 1.0, 401)
    shapes = tuple(Curve(f"{k + 1}", x, band.clean * x + band.bent * band.shape.function(x * band.drive))
                   for k, band in enumerate(bands))
    return (Plot("Bands, dB", "response", tuple(curves), spectra=True,
                 handles=handles, alike=True),
            Plot("Transfer of each band", "transfer", shapes, alike=True, x_label="in, 1 = 0 dBFS", y_label="out"))


def _idle(values: Values) -> frozenset[str]:
    """Bands beyond the last edge, and what belongs to things that are off."""
    count = len(as_edges(values["edges_hz"])) + 1
    result = {p.id for number in _NUMBERS[count:] for p in _band(number)}
    if values["filter"] == "off":
        result |= {"filter_hz", "filter_q"}
    if values["feedback_pct"] == 0.0:
        result |= {"feedback_hz", "follow_pct", "follow_attack_ms", "follow_release_ms"}
    if values["order"] == "series":
        result.add("split")
    if values["glue_ratio"] == 1.0:
        result |= {"glue_threshold_db", "glue_attack_ms", "glue_release_ms"}
    return frozenset(result)


def _band(number: int) -> tuple[Parameter, ...]:
    group = _GROUPS[number - 1]
    return (
        Switch(id=f"band{number}_on", label="On", group=group, default=True,
               help="Off lets this band pass as it came, with nothing added."),
        Switch(id=f"band{number}_solo", label="Solo", group=group, default=False,
               help="Lets you hear this band alone, to find out what is in it."),
        Option(id=f"band{number}_shape", label="Shape", group=group, default="soft",
               choices=tuple(Choice(shape.id, shape.label) for shape in SHAPES),
               help="How this band's wave is bent: soft and triode warm, hard and fuzz tear, fold and ring clang."),
        Number(id=f"band{number}_drive_db", label="Drive", group=group, unit="dB", minimum=0.0, maximum=36.0,
               default=6.0, automation=Automation.RAMP, floor_word="clean",
               help="How far this band is pushed into its shape; fully down it stays as it came."),
        Number(id=f"band{number}_gain_db", label="Gain", group=group, unit="dB", minimum=-36.0, maximum=12.0,
               default=-3.0, automation=Automation.RAMP,
               help="How loud this band is behind its shape: the tone of the whole."),
        Number(id=f"band{number}_mix_pct", label="Mix", unit="%", group=group, minimum=0.0, maximum=100.0,
               default=100.0, decimals=0, automation=Automation.RAMP,
               help="How much of this band is the bent one, beside the clean one."),
        Number(id=f"band{number}_squash_pct", label="Squash", group=group, unit="%", minimum=0.0, maximum=100.0,
               default=0.0, decimals=0, floor_word="off",
               help="Evens this band out before its shape: loud notes down, quiet ones up, denser colour."),
    )


BANDS = StageKind(
    kind="bands",
    label="Band saturation",
    glyph="D",
    purpose="Drives each part of the spectrum by itself: grit in the middle, clean lows, sparkle on top.",
    front=("drive_db", "edges_hz", "lean_db", "tone_hz", "feedback_pct", "out_db"),
    neighbours=("tame", "comp"),
    varied=("drive_db", "tone_hz"),
    lean="lean_db",
    remedies={"boom": ("clean_lows_hz",), "crowd": ("lean_db",), "hiss": ("tone_hz",)},
    parameters=(
        Number(id="drive_db", label="Drive", group=Group.DRIVE, unit="dB", minimum=-24.0, maximum=24.0, default=0.0,
               automation=Automation.RAMP,
               help="Drives all bands harder or less hard together."),
        *LEAN_PARAMETERS,
        TONE_HZ,
        Edges(id="edges_hz", label="Edges", group=Group.ALL_BANDS, minimum=30.0, maximum=16000.0,
              default=(150.0, 900.0, 4500.0), most=MOST - 1,
              help="Where one band ends and the next begins; one to four of them make two to five bands."),
        Option(id="order", label="Order", group=Group.ALL_BANDS, default="parallel",
               choices=(Choice("parallel", "side by side"), Choice("series", "in series")),
               help="Side by side each band stays pure; in series each later one also bends what the earlier added."),
        Option(id="split", label="Slopes", group=Group.ALL_BANDS, default="linkwitz-riley",
               choices=(Choice("linkwitz-riley", "Linkwitz-Riley"), Choice("linear", "linear phase")),
               help="Linkwitz-Riley is immediate and turns the phase a little; linear phase keeps it and is late."),
        Option(id="filter", label="Filter", group=Group.ALL_BANDS, default="off",
               choices=(Choice("off", "off"), Choice("low", "low-pass"), Choice("high", "high-pass"),
                        Choice("band", "band-pass"), Choice("notch", "notch")),
               help="One filter over all bands that can ring; with feedback it sings."),
        Number(id="filter_hz", label="Filter at", group=Group.ALL_BANDS, unit="Hz", minimum=30.0, maximum=16000.0,
               default=1200.0, taper=Taper.LOG, decimals=0,
               help="Where the filter cuts or rings."),
        Number(id="filter_q", label="Resonance", group=Group.ALL_BANDS, unit="", minimum=0.5, maximum=20.0,
               default=0.7, taper=Taper.LOG, decimals=2,
               help="How sharply the filter rings: under one it only cuts, from five on it whistles."),
        *(parameter for number in _NUMBERS for parameter in _band(number)),
        Number(id="feedback_pct", label="Feedback", group=Group.FEEDBACK, unit="%", minimum=0.0, maximum=100.0,
               default=0.0, decimals=0, floor_word="off",
               help="Leads the sound back to the input: from a metallic ring to a howl that never runs away."),
        Number(id="feedback_hz", label="Pitch", group=Group.FEEDBACK, unit="Hz", minimum=40.0, maximum=350.0,
               default=110.0, taper=Taper.LOG, decimals=1,
               help="The note that the feedback rings at."),
        Number(id="follow_pct", label="Follow level", group=Group.FEEDBACK, unit="%", minimum=-100.0, maximum=100.0,
               default=0.0, decimals=0,
               help="Up, loud notes open the feedback; down, they close it and it blooms in the gaps."),
        Number(id="follow_attack_ms", label="Attack", group=Group.FEEDBACK, unit="ms", minimum=0.5, maximum=500.0,
               default=10.0, taper=Taper.LOG,
               help="How soon the feedback notices that a note has begun."),
        Number(id="follow_release_ms", label="Release", group=Group.FEEDBACK, unit="ms", minimum=5.0, maximum=3000.0,
               default=200.0, taper=Taper.LOG, decimals=0,
               help="How long the feedback takes a note to be over."),
        Number(id="glue_ratio", label="Ratio", group=Group.GLUE, unit=": 1", minimum=1.0, maximum=10.0, default=1.0,
               taper=Taper.LOG, floor_word="off",
               help="A compressor over all bands binds them together again; 2 holds gently, 10 clamps."),
        Number(id="glue_threshold_db", label="Threshold", group=Group.GLUE, unit="dB", minimum=-30.0, maximum=12.0,
               default=-6.0,
               help="Where the glue begins to hold, against 0 VU."),
        Number(id="glue_attack_ms", label="Attack", group=Group.GLUE, unit="ms", minimum=0.1, maximum=200.0,
               default=20.0, taper=Taper.LOG,
               help="How soon the glue holds: slow lets strokes through."),
        Number(id="glue_release_ms", label="Release", group=Group.GLUE, unit="ms", minimum=10.0, maximum=2000.0,
               default=200.0, taper=Taper.LOG, decimals=0,
               help="How soon the glue lets go."),
        Number(id="out_db", label="Output", group=Group.OUTPUT, unit="dB", minimum=-48.0, maximum=12.0, default=0.0,
               automation=Automation.RAMP,
               help="The level behind everything, without changing its sound."),
    ),
    processor=BandsProcessor,
    picture=picture,
    rest={"split": "linear",
          **{f"band{number}_{name}": 0.0 for number in _NUMBERS for name in ("drive_db", "gain_db")}},
    drive="drive_db",
    tone="tone_hz",
    makeup="out_db",
    nonlinear=True,
    lookahead=_lookahead,
    idle=_idle,
    comfort_db=(-12.0, 9.0),
)
