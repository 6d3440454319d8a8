"""The physics of a biased tape machine as numbers: stocks, curves, losses, equalisation, noise.

Everything here is linear algebra on small arrays at control rate; the sample loops are in
`kernels.tape`.  Equations are numbered in docs/models/tape.md.
"""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.curves import cubic_between, cubic_cells
from yellow_ember.dsp.filters import Section, linear_phase, peak, zero_and_pole
from yellow_ember.dsp.parameters import Choice

MU0 = 4e-7 * math.pi
IPS = 0.0254
"""Metres a second in one inch a second."""


SPEEDS = (1.875, 3.75, 7.5, 15.0, 30.0)
SPEED_CHOICES = tuple(Choice(f"{speed:g}", f"{speed:g} ips") for speed in SPEEDS)
TURN_RADIUS = {1.875: 0.013, 3.75: 0.022, 7.5: 0.035, 15.0: 0.05, 30.0: 0.06}
"""Radius of the pack in m at which the layers are compared, by speed: half-way through a small reel."""


@dataclass(frozen=True, slots=True)
class Stock:
    """One kind of tape.

    coercivity in A/m, remanence in T, coating in m, operating level in nWb/m (peak of a
    sine), noise in dB(A) against operating level on a 2 mm track at 15 ips IEC.

    Attributes
    ----------
    bias_over_hc_db : float
        Aligned bias, deep-gap field over coercivity.
    height, slope, linear_share, knee : float
        a, g, w and c of the aligned record curve (eq. 2).
    dead_zone, dead_growth : float
        How much of the simulated dead zone it shows at -6 dB of bias, and by which power of the bias that grows.
    demag : float
        The demagnetisation limit's factor kappa (eq. 4).
    simulated : int
        The simulated stock whose dependence on bias it has.
    """

    id: str
    label: str
    coercivity: float
    remanence: float
    coating: float
    operating_nwb: float
    noise_dba: float
    bias_over_hc_db: float
    simulated: int
    height: float
    slope: float
    linear_share: float
    knee: float
    dead_zone: float
    dead_growth: float
    demag: float

    def magnetisation(self, flux_nwb: float) -> float:
        """Magnetisation over saturation of a flux in nWb/m."""
        return flux_nwb * 1e-9 / (self.remanence * self.coating)

    @property
    def demag_limit(self) -> float:
        """D0 of eq. 4: the greatest magnetisation that short wavelengths keep."""
        return self.demag * self.coercivity / (self.remanence / MU0)


STOCKS = (
    Stock("lantern", "Lantern (early, low output)", 22.0e3, 0.080, 11.0e-6, 185.0, -53.0, 12.3, 0,
          height=1.010, slope=0.4843, linear_share=0.3785, knee=0.6105, dead_zone=1.0, dead_growth=0.85, demag=0.95),
    Stock("harbour", "Harbour (warm, mid output)", 25.0e3, 0.113, 12.5e-6, 250.0, -57.0, 12.5, 1,
          height=1.045, slope=0.4581, linear_share=0.4591, knee=0.6028, dead_zone=1.0, dead_growth=0.8, demag=1.25),
    Stock("breaker", "Breaker (punchy, high output)", 27.5e3, 0.140, 14.0e-6, 355.0, -61.0, 13.3, 2,
          height=0.985, slope=0.4487, linear_share=0.4346, knee=0.6259, dead_zone=1.1, dead_growth=0.72, demag=1.4),
    Stock("beacon", "Beacon (clean, very high output)", 30.0e3, 0.165, 16.0e-6, 500.0, -65.0, 14.2, 3,
          height=0.960, slope=0.4224, linear_share=0.4304, knee=0.6289, dead_zone=1.45, dead_growth=0.5, demag=1.65),
    Stock("gangway", "Gangway (domestic)", 25.5e3, 0.098, 10.0e-6, 185.0, -54.5, 12.5, 1,
          height=1.000, slope=0.4650, linear_share=0.4200, knee=0.6070, dead_zone=1.0, dead_growth=0.8, demag=1.1),
    Stock("steward", "Steward (narrow-track cartridge)", 28.0e3, 0.125, 5.0e-6, 160.0, -51.0, 13.0, 2,
          height=1.120, slope=0.4550, linear_share=0.4000, knee=0.6180, dead_zone=1.2, dead_growth=0.7, demag=1.15),
)
STOCK_BY_ID = {stock.id: stock for stock in STOCKS}


@dataclass(frozen=True, slots=True)
class Standard:
    """Time constants in seconds of a flux curve; `low` is None where lows are recorded flat."""

    high: float
    low: float | None


STANDARDS = {
    (30.0, "aes"): Standard(17.5e-6, None),
    (15.0, "iec"): Standard(35e-6, None),
    (15.0, "nab"): Standard(50e-6, 3180e-6),
    (7.5, "iec"): Standard(70e-6, None),
    (7.5, "nab"): Standard(50e-6, 3180e-6),
    (3.75, "iec"): Standard(90e-6, 3180e-6),
    (3.75, "nab"): Standard(90e-6, 3180e-6),
    (1.875, "iec"): Standard(120e-6, 3180e-6),
    (1.875, "nab"): Standard(90e-6, 3180e-6),
}
"""Flux curves by speed in ips and name: IEC 60094-1, NAB 1965, AES 1971."""


def standard_in_use(speed_ips: float, name: str) -> str:
    """The standard that holds at a speed; where the named one does not exist, the usual one."""
    if (speed_ips, name) in STANDARDS:
        return name
    return "aes" if speed_ips == 30.0 else "iec"


_LOW_BOUND = 20.0
"""How far below its corner the NAB low-frequency emphasis goes on rising."""


def low_emphasis(standard: Standard, rate: float) -> tuple[Section, Section] | None:
    """Record and replay sections of the low time constant, exact inverses; None where there is none."""
    if standard.low is None:
        return None
    corner = 1.0 / (2.0 * math.pi * standard.low)
    return (zero_and_pole(corner, corner / _LOW_BOUND, rate), zero_and_pole(corner / _LOW_BOUND, corner, rate))


def _high_flux(hz: Samples, standard: Standard) -> Samples:
    return np.asarray(1.0 / np.sqrt(1.0 + (2.0 * np.pi * hz * standard.high) ** 2))


_BIAS = (-6.0, -4.0, -2.0, 0.0, 2.0, 4.0, 6.0)
_DEPTH = (0.42, 0.55, 0.68, 0.80, 0.83, 0.86, 0.89)
_ZONE_UM = (0.87, 0.97, 1.07, 1.18, 1.45, 1.80, 2.20)


def record_losses(hz: Samples, coating: float, speed_ips: float, bias_db: float) -> Samples:
    """Recorded depth, spacing and zone length as a magnitude over frequency (eq. 5); coating in m."""
    k = 2.0 * np.pi * np.maximum(hz, 1e-3) / (speed_ips * IPS)
    depth = k * float(np.interp(bias_db, _BIAS, _DEPTH)) * coating
    zone = k * float(np.interp(bias_db, _BIAS, _ZONE_UM)) * 1e-6
    return np.asarray(-np.expm1(-depth) / depth * np.exp(-zone))


TOP_HZ = {1.875: 12.5e3, 3.75: 13.5e3, 7.5: 17.5e3, 15.0: 22.5e3, 30.0: 27.0e3}
"""Where the replay electronics of a well-kept machine give up, by speed (-3 dB)."""
_MAX_BOOST = 10.0 ** (18.0 / 20.0)


def record_equalisation(hz: Samples, stock: Stock, speed_ips: float, standard: Standard) -> Samples:
    """Magnitude that makes the recorded flux follow the standard at the aligned bias, 1 at 1 kHz."""
    requested = _high_flux(hz, standard) / record_losses(hz, stock.coating, speed_ips, 0.0)
    middle = np.array([1000.0])
    at_1k = _high_flux(middle, standard) / record_losses(middle, stock.coating, speed_ips, 0.0)
    return np.asarray(np.minimum(requested / at_1k, _MAX_BOOST))


def top_roll_off(hz: Samples, corner: float) -> Samples:
    """Magnitude of replay electronics that give up at a corner in Hz."""
    return np.asarray(1.0 / np.sqrt(1.0 + (hz / corner) ** 8))


def head_losses(hz: Samples, speed_ips: float, gap_um: float, spacing_um: float, azimuth_arcmin: float,
                track_mm: float) -> Samples:
    """Replay gap, spacing and azimuth as a magnitude over frequency (eq. 9); negative beyond a null."""
    over_wavelength = hz / (speed_ips * IPS)
    tilted = track_mm * 1e-3 * math.tan(math.radians(azimuth_arcmin / 60.0))
    spacing = 10.0 ** (-54.6 / 20.0 * spacing_um * 1e-6 * over_wavelength)
    return np.asarray(np.sinc(1.13 * gap_um * 1e-6 * over_wavelength) * spacing * np.sinc(tilted * over_wavelength))


def head_bump(hz: float, rise_db: float, dip_db: float, amount: float, rate: float) -> list[Section]:
    """The replay head's rise and dip at wavelengths near its size (eq. 7)."""
    return [peak(hz, rise_db * amount, 1.1, rate), peak(2.05 * hz, -dip_db * amount, 1.4, rate)]


@functools.cache
def _bias_table() -> tuple[Samples, Samples, Samples]:
    """log_ratio (stock, bias, signal), bias axis in dB, signal axis in dB over coercivity."""
    with np.load(Path(__file__).parents[1] / "data" / "bias_curves.npz") as table:
        return table["log_ratio"].astype(float), table["bias_db"], table["signal_db"]


def _aligned(x: Samples, stock: Stock, compressed: float = 1.0) -> Samples:
    u = stock.slope * x
    linear = stock.linear_share * compressed
    return np.asarray(stock.height * ((1.0 - linear) * np.tanh(u) + linear * u / (1.0 + (u / stock.knee) ** 4) ** 0.25))


_WEAKEST_DB = 6.0
_GROWN_DB = 0.1
"""Under-bias over which a dead zone begins to grow."""
_OVER_PER_DB = 0.01
"""Share of the straight part that a dB of over-bias takes away."""


def _dead_zone(stock: Stock, bias_db: float) -> float:
    """How much of `_dead_curve` shows under the aligned bias; nothing at it, and smoothly from there."""
    under = -bias_db
    grown = under / (under + _GROWN_DB) * (_WEAKEST_DB + _GROWN_DB) / _WEAKEST_DB
    return float(stock.dead_zone * grown * (under / _WEAKEST_DB) ** stock.dead_growth)


@functools.cache
def _dead_curve(stock: Stock) -> Samples:
    """What the simulation shows at -6 dB of bias beyond a stretched curve: its logarithm, over the signal axis."""
    table, _, signal_axis = _bias_table()
    at_bias = table[stock.simulated, 0]
    strongest = 10.0 ** (signal_axis / 20.0)
    left = at_bias - np.log(_aligned(math.exp(float(at_bias[0])) * strongest, stock) / _aligned(strongest, stock))
    return np.asarray(left - left[0])


def remanence(field: Samples, stock: Stock, bias_db: float) -> Samples:
    """Magnetisation over saturation that a field over coercivity leaves (eq. 2); odd in the field.

    Over-bias stretches the aligned curve, which stays analytic: the third harmonic falls with the level's square.
    Under-bias adds the dead zone that the simulation shows, which grows in smoothly.
    """
    x = np.abs(field)
    table, bias_axis, signal_axis = _bias_table()
    at_bias = cubic_between(table[stock.simulated], (bias_db - bias_axis[0]) / (bias_axis[1] - bias_axis[0]))
    stretch = math.exp(float(at_bias[0]))
    result = _aligned(stretch * x, stock, 1.0 - _OVER_PER_DB * max(bias_db, 0.0))
    if bias_db < 0.0:
        level = 20.0 * np.log10(np.maximum(x, 1e-9))
        position = (np.clip(level, signal_axis[0], signal_axis[-1]) - signal_axis[0]) / (
            signal_axis[1] - signal_axis[0])
        result = result * np.exp(_dead_zone(stock, bias_db) * cubic_between(_dead_curve(stock), position))
    return np.asarray(np.sign(field) * result)


CURVE_CELLS = 256
FILTER_BINS = 513


_BIAS_GRID = 0.25
"""Biases in dB between which a record curve's coefficients are interpolated: a moving control finds them ready."""


@functools.cache
def _curve_on_grid(stock: Stock, index: int) -> Samples:
    return cubic_cells(lambda field: remanence(field, stock, index * _BIAS_GRID), 0.0, 1.0, CURVE_CELLS)


def record_curve(stock: Stock, bias_db: float) -> Samples:
    """Cubic coefficients (CURVE_CELLS, 4) of the record curve for `kernels.tape.magnetise`."""
    index = math.floor(bias_db / _BIAS_GRID + 1e-9)
    share = bias_db / _BIAS_GRID - index
    below = _curve_on_grid(stock, index)
    return below if share < 1e-6 else np.asarray(below + share * (_curve_on_grid(stock, index + 1) - below))


@functools.cache
def field_for(stock: Stock, flux_nwb: float) -> float:
    """Field over coercivity (peak) of a sine that records that flux at the aligned bias."""
    phase = 2.0 * np.pi * np.arange(256) / 256
    wave = np.sin(phase)
    levels = np.geomspace(1e-3, 5.0, 400)
    fundamentals = 2.0 * np.mean(remanence(levels[:, None] * wave, stock, 0.0) * wave, axis=1)
    rising = slice(0, int(np.argmax(fundamentals)) + 1)
    result = np.interp(math.log(stock.magnetisation(flux_nwb)), np.log(fundamentals[rising]), np.log(levels[rising]))
    return float(math.exp(result))


@functools.cache
def field_offset(stock: Stock, flux_nwb: float, second_db: float) -> float:
    """Field over coercivity that has to be added for a sine at that flux to get such a second harmonic."""
    wave = field_for(stock, flux_nwb) * np.sin(2.0 * np.pi * np.arange(256) / 256)
    little = 1e-3 * float(wave.max())
    spectrum = np.abs(np.fft.rfft(remanence(wave + little, stock, 0.0)))
    return float(little * 10.0 ** (second_db / 20.0) * spectrum[1] / spectrum[2])


def demag_corner(coating: float, speed_ips: float, fast_rate: float) -> float:
    """One-pole coefficient whose complement is what demagnetisation acts on (eq. 3), bilinear."""
    w = 0.47 * speed_ips * IPS / coating
    k = math.tan(min(w / fast_rate, 3.0) / 2.0)
    return k / (1.0 + k)


@functools.cache
def noise_filter(stock: Stock, speed_ips: float, standard: Standard, rate: float, taps: int) -> Samples:
    """Symmetric FIR that gives white noise the spectrum of tape noise."""
    hz = np.linspace(0.0, rate / 2.0, FILTER_BINS)
    return linear_phase(noise_spectrum(hz, stock, speed_ips, standard), taps)


@functools.cache
def record_filter(stock: Stock, speed_ips: float, standard: Standard, rate: float, taps: int) -> Samples:
    """Symmetric FIR of the record equalisation."""
    hz = np.linspace(0.0, rate / 2.0, FILTER_BINS)
    return linear_phase(record_equalisation(hz, stock, speed_ips, standard), taps)


def noise_spectrum(hz: Samples, stock: Stock, speed_ips: float, standard: Standard) -> Samples:
    """Amplitude density of tape noise after replay, arbitrary unit (eq. 8)."""
    w = 2.0 * np.pi * np.maximum(hz, 5.0)
    k = w / (speed_ips * IPS)
    power = -np.expm1(-2.0 * k * stock.coating) / (2.0 * k * stock.coating) * np.exp(-2.0 * k * 0.5e-6)
    power = power * (1.0 + (w * standard.high) ** 2)
    if standard.low is not None:
        power = power / (1.0 + 1.0 / (w * standard.low) ** 2)
    return np.asarray(np.sqrt(power / (speed_ips * IPS)))


def a_weighting(hz: Samples) -> Samples:
    """IEC 61672-1 A-weighting as an amplitude, 1 at 1 kHz."""
    f2 = np.asarray(hz) ** 2
    top = 12194.0**2 * f2 * f2
    bottom = (f2 + 20.6**2) * np.sqrt((f2 + 107.7**2) * (f2 + 737.9**2)) * (f2 + 12194.0**2)
    return np.asarray(10.0 ** (2.0 / 20.0) * top / bottom)


_NOISE_HZ = np.linspace(20.0, 20000.0, 2000)


@functools.cache
def weighted_noise(stock: Stock, speed_ips: float, standard: Standard) -> float:
    """A-weighted amplitude of `noise_spectrum`, in the same arbitrary unit."""
    density = noise_spectrum(_NOISE_HZ, stock, speed_ips, standard) * a_weighting(_NOISE_HZ)
    return float(np.sqrt(np.sum(density**2) * (_NOISE_HZ[1] - _NOISE_HZ[0])))


def noise_level_db(stock: Stock, speed_ips: float, standard: Standard, track_mm: float) -> float:
    """Noise in dB(A) against the stock's operating level."""
    at_15 = weighted_noise(stock, 15.0, STANDARDS[15.0, "iec"])
    by_speed = 20.0 * math.log10(weighted_noise(stock, speed_ips, standard) / at_15)
    return stock.noise_dba + by_speed - 10.0 * math.log10(track_mm / 2.0)
