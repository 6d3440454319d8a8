"""Tape machine: its settings and its picture.  What runs is in `dsp/tape/processor.py`; model: docs/models/tape.md."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.filters import (
    high_shelf,
    low_shelf,
    response,
)
from yellow_ember.dsp.glyphs import arc, line
from yellow_ember.dsp.motion import motor_lookahead
from yellow_ember.dsp.parameters import (
    Automation,
    Choice,
    Group,
    Number,
    Option,
    Switch,
    Taper,
    Values,
)
from yellow_ember.dsp.stage import Curve, Offer, Picture, Plot, Reels, StageKind, frequency_axis
from yellow_ember.dsp.tape.machine import DECKS, MAX_BIAS, MAX_SHELF, Machine, follow, machine
from yellow_ember.dsp.tape.model import (
    IPS,
    SPEED_CHOICES,
    STOCKS,
    remanence,
)
from yellow_ember.dsp.tape.processor import (
    MAX_CUT_HZ,
    MIN_CUT_HZ,
    SHELF_HIGH_HZ,
    SHELF_LOW_HZ,
    SILENT_DB,
    SILENT_MODULATION_DB,
    TapeProcessor,
    bump_sections,
)
from yellow_ember.dsp.tone_around import LEAN_PARAMETERS


def _lookahead(values: Values, rate: float) -> int:
    """A motor that can be slowed reads between two samples, and sees some beyond them."""
    return motor_lookahead(slows=bool(values["slows"]))


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
    field = np.linspace(-4.0, 4.0, 161)
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

_AUTO = "auto"


def _shelf(name: str, label: str, help_text: str) -> Number:
    return Number(id=name, label=label, group=Group.TONE, unit="dB", minimum=-MAX_SHELF, maximum=MAX_SHELF,
                  default=0.0, per_channel=True, help=help_text)


def _fault(name: str, label: str, most: float, realistic: float, help_text: str) -> Number:
    return Number(id=name, label=label, group=Group.MOTION, unit="%", minimum=0.0, maximum=most, default=None,
                  decimals=2, taper=Taper.ROOT, realistic=realistic, unset_word=_AUTO, help=help_text)


HUM = Number(
    id="hum_db", label="Hum", group=Group.NOISE, unit="dB", minimum=SILENT_DB, maximum=-20.0, default=None,
    floor_word="off", unset_word=_AUTO, automation=Automation.RAMP,
    help="Mains hum below operating level, with the harmonics that a supply leaves.")
CROSSTALK = Number(
    id="crosstalk_db", label="Crosstalk", group=Group.NOISE, unit="dB", minimum=SILENT_DB, maximum=-20.0, default=None,
    floor_word="off", unset_word=_AUTO,
    help="How much of each channel leaks into the other at 1 kHz; it leaks more in the bass.")
MODULATION = Number(
    id="mod_noise_db", label="Modulation noise", group=Group.NOISE, unit="dB", minimum=SILENT_MODULATION_DB,
    maximum=-30.0, default=None, floor_word="off", unset_word=_AUTO,
    help="Noise that rides on the sound and vanishes with it: a grain around held notes.")

TAPE = StageKind(
    kind="tape",
    label="Tape machine",
    glyph=(arc(0.25, 0.4, 0.2), arc(0.75, 0.4, 0.2), line((0.1, 0.85), (0.9, 0.85))),
    purpose="Glues, thickens and softens a sound as a studio tape machine does, from barely there to soaked.",
    front=("stock", "speed_ips", "standard", "bias_db", "record_db", "play_db", "lean_db", "clean_lows_hz"),
    neighbours=("comp", "eq", "wear"),
    varied=("stock", "speed_ips", "bias_db"),
    lean="lean_db",
    remedies={"boom": ("clean_lows_hz",), "crowd": ("lean_db",), "hiss": ("hiss", "high_cut_hz")},
    compensates=lambda values: values["link_levels"] is True,
    offers=frozenset({Offer.LINE_UP}),
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
        Number(id="bias_db", label="Bias", group=Group.MACHINE, unit="dB", minimum=-MAX_BIAS, maximum=MAX_BIAS,
               default=0.0, per_channel=True,
               help="Under-bias is brighter and grittier, over-bias is darker and smoother."),
        Number(id="record_db", label="Record level", group=Group.DRIVE, unit="dB", minimum=-24.0,
               maximum=24.0, default=0.0, automation=Automation.RAMP, per_channel=True,
               help="How hard the tape is driven: more is denser, rounder and more distorted."),
        Option(id="operating_nwb", label="Operating level", group=Group.DRIVE, default="stock",
               choices=(Choice("stock", "auto"), *(Choice(str(level), f"{level} nWb/m")
                                                          for level in (185, 250, 320, 355, 510))),
               help="The flux that 0 VU records: higher keeps above the hiss and distorts earlier."),
        Number(id="squash_pct", label="Squash", group=Group.DRIVE, unit="%", minimum=0.0, maximum=100.0, default=0.0,
               decimals=0, floor_word="off",
               help="How much more than the tape itself the machine holds peaks down."),
        Number(id="recover_ms", label="Recovery", group=Group.DRIVE, unit="ms", minimum=10.0, maximum=1000.0,
               default=120.0, taper=Taper.LOG, decimals=0,
               help="How fast the squash lets go: short pumps and thickens, long only leans on the level."),
        *LEAN_PARAMETERS,
        Number(id="low_cut_hz", label="Low cut", group=Group.DRIVE, unit="Hz", minimum=MIN_CUT_HZ, maximum=500.0,
               default=MIN_CUT_HZ, taper=Taper.LOG, decimals=0, floor_word="off",
               help="Keeps what lies below off the tape."),
        Number(id="high_cut_hz", label="High cut", group=Group.DRIVE, unit="Hz", minimum=1000.0, maximum=MAX_CUT_HZ,
               default=MAX_CUT_HZ, taper=Taper.LOG, decimals=0, top_word="off",
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
               default=None, unset_word=_AUTO,
               help="The replay head's slit: wider swallows the highs, from the top down."),
        Number(id="rolloff_hz", label="Roll-off", group=Group.HEADS, unit="Hz", minimum=2000.0, maximum=30000.0,
               default=None, taper=Taper.LOG, decimals=0, unset_word=_AUTO,
               help="Where the replay electronics give up: lower rounds the top off, as tired machines do."),
        Number(id="spacing_um", label="Spacing", group=Group.HEADS, unit="\u00b5m", minimum=0.0, maximum=20.0,
               default=None, unset_word=_AUTO,
               help="Dirt between tape and head: the sound goes dull, the more the higher it is."),
        Number(id="coating_um", label="Coating", group=Group.HEADS, unit="\u00b5m", minimum=2.0, maximum=30.0,
               default=None, unset_word=_AUTO,
               help="Thickness of the magnetic coat: thicker weighs towards the lows."),
        Number(id="azimuth_arcmin", label="Azimuth", group=Group.HEADS, unit="'", minimum=-30.0, maximum=30.0,
               default=0.0,
               help="Tilt of the replay head in minutes of arc: highs go, and left and right drift apart."),
        _fault("wow_pct", "Wow", 0.5, 0.35, "Slow wavering of the pitch from the reels, as a weighted peak."),
        _fault("flutter_pct", "Flutter", 0.5, 0.35, "Fast trembling of the pitch from the capstan, as weighted peak."),
        _fault("drift_pct", "Drift", 1.0, 0.4, "The speed wanders off and back over many seconds."),
        _fault("scrape_pct", "Scrape", 0.5, 0.15, "The tape sings at guides and heads: a haze around bright sounds."),
        Switch(id="slows", label="Motor can slow", group=Group.MOTION, default=False,
               help="Lets the motor be slowed: draw its speed in time, and the pitch bends down with it."),
        Number(id="motor_pct", label="Motor speed", group=Group.MOTION, unit="%", minimum=0.0, maximum=100.0,
               default=100.0, decimals=0, automation=Automation.RAMP,
               help="How fast the motor pulls: drawn down to 0 the tape stops; back at 100 it is in step again."),
        Switch(id="own_faults", label="Wear of the transport", group=Group.MOTION, default=False,
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
               default=None, decimals=0, unset_word=_AUTO,
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
    lookahead=_lookahead,
    drive="record_db",
    tone="bias_db",
    makeup="play_db",
    nonlinear=True,
    comfort_db=(-10.0, 6.0),
)
