"""The amps' circuits as parts lists, and what follows from them.  Model: docs/models/amp.md."""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.curves import cubic_between, even_cells, with_sums
from yellow_ember.dsp.filters import one_pole
from yellow_ember.dsp.kernels import amp as kernels
from yellow_ember.dsp.speakers import Speaker

CELLS = 512
_GRID_VOLTS = (-12.0, 4.0)
_SPLITTER_VOLTS = (-60.0, 60.0)
_VALVE_VOLTS = (-120.0, 40.0)
_WANTED = (-12.0, 12.0)
_SPLITTER_TAIL = (470.0, 22e3)
_SPLITTER_PLATES = (82e3, 100e3)


@dataclass(frozen=True, slots=True, kw_only=True)
class Triode:
    """A common-cathode stage: plate and cathode resistors in ohms, the cathode's capacitor in farads (0 for none)."""

    plate: float
    cathode: float
    bypass: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class ToneStack:
    """Resistors of the treble, bass and middle controls and the slope resistor in ohms, capacitors in farads."""

    treble: float
    bass: float
    middle: float
    slope: float
    c1: float
    c2: float
    c3: float

    def equation(self, low: float, mid: float, high: float) -> tuple[Samples, Samples]:
        """Numerator and denominator (4,) in ascending powers of s, for controls from 0 to 1.

        Yeh and Smith, on discretising a passive tone stack, DAFx 2006.
        """
        r1, r2, r3, r4 = self.treble, self.bass, self.middle, self.slope
        c1, c2, c3 = self.c1, self.c2, self.c3
        t, m, k = high, mid, low
        b1 = t * c1 * r1 + m * c3 * r3 + k * (c1 + c2) * r2 + (c1 + c2) * r3
        b2 = (t * (c1 * c2 + c1 * c3) * r1 * r4 - m * m * (c1 + c2) * c3 * r3 * r3
              + m * (c1 * c3 * r1 * r3 + (c1 + c2) * c3 * r3 * r3)
              + k * (c1 * c2 * r1 * r2 + c1 * c2 * r2 * r4 + c1 * c3 * r2 * r4)
              + k * m * (c1 + c2) * c3 * r2 * r3 + c1 * c2 * r1 * r3 + c1 * c2 * r3 * r4 + c1 * c3 * r3 * r4)
        all_c = c1 * c2 * c3
        b3 = all_c * (k * m * (r1 + r4) * r2 * r3 - m * m * (r1 + r4) * r3 * r3 + m * (r1 + r4) * r3 * r3
                      + t * r1 * r3 * r4 - t * m * r1 * r3 * r4 + t * k * r1 * r2 * r4)
        a1 = c1 * r1 + (c1 + c2) * r3 + (c2 + c3) * r4 + m * c3 * r3 + k * (c1 + c2) * r2
        a2 = (m * (c1 * c3 * r1 * r3 - c2 * c3 * r3 * r4 + (c1 + c2) * c3 * r3 * r3)
              + k * m * (c1 + c2) * c3 * r2 * r3 - m * m * (c1 + c2) * c3 * r3 * r3
              + k * (c1 * c2 * r2 * r4 + c1 * c2 * r1 * r2 + c1 * c3 * r2 * r4 + c2 * c3 * r2 * r4)
              + c1 * c2 * r1 * r4 + c1 * c3 * r1 * r4 + c1 * c2 * r3 * r4 + c1 * c2 * r1 * r3
              + c1 * c3 * r3 * r4 + c2 * c3 * r3 * r4)
        a3 = all_c * (k * m * (r1 + r4) * r2 * r3 - m * m * (r1 + r4) * r3 * r3
                      + m * (r3 * r3 * r4 + r1 * r3 * r3 - r1 * r3 * r4) + k * r1 * r2 * r4 + r1 * r3 * r4)
        return np.array([0.0, b1, b2, b3]), np.array([1.0, a1, a2, a3])

    def section(self, low: float, mid: float, high: float, rate: float) -> Samples:
        """b0...b3 a1...a3 at a sample rate, by the bilinear transform."""
        b, a = self.equation(low, mid, high)
        c = 2.0 * rate
        # Powers of (1 - z) and (1 + z) that stand for s^k (1 + z)^3.
        powers = np.array([[1, 3, 3, 1], [1, 1, -1, -1], [1, -1, -1, 1], [1, -3, 3, -1]], dtype=float)
        scale = c ** np.arange(4.0)
        top, bottom = (b * scale) @ powers, (a * scale) @ powers
        return np.asarray(np.concatenate((top, bottom[1:])) / bottom[0])


@dataclass(frozen=True, slots=True, kw_only=True)
class PowerStage:
    """Push-pull output: supply in volts, load of one half in ohms, grid bias in volts, the valves' constants
    mu, ex, kg, kp, kvb (Koren, Glass Audio 8(5), 1996), feedback as a share of the plate swing, the
    supply's source resistance in ohms, the plates' own resistance over the load, flux of the output transformer (1
    middling)."""

    supply: float
    load: float
    bias: float
    valve: tuple[float, float, float, float, float]
    feedback: float
    source: float
    plates: float = 5.0
    iron: float = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Voice:
    """One amp.

    Attributes
    ----------
    volts : float
        At the input for 0 dBFS.
    coupling : tuple[float, float]
        Capacitors in front of both triodes, in farads.
    grid_hz : tuple[float, float, float]
        Corners of the grids' capacitances.
    stack_loss : float
        What stands between tone stack and splitter.
    bright : float
        The bright switch's capacitor in farads.
    """

    id: str
    label: str
    volts: float
    first: Triode
    second: Triode
    coupling: tuple[float, float]
    grid_hz: tuple[float, float, float]
    bright: float
    tone: ToneStack
    stack_loss: float
    power: PowerStage
    level_db: float = 0.0


_SMALL = (9.0, 1.35, 1500.0, 45.0, 14.0)
_BEAM = (8.7, 1.35, 1460.0, 48.0, 12.0)
_PENTODE = (11.0, 1.35, 650.0, 60.0, 24.0)

VOICES = (
    Voice(id="clean", label="Clean", volts=1.5, first=Triode(plate=100e3, cathode=1500.0, bypass=25e-6),
          second=Triode(plate=100e3, cathode=1500.0, bypass=25e-6), coupling=(22e-9, 47e-9),
          grid_hz=(16e3, 9e3, 10e3), bright=120e-12,
          tone=ToneStack(treble=250e3, bass=250e3, middle=10e3, slope=100e3, c1=250e-12, c2=100e-9, c3=47e-9),
          stack_loss=0.13, level_db=8.0,
          power=PowerStage(supply=440.0, load=1050.0, bias=-46.0, valve=_BEAM, feedback=0.008, source=60.0, plates=4.0,
                           iron=0.7)),
    Voice(id="edge", label="Edge", volts=1.2, first=Triode(plate=220e3, cathode=1500.0, bypass=25e-6),
          second=Triode(plate=220e3, cathode=1500.0, bypass=25e-6), coupling=(10e-9, 22e-9),
          grid_hz=(16e3, 10e3, 12e3), bright=100e-12,
          tone=ToneStack(treble=500e3, bass=1e6, middle=10e3, slope=100e3, c1=120e-12, c2=22e-9, c3=22e-9),
          stack_loss=0.11, level_db=-11.4,
          power=PowerStage(supply=320.0, load=1900.0, bias=-15.0, valve=_SMALL, feedback=0.0008, source=220.0,
                           plates=3.0, iron=1.2)),
    Voice(id="crunch", label="Crunch", volts=1.6, first=Triode(plate=100e3, cathode=2700.0, bypass=0.68e-6),
          second=Triode(plate=100e3, cathode=820.0, bypass=0.68e-6), coupling=(22e-9, 22e-9),
          grid_hz=(17e3, 9e3, 12e3), bright=470e-12,
          tone=ToneStack(treble=250e3, bass=1e6, middle=25e3, slope=33e3, c1=470e-12, c2=22e-9, c3=22e-9),
          stack_loss=0.115, level_db=4.0,
          power=PowerStage(supply=450.0, load=850.0, bias=-36.0, valve=_PENTODE, feedback=0.008, source=110.0)),
    Voice(id="lead", label="Lead", volts=4.0, first=Triode(plate=100e3, cathode=1800.0, bypass=1e-6),
          second=Triode(plate=120e3, cathode=1800.0, bypass=0.47e-6), coupling=(4.7e-9, 2.2e-9),
          grid_hz=(14e3, 8e3, 12e3), bright=220e-12,
          tone=ToneStack(treble=250e3, bass=500e3, middle=25e3, slope=47e3, c1=470e-12, c2=22e-9, c3=22e-9),
          stack_loss=0.12,
          power=PowerStage(supply=460.0, load=850.0, bias=-38.0, valve=_PENTODE, feedback=0.01, source=70.0)),
    Voice(id="bass", label="Bass", volts=2.0, first=Triode(plate=100e3, cathode=1500.0, bypass=50e-6),
          second=Triode(plate=100e3, cathode=1500.0, bypass=0.0), coupling=(47e-9, 47e-9),
          grid_hz=(12e3, 8e3, 9e3), bright=180e-12,
          tone=ToneStack(treble=250e3, bass=500e3, middle=25e3, slope=56e3, c1=500e-12, c2=68e-9, c3=47e-9),
          stack_loss=0.225, level_db=7.0,
          power=PowerStage(supply=600.0, load=700.0, bias=-64.0, valve=_BEAM, feedback=0.01, source=40.0, plates=4.0,
                           iron=0.4)),
)
VOICE_BY_ID = {voice.id: voice for voice in VOICES}

_AT_RESONANCE, _AT_TOP = 7.0, 6.0
"""A speaker's impedance over its coil's resistance at its resonance and at the top of the band."""
_MECHANICAL, _COIL_TOP = 3.0, 2.5
"""How much narrower than in its box's sound the resonance is in the impedance; where the coil's rise ends, over its
corner."""
_SUPPLY = 300.0
_POT = 1e6
_LEAKAGE_HZ = 28e3
_FASTEST = 1.5
"""Radians a sample that a pole may be at: beside a mean over two samples it must stay under two."""
_POWER_GRID_HZ = 45e3
"""60 kilohms and 60 picofarads."""


def _triode_current(grid: Samples, plate: Samples) -> Samples:
    """Koren's triode, with the constants of a high-mu double triode, in amperes."""
    mu, ex, kg, kp, kvb = 100.0, 1.4, 1060.0, 600.0, 300.0
    inner = kp * (1.0 / mu + grid / np.sqrt(kvb + plate * plate))
    e1 = plate / kp * np.logaddexp(0.0, inner)
    return np.asarray(2.0 * np.maximum(e1, 0.0) ** ex / kg)


def _on_load(grid: Samples, supply: float, plate_load: float, cathode: float) -> Samples:
    """Current of a triode on its load line, with the cathode resistor's own feedback where it is not zero."""
    low, high = np.zeros_like(grid), np.full_like(grid, supply / (plate_load + cathode))
    for _ in range(60):
        current = 0.5 * (low + high)
        plate = supply - current * (plate_load + cathode)
        more = _triode_current(grid - cathode * current, plate) > current
        low, high = np.where(more, current, low), np.where(more, high, current)
    return 0.5 * (low + high)


@functools.cache
def triode_table(triode: Triode) -> Samples:
    """Plate voltage against grid voltage, both from rest, with its sums, (CELLS, 5) over _GRID_VOLTS."""
    rest = float(_on_load(np.zeros(1), _SUPPLY, triode.plate, triode.cathode)[0])
    held = 0.0 if triode.bypass == 0.0 else triode.cathode * rest

    def plate(grid: Samples) -> Samples:
        cathode = triode.cathode if triode.bypass == 0.0 else 0.0
        current = _on_load(np.asarray(grid) - held, _SUPPLY - held, triode.plate, cathode)
        return -triode.plate * (current - rest)

    return with_sums(even_cells(lambda grid: plate(grid) - plate(np.zeros(1)), *_GRID_VOLTS, CELLS), *_GRID_VOLTS)


@functools.cache
def triode_rest(triode: Triode) -> float:
    """Volts from grid to cathode at rest, below zero."""
    return -triode.cathode * float(_on_load(np.zeros(1), _SUPPLY, triode.plate, triode.cathode)[0])


@functools.cache
def splitter_table() -> Samples:
    """Both outputs of a long-tailed pair against the difference of its grids, (CELLS, 8); the first rises."""
    cathode, tail = _SPLITTER_TAIL
    # Each triode's current is solved once, closely, and then read: it stands inside another solution below.
    volts = np.linspace(-_SPLITTER_VOLTS[1] - 105.0, _SPLITTER_VOLTS[1] + 10.0, 16001)
    tables = [_on_load(volts, _SUPPLY - 45.0, plate, 0.0) for plate in _SPLITTER_PLATES]

    def currents(x: Samples) -> tuple[Samples, Samples]:
        low, high = np.full_like(x, -5.0), np.full_like(x, 100.0)
        for _ in range(40):
            # k : cathodes above the point that both grids rest at, which stands 45 V above the tail's end
            k = 0.5 * (low + high)
            first, second = (cubic_between(table, (grid - volts[0]) / (volts[1] - volts[0]))
                             for table, grid in zip(tables, (x - k, -k), strict=True))
            more = first + second > (k + 45.0) / (cathode + tail)
            low, high = np.where(more, k, low), np.where(more, high, k)
        return first, second

    rest = currents(np.zeros(1))

    def output(index: int, x: Samples) -> Samples:
        return -_SPLITTER_PLATES[index] * (currents(np.asarray(x, dtype=float))[index] - rest[index])

    return np.hstack([even_cells(functools.partial(output, index), *_SPLITTER_VOLTS, CELLS) for index in (1, 0)])


@functools.cache
def valve_table(power: PowerStage) -> Samples:
    """Current of a power valve against grid voltage from its bias, its plate far from the cathode."""
    mu, ex, kg, kp, _ = power.valve

    def current(grid: Samples) -> Samples:
        e1 = power.supply / kp * np.logaddexp(0.0, kp * (1.0 / mu + (np.asarray(grid) + power.bias) / power.supply))
        return np.asarray(np.pi * e1**ex / kg)

    return even_cells(current, *_VALVE_VOLTS, CELLS)


@functools.cache
def plate_table(power: PowerStage) -> Samples:
    """Plate swing against the swing that the valves' currents would make, both over the supply, with its sums.

    The valve that pulls loses current as its plate comes down: w k(1 - u) = u, with Koren's arc
    tangent k.  The other one's plate goes up, where that hardly matters.
    """
    knee = power.valve[4] / power.supply

    def swing(requested: Samples) -> Samples:
        w = np.abs(np.asarray(requested))
        low, high = np.zeros_like(w), np.ones_like(w)
        for _ in range(60):
            u = 0.5 * (low + high)
            more = w * 2.0 / np.pi * np.arctan((1.0 - u) / knee) > u
            low, high = np.where(more, u, low), np.where(more, high, u)
        return np.asarray(np.sign(requested) * 0.5 * (low + high))

    return with_sums(even_cells(swing, *_WANTED, 2 * CELLS), *_WANTED)


@functools.cache
def ranges() -> Samples:
    """Low end, cells a unit and last place of every table, for the kernel."""
    spans = (_SPLITTER_VOLTS, _VALVE_VOLTS, _WANTED, _GRID_VOLTS, _GRID_VOLTS)
    cells = (CELLS, CELLS, 2 * CELLS, CELLS, CELLS)
    return np.array([[low, count / (high - low), count - 1e-6]
                     for (low, high), count in zip(spans, cells, strict=True)])


def _grid(source: float, leak: float, coupling: float, threshold: float, conductance: float, rate: float) -> Samples:
    row = np.zeros(kernels.GRID)
    row[kernels.SHARE], row[kernels.DIODE] = leak / (leak + source), 4.0 * source * conductance
    row[kernels.THRESHOLD] = threshold
    row[kernels.CHARGING] = 1.0 / (source * coupling * rate)
    row[kernels.GRID_POLE] = 1.0
    return row


def _pole(hz: float, rate: float, *, averaged: bool) -> float:
    """What implicit steps go in a sample so that a pole delays lows as the circuit does, at any rate.

    Parameters
    ----------
    averaged : bool
        A mean over two samples stands beside it.
    """
    turn = min(2.0 * math.pi * hz / rate, _FASTEST)
    return turn / (1.0 - 0.5 * turn) if averaged else turn


def grids(voice: Voice, rate: float) -> Samples:
    """Rows (4, GRID) of the first and second triode, the splitter and the power valves at a raised rate."""
    result = np.zeros((4, kernels.GRID))
    sources, leaks = (68e3, 220e3), (1e6, _POT)
    for index, triode in enumerate((voice.first, voice.second)):
        row = _grid(sources[index], leaks[index], voice.coupling[index], -0.8 * triode_rest(triode), 4e-4, rate)
        if triode.bypass > 0.0:
            ladder = triode.bypass * rate + 1.0 / triode.cathode
            row[kernels.CATHODE_KEEP] = triode.bypass * rate / ladder
            row[kernels.CATHODE_GAIN] = 1.0 / (ladder * triode.plate)
        row[kernels.GRID_POLE] = _pole(voice.grid_hz[index], rate, averaged=True)
        result[index] = row
    result[2] = _grid(50e3, 1e6, 22e-9, 30.0, 1e-5, rate)
    result[2, kernels.GRID_POLE] = _pole(voice.grid_hz[2], rate, averaged=False)
    result[3] = _grid(60e3, 220e3, 47e-9, -voice.power.bias, 2e-4, rate)
    result[3, kernels.GRID_POLE] = _pole(_POWER_GRID_HZ, rate, averaged=False)
    return result


def power_figures(voice: Voice, presence: float, sag: float, rate: float) -> Samples:
    """Figures (POWER,) of the power stage; presence and sag from 0 to 1."""
    power = voice.power
    idle = 2.0 * kernels.current_at(valve_table(power), ranges(), 0.0)
    result = np.zeros(kernels.POWER)
    result[kernels.SUPPLY], result[kernels.LOAD] = power.supply, power.load / power.supply
    result[kernels.FEEDBACK], result[kernels.PRESENCE] = power.feedback, 0.95 * presence
    result[kernels.PRESENCE_POLE] = one_pole(0.5 / (math.pi * 900.0), rate)
    reservoir, source = 50e-6, max(4.0 * sag * power.source, 1.0)
    result[kernels.SAG_KEEP] = math.exp(-1.0 / (source * reservoir * rate))
    result[kernels.SAG_GAIN] = source * (1.0 - result[kernels.SAG_KEEP])
    result[kernels.IDLE] = idle
    leakage = _pole(_LEAKAGE_HZ, rate, averaged=True)
    result[kernels.LEAKAGE] = leakage / (1.0 + leakage)
    return result


def load_with(figures: Samples, power: PowerStage, speaker: Speaker | None, rate: float) -> None:
    """Put a speaker's impedance into a power stage's figures; without one the load is a plain resistance.

    Against its voice coil's resistance an impedance is 1 + r s/(s^2 + d s + 1) by the cone's resonance and 1 + s L by
    the coil.  The valves' own resistance lies beside it, so the swing rises less; what is fed back takes more of it.
    """
    figures[kernels.LOADED] = float(speaker is not None)
    if speaker is None:
        return

    def rises(impedance: float) -> float:
        """By how much of a plain load's a swing rises at an impedance."""
        return impedance * (1.0 + power.plates) / (impedance + power.plates) - 1.0

    turn = math.tan(min(math.pi * speaker.resonance / rate, 1.0))
    figures[kernels.RESONANCE], figures[kernels.TURN] = rises(_AT_RESONANCE), turn
    figures[kernels.LOSS] = 1.0 / (_MECHANICAL * speaker.q)
    figures[kernels.RISE] = rises(_AT_TOP)
    figures[kernels.COIL_POLE] = one_pole(_AT_TOP / (2.0 * math.pi * _COIL_TOP * speaker.coil), rate)


def taper(position: float) -> float:
    """Share of an audio-taper control of 0 to 10: a tenth at its middle."""
    return float((81.0 ** (position / 10.0) - 1.0) / 80.0)


UNITS_A_DB = 10.0 / (20.0 * math.log10(81.0))
"""Of an audio-taper control, well above its lower end."""


def bright_section(voice: Voice, share: float, on: bool, rate: float) -> Samples:
    """b0 b1 a1 of the gain control with its bright capacitor, by the bilinear transform."""
    if not on or share >= 1.0:
        return np.array([share, 0.0, 0.0])
    time = 2.0 * rate * (1.0 - share) * _POT * voice.bright
    bottom = 1.0 + share * time
    return np.array([share * (1.0 + time) / bottom, share * (1.0 - time) / bottom, (1.0 - share * time) / bottom])
