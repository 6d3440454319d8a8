"""Wow and flutter: the speed of a transport that varies, alone.  Model: docs/models/motion.md."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.glyphs import wave
from yellow_ember.dsp.kernels import inlined
from yellow_ember.dsp.kernels.motion import soften_attacks
from yellow_ember.dsp.motion import (
    MotionRecord,
    SpeedFigures,
    centre_frames,
    motion_sizes,
    move,
    set_motion,
    set_up_motion,
    speed_curve,
    start_motion,
)
from yellow_ember.dsp.notes import NOTE_CHOICES, beats_of
from yellow_ember.dsp.parameters import Group, Number, Option, Switch, Taper, Values, as_number
from yellow_ember.dsp.record import CompiledHalf, Record, matrix, part, real, state, whole
from yellow_ember.dsp.stage import Curve, Picture, Plot, Processor, Setup, StageKind

_FAST_RISE, _FALL = 0.0002, 0.06
_PICTURE_SECONDS, _PICTURE_RATE = 8.0, 500.0


def _figures(values: Values, tempo: float) -> SpeedFigures:
    """What the settings ask of the transport; beyond what a motor does only where that is allowed."""

    def amount(number: Number) -> float:
        requested = as_number(values[number.id])
        return requested if values["extended"] or number.realistic is None else min(requested, number.realistic)

    wow_hz = as_number(values["wow_hz"])
    if values["wow_note"] != "free":
        wow_hz = tempo / 60.0 / beats_of(str(values["wow_note"]))
    return SpeedFigures(
        wow_pct=amount(WOW), wow_hz=wow_hz, flutter_pct=amount(FLUTTER), flutter_hz=as_number(values["flutter_hz"]),
        drift_pct=amount(DRIFT), scrape_pct=amount(SCRAPE), unsteady=as_number(values["unsteady_pct"]) / 100.0)


class MovingRecord(Record):
    """The moving line, then attacks softened."""

    softens: int = whole()
    fast_rise: float = real()
    slow_rise: float = real()
    fall: float = real()
    motion: MotionRecord = part(MotionRecord)
    followers: Samples = state("channels", 2)


@inlined
def process(record: MovingRecord, block: Samples) -> None:
    """The compiled half."""
    move(record.motion, block)
    if record.softens == 1:
        soften_attacks(block, record.fast_rise, record.slow_rise, record.fall, matrix(record.followers))


class MotionProcessor(Processor):
    """The Python half."""

    compiled = CompiledHalf(MovingRecord, process)
    in_tempo = True

    def sizes(self, setup: Setup) -> dict[str, int]:
        self.latency = setup.lookahead
        return motion_sizes(setup, setup.lookahead)

    def make_parts(self, setup: Setup) -> None:
        set_up_motion(self.record.motion, setup, setup.lookahead)
        self.record.fast_rise, self.record.fall = one_pole(_FAST_RISE, setup.rate), one_pole(_FALL, setup.rate)
        self.reset()

    def reset(self) -> None:
        super().reset()
        start_motion(self.record.motion, self._setup)

    def set(self, values: Values, *, at_once: bool = False) -> None:
        self._values = values
        self.follow_tempo(self._setup.clock.tempo)
        smear = as_number(values["smear_ms"])
        self.record.softens = int(smear > 0.0)
        self.record.slow_rise = one_pole(max(smear / 1000.0, 1e-4), self._setup.rate)

    def follow_tempo(self, tempo: float) -> None:
        set_motion(self.record.motion, _figures(self._values, tempo), self._setup.rate,
                   spread=as_number(self._values["spread_pct"]) / 100.0,
                   level=as_number(self._values["level_pct"]) / 100.0)


def motion_plots(figures: SpeedFigures) -> tuple[Plot, Plot]:
    """Speed over time, and its spectrum."""
    rate, seconds = _PICTURE_RATE, _PICTURE_SECONDS
    curve = 100.0 * speed_curve(figures, seconds + 1.0, rate)[round(rate):]
    time = np.arange(curve.size) / rate
    window = np.hanning(curve.size)
    spectrum = 2.0 * np.abs(np.fft.rfft((curve - curve.mean()) * window)) / window.sum()
    hz: Samples = np.fft.rfftfreq(curve.size, 1.0 / rate).astype(np.float64)
    inside = (hz >= 0.2) & (hz <= 100.0)
    return (Plot("Speed over time", "time", (Curve("speed", time, curve),), x_label="seconds", y_label="%"),
            Plot("Its spectrum", "spectrum", (Curve("speed", hz[inside], spectrum[inside]),), x_label="Hz",
                 y_label="%"))


def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
    """Speed over time, and its spectrum; a rate in notes is drawn at 120 beats a minute."""
    return motion_plots(_figures(values, 120.0))


def lookahead(values: Values, rate: float) -> int:
    """The far-reaching line of the extended range needs a longer delay."""
    return centre_frames(rate, far=bool(values["extended"]))


WOW = Number(
    id="wow_pct", label="Wow", group=Group.MOTION, unit="%", minimum=0.0, maximum=5.0, default=0.08, decimals=2,
    realistic=0.5, taper=Taper.ROOT,
    help="Slow, singing wavering of the pitch, as a weighted peak: 0.1 is a worn machine, 0.5 a broken one.")
FLUTTER = Number(
    id="flutter_pct", label="Flutter", group=Group.MOTION, unit="%", minimum=0.0, maximum=5.0, default=0.05,
    decimals=2, realistic=0.5, taper=Taper.ROOT,
    help="Fast trembling of the pitch, as a weighted peak: it roughens held notes and blurs cymbals.")
DRIFT = Number(
    id="drift_pct", label="Drift", group=Group.MOTION, unit="%", minimum=0.0, maximum=2.0, default=0.05, decimals=2,
    realistic=0.4, taper=Taper.ROOT,
    help="The pitch wanders off and back over many seconds, as motors do that warm up.")
SCRAPE = Number(
    id="scrape_pct", label="Scrape", group=Group.MOTION, unit="%", minimum=0.0, maximum=1.0, default=0.0, decimals=2,
    realistic=0.15, taper=Taper.ROOT,
    help="The tape sings at heads and guides: a grainy haze around bright, held sounds.")

def _spreads(values: Values) -> bool:
    """Left and right move apart."""
    return values["spread_pct"] != 0.0


MOTION = StageKind(
    kind="motion",
    label="Wow and flutter",
    glyph=(wave(0.05, 0.95, 0.35, 0.2, 1.0), wave(0.05, 0.95, 0.75, 0.08, 3.0, 49)),
    purpose="Makes pitch and timing waver as a transport does, from barely alive to seasick.",
    front=("wow_pct", "flutter_pct", "drift_pct", "scrape_pct", "spread_pct"),
    neighbours=("wear", "tape"),
    parameters=(
        WOW,
        Number(id="wow_hz", label="Wow rate", group=Group.MOTION, unit="Hz", minimum=0.4, maximum=6.0, default=0.8,
               taper=Taper.LOG, decimals=2,
               help="How fast the slow wavering goes: a reel turns about once a second, a record a little slower."),
        Option(id="wow_note", label="Wow sync", group=Group.MOTION, default="free", choices=NOTE_CHOICES,
               help="Locks the slow wavering to the tempo: once in so many beats, in place of its rate."),
        FLUTTER,
        Number(id="flutter_hz", label="Flutter rate", group=Group.MOTION, unit="Hz", minimum=3.0, maximum=60.0,
               default=8.0, taper=Taper.LOG, decimals=1,
               help="How fast the trembling goes: a roller at 4 to 8 Hz warbles, a capstan at 20 to 60 Hz rasps."),
        DRIFT,
        SCRAPE,
        Number(id="unsteady_pct", label="Unsteady", group=Group.MOTION, unit="%", minimum=0.0, maximum=100.0,
               default=25.0, decimals=0,
               help="How irregular it all is: at 0 a machine-like vibrato, higher sounds worn and human."),
        Number(id="spread_pct", label="Spread", group=Group.MOTION, unit="%", minimum=0.0, maximum=100.0,
               default=0.0, decimals=0,
               help="Lets left and right waver apart, which widens the sound and lets its middle swim."),
        Switch(id="extended", label="Extended range", group=Group.MOTION, default=False,
               help="Allows more than any motor does, for sound design; it also needs a longer delay."),
        Number(id="level_pct", label="Level moves", group=Group.WEAR, unit="%", minimum=0.0, maximum=100.0,
               default=0.0, decimals=0,
               help="The level moves along with the speed, as where a tape does not lie flat."),
        Number(id="smear_ms", label="Smear", group=Group.WEAR, unit="ms", minimum=0.0, maximum=30.0, default=0.0,
               floor_word="off",
               help="Softens attacks, so that hits and plucks lose their edge."),
    ),
    spreads=_spreads,
    processor=MotionProcessor,
    picture=picture,
    lookahead=lookahead,
    wavers=True,
    rest={"wow_pct": 0.0, "flutter_pct": 0.0, "drift_pct": 0.0, "scrape_pct": 0.0},
)
