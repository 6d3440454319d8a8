"""Band saturation: two to five bands, a shape in each, feedback and a filter over all.  Model: docs/models/bands.md."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Counts, Samples, db, gain
from yellow_ember.dsp.compression import branches, compression
from yellow_ember.dsp.convolution import ConvolutionRecord, convolution_sizes, convolve_block, set_response
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
    past_length,
    response,
    split,
    transfer,
)
from yellow_ember.dsp.glyphs import line
from yellow_ember.dsp.kernels import bands as kernels
from yellow_ember.dsp.kernels import dynamics, inlined
from yellow_ember.dsp.kernels.bands import BENT, CLEAN, DRIVE, MOST
from yellow_ember.dsp.kernels.filters import biquads, delay
from yellow_ember.dsp.kernels.mixing import LEFT, LOUDEST, TARGET, add, glide, put
from yellow_ember.dsp.kernels.shapes import BEND_DELAY, BEND_STATES, CHUNK, MOST_STEPS
from yellow_ember.dsp.oversampling import (
    PAIRS,
    UP_HELD,
    OversamplingRecord,
    oversampling_latency,
    oversampling_sizes,
    set_oversampling,
)
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
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    array_4d,
    array_5d,
    block_of,
    cube,
    cube_of,
    matrix,
    part,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
    whole_matrix,
    whole_setting,
    whole_state,
    whole_vector,
)
from yellow_ember.dsp.shapes import CELLS, CORRECTION_TAPS, SHAPE_BY_ID, SHAPES, Shape
from yellow_ember.dsp.stage import Curve, Handle, Picture, Plot, Processor, Setup, StageKind, frequency_axis
from yellow_ember.dsp.tone_around import LEAN_PARAMETERS, TONE_HZ, ToneRecord, set_tone, tone_after, tone_before

_NUMBERS = range(1, MOST + 1)
_GROUPS = (Group.BAND_1, Group.BAND_2, Group.BAND_3, Group.BAND_4, Group.BAND_5)
_FADE_IN_DB = 3.0
"""A shape comes in over the first of its drive, so that no drive at all is the clean band."""
_SQUASH = {"threshold_db": -12.0, "knee_db": 12.0, "attack": 0.008, "release": 0.09, "slope": 0.85}
_INNER_DELAY = MOST * BEND_DELAY
_LOOP_FRAMES = 64
"""Feedback goes round in pieces of this many frames, and never sooner."""
_LONGEST_LOOP = 2.0 / 40.0
_STANDING, _LEAST_GAIN = 1.4, 0.05
_LOOKED_AT = 8192
"""Frequencies at which the loop is looked at."""
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

    def figures(self, rate: float, reference_dbfs: float, every: int = 1) -> Samples:
        """For `kernels.dynamics.compress`; every : frames for each that the detector hears"""
        return compression(reference_dbfs + _SQUASH["threshold_db"], _SQUASH["slope"] * self.squash,
                           _SQUASH["knee_db"], _SQUASH["attack"], _SQUASH["release"], rate, every)


def _bands(values: Values, reference_dbfs: float) -> list[_Band]:
    count = len(as_edges(values["edges_hz"])) + 1
    alone = any(bool(values[f"band{number}_solo"]) for number in _NUMBERS[:count])
    return [_Band(values, number, reference_dbfs, alone) for number in _NUMBERS[:count]]


class BandsRecord(Record):
    """Lean, the bands, a filter, round again by the feedback; then glue.  The lows may pass clean.

    Attributes
    ----------
    linear : int
        Bands are split by long filters.
    active : Counts
        Bands whose shape is heard, for the block at hand.
    delay : int
        Frames that the output waits before it comes round.
    indices : Samples
        Of the rings, see `AT_...`.
    """

    bands: int = whole()
    series: int = whole()
    alone: int = whole()
    linear: int = whole()
    has_dc: int = whole()
    filtered: int = whole()
    loops: int = whole()
    glued: int = whole()
    delay: int = whole()
    solos: Counts = whole_setting(MOST)
    squashed: Counts = whole_setting(MOST)
    shapes: Counts = whole_setting(MOST, 2)
    active: Counts = whole_setting(MOST)
    squash: Samples = setting(MOST, dynamics.FIGURES)
    curves: Samples = setting(MOST, 2 * CELLS, 4)
    corrections: Samples = setting(MOST, CORRECTION_TAPS)
    lows: Samples = setting(MOST - 1, 2, 5)
    highs: Samples = setting(MOST - 1, 2, 5)
    passes: Samples = setting(MOST - 1, 1, 5)
    sections: Samples = setting(MOST, 1, 5)
    filter: Samples = setting(1, 5)
    dc: Samples = setting(1, 5)
    loop_figures: Samples = setting(kernels.FIGURES)
    glue: Samples = setting(dynamics.FIGURES)
    branches: Samples = shared(2)
    glides: Samples = setting(3, MOST, 4)
    out: Samples = setting(4)
    fast: OversamplingRecord = part(OversamplingRecord)
    tone: ToneRecord = part(ToneRecord)
    filter_1: ConvolutionRecord = part(ConvolutionRecord)
    filter_2: ConvolutionRecord = part(ConvolutionRecord)
    filter_3: ConvolutionRecord = part(ConvolutionRecord)
    filter_4: ConvolutionRecord = part(ConvolutionRecord)
    filter_5: ConvolutionRecord = part(ConvolutionRecord)
    ups: Samples = state(MOST, "channels", "up_levels", "up_held")
    bend_states: Samples = state(MOST, "channels", BEND_STATES)
    wait: Samples = state("channels", _INNER_DELAY - BEND_DELAY)
    waits: Samples = state(MOST, "channels", BEND_DELAY)
    alone_waits: Samples = state(MOST, "channels", BEND_DELAY)
    section_states: Samples = state(MOST, "channels", 1, 2)
    held_states: Samples = state(MOST, "channels", dynamics.STATES)
    series_held_states: Samples = state(MOST, "channels", dynamics.STATES)
    pasts: Samples = state(MOST, "channels", "past")
    past_indices: Counts = whole_state(MOST, 1)
    clean_ring: Samples = state("channels", "shaped")
    early_ring: Samples = state("channels", (CORRECTION_TAPS - 1) // 2)
    indices: Samples = state(3)
    low_states: Samples = state(MOST - 1, "channels", 2, 2)
    high_states: Samples = state(MOST - 1, "channels", 2, 2)
    pass_states: Samples = state(MOST - 1, MOST - 1, "channels", 1, 2)
    coming_low_states: Samples = state(MOST - 1, "channels", 2, 2)
    coming_high_states: Samples = state(MOST - 1, "channels", 2, 2)
    coming_pass_states: Samples = state(MOST - 1, MOST - 1, "channels", 1, 2)
    loop: Samples = state("channels", "loop_frames")
    followed: Samples = state("channels")
    filter_state: Samples = state("channels", 1, 2)
    dc_state: Samples = state("channels", 1, 2)
    glue_state: Samples = state("channels", dynamics.STATES)
    places: Samples = scratch("sub_steps")
    values: Samples = scratch("sub_steps")
    seconds: Samples = scratch("sub_steps")
    bent: Samples = scratch("sub_steps")
    high: Samples = scratch("bent_chunk")
    own: Samples = scratch("bent_chunk")
    held: Samples = scratch("bent_chunk")
    parts: Samples = scratch(MOST, "samples")
    coming_parts: Samples = scratch(MOST, "samples")
    clean: Samples = scratch("samples")
    spare: Samples = scratch("samples")
    turn: Samples = scratch("samples")
    coming: Samples = scratch("samples")


AT_CLEAN, AT_EARLY, AT_LOOP = range(3)
"""Which ring each of a record's `indices` is of."""


@inlined
def bend_parts_in_series(record: BandsRecord, block: Samples) -> None:
    """One band after another bends its part of the whole, in place."""
    bands, indices, active = record.bands, vector(record.indices), whole_vector(record.active)
    indices[AT_EARLY] = delay(block, matrix(record.early_ring), int(indices[AT_EARLY]))
    glides = cube(record.glides)
    for k in range(bands):
        active[k] = 1 if glides[BENT, k, TARGET] != 0.0 or glides[BENT, k, LEFT] != 0.0 else 0
    kernels.bend_in_series(
        block, bands, active, record.alone == 1, whole_vector(record.solos), cube(record.sections),
        matrix(record.squash), matrix(record.branches), whole_vector(record.squashed), whole_matrix(record.shapes),
        cube(record.curves), glides, array_4d(record.section_states), cube(record.series_held_states),
        cube(record.bend_states), cube(record.waits), cube(record.alone_waits), vector(record.own),
        vector(record.held), vector(record.places), vector(record.values), vector(record.seconds),
        vector(record.bent), vector(record.high), record.fast)


@inlined
def filter_parts(record: BandsRecord, parts: Samples) -> None:
    """Each part through its long filter."""
    convolve_block(record.filter_1, parts[0])
    convolve_block(record.filter_2, parts[1])
    if record.bands > 2:
        convolve_block(record.filter_3, parts[2])
    if record.bands > 3:
        convolve_block(record.filter_4, parts[3])
    if record.bands > 4:
        convolve_block(record.filter_5, parts[4])


@inlined
def split_block(record: BandsRecord, block: Samples, coming: Samples, comes: bool) -> Samples:
    """The parts (bands, channels, frames) of a block, and of what comes round to it."""
    lows, highs, passes = cube(record.lows), cube(record.highs), cube(record.passes)
    channels, frames = block.shape
    parts: Samples = cube_of(record.parts, record.bands, channels, frames)
    if record.linear == 0:
        put(parts[0], block)
        kernels.split_up(parts, lows, highs, passes, array_4d(record.low_states), array_4d(record.high_states),
                         array_5d(record.pass_states))
        return parts
    for k in range(record.bands):
        put(parts[k], block)
    filter_parts(record, parts)
    if comes:
        # What comes round can't wait for the long filters.
        others = cube_of(record.coming_parts, record.bands, channels, frames)
        put(others[0], coming)
        kernels.split_up(others, lows, highs, passes, array_4d(record.coming_low_states),
                         array_4d(record.coming_high_states), array_5d(record.coming_pass_states))
        for k in range(record.bands):
            add(parts[k], others[k])
    return parts


@inlined
def bend_parts_side_by_side(record: BandsRecord, block: Samples, coming: Samples, comes: bool) -> None:
    """Each part of the block bent by its band's shape, and summed, in place."""
    parts = split_block(record, block, coming, comes)
    channels, frames = block.shape
    clean, spare = block_of(record.clean, channels, frames), block_of(record.spare, channels, frames)
    active, indices = whole_vector(record.active), vector(record.indices)
    count = kernels.part_ways(parts, spare, whole_vector(record.squashed), matrix(record.squash),
                              matrix(record.branches), cube(record.held_states), cube(record.glides),
                              matrix(record.corrections), cube(record.pasts), whole_matrix(record.past_indices),
                              active, clean)
    indices[AT_CLEAN] = delay(clean, matrix(record.clean_ring), int(indices[AT_CLEAN]))
    if count == 0:
        put(block, clean)
        return
    kernels.bend_side_by_side(
        parts, active[:count], whole_matrix(record.shapes), cube(record.curves), cube(record.glides),
        cube(record.bend_states), array_4d(record.ups), matrix(record.wait), vector(record.places),
        vector(record.values), vector(record.seconds), vector(record.bent), vector(record.high), record.fast, block)
    add(block, clean)


@inlined
def run_bands(record: BandsRecord, block: Samples, coming: Samples, comes: bool) -> None:
    """Bands and filter, in place; `coming` is added to what goes in where something `comes` round."""
    if comes and record.linear == 0:
        add(block, coming)
    if record.series == 1:
        bend_parts_in_series(record, block)
    else:
        bend_parts_side_by_side(record, block, coming, comes)
    if record.has_dc == 1:
        biquads(block, matrix(record.dc), cube(record.dc_state))
    if record.filtered == 1:
        biquads(block, matrix(record.filter), cube(record.filter_state))
    kernels.hold_within(block, LOUDEST)


@inlined
def run_round(record: BandsRecord, block: Samples) -> None:
    """The bands with their feedback, in pieces no longer than the loop, in place."""
    channels, indices, loop = block.shape[0], vector(record.indices), matrix(record.loop)
    for start in range(0, block.shape[1], _LOOP_FRAMES):
        stop = min(start + _LOOP_FRAMES, block.shape[1])
        piece = block_of(record.turn, channels, stop - start)
        coming = block_of(record.coming, channels, stop - start)
        put(piece, block[:, start:stop])
        index = int(indices[AT_LOOP])
        kernels.feed_back(piece, vector(record.loop_figures), record.delay, loop, index, vector(record.followed),
                          coming)
        run_bands(record, piece, coming, True)
        indices[AT_LOOP] = kernels.keep(piece, loop, index)
        put(block[:, start:stop], piece)


@inlined
def process(record: BandsRecord, block: Samples) -> None:
    """The compiled half."""
    tone_before(record.tone, block)
    if record.loops == 1:
        run_round(record, block)
    else:
        run_bands(record, block, block, False)
    if record.glued == 1:
        heard = block_of(record.clean, block.shape[0], block.shape[1])
        put(heard, block)
        dynamics.compress(block, heard, vector(record.glue), False, matrix(record.branches),
                          matrix(record.glue_state))
    glide(block, vector(record.out))
    tone_after(record.tone, block)


class BandsProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(BandsRecord, process, wide=True)

    def sizes(self, setup: Setup) -> dict[str, int]:
        factor, held = setup.oversample, CORRECTION_TAPS - 1
        self._inner = held // 2 + oversampling_latency(factor, _INNER_DELAY)
        self.latency = setup.lookahead + self._inner
        self.settling = self.latency + round(0.005 * setup.rate)
        filters = convolution_sizes(2 * setup.lookahead + 1) if setup.lookahead else dict.fromkeys(
            convolution_sizes(1), 0)
        return {"inner": self.latency, "shaped": self._inner, "up_levels": len(PAIRS), "up_held": UP_HELD,
                "sub_steps": CHUNK * max(MOST_STEPS, factor), "bent_chunk": CHUNK * factor,
                "past": past_length(CORRECTION_TAPS, setup.max_block),
                "loop_frames": round(_LONGEST_LOOP * setup.rate) + 2 * _LOOP_FRAMES, **filters,
                **oversampling_sizes(factor)}

    def make_parts(self, setup: Setup) -> None:
        record = self.record
        set_oversampling(record.fast, setup.oversample, _INNER_DELAY)
        record.linear = int(setup.lookahead > 0)
        record.branches = branches(setup.rate)
        record.dc[0] = high_pass(_DC_HZ, BUTTERWORTH_Q, setup.rate)
        self._filters = record.filter_1, record.filter_2, record.filter_3, record.filter_4, record.filter_5
        self._moving = [[self.ramp(0.0, record.glides[row, band]) for band in range(MOST)]
                        for row in range(3)]
        self._out = self.ramp(1.0, record.out)
        self.turning = record.tone.turning
        self.reset()

    def reset(self) -> None:
        super().reset()
        for held in (self.record.held_states, self.record.series_held_states, self.record.glue_state):
            held[..., dynamics.GAIN] = 1.0

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        edges = as_edges(values["edges_hz"])
        bands = _bands(values, self._setup.reference_dbfs)
        record.bands, record.series = len(bands), int(values["order"] == "series")
        record.alone = int(any(band.solo for band in bands))
        record.has_dc = int(any(band.shape.lopsided for band in bands if band.bent > 0.0))
        self._set_bands(edges, bands)
        self._set_split(edges)
        self._set_loop(values, bands)
        set_tone(record.tone, values, rate)
        if record.series == record.linear == 0:
            record.tone.turning[1:len(bands)] = record.passes[:len(bands) - 1, 0]
            record.tone.turns_within = 1
        for index, band in enumerate(bands):
            hears = band.heard or record.series == 1
            for row, value in ((DRIVE, band.drive), (CLEAN, band.clean * hears), (BENT, band.bent * hears)):
                self._moving[row][index].go(value, at_once=at_once)
        self._out.go(gain(as_number(values["out_db"])), at_once=at_once)

    def _set_bands(self, edges: tuple[float, ...], bands: list[_Band]) -> None:
        """What each band is."""
        record, rate, factor = self.record, self._setup.rate, self._setup.oversample
        fast_rate = rate * factor
        squash_rate, every = (fast_rate, factor) if record.series == 1 else (rate, 1)
        for k, (band, top) in enumerate(zip(bands, (*edges, rate), strict=True)):
            steps = max(1, math.ceil(band.shape.steps(band.drive, factor) * min(top / _FINE_HZ, 1.0)))
            record.solos[k], record.squashed[k] = band.solo, band.squash > 0.0
            record.squash[k] = band.figures(squash_rate, self._setup.reference_dbfs, every)
            record.shapes[k] = band.shape.kernel_kind, steps
            record.curves[k] = band.shape.table
            record.corrections[k] = band.shape.correction(factor)
            record.sections[k, 0] = _series_section(edges, k, fast_rate)

    def _set_split(self, edges: tuple[float, ...]) -> None:
        """What parts the bands."""
        record, rate = self.record, self._setup.rate
        for k, hz in enumerate(edges):
            record.lows[k], record.highs[k] = split(hz, rate)
            record.passes[k, 0] = all_pass(hz, BUTTERWORTH_Q, rate)
        if record.linear == 1:
            for part_filter, taps in zip(self._filters, _linear_bands(edges, self._setup.lookahead, rate),
                                         strict=False):
                set_response(part_filter, np.tile(taps, (self._setup.channels, 1)))

    def _set_loop(self, values: Values, bands: list[_Band]) -> None:
        """Filter, feedback and glue."""
        record, rate, reference = self.record, self._setup.rate, self._setup.reference_dbfs
        kind = str(values["filter"])
        record.filtered = int(kind != "off")
        if record.filtered:
            record.filter[0] = _FILTERS[kind](as_number(values["filter_hz"]), as_number(values["filter_q"]), rate)
        amount, figures = as_number(values["feedback_pct"]) / 100.0, record.loop_figures
        record.loops = int(amount > 0.0)
        figures[kernels.FOLLOW] = as_number(values["follow_pct"]) / 100.0
        for index, name in ((kernels.RISE, "follow_attack_ms"), (kernels.FALL, "follow_release_ms")):
            figures[index] = one_pole(as_number(values[name]) / 1000.0, rate)
        figures[kernels.FULL] = gain(reference + 6.0)
        record.delay = self._loop_delay(as_number(values["feedback_hz"]))
        if record.loops == 1:
            # All the way up it stands, held by the limit of the loop itself; below it dies away.
            figures[kernels.AMOUNT] = (amount if amount < 1.0 else _STANDING) / max(self._loop_gain(bands), _LEAST_GAIN)
        record.glue = _glue(values, rate, reference)
        record.glued = int(as_number(values["glue_ratio"]) > 1.0)

    def _loop_gain(self, bands: list[_Band]) -> float:
        """How much stronger what goes round comes back, at most, where it meets itself in phase.

        Below one nothing can grow (Nyquist): shapes are reckoned with where they are steepest.
        """
        record, rate = self.record, self._setup.rate
        hz: Samples = np.arange(1.0, _LOOKED_AT + 1.0) * (min(20000.0, 0.45 * rate) / _LOOKED_AT)
        around = np.exp(-2j * np.pi * hz * ((record.delay + self._inner) / rate))
        if record.filtered == 1:
            around = around * transfer(record.filter, hz, rate)
        made = [band.bent * band.drive * band.shape.steepest for band in bands]
        if record.series == 1:
            for k, (band, bent) in enumerate(zip(bands, made, strict=True)):
                part = transfer(record.sections[k], hz, rate * self._setup.oversample)
                around = around * (1.0 + part * (band.clean - 1.0 + bent))
            return float(around.real.max())
        edges, rising = len(bands) - 1, np.ones_like(around)
        total = np.zeros_like(around)
        for k, (band, bent) in enumerate(zip(bands, made, strict=True)):
            part = rising.copy()
            if k < edges:
                part *= transfer(record.lows[k], hz, rate)
                rising *= transfer(record.highs[k], hz, rate)
                for later in range(k + 1, edges):
                    part *= transfer(record.passes[later], hz, rate)
            total += part * (band.clean + bent) * band.heard
        return float((around * total).real.max())

    def _loop_delay(self, pitch: float) -> int:
        """Frames that the output waits before it comes round, so that the whole loop rings at a pitch in Hz."""
        record, rate = self.record, self._setup.rate
        turning = [] if record.series == 1 else list(record.passes[:record.bands - 1, 0])
        if record.filtered == 1:
            turning.append(record.filter[0])
        turn = float(np.angle(transfer(np.array(turning), np.array([pitch]), rate)[0])) if turning else 0.0
        period = rate / pitch
        frames = period * (1.0 + turn / (2.0 * math.pi)) - self._inner
        while frames < _LOOP_FRAMES:
            frames += period
        return int(min(round(frames), record.loop.shape[1] - _LOOP_FRAMES))


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
    glyph=(line((0.15, 0.9), (0.15, 0.55)), line((0.38, 0.9), (0.38, 0.15)), line((0.62, 0.9), (0.62, 0.35)),
           line((0.85, 0.9), (0.85, 0.65))),
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
