"""Worn tape: ageing, creases, dropouts, print-through.  Model: docs/models/wear.md.

The damage lies at places of the session's time line: whatever plays there meets it again.
"""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.filters import low_pass_first, response, zero_and_pole
from yellow_ember.dsp.glyphs import line
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels import wear as kernels
from yellow_ember.dsp.kernels.filters import biquads, delay
from yellow_ember.dsp.kernels.mixing import add, glide, put
from yellow_ember.dsp.kernels.motion import TAPS
from yellow_ember.dsp.kernels.noise import hashed
from yellow_ember.dsp.motion import interpolator
from yellow_ember.dsp.notes import NOTE_CHOICES, beats_of
from yellow_ember.dsp.parameters import Automation, Choice, Group, Number, Option, Steps, Taper, Values, as_number
from yellow_ember.dsp.record import (
    CompiledHalf,
    Record,
    block_of,
    cube,
    matrix,
    real,
    scratch,
    setting,
    shared,
    state,
    vector,
    whole,
)
from yellow_ember.dsp.stage import (
    CLOCK_DELAY,
    CLOCK_FRAME,
    Curve,
    Damage,
    Picture,
    Plot,
    Processor,
    Setup,
    StageKind,
    frequency_axis,
)
from yellow_ember.dsp.tape.model import IPS, SPEED_CHOICES, TURN_RADIUS

MAX_STEPS = 128
_CENTRE_SECONDS = 0.004
_RIM = math.sqrt(2.0)


def drop_pattern(values: Values) -> Samples:
    """Depth of each dropout step, 0 to 1: generated, then as corrected by hand."""
    count = round(as_number(values["drop_count"]))
    pattern = np.zeros(count)
    if values["drop_mode"] == "random":
        seed, density = as_number(values["drop_seed"]), as_number(values["drop_density_pct"]) / 100.0
        for index in range(count):
            if hashed(seed, 2 * index) < density:
                pattern[index] = 0.35 + 0.65 * hashed(seed, 2 * index + 1)
    drawn = values["drop_steps"]
    if isinstance(drawn, tuple):
        for index, depth in enumerate(drawn[:count]):
            if depth is not None:
                pattern[index] = depth
    return pattern


def step_seconds(values: Values, tempo: float) -> float:
    """How long a dropout step lasts."""
    note = str(values["drop_note"])
    return 1.0 / as_number(values["drop_hz"]) if note == "free" else beats_of(note) * 60.0 / tempo


def _figures(values: Values, tempo: float, first_beat: float) -> Samples:
    """What `kernels.damage` takes."""
    result = np.zeros(kernels.FIGURES)
    for name, index in (("ageing_pct", kernels.AGEING), ("ageing_spread_pct", kernels.AGEING_SPREAD),
                        ("crease_pct", kernels.CREASE), ("crease_spread_pct", kernels.CREASE_SPREAD)):
        result[index] = as_number(values[name]) / 100.0
    result[kernels.AGEING_HZ] = as_number(values["ageing_hz"])
    result[kernels.CREASE_HZ] = as_number(values["crease_hz"])
    result[kernels.SEED] = 1000.0 * as_number(values["drop_seed"])
    result[kernels.STEP_SECONDS] = step_seconds(values, tempo)
    result[kernels.FIRST] = first_beat
    result[kernels.DEPTH_DB] = 0.0 if values["drop_mode"] == "off" else as_number(values["drop_depth_db"])
    return result


def turn_seconds(speed_ips: float) -> float:
    """Time between a place on the tape and the same place one layer further."""
    return 2.0 * math.pi * TURN_RADIUS[speed_ips] / (speed_ips * IPS)


def print_through_sections(layer_um: float, speed_ips: float, rate: float) -> Samples:
    """What crosses to the next layer: a rise, then a fall, with gain one at a wavelength of 2 pi layers.

    Stands for kp exp(1 - kp) with k the wave number and p the layer pitch (Daniel, JAES 20,
    1972): one zero at rest and three poles give it within 2 dB over two octaves about its top.
    """
    top = speed_ips * IPS / (2.0 * math.pi * layer_um * 1e-6)
    rise, fall = zero_and_pole(0.0, _RIM * top, rate), low_pass_first(_RIM * top, rate)
    sections = np.array([rise, fall, fall])
    sections[0, :3] /= response(sections, np.array([top]), rate)[0]
    return sections


class WearRecord(Record):
    """The worn tape is read, then its neighbouring layers are added.

    Attributes
    ----------
    turn : int
        Frames of a turn of the reel, 0 where no layer prints through.
    """

    turn: int = whole()
    centre: int = whole()
    steps_used: int = whole()
    rate: float = real()
    attack: float = real()
    release: float = real()
    clock: Samples = shared(1)
    table: Samples = shared(3)
    figures: Samples = setting(kernels.FIGURES)
    steps: Samples = setting(MAX_STEPS)
    through_sections: Samples = setting(3, 5)
    through: Samples = setting(4)
    through_late: Samples = setting(4)
    history: Samples = state("channels", "worn_held")
    worn: Samples = state("channels", kernels.STATES)
    main_ring: Samples = state("channels", "reel_turn")
    post_ring: Samples = state("channels", "reel_turn_twice")
    main_index: Samples = state(1)
    post_index: Samples = state(1)
    through_state: Samples = state("channels", 3, 2)
    line: Samples = scratch("worn_line")
    damage: Samples = scratch(4)
    pre: Samples = scratch("samples")
    post: Samples = scratch("samples")


@inlined
def add_print_through(record: WearRecord, block: Samples) -> None:
    """Add what the neighbouring layers of the reel print into a block, a turn before and a turn behind."""
    pre = block_of(record.pre, block.shape[0], block.shape[1])
    post = block_of(record.post, block.shape[0], block.shape[1])
    main_index, post_index = vector(record.main_index), vector(record.post_index)
    put(pre, block)
    biquads(pre, matrix(record.through_sections), cube(record.through_state))
    put(post, pre)
    post_index[0] = delay(post, matrix(record.post_ring), int(post_index[0]))
    glide(pre, vector(record.through))
    glide(post, vector(record.through_late))
    main_index[0] = delay(block, matrix(record.main_ring), int(main_index[0]))
    add(block, pre)
    add(block, post)


@inlined
def process(record: WearRecord, block: Samples) -> None:
    """The compiled half."""
    if record.turn > 0:
        add_print_through(record, block)
    clock = vector(record.clock)
    here = int(clock[CLOCK_FRAME] - clock[CLOCK_DELAY]) - record.turn - record.centre
    kernels.read_worn(block, here, record.rate, record.centre, vector(record.figures),
                      vector(record.steps)[:record.steps_used], record.attack, record.release, cube(record.table),
                      matrix(record.history), vector(record.line), vector(record.damage), matrix(record.worn))


class WearProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(WearRecord, process)
    in_tempo = True

    def sizes(self, setup: Setup) -> dict[str, int]:
        self._centre = round(_CENTRE_SECONDS * setup.rate) + TAPS
        self.latency = self._centre + setup.lookahead
        held = 2 * self._centre + TAPS
        return {"worn_held": held, "worn_line": held + setup.max_block, "reel_turn": setup.lookahead,
                "reel_turn_twice": 2 * setup.lookahead}

    def make_parts(self, setup: Setup) -> None:
        record = self.record
        record.turn, record.centre, record.rate = setup.lookahead, self._centre, setup.rate
        record.clock, record.table = setup.clock.times, interpolator()
        self._through = [self.ramp(0.0, ramp) for ramp in (record.through, record.through_late)]
        self.reset()

    def reset(self) -> None:
        super().reset()
        self.record.worn[:, kernels.GAIN] = self.record.worn[:, kernels.LETS] = 1.0

    def set(self, values: Values, *, at_once: bool = False) -> None:
        record, rate = self.record, self._setup.rate
        self._values = values
        pattern = drop_pattern(values)
        record.steps_used = pattern.size
        record.steps[:pattern.size] = pattern
        self.follow_tempo(self._setup.clock.tempo)
        ticks = rate / kernels.TICK
        record.attack = 1.0 - math.exp(-2.2 / max(as_number(values["drop_attack_ms"]) * 1e-3 * ticks, 0.3))
        record.release = 1.0 - math.exp(-2.2 / max(as_number(values["drop_release_ms"]) * 1e-3 * ticks, 0.3))
        level = as_number(values["print_through_db"])
        amount = gain(level) if record.turn > 0 and level > PRINT_THROUGH.minimum else 0.0
        for ramp in self._through:
            ramp.go(amount, at_once=at_once)
        record.through_sections = print_through_sections(
            as_number(values["layer_um"]), as_number(values["speed_ips"]), rate)

    def follow_tempo(self, tempo: float) -> None:
        self.record.figures = _figures(self._values, tempo, self._setup.clock.first_beat)


def lookahead(values: Values, rate: float) -> int:
    """Print-through needs to know what lies one turn of the reel ahead."""
    if as_number(values["print_through_db"]) <= PRINT_THROUGH.minimum:
        return 0
    return round(turn_seconds(as_number(values["speed_ips"])) * rate)


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Damage along the time line, and what print-through lets cross."""

    def at(seconds: Samples, tempo: float, first_beat: float) -> tuple[Samples, Samples]:
        loss, octaves = np.zeros(seconds.size), np.zeros(seconds.size)
        figures = _figures(values, tempo, first_beat)
        kernels.along(np.ascontiguousarray(seconds), figures, drop_pattern(values), np.zeros(4), loss, octaves)
        return loss, np.clip(octaves / 5.0, 0.0, 1.0)

    hz = frequency_axis(rate)
    speed, level = as_number(values["speed_ips"]), as_number(values["print_through_db"])
    sections = print_through_sections(as_number(values["layer_um"]), speed, rate)
    shown = 20.0 * np.log10(np.maximum(response(sections, hz, rate), 1e-3))
    title = "Print-through: off" if level <= PRINT_THROUGH.minimum else (
        f"Print-through, {turn_seconds(speed):.2f} s before and after, dB against its top")
    return (Damage("Damage along the loop", at), Plot(title, "response", (Curve("what crosses", hz, shown),)))


PRINT_THROUGH = Number(
    id="print_through_db", label="Print-through", group=Group.NOISE, unit="dB", minimum=-80.0, maximum=-30.0,
    default=-80.0, floor_word="off", automation=Automation.RAMP,
    help="Faint echoes before and after loud sounds, from the neighbouring layers of the reel.")

def _spreads(values: Values) -> bool:
    """Both edges of the tape age or crease apart."""
    return any(values[f"{what}_spread_pct"] != 0.0 for what in ("ageing", "crease"))


WEAR = StageKind(
    kind="wear",
    label="Worn tape",
    glyph=(line((0.05, 0.3), (0.4, 0.3), (0.3, 0.5), (0.45, 0.7), (0.05, 0.7), (0.05, 0.3)),
           line((0.95, 0.3), (0.65, 0.3), (0.55, 0.5), (0.7, 0.7), (0.95, 0.7), (0.95, 0.3))),
    purpose="Ages a tape: dull and unsteady, creased, with holes in its coating and echoes of its neighbours.",
    front=("ageing_pct", "crease_pct", "drop_mode", "drop_density_pct", "drop_depth_db", "print_through_db"),
    neighbours=("motion", "tape"),
    parameters=(
        Option(id="speed_ips", label="Speed", group=Group.MACHINE, default="7.5", unit="ips", numeric=True,
               choices=SPEED_CHOICES,
               help="The tape's speed, which sets how far off and how deep print-through sounds."),
        Number(id="layer_um", label="Layer", group=Group.MACHINE, unit="\u00b5m", minimum=9.0, maximum=60.0,
               default=52.0, decimals=0,
               help="Thickness of the tape: thin, long-playing tape prints through higher up."),
        Number(id="ageing_pct", label="Ageing", group=Group.WEAR, unit="%", minimum=0.0, maximum=100.0, default=30.0,
               decimals=0,
               help="Highs polished off and level unsteady: at 30 % tired, at 100 % played to death."),
        Number(id="ageing_hz", label="Ageing rate", group=Group.WEAR, unit="Hz", minimum=0.05, maximum=5.0,
               default=0.3, taper=Taper.LOG, decimals=2,
               help="How quickly the dullness comes and goes along the tape."),
        Number(id="ageing_spread_pct", label="Ageing spread", group=Group.WEAR, unit="%", minimum=0.0,
               maximum=100.0, default=0.0, decimals=0,
               help="Lets left and right age at different places, so that the picture leans to and fro."),
        Number(id="crease_pct", label="Creases", group=Group.WEAR, unit="%", minimum=0.0, maximum=100.0, default=0.0,
               decimals=0,
               help="Crumpled stretches lose contact: level, highs and pitch stumble for a moment."),
        Number(id="crease_hz", label="Crease rate", group=Group.WEAR, unit="Hz", minimum=0.05, maximum=4.0,
               default=0.4, taper=Taper.LOG, decimals=2,
               help="How often a creased stretch comes by."),
        Number(id="crease_spread_pct", label="Crease spread", group=Group.WEAR, unit="%", minimum=0.0,
               maximum=100.0, default=0.0, decimals=0,
               help="Creases one edge of the tape more than the other, so that left and right stumble apart."),
        Option(id="drop_mode", label="Dropouts", group=Group.DROPOUTS, default="off",
               choices=(Choice("off", "off"), Choice("random", "generated"), Choice("drawn", "drawn")),
               help="Holes in the coating: generated from a seed and corrected by hand, or drawn by hand alone."),
        Number(id="drop_depth_db", label="Depth", group=Group.DROPOUTS, unit="dB", minimum=1.0, maximum=60.0,
               default=18.0,
               help="How much level the deepest step loses; its highs go first."),
        Number(id="drop_density_pct", label="Density", group=Group.DROPOUTS, unit="%", minimum=0.0, maximum=100.0,
               default=15.0, decimals=0,
               help="How many of the generated steps have a hole."),
        Number(id="drop_count", label="Steps", group=Group.DROPOUTS, unit="", minimum=8.0, maximum=float(MAX_STEPS),
               default=32.0, decimals=0, whole=True,
               help="After so many steps the pattern comes round again."),
        Number(id="drop_hz", label="Step rate", group=Group.DROPOUTS, unit="Hz", minimum=0.5, maximum=40.0,
               default=8.0, taper=Taper.LOG, decimals=1,
               help="How many steps go by in a second where they run free."),
        Option(id="drop_note", label="Step sync", group=Group.DROPOUTS, default="free", choices=NOTE_CHOICES,
               help="Locks the steps to the bars: a step lasts so long, in place of its rate."),
        Number(id="drop_attack_ms", label="Attack", group=Group.DROPOUTS, unit="ms", minimum=0.5, maximum=200.0,
               default=4.0, taper=Taper.LOG,
               help="How softly the sound slips into a hole."),
        Number(id="drop_release_ms", label="Release", group=Group.DROPOUTS, unit="ms", minimum=0.5, maximum=500.0,
               default=12.0, taper=Taper.LOG,
               help="How softly the sound comes out of a hole."),
        Number(id="drop_seed", label="Seed", group=Group.DROPOUTS, unit="", minimum=0.0, maximum=999.0, default=1.0,
               decimals=0, whole=True,
               help="Another number is another tape: all damage falls elsewhere."),
        Steps(id="drop_steps", label="Drawn steps", group=Group.DROPOUTS, longest=MAX_STEPS,
              pattern=drop_pattern, step_seconds=step_seconds,
              help="The lane of steps: what is drawn stays where it is drawn, whatever is generated around it."),
        PRINT_THROUGH,
    ),
    spreads=_spreads,
    processor=WearProcessor,
    picture=picture,
    lookahead=lookahead,
    rest={"ageing_pct": 0.0},
)
