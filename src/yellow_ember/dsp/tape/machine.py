"""The machine around the tape: decks, track widths, and what a set of settings makes of them.

Settings of bias, level and shelves count from the aligned machine, so that a machine in line
needs none.  `moved_by` tells what a change of stock, speed, standard, width or deck means for
the machine's real adjustments.
"""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.filters import linear_phase
from yellow_ember.dsp.motion import SpeedFigures
from yellow_ember.dsp.parameters import Value, Values, as_number, as_number_or, as_pair
from yellow_ember.dsp.tape.model import (
    FILTER_BINS,
    IPS,
    STANDARDS,
    STOCK_BY_ID,
    TOP_HZ,
    Standard,
    Stock,
    field_for,
    field_offset,
    head_losses,
    record_equalisation,
    record_losses,
    remanence,
    top_roll_off,
)
from yellow_ember.dsp.transformers import transformer_core


@dataclass(frozen=True, slots=True)
class Deck:
    """One of the transports, its heads and its electronics.

    bump_hz at 15 ips, in proportion to speed; bump_db, dip_db : rise there, dip an octave above

    Attributes
    ----------
    top : float
        Factor on where the highs give up.
    gap_um, spacing_um : float
        Of the replay head.
    heads_mm : float
        From record to replay head.
    worn : float
        0 a good transport, 1 a poor one.
    capstan_mm : float
        Diameter.
    iron : float
        Flux of its transformers, 1 middling hum_db against operating level.
    crosstalk_db : float
        Better or worse than the width has.
    azimuth_arcmin, spread : float
        Error of its heads, and how far its channels differ, 1 middling.
    narrow_gap_um : float | None
        Of the replay head of a machine that is made for the slowest speeds as well, at those.
    second_db : float
        Second harmonic at operating level, from heads that are magnetised and a bias whose halves differ.
    """

    id: str
    label: str
    bump_hz: float
    bump_db: float
    dip_db: float
    top: float
    gap_um: float
    spacing_um: float
    heads_mm: float
    worn: float
    capstan_mm: float
    iron: float
    hum_db: float
    crosstalk_db: float
    azimuth_arcmin: float
    spread: float
    second_db: float
    narrow_gap_um: float | None = None

    def gap_at(self, speed_ips: float) -> float:
        """The replay head's gap in um."""
        return self.gap_um if self.narrow_gap_um is None or speed_ips > _NARROW_IPS else self.narrow_gap_um

    def record_to_play_seconds(self, speed_ips: float) -> float:
        """Time between the heads: one distance, so time times speed is constant."""
        return self.heads_mm * 1e-3 / (speed_ips * IPS)


_NARROW_IPS = 1.875
_LOST = 0.0086
"""Share of the flux at 0 VU and 40 Hz that middling iron takes: each of two transformers."""

DECKS = (
    Deck("first-mate", "First Mate (studio workhorse)", 58.0, 1.6, 0.9, 1.0, 3.0, 0.4, 51.0, 0.25, 12.0,
         iron=1.0, hum_db=-66.0, crosstalk_db=0.0, azimuth_arcmin=0.6, spread=1.0, second_db=-70.0),
    Deck("pilot", "Pilot (late, clean)", 44.0, 1.2, 0.8, 1.1, 2.0, 0.3, 40.0, 0.0, 16.0,
         iron=0.35, hum_db=-74.0, crosstalk_db=-4.0, azimuth_arcmin=0.3, spread=0.5, second_db=-73.5),
    Deck("stoker", "Stoker (valves and iron)", 72.0, 2.4, 1.4, 0.9, 5.0, 0.6, 64.0, 0.6, 10.0,
         iron=2.2, hum_db=-58.0, crosstalk_db=3.0, azimuth_arcmin=1.2, spread=1.6, second_db=-66.5),
    Deck("purser", "Purser (reporter's portable)", 80.0, 1.5, 1.0, 0.92, 3.5, 0.5, 33.0, 0.45, 6.0,
         iron=1.4, hum_db=-70.0, crosstalk_db=2.0, azimuth_arcmin=1.0, spread=1.2, second_db=-69.0, narrow_gap_um=1.1),
    Deck("cabin", "Cabin (home machine)", 66.0, 2.1, 1.2, 0.87, 4.5, 0.9, 46.0, 1.0, 5.0,
         iron=0.8, hum_db=-54.0, crosstalk_db=6.0, azimuth_arcmin=2.5, spread=2.2, second_db=-67.0, narrow_gap_um=1.3),
)
DECK_BY_ID = {deck.id: deck for deck in DECKS}


@dataclass(frozen=True, slots=True)
class Width:
    """track_mm : width of one of two tracks; apart_mm : between their middles; crosstalk_db at 1 kHz"""

    track_mm: float
    apart_mm: float
    crosstalk_db: float


WIDTHS = {"quarter": Width(2.0, 4.2, -51.0), "half": Width(5.0, 7.5, -55.0), "inch": Width(11.0, 13.5, -59.0)}

_TOGETHER = {30.0: 1.19, 15.0: 1.16, 7.5: 1.17, 3.75: 1.145, 1.875: 1.115}
"""What wow, flutter, drift and scrape read together in the shares below, over the whole; by speed in ips."""
_FIGURES = {30.0: (0.03, 0.08), 15.0: (0.04, 0.10), 7.5: (0.06, 0.15), 3.75: (0.10, 0.25), 1.875: (0.12, 0.35)}
"""Weighted peak in % of a good and a poor transport by speed, IEC 60386."""
_PACK_RADIUS = {1.875: 0.011, 3.75: 0.025, 7.5: 0.045, 15.0: 0.09, 30.0: 0.12}
"""Radius in m of a reel's pack at the session's start."""
_TAPE_THICKNESS = 52e-6


def standard_in_use(speed_ips: float, name: str) -> str:
    """The standard that holds at a speed; where the named one does not exist, the usual one."""
    if (speed_ips, name) in STANDARDS:
        return name
    return "aes" if speed_ips == 30.0 else "iec"


def width_in_use(speed_ips: float, name: str) -> str:
    """The tape's width at a speed: the narrow speeds exist on quarter-inch tape only."""
    return "quarter" if speed_ips < 7.5 else name


_MISMATCH = {"bias_db": (0.35, -0.30), "record_db": (0.15, -0.20), "play_high_db": (-0.40, 0.30),
             "play_db": (0.10, -0.10)}
"""By how many dB left and right of a middling machine stray."""


@dataclass(frozen=True, slots=True)
class Heads:
    """All that the replay side's response depends on, but for bias; a key for what is worth keeping.

    gap_um, spacing_um, azimuth in minutes of arc, coating in m : as set, perhaps not as the deck is lined up for
    """

    stock: Stock
    speed: float
    standard: Standard
    deck: Deck
    width: Width
    sync: bool
    gap_um: float
    spacing_um: float
    azimuth: float
    coating: float
    roll_off_hz: float

    def off_tape(self, hz: Samples, bias_db: float) -> Samples:
        """Magnitude of what the tape and the heads lose, record and replay."""
        losses = record_losses(hz, self.coating, self.speed, bias_db)
        return losses * head_losses(hz, self.speed, self.gap_um, self.spacing_um, self.azimuth, self.width.track_mm)

    def play_amplifier(self, hz: Samples) -> Samples:
        """Magnitude of the replay equalisation, which takes back what the stock and the deck's own heads lose."""
        own = head_losses(hz, self.speed, self.deck.gap_at(self.speed), self.deck.spacing_um, 0.0, self.width.track_mm)
        lost = record_losses(hz, self.stock.coating, self.speed, 0.0) * np.maximum(own, 0.1)
        top = top_roll_off(hz, self.roll_off_hz)
        if self.sync:
            # The record head's gap is wide, and its own amplifier stops early.
            top = top / np.sqrt(1.0 + (hz / (7000.0 * math.sqrt(self.speed / 15.0))) ** 4)
        return top / (lost * record_equalisation(hz, self.stock, self.speed, self.standard))

    def replay(self, hz: Samples, bias_db: float) -> Samples:
        """Magnitude of all that follows the recording."""
        return self.off_tape(hz, bias_db) * self.play_amplifier(hz)


@functools.lru_cache(maxsize=1024)
def replay_filter(heads: Heads, bias_db: float, rate: float, taps: int) -> Samples:
    """Symmetric FIR of all that follows the recording."""
    return linear_phase(heads.replay(np.linspace(0.0, rate / 2.0, FILTER_BINS), bias_db), taps)


@dataclass(frozen=True, slots=True, eq=False)
class Machine:
    """A machine as set.  Pairs are left and right."""

    stock: Stock
    speed: float
    standard: Standard
    width: Width
    deck: Deck
    operating_nwb: float
    values: Values
    spread: float

    def pair(self, name: str) -> tuple[float, float]:
        """A setting that may differ per channel, with the machine's own mismatch on it."""
        left, right = as_pair(self.values[name])
        stray = _MISMATCH.get(name, (0.0, 0.0))
        return left + self.spread * stray[0], right + self.spread * stray[1]

    @property
    def gap_um(self) -> float:
        return as_number_or(self.values["gap_um"], self.deck.gap_at(self.speed))

    @property
    def spacing_um(self) -> float:
        return as_number_or(self.values["spacing_um"], self.deck.spacing_um)

    @property
    def roll_off_hz(self) -> float:
        """Where the replay electronics give up."""
        return as_number_or(self.values["rolloff_hz"], self.deck.top * TOP_HZ[self.speed])

    @property
    def coating(self) -> float:
        """In m."""
        set_um = self.values["coating_um"]
        return self.stock.coating if set_um is None else as_number(set_um) * 1e-6

    @property
    def azimuth(self) -> float:
        """In minutes of arc."""
        return as_number(self.values["azimuth_arcmin"]) + self.spread * self.deck.azimuth_arcmin

    @property
    def field(self) -> float:
        """Field over coercivity (peak) that records operating level."""
        return field_for(self.stock, self.operating_nwb)

    @property
    def flux(self) -> float:
        """Magnetisation over saturation at operating level."""
        return self.stock.magnetisation(self.operating_nwb)

    @property
    def own(self) -> bool:
        """True where faults that are not set are those that the machine really has."""
        return bool(self.values["own_faults"])

    def fault(self, name: str, own: float, none: float) -> float:
        """A fault as set; left to the machine, its own one where those are switched on."""
        return as_number_or(self.values[name], own if self.own else none)

    def record_amplifier(self, hz: Samples) -> Samples:
        """Magnitude of the record equalisation."""
        return record_equalisation(hz, self.stock, self.speed, self.standard)

    @property
    def heads(self) -> Heads:
        """What the way from tape to replay amplifier depends on, but for bias."""
        return Heads(self.stock, self.speed, self.standard, self.deck, self.width, self.values["monitor"] == "sync",
                     self.gap_um, self.spacing_um, self.azimuth, self.coating, self.roll_off_hz)

    def off_tape(self, hz: Samples, bias_db: float) -> Samples:
        """Magnitude of what the tape and the heads lose, record and replay."""
        return self.heads.off_tape(hz, bias_db)

    def play_amplifier(self, hz: Samples) -> Samples:
        """Magnitude of the replay equalisation, which takes back what this stock and these heads lose."""
        return self.heads.play_amplifier(hz)

    def replay(self, hz: Samples, bias_db: float) -> Samples:
        """Magnitude of all that follows the recording; flat with the record equalisation in line."""
        return self.heads.replay(hz, bias_db)

    def speed_figures(self) -> SpeedFigures:
        """The transport's motion: the reel wows, the capstan flutters, both drift."""
        good, poor = _FIGURES[self.speed]
        whole = good * (poor / good) ** self.deck.worn / _TOGETHER[self.speed]
        metres = self.speed * IPS
        radius = _PACK_RADIUS[self.speed]
        return SpeedFigures(
            wow_pct=self.fault("wow_pct", 0.7 * whole, 0.0), wow_hz=metres / (2.0 * math.pi * radius),
            flutter_pct=self.fault("flutter_pct", 0.7 * whole, 0.0),
            flutter_hz=min(max(metres / (math.pi * self.deck.capstan_mm * 1e-3), 3.0), 60.0),
            drift_pct=self.fault("drift_pct", 1.2 * whole, 0.0), scrape_pct=self.fault("scrape_pct", 0.5 * whole, 0.0),
            unsteady=0.3, pack_growth=metres * _TAPE_THICKNESS / math.pi / radius**2)

    def offset(self, bias_db: float) -> tuple[float, float]:
        """What is added to the record field of a machine that is worn, and what that alone leaves."""
        if not self.own:
            return 0.0, 0.0
        added = field_offset(self.stock, self.operating_nwb, self.deck.second_db)
        return added, float(remanence(np.array([added]), self.stock, bias_db)[0])

    def crosstalk_db(self) -> float:
        return self.fault("crosstalk_db", self.width.crosstalk_db + self.deck.crosstalk_db, -math.inf)

    def core(self, rate: float) -> Samples:
        """The deck's transformers for `kernels.electronics.transformer`."""
        return transformer_core(_LOST * self.deck.iron, rate)

    def linked_db(self) -> float:
        """What linked playback gives back for the level that the tape holds down, at programme level.

        A programme of Gaussian amplitude 6 dB under operating level; what the curve makes of it
        against the same recorded far lower (Bussgang's gain).
        """
        record = float(np.mean(self.pair("record_db")))
        bias = round(as_pair(self.values["bias_db"])[0] / _HELD_GRID) * _HELD_GRID
        return float(np.interp(record, _HELD_AT, _held_down_db(self.stock, self.field, bias)))


_NODES, _WEIGHTS = np.polynomial.hermite_e.hermegauss(24)
_PROGRAMME = gain(-6.0) * math.sqrt(0.5)
_HELD_AT: Samples = np.linspace(-24.0, 24.0, 33)
_HELD_GRID = 0.25


@functools.cache
def _held_down_db(stock: Stock, field: float, bias_db: float) -> Samples:
    """By how many dB the curve holds a programme down at each of `_HELD_AT`."""
    levels = field * _PROGRAMME * 10.0 ** (np.append(0.0, _HELD_AT)[:, None] / 20.0)
    slopes = np.sum(_WEIGHTS * _NODES * remanence(_NODES * levels, stock, bias_db), axis=1) / levels[:, 0]
    return db(slopes[0]) - db(slopes[1:])


def machine(values: Values) -> Machine:
    """The machine that full, checked settings describe."""
    speed = as_number(values["speed_ips"])
    stock = STOCK_BY_ID[str(values["stock"])]
    requested = str(values["operating_nwb"])
    own = 1.0 if values["own_faults"] else 0.0
    deck = DECK_BY_ID[str(values["deck"])]
    set_spread = values["channel_spread_pct"]
    spread = (own if set_spread is None else as_number(set_spread) / 100.0) * deck.spread
    return Machine(
        stock, speed, STANDARDS[speed, standard_in_use(speed, str(values["standard"]))],
        WIDTHS[width_in_use(speed, str(values["width"]))], deck,
        stock.operating_nwb if requested == "stock" else float(requested), values, spread)


ALIGNMENT = ("bias_db", "record_low_db", "record_high_db", "play_low_db", "play_high_db")
"""What line-up sets besides the two levels and azimuth."""
_MACHINE = ("stock", "speed_ips", "standard", "width", "deck")
MAX_BIAS, MAX_SHELF = 6.0, 10.0
_STAY = (("bias_db", MAX_BIAS), ("record_high_db", MAX_SHELF), ("play_high_db", MAX_SHELF))
_TEN_KHZ = np.array([10000.0])


def _adjustments(made: Machine) -> dict[str, float]:
    """Where the machine's real adjustments stand, in dB on a common scale, when it is in line."""
    stock = made.stock
    return {
        "bias_db": stock.bias_over_hc_db + 20.0 * math.log10(stock.coercivity),
        "record_high_db": float(db(made.record_amplifier(_TEN_KHZ))[0]),
        "play_high_db": float(db(made.play_amplifier(_TEN_KHZ))[0]),
        "record_db": 20.0 * math.log10(made.field * stock.coercivity),
    }


_WORDS = {"bias_db": "bias", "record_high_db": "record highs", "play_high_db": "playback highs",
          "record_db": "record level"}


def follow(old: Values, new: Values) -> tuple[Values, str]:
    """What else moves when settings change, and a sentence that says so.

    Another stock, speed, standard, width or deck: with line-up on auto the machine is aligned to
    it; on manual its adjustments stay, and so are off for what is on it now.
    """
    speed = as_number(new["speed_ips"])
    standard, width = standard_in_use(speed, str(new["standard"])), width_in_use(speed, str(new["width"]))
    forced = []
    if standard != new["standard"]:
        forced.append(standard.upper())
    if width != new["width"]:
        forced.append("quarter-inch tape")
    new = {**new, "standard": standard, "width": width}
    notes = [f"at {speed:g} ips there is {' on '.join(forced)}"] if forced else []
    if new["line_up"] == "auto" and old["line_up"] != "auto":
        notes.append("lined up: " + (_list(_shifts(new, dict.fromkeys(ALIGNMENT, 0.0))) or "nothing was off"))
        new = {**new, **dict.fromkeys(ALIGNMENT, 0.0)}
    if any(old[name] != new[name] for name in _MACHINE):
        before, after = _adjustments(machine(old)), _adjustments(machine(new))
        moved = {name: after[name] - before[name] for name in before}
        shifts = [(name, moved[name]) for name in moved if abs(moved[name]) >= 0.05]
        name = machine(new).stock.id.capitalize()
        if new["line_up"] == "auto":
            notes.append(f"lined up for {name}: {_list(shifts) or 'nothing had to move'}")
        else:
            new = {**new, **{key: _nudged(new[key], -moved[key], most) for key, most in _STAY}}
            left = [(key, -by) for key, by in shifts if key != "record_db"]
            notes.append(f"not lined up for {name}: off by {_list(left) or 'nothing'}")
    sentence = "; ".join(notes)
    return new, sentence[:1].upper() + sentence[1:]


def _shifts(values: Values, to: dict[str, float]) -> list[tuple[str, float]]:
    return [(name, to[name] - float(np.mean(as_pair(values[name])))) for name in to
            if as_pair(values[name]) != (to[name], to[name])]


def _list(shifts: list[tuple[str, float]]) -> str:
    return ", ".join(f"{_WORDS.get(name, name.removesuffix('_db').replace('_', ' '))} {by:+.1f} dB"
                     for name, by in shifts)


def _nudged(value: Value, by: float, most: float) -> Value:
    """A setting moved within its range."""
    left, right = (min(max(side + by, -most), most) for side in as_pair(value))
    return left if left == right else (left, right)
