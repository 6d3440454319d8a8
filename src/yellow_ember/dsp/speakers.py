"""Speakers and microphones as models, and the impulse responses that follow.  Model: docs/models/cabinet.md."""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import minimum_phase

SECONDS = 0.2
"""Length of a response."""
_SOUND = 343.0
_NEAR_METRES, _FAR_METRES = 0.05, 1.0
"""Where a near and a far microphone's preamplifier is set."""
_FLOOR_GAIN = 0.35
_CLOSEST, _MAX_SWELL = 0.05, 40.0
"""How near a whole cone can be, in metres; power by which a gradient's bass swells at most."""
_MAX_KA = 4.0
_EAR = 1.3
"""Height of a far microphone over the floor, in metres."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Speaker:
    """One box with its drivers.

    Attributes
    ----------
    drivers : int
        How many, in rows of two, `spacing` metres apart.
    radius : float
        Of one cone in metres.
    box : str
        Closed, open, ported or horn; resonance in Hz and its Q.
    break_up : float
        Where the cone's modes begin, in Hz, how many there are and how high they stand, in dB.
    edge : tuple[float, float]
        How deep the dip is in which cone and surround move against each other, in dB, and where, in Hz.
    top, slope : float
        Where the cone lets go for good, in Hz, and how steeply, in dB an octave.
    coil : float
        Corner of the coil's inductance, in Hz.
    seed : int
        Where in its range each mode happens to lie.
    """

    id: str
    label: str
    drivers: int
    radius: float
    box: str
    resonance: float
    q: float
    break_up: float
    modes: int
    height: float
    edge: tuple[float, float]
    top: float
    slope: float
    coil: float
    seed: int
    spacing: float = 0.0


def _box(id: str, label: str, drivers: int, inches: float, box: str, resonance: float, q: float, *, bright: float,
         height: float, edge: tuple[float, float], top: float, slope: float, seed: int,
         coil: float = 5500.0) -> Speaker:
    """A guitar or bass box; `bright` scales where its cones break up."""
    radius = 0.42 * 0.0254 * inches
    return Speaker(id=id, label=label, drivers=drivers, radius=radius, box=box, resonance=resonance, q=q,
                   break_up=bright * 1900.0 * (0.125 / radius) ** 0.5, modes=7, height=height, edge=edge, top=top,
                   slope=slope, coil=coil, seed=seed, spacing=1.15 * 0.0254 * inches)


def _small(id: str, label: str, centimetres: float, box: str, resonance: float, q: float, break_up: float, top: float,
           *, modes: int = 6, height: float = 9.0, edge: float = -3.0, slope: float = 24.0) -> Speaker:
    return Speaker(id=id, label=label, drivers=1, radius=0.005 * centimetres, box=box, resonance=resonance, q=q,
                   break_up=break_up, modes=modes, height=height, edge=(edge, 0.8 * break_up), top=top, slope=slope,
                   coil=2.0 * top, seed=sum(id.encode()))


SPEAKERS = (
    _box("1x8", "1x8 practice, open", 1, 8.0, "open", 150.0, 1.5, bright=1.25, height=5.0, edge=(-4.0, 2300.0),
         top=6400.0, slope=18.0, seed=20),
    _box("1x10", "1x10 open", 1, 10.0, "open", 118.0, 1.3, bright=1.1, height=8.0, edge=(-6.0, 1900.0), top=5400.0,
         slope=24.0, seed=6),
    _box("1x12-open", "1x12 open", 1, 12.0, "open", 88.0, 1.1, bright=1.0, height=6.0, edge=(-8.0, 1450.0), top=5000.0,
         slope=24.0, seed=5),
    _box("1x12-closed", "1x12 closed", 1, 12.0, "closed", 112.0, 1.25, bright=0.9, height=7.0, edge=(-5.0, 1250.0),
         top=4500.0, slope=30.0, seed=16),
    _box("2x10", "2x10 open", 2, 10.0, "open", 95.0, 1.0, bright=1.25, height=9.0, edge=(-9.0, 1750.0), top=6200.0,
         slope=30.0, seed=13),
    _box("2x12-open", "2x12 open", 2, 12.0, "open", 76.0, 1.3, bright=1.1, height=7.0, edge=(-4.0, 1550.0), top=5500.0,
         slope=18.0, seed=31),
    _box("2x12-closed", "2x12 closed", 2, 12.0, "closed", 90.0, 0.8, bright=1.02, height=9.0, edge=(-10.0, 1350.0),
         top=5400.0, slope=30.0, seed=3),
    _box("4x10", "4x10 open", 4, 10.0, "open", 82.0, 0.9, bright=1.25, height=6.0, edge=(-7.0, 2000.0), top=6600.0,
         slope=18.0, seed=3),
    _box("4x12-closed", "4x12 closed", 4, 12.0, "closed", 95.0, 1.5, bright=1.0, height=8.0, edge=(-7.0, 1200.0),
         top=4900.0, slope=30.0, seed=5),
    _box("4x12-dark", "4x12 closed, dark", 4, 12.0, "closed", 76.0, 1.1, bright=0.8, height=5.0, edge=(-3.0, 1050.0),
         top=3700.0, slope=24.0, seed=5),
    _box("bass-1x15", "Bass 1x15 ported", 1, 15.0, "ported", 44.0, 0.9, bright=0.8, height=6.0, edge=(-6.0, 1000.0),
         top=3000.0, slope=18.0, seed=29, coil=2500.0),
    _box("bass-2x10", "Bass 2x10 ported", 2, 10.0, "ported", 58.0, 0.8, bright=1.0, height=6.0, edge=(-5.0, 1700.0),
         top=4500.0, slope=24.0, seed=3, coil=4000.0),
    _box("bass-4x10", "Bass 4x10 ported", 4, 10.0, "ported", 50.0, 1.1, bright=1.15, height=8.0, edge=(-8.0, 1900.0),
         top=5200.0, slope=18.0, seed=4, coil=4500.0),
    _box("bass-8x10", "Bass 8x10 closed", 8, 10.0, "closed", 66.0, 0.7, bright=0.9, height=7.0, edge=(-9.0, 1500.0),
         top=4000.0, slope=30.0, seed=3, coil=3500.0),
    _small("megaphone", "Megaphone", 8.0, "horn", 550.0, 1.8, 1300.0, 4200.0, modes=9, height=12.0, slope=30.0),
    _small("telephone", "Telephone", 3.0, "closed", 420.0, 1.6, 1100.0, 3300.0, height=8.0, slope=30.0),
    _small("pocket-radio", "Pocket radio", 5.7, "open", 380.0, 1.9, 1700.0, 5200.0, height=8.0, edge=-5.0),
    _small("toy", "Toy", 4.0, "open", 620.0, 3.0, 2100.0, 6000.0, modes=9, height=13.0, slope=18.0),
    _small("intercom", "Intercom", 6.6, "closed", 340.0, 2.2, 1500.0, 3900.0, height=9.0, edge=-4.0),
    _small("paging-horn", "Ship's paging horn", 14.0, "horn", 420.0, 2.2, 1000.0, 4800.0, modes=10, height=14.0),
    _small("laptop", "Laptop", 2.5, "closed", 480.0, 1.0, 3500.0, 13000.0, height=6.0, edge=-2.0, slope=18.0),
    _small("television", "Television", 10.0, "open", 160.0, 1.3, 2400.0, 8500.0, height=6.0, edge=-6.0, slope=18.0),
    _small("walkie-talkie", "Walkie-talkie", 4.5, "closed", 520.0, 2.6, 1600.0, 3600.0, height=12.0, slope=30.0),
    _small("gramophone-horn", "Gramophone horn", 20.0, "horn", 260.0, 2.4, 700.0, 3600.0, modes=12, height=11.0),
)
SPEAKER_BY_ID = {speaker.id: speaker for speaker in SPEAKERS}


@dataclass(frozen=True, slots=True, kw_only=True)
class Microphone:
    """pattern : 0 for all round, 1 for figure of eight; presence and air : dB at their frequencies; top in Hz."""

    id: str
    label: str
    pattern: float
    presence: tuple[float, float]
    air: tuple[float, float]
    low: float
    top: float


MICROPHONES = (
    Microphone(id="dynamic", label="Dynamic", pattern=0.5, presence=(5.5, 5500.0), air=(-4.0, 14000.0), low=110.0,
               top=15000.0),
    Microphone(id="condenser", label="Condenser", pattern=0.4, presence=(1.0, 4000.0), air=(3.0, 11000.0), low=20.0,
               top=21000.0),
    Microphone(id="ribbon", label="Ribbon", pattern=1.0, presence=(-0.5, 4000.0), air=(-5.0, 11000.0), low=25.0,
               top=14000.0),
)
MICROPHONE_BY_ID = {microphone.id: microphone for microphone in MICROPHONES}


def _resonance(hz: Samples, at: float, q: float) -> Samples:
    """Magnitude of a second-order high-pass."""
    r = hz / at
    return np.asarray(r * r / np.sqrt((1.0 - r * r) ** 2 + (r / q) ** 2))


def _bell(hz: Samples, height_db: float, at: float, q: float) -> Samples:
    """Magnitude of a resonance that stands out by some dB."""
    g = 10.0 ** (height_db / 40.0)
    r = hz / at - at / np.maximum(hz, 1e-3)
    return np.asarray(np.sqrt((r * r + (g / q) ** 2) / (r * r + 1.0 / (g * q) ** 2)))


def _cone(speaker: Speaker, hz: Samples) -> Samples:
    """Magnitude on the axis of one driver: box, coil, cone and its modes."""
    result = _resonance(hz, speaker.resonance, speaker.q)
    if speaker.box == "ported":
        result = result * _resonance(hz, 0.8 * speaker.resonance, 1.1) * _bell(hz, 3.0, 1.15 * speaker.resonance, 2.0)
    elif speaker.box == "open":
        # What goes round the box's edge takes the bass away, 6 dB an octave.
        edge = 2.6 * speaker.resonance
        result = result * (hz / np.sqrt(hz * hz + edge * edge)) * _bell(hz, 2.0, 1.3 * edge, 1.5)
    elif speaker.box == "horn":
        result = result * _resonance(hz, 0.8 * speaker.resonance, 1.0)
        for turn in range(1, 5):
            # Sound that turns back at the mouth.
            result = result * _bell(hz, 5.0 / turn, (0.6 + 1.05 * turn) * speaker.resonance, 5.0)
    result = result / np.sqrt(1.0 + (hz / speaker.coil) ** 2)
    rng = np.random.default_rng(speaker.seed)
    at = speaker.break_up
    step = (speaker.top / speaker.break_up) ** (1.0 / speaker.modes)
    for mode in range(speaker.modes):
        height = speaker.height * (0.45 + 0.55 * rng.random()) * (1.0 if mode % 3 != 1 else -0.8)
        result = result * _bell(hz, height, at, 2.5 + 4.0 * rng.random())
        at *= step * (0.94 + 0.12 * rng.random())
    depth, dip = speaker.edge
    result = result * _bell(hz, depth, dip, 2.2)
    # A power of two is 6 dB an octave; the coil takes 6 of the slope.
    return np.asarray(result / np.sqrt(1.0 + (hz / speaker.top) ** ((speaker.slope - 6.0) / 3.0)))


def _bins(size: int, rate: float) -> Samples:
    """Frequencies of a real transform's bins."""
    return np.asarray(np.arange(size // 2 + 1) * (rate / size), dtype=np.float64)


@functools.lru_cache(maxsize=8)
def _levelled_cone(speaker: Speaker, rate: float, size: int) -> tuple[Samples, Samples]:
    """Frequencies of a transform's bins and the cone's magnitude there, all speakers equally loud on their axes."""
    hz = _bins(size, rate)
    result = _cone(speaker, hz)
    return hz, result * _unity(hz, result, rate)


def _unity(hz: Samples, magnitude: Samples, rate: float) -> float:
    """What brings a response to unity for pink noise from 60 Hz to 10 kHz."""
    heard = (hz > 60.0) & (hz < min(10000.0, 0.45 * rate))
    pink = 1.0 / hz[heard]
    return 1.0 / math.sqrt(max(float(np.sum(magnitude[heard] ** 2 * pink) / np.sum(pink)), 1e-20))


def _microphone(kind: Microphone, hz: Samples, metres: float) -> Samples:
    """Magnitude of a microphone; close to a source those that hear a gradient lift the bass.

    A cone is no point: up close most of it is farther away than its nearest part.
    """
    result = _bell(hz, *kind.presence, 0.9) * _bell(hz, *kind.air, 0.8) * _resonance(hz, kind.low, 0.7)
    wave = 2.0 * np.pi * np.maximum(hz, 1.0) * math.hypot(metres, _CLOSEST) / _SOUND
    result = result * np.sqrt((1.0 - kind.pattern) + kind.pattern * np.minimum(1.0 + 1.0 / (wave * wave), _MAX_SWELL))
    return np.asarray(result / np.sqrt(1.0 + (hz / kind.top) ** 6))


def _piston(ka: Samples) -> Samples:
    """|2 J1(x) / x| for x up to _MAX_KA, by its power series."""
    quarter = -0.25 * ka * ka
    term = total = np.ones_like(ka)
    for k in range(1, 20):
        term = term * quarter / (k * (k + 1))
        total = total + term
    return np.asarray(np.abs(total))


def _places(speaker: Speaker) -> Samples:
    """Across and up of every driver from the one that is miked, (drivers, 2) in metres."""
    number = np.arange(speaker.drivers)
    return np.asarray(np.stack((number % 2, number // 2), axis=1) * speaker.spacing, dtype=np.float64)


@functools.lru_cache(maxsize=64)
def response(speaker_id: str, microphone_id: str, angle: float, metres: float, far: bool, rate: float) -> Samples:
    """What a microphone hears of a speaker, (SECONDS rate,).

    The level falls by the distance, the time of flight is in it, and at a far place the floor's echo.

    Parameters
    ----------
    angle : float
        Degrees off the axis.
    metres : float
        From the cone.
    far : bool
        Its preamplifier is set for a far place.
    """
    speaker, microphone = SPEAKER_BY_ID[speaker_id], MICROPHONE_BY_ID[microphone_id]
    taps = round(SECONDS * rate)
    hz, cone = _levelled_cone(speaker, rate, 1 << (3 * taps // 2 - 1).bit_length())
    set_for = _FAR_METRES if far else _NEAR_METRES
    heard = _microphone(microphone, hz, metres) * _unity(hz, _microphone(microphone, hz, set_for), rate)
    own = minimum_phase(cone * heard)
    wave = 2.0 * np.pi * hz / _SOUND
    turned = math.radians(angle)
    total = np.zeros(hz.size, dtype=complex)
    for across, up in _places(speaker):
        there = math.sqrt(metres * metres + across * across + up * up)
        off = math.acos(min(metres / there, 1.0)) + turned
        # A piston's directivity (Morse and Ingard, Theoretical Acoustics, 7.4); a cone in break-up is
        # not one piston any more, so that it never beams as narrowly.
        ka = np.minimum(wave * speaker.radius, _MAX_KA) * math.sin(min(off, math.pi / 2.0))
        beam = _piston(ka)
        total += set_for / there * beam * np.exp(-1j * wave * there)
        if far:
            floor = math.sqrt(there * there + 4.0 * _EAR * 0.4)
            total += (_FLOOR_GAIN * set_for / floor) * beam / (1.0 + hz / 4000.0) * np.exp(-1j * wave * floor)
    result = np.fft.irfft(own * total)[:taps]
    fade = taps // 8
    result[-fade:] *= 0.5 + 0.5 * np.cos(np.pi * np.arange(fade) / fade)
    return np.asarray(result)


def levelled(impulse: Samples, rate: float) -> Samples:
    """A response (channels, taps) as loud for pink noise as no response at all."""
    size = 1 << max(12, (impulse.shape[1] - 1).bit_length())
    magnitude = np.sqrt(np.mean(np.abs(np.fft.rfft(impulse, size, axis=1)) ** 2, axis=0))
    return np.asarray(impulse * _unity(_bins(size, rate), magnitude, rate))
