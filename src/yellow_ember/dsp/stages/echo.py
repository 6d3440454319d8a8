"""Tape echo: four heads behind the record head, and feedback through the tape.  Model: docs/models/echo.md."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Counts, Samples, gain
from yellow_ember.dsp.filters import one_pole, steep_low_pass
from yellow_ember.dsp.glyphs import line
from yellow_ember.dsp.kernels import echo as kernels
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.echo import HEADS
from yellow_ember.dsp.kernels.filters import delay
from yellow_ember.dsp.kernels.mixing import put
from yellow_ember.dsp.kernels.motion import TAPS
from yellow_ember.dsp.motion import interpolator
from yellow_ember.dsp.notes import NOTE_CHOICES, beats_of
from yellow_ember.dsp.parameters import (
    Automation,
    Choice,
    Group,
    Number,
    Option,
    Parameter,
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
    whole_state,
    whole_vector,
)
from yellow_ember.dsp.shaper import ShaperRecord, bend_block, set_shape, set_up_shaper, shaper_latency, shaper_sizes
from yellow_ember.dsp.shapes import SHAPE_BY_ID
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind

_LONGEST_SECONDS = 4.0
_GLIDE_SECONDS, _FADE_SECONDS = 0.004, 0.05
_OFF_DB = -60.0
_TOP, _TOP_Q = 0.41, (0.5411961, 1.3065630)
"""Where the top begins that goes round no more, over the rate: Butterworth's fourth order."""
_MOST_COLOUR = 3.0
"""Gain into the tape's curve."""
_NUMBERS = range(1, HEADS + 1)
_GROUPS = (Group.HEAD_1, Group.HEAD_2, Group.HEAD_3, Group.HEAD_4)
_WOW_HZ, _FLUTTER_HZ = 0.7, 6.3
_OPEN_HZ, _NO_CUT_HZ = 20000.0, 20.0
_DEFAULTS = ((True, 375.0, -3.0), (False, 500.0, -6.0), (False, 625.0, -8.0), (False, 750.0, -10.0))


def head_seconds(values: Values, number: int, tempo: float) -> float:
    """How long after the record head a head reads."""
    if values["from_speed"]:
        metres_a_second = as_number(values["speed_ips"]) * 0.0254
        return number * as_number(values["head_mm"]) * 1e-3 / metres_a_second
    note = str(values[f"tap{number}_note"])
    if note != "free":
        return 60.0 / tempo * beats_of(note)
    return as_number(values[f"tap{number}_time_ms"]) / 1000.0


def _level(decibels: float) -> float:
    return 0.0 if decibels <= _OFF_DB else gain(decibels)


def _gains(values: Values, number: int, channels: int) -> tuple[float, float, float]:
    """A head's share of left, of right and of the loop."""
    if not values[f"tap{number}_on"]:
        return 0.0, 0.0, 0.0
    level = _level(as_number(values[f"tap{number}_level_db"]))
    position = as_number(values[f"tap{number}_pan"]) / 100.0 if channels == 2 else 0.0
    return level * min(1.0, 1.0 - position), level * min(1.0, 1.0 + position), level


_PRIMED = 256
"""Frames that a tape's colour is run on before it is heard, when it comes on."""


class ColourRecord(Record):
    """What a tape makes of what is recorded: nothing, a little late, or a rounded wave.

    Attributes
    ----------
    runs : int
        1 while the shape runs.
    before : Samples
        The last frames that came in.
    """

    late: int = whole()
    shaper: ShaperRecord = part(ShaperRecord)
    runs: Counts = whole_state(1)
    before: Samples = state("channels", _PRIMED)
    drives: Samples = state(1, "coloured_late")
    index: Samples = state(1)
    priming: Samples = scratch("piece")
    leaving: Samples = scratch(kernels.PIECE)


@inlined
def _take_in(record: ColourRecord, block: Samples) -> None:
    """Keep the last frames that came in."""
    before, frames = matrix(record.before), block.shape[1]
    for c in range(block.shape[0]):
        for i in range(_PRIMED - frames):
            before[c, i] = before[c, i + frames]
        for i in range(frames):
            before[c, _PRIMED - frames + i] = block[c, i]


@inlined
def _prime(record: ColourRecord, channels: int) -> None:
    """Run the shape over what came last, as if it had run all the time."""
    before = matrix(record.before)
    for start in range(0, _PRIMED, kernels.PIECE):
        piece = block_of(record.priming, channels, kernels.PIECE)
        for c in range(channels):
            for i in range(kernels.PIECE):
                piece[c, i] = kernels.LEAST_COLOUR * before[c, start + i]
        bend_block(record.shaper, piece)


@inlined
def colour_piece(record: ColourRecord, block: Samples, colours: Samples) -> None:
    """Round a piece (channels, PIECE at most) by a drive (frames,), or leave it, `late` frames late, in place."""
    channels, frames, before, runs = block.shape[0], block.shape[1], matrix(record.before), whole_vector(record.runs)
    leaving, index = block_of(record.leaving, 1, frames), vector(record.index)
    coloured = False
    for i in range(frames):
        coloured = coloured or colours[i] > kernels.UNCOLOURED
        leaving[0, i] = max(colours[i], kernels.LEAST_COLOUR)
    if coloured and runs[0] == 0:
        _prime(record, channels)
        runs[0] = 1
    _take_in(record, block)
    if coloured:
        for c in range(channels):
            for i in range(frames):
                block[c, i] *= leaving[0, i]
        bend_block(record.shaper, block)
    # What leaves the shape now was driven `late` frames ago.
    index[0] = delay(leaving, matrix(record.drives), int(index[0]))
    if coloured:
        for c in range(channels):
            for i in range(frames):
                block[c, i] /= max(leaving[0, i], kernels.LEAST_COLOUR)
        return
    runs[0] = 0
    for c in range(channels):
        for i in range(frames):
            block[c, i] = before[c, _PRIMED - frames - record.late + i]


class EchoRecord(Record):
    """Heads, colour and tape, a piece at a time; every gain glides, and heads fade to where they move.

    Attributes
    ----------
    delay : int
        Frames by which what comes round through the rest of the chain is late.
    least : float
        Frames from where the tape is written for good.
    """

    delay: int = whole()
    offset: float = real()
    glide: float = real()
    fade: float = real()
    least: float = real()
    table: Samples = shared(3)
    sent: Samples = shared(2)
    returned: Samples = shared(2)
    targets: Samples = setting(kernels.FIGURES)
    motion: Samples = setting(4)
    top: Samples = setting(2, 5)
    colour: ColourRecord = part(ColourRecord)
    returned_colour: ColourRecord = part(ColourRecord)
    figures: Samples = state(kernels.FIGURES)
    heads: Samples = state(HEADS, 4)
    pointers: Samples = state(4)
    ring: Samples = state("channels", "ring_and_taps")
    filters: Samples = state("channels", 4)
    top_states: Samples = state("channels", 2, 2)
    index: Samples = state(1)
    held_ring: Samples = state("channels", "coloured_late")
    held_index: Samples = state(1)
    turn: Samples = scratch("piece")
    inputs: Samples = scratch("piece")
    held: Samples = scratch("piece")
    colours: Samples = scratch(kernels.PIECE)
    nearest: Samples = scratch(kernels.PIECE)


@inlined
def process(record: EchoRecord, block: Samples) -> None:
    """The compiled half."""
    channels, index, figures = block.shape[0], vector(record.index), vector(record.figures)
    ring, sent, returned, held_index = (matrix(record.ring), matrix(record.sent), matrix(record.returned),
                                        vector(record.held_index))
    for start in range(0, block.shape[1], kernels.PIECE):
        stop = min(start + kernels.PIECE, block.shape[1])
        frames = stop - start
        piece, inputs, held = (block_of(record.turn, channels, frames), block_of(record.inputs, channels, frames),
                               block_of(record.held, channels, frames))
        put(piece, block[:, start:stop])
        kernels.play(piece, figures, vector(record.targets), record.glide, matrix(record.heads), record.offset,
                     record.fade, vector(record.motion), vector(record.pointers), cube(record.table), ring,
                     int(index[0]), record.least, matrix(record.top), cube(record.top_states),
                     matrix(record.filters), sent, start, inputs, held,
                     vector(record.colours), vector(record.nearest))
        put(block[:, start:stop], piece)
        hold, colours = figures[kernels.HOLD], vector(record.colours)
        colour_piece(record.colour, inputs, colours)
        held_index[0] = delay(held, matrix(record.held_ring), int(held_index[0]))
        began = int(index[0])
        index[0] = kernels.record_piece(inputs, held, hold, record.colour.late, ring, began)
        if sent.shape[1] > 0:
            put(piece, returned[:, start:stop])
            colour_piece(record.returned_colour, piece, colours)
            kernels.add_returned(piece, 1.0 - hold, record.colour.late, record.delay, vector(record.nearest), ring,
                                 began)


class EchoProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(EchoRecord, process, wide=True)
    in_tempo = True

    def sizes(self, setup: Setup) -> dict[str, int]:
        self._length = round((_LONGEST_SECONDS + 0.1) * setup.rate) + 2 * TAPS
        return {"ring_and_taps": self._length + TAPS, "coloured_late": shaper_latency(setup),
                "piece": setup.channels * kernels.PIECE, **shaper_sizes(setup)}

    def make_parts(self, setup: Setup) -> None:
        record, port = self.record, setup.loop
        record.table = interpolator()
        for colour in (record.colour, record.returned_colour):
            colour.late = set_up_shaper(colour.shaper, setup)
            set_shape(colour.shaper, setup, SHAPE_BY_ID["soft"], _MOST_COLOUR)
        record.top = [steep_low_pass(_TOP * setup.rate, q, setup.rate) for q in _TOP_Q]
        record.least = float(record.colour.late + kernels.PIECE + TAPS)
        record.glide, record.fade = one_pole(_GLIDE_SECONDS, setup.rate), 1.0 / (_FADE_SECONDS * setup.rate)
        record.delay = 0 if port is None else port.delay
        nothing: Samples = np.zeros((setup.channels, 0))
        record.sent, record.returned = (nothing, nothing) if port is None else (port.sent, port.returned)
        self.reset()

    def reset(self) -> None:
        record = self.record
        going = record.heads[:, kernels.TARGET].copy()
        super().reset()
        record.pointers = (1.0, 0.0, 1.0, 0.0)
        record.figures = record.targets
        for head, frames in zip(record.heads, going, strict=True):
            head[:] = (frames, frames, 0.0, frames)

    def set(self, values: Values, *, at_once: bool = False) -> None:
        rate, record = self._setup.rate, self.record
        self._values = values
        self._set_gains(values)
        record.offset = round(as_number(values["offset_ms"]) / 1000.0 * rate)
        for index, figure, name, hz in ((0, kernels.WOW, "wow_pct", _WOW_HZ),
                                        (2, kernels.FLUTTER, "flutter_pct", _FLUTTER_HZ)):
            turn = 2.0 * math.pi * hz / rate
            record.targets[figure] = as_number(values[name]) / 100.0 / turn
            record.motion[index:index + 2] = math.cos(turn), math.sin(turn)
        self.follow_tempo(self._setup.clock.tempo)
        if at_once:
            for head in record.heads:
                frames = head[kernels.TARGET]
                head[:] = (frames, frames, 0.0, frames)
            record.figures = record.targets

    def _set_gains(self, values: Values) -> None:
        """Where the gains of direct sound, heads, loop and filters go."""
        rate, channels, targets = self._setup.rate, self._setup.channels, self.record.targets
        style = str(values["style"])
        across = style == "ping-pong" and channels == 2
        targets[kernels.DIRECT] = 1.0 if values["direct"] else 0.0
        targets[kernels.LEVEL] = _level(as_number(values["level_db"]))
        targets[kernels.LEFT_IN], targets[kernels.LEFT_FROM_RIGHT] = (0.5, 0.5) if across else (1.0, 0.0)
        targets[kernels.RIGHT_IN], targets[kernels.RIGHT_FROM_LEFT] = (0.0, 0.0) if across else (1.0, 0.0)
        targets[kernels.SAME], targets[kernels.CROSSED] = (0.0, 1.0) if across else (1.0, 0.0)
        targets[kernels.COLOUR] = _MOST_COLOUR * (as_number(values["colour_pct"]) / 100.0) ** 2
        low, high = as_number(values["low_cut_hz"]), as_number(values["high_cut_hz"])
        targets[kernels.LOW_CUT] = 0.0 if low <= _NO_CUT_HZ else 1.0 - math.exp(-2.0 * math.pi * low / rate)
        targets[kernels.HIGH_CUT] = 1.0 if high >= _OPEN_HZ else 1.0 - math.exp(
            -2.0 * math.pi * min(high, 0.45 * rate) / rate)
        targets[kernels.HOLD] = 1.0 if values["freeze"] else 0.0
        shares = [_gains(values, number, channels) for number in _NUMBERS]
        for index, share in enumerate(shares):
            targets[kernels.HEAD + 3 * index:kernels.HEAD + 3 * index + 3] = share
        # All heads together feed back as much as one would.
        total = sum(share[2] for share in shares)
        targets[kernels.FEEDBACK] = 0.0 if style == "slap" or total == 0.0 else (
            as_number(values["feedback_pct"]) / 100.0 / total)

    def follow_tempo(self, tempo: float) -> None:
        """Say where the heads are to be; one that is on its way arrives before it moves on."""
        rate = self._setup.rate
        farthest = min(_LONGEST_SECONDS * rate, self._length - 2.0 * TAPS - self.record.offset - 0.05 * rate)
        for number, head in zip(_NUMBERS, self.record.heads, strict=True):
            frames = float(round(head_seconds(self._values, number, tempo) * rate))
            head[kernels.TARGET] = min(max(frames, self.record.least), farthest)


_SHOWN_REPEATS = 12


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Where echoes fall, the left ones up and the right ones down; notes are drawn at 120 beats a minute."""
    style = str(values["style"])
    feedback = 0.0 if style == "slap" else as_number(values["feedback_pct"]) / 100.0
    heads = [(head_seconds(values, number, 120.0), _gains(values, number, 2)) for number in _NUMBERS]
    heads = [(seconds, shares) for seconds, shares in heads if shares[2] > 0.0]
    spikes: list[tuple[float, float]] = []
    level = _level(as_number(values["level_db"]))
    for turn in range(_SHOWN_REPEATS if heads and feedback > 0.0 else 1):
        strength = level * feedback**turn
        if strength < 0.01:
            break
        for seconds, (left, right, _back) in heads:
            at = seconds + turn * heads[0][0]
            if style == "ping-pong":
                spikes.append((at, strength * (left if turn % 2 == 0 else -right)))
            else:
                spikes += [(at, strength * left), (at + as_number(values["offset_ms"]) / 1000.0, -strength * right)]
    spikes.sort()
    x, y = [0.0], [0.0]
    for at, height in spikes:
        x += [at, at, at]
        y += [0.0, height, 0.0]
    x.append(max(2.0, x[-1] + 0.2))
    y.append(0.0)
    return (Plot("Echoes: left up, right down", "time", (Curve("echoes", np.array(x), np.array(y)),),
                 x_label="seconds", y_label="level"),)


def _idle(values: Values) -> frozenset[str]:
    result: set[str] = set()
    for number in _NUMBERS:
        if values["from_speed"]:
            result |= {f"tap{number}_time_ms", f"tap{number}_note"}
        elif values[f"tap{number}_note"] != "free":
            result.add(f"tap{number}_time_ms")
    if not values["from_speed"]:
        result |= {"speed_ips", "head_mm"}
    if values["style"] == "slap":
        result |= {"feedback_pct", "loop"}
    return frozenset(result)


def _head(number: int) -> tuple[Parameter, ...]:
    on, milliseconds, level = _DEFAULTS[number - 1]
    group, ramp = _GROUPS[number - 1], Automation.RAMP
    return (
        Switch(id=f"tap{number}_on", label="On", group=group, default=on, automation=ramp,
               help="Lets this head be heard and fed back."),
        Number(id=f"tap{number}_time_ms", label="Time", group=group, unit="ms", minimum=5.0, maximum=4000.0,
               default=milliseconds, taper=Taper.LOG, decimals=0, automation=ramp,
               help="How long after the sound this head repeats it: under 40 ms thickens, over 100 ms answers."),
        Option(id=f"tap{number}_note", label="Sync", group=group, default="free", choices=NOTE_CHOICES,
               automation=ramp,
               help="Locks this head to the tempo in place of its time."),
        Number(id=f"tap{number}_level_db", label="Level", group=group, unit="dB", minimum=_OFF_DB, maximum=6.0,
               default=level, floor_word="silent", automation=ramp,
               help="How loud this head is, and how much of it is fed back."),
        Number(id=f"tap{number}_pan", label="Pan", group=group, unit="", minimum=-100.0, maximum=100.0, default=0.0,
               decimals=0, automation=ramp,
               help="Where this head's echoes stand from left to right."),
    )


def _spreads(values: Values) -> bool:
    """Heads at different places, echoes from side to side, or a right side that comes later."""
    placed = any(values[f"tap{number}_on"] and values[f"tap{number}_pan"] != 0.0 for number in _NUMBERS)
    return placed or values["style"] == "ping-pong" or values["offset_ms"] != 0.0


ECHO = StageKind(
    kind="echo",
    label="Tape echo",
    glyph=(line((0.12, 0.9), (0.12, 0.1)), line((0.4, 0.9), (0.4, 0.35)), line((0.65, 0.9), (0.65, 0.58)),
           line((0.88, 0.9), (0.88, 0.75))),
    purpose="Repeats the sound from a loop of tape, darker and rounder each time round.",
    front=("style", "tap1_time_ms", "tap1_note", "feedback_pct", "colour_pct", "wow_pct", "level_db", "direct"),
    neighbours=("room", "sway"),
    remedies={"boom": ("low_cut_hz",), "hiss": ("high_cut_hz",)},
    parameters=(
        Option(id="style", label="Style", group=Group.MACHINE, default="repeat", automation=Automation.RAMP,
               choices=(Choice("slap", "slap"), Choice("repeat", "repeat"), Choice("ping-pong", "ping-pong")),
               help="Slap answers once, repeat goes on, ping-pong goes from side to side."),
        Switch(id="from_speed", label="Times from tape speed", group=Group.MACHINE, default=False,
               automation=Automation.RAMP,
               help="The heads stand at fixed places: twice the tape speed is half the time."),
        Option(id="speed_ips", label="Tape speed", group=Group.MACHINE, default="7.5", unit="ips", numeric=True,
               automation=Automation.RAMP,
               choices=tuple(Choice(speed, f"{speed} ips") for speed in ("1.875", "3.75", "7.5", "15", "30")),
               help="How fast the loop runs: slow is long and, with wow, unsteady."),
        Number(id="head_mm", label="Head spacing", group=Group.MACHINE, unit="mm", minimum=10.0, maximum=120.0,
               default=48.0, automation=Automation.RAMP,
               help="How far the first play head stands behind the record head, and each next one behind that."),
        Number(id="feedback_pct", label="Feedback", group=Group.DRIVE, unit="%", minimum=0.0, maximum=110.0,
               default=35.0, decimals=0, automation=Automation.RAMP,
               help="How much of the echoes is recorded again; past 100 they swell until the tape holds them."),
        Option(id="loop", label="Feedback from", group=Group.DRIVE, default="inside",
               choices=(Choice("inside", "inside"), Choice("path", "through the path")),
               help="Inside, or round through all other stages of the path, so that they colour each turn."),
        Number(id="colour_pct", label="Colour", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=35.0,
               decimals=0, floor_word="clean", automation=Automation.RAMP,
               help="How hard the tape is driven: rounder at each turn, up to a roar."),
        Switch(id="freeze", label="Freeze", group=Group.DRIVE, default=False, automation=Automation.RAMP,
               help="Holds what is in the loop for good and lets nothing new in."),
        Number(id="low_cut_hz", label="Low cut", group=Group.TONE, unit="Hz", minimum=_NO_CUT_HZ, maximum=1000.0,
               default=90.0, taper=Taper.LOG, decimals=0, floor_word="off", automation=Automation.RAMP,
               help="Takes lows off at each turn, so that repeats do not boom."),
        Number(id="high_cut_hz", label="High cut", group=Group.TONE, unit="Hz", minimum=500.0, maximum=_OPEN_HZ,
               default=6000.0, taper=Taper.LOG, decimals=0, top_word="open", automation=Automation.RAMP,
               help="Takes highs off at each turn, so that repeats step back."),
        Number(id="offset_ms", label="Right delay", group=Group.TONE, unit="ms", minimum=0.0, maximum=35.0,
               default=0.0, floor_word="off",
               help="The right echoes come a little later than the left, which widens them."),
        Number(id="wow_pct", label="Wow", group=Group.MOTION, unit="%", minimum=0.0, maximum=2.0, default=0.15,
               decimals=2, taper=Taper.ROOT,
               automation=Automation.RAMP,
               help="The loop's speed swings slowly, and each turn swings again."),
        Number(id="flutter_pct", label="Flutter", group=Group.MOTION, unit="%", minimum=0.0, maximum=1.0,
               default=0.05, decimals=2, taper=Taper.ROOT,
               automation=Automation.RAMP,
               help="The loop's speed trembles, and each turn trembles again."),
        *(parameter for number in _NUMBERS for parameter in _head(number)),
        Number(id="level_db", label="Echoes", group=Group.OUTPUT, unit="dB", minimum=_OFF_DB, maximum=12.0,
               default=-6.0, floor_word="silent", automation=Automation.RAMP,
               help="How loud all echoes are beside the sound itself."),
        Switch(id="direct", label="Direct sound", group=Group.OUTPUT, default=True, automation=Automation.RAMP,
               help="Lets the sound itself through; off where the stage is on a bus of its own."),
    ),
    spreads=_spreads,
    processor=EchoProcessor,
    picture=picture,
    rest={"level_db": _OFF_DB},
    nonlinear=True,
    idle=_idle,
    loops=lambda values: values["loop"] == "path" and values["style"] != "slap",
)
