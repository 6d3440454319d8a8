"""What the tape machine must measure, through `yellow-ember process` at 8x.

Levels are dB against 0 VU (a sine of -18 dBFS peak); the tables are those of docs/models/tape.md.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tones import RATE, REFERENCE_DBFS, Signal, decibels, harmonics, tape, tones

LEVELS = np.arange(-24.0, 6.01, 0.5)
QUIET = np.array([REFERENCE_DBFS - 20.0])
THREE_PERCENT = 20.0 * np.log10(0.03)
BIASES = (-6.0, -2.0, 2.0, 4.0, 6.0)


@dataclass(frozen=True)
class Figures:
    mol: float
    third_at_operating: tuple[float, float]
    saturated_10k: float
    noise_dba: float
    sensitivity_1k: tuple[float, ...]
    third_by_bias: tuple[float, float]


STOCKS = {
    "lantern": Figures(8.2, (0.2, 0.6), -0.5, -53.0, (-0.5, 0.4, -1.0, -2.4, -4.3), (-42.0, -48.0)),
    "harbour": Figures(9.9, (0.1, 0.4), -1.0, -57.0, (-0.9, 0.4, -1.0, -2.4, -4.3), (-44.0, -49.0)),
    "breaker": Figures(9.8, (0.1, 0.4), -2.0, -61.0, (-0.5, 0.4, -1.0, -2.4, -4.3), (-48.0, -52.0)),
    "beacon": Figures(9.5, (0.12, 0.45), -2.5, -65.0, (-0.5, 0.4, -1.0, -2.4, -4.3), (-51.0, -54.0)),
}
TYPICAL_1K = (-0.5, 0.4, -1.0, -2.4, -4.3)
SENSITIVITY_10K = (2.3, 1.3, -1.7, -3.6, -5.8)
THIN_10K = (0.8, 0.9, -1.7, -3.6, -5.8)
"""Of the cartridge stock, whose coat is too thin for recorded depth to grow much as bias falls."""


def distortion(folder: Path, **params: Any) -> tuple[Signal, Signal, Signal]:
    """Output level over 0 VU, second and third harmonic in dB, for rising 1 kHz tones."""
    result = harmonics(tape(folder, tones(1000.0, LEVELS), **params), 1000.0)
    return (decibels(result[:, 0]) - REFERENCE_DBFS, decibels(result[:, 1] / result[:, 0]),
            decibels(result[:, 2] / result[:, 0]))


def maximum_output(level: Signal, third: Signal) -> float:
    """Output level at which the third harmonic reaches 3 %."""
    above = int(np.argmax(third > THREE_PERCENT))
    return float(np.interp(THREE_PERCENT, third[above - 1:above + 1], level[above - 1:above + 1]))


def third_at(level: Signal, third: Signal, requested: float) -> float:
    rising = slice(0, int(np.argmax(level > requested)) + 1)
    return float(np.interp(requested, level[rising], third[rising]))


def sensitivity(folder: Path, hz: float, bias: float, stock: str) -> float:
    result = harmonics(tape(folder, tones(hz, QUIET), stock=stock, bias_db=bias), hz, 2)
    return float(decibels(result[0, 0]))


@pytest.mark.parametrize("stock", STOCKS)
def test_distortion_against_level(stock: str, tmp_path: Path) -> None:
    requested = STOCKS[stock]
    level, second, third = distortion(tmp_path, stock=stock)
    mol = maximum_output(level, third)
    assert mol == pytest.approx(requested.mol, abs=1.0)
    low, high = requested.third_at_operating
    assert low <= 100.0 * 10.0 ** (third_at(level, third, 0.0) / 20.0) <= high
    slope = (THREE_PERCENT - third_at(level, third, mol - 6.0)) / 6.0
    assert 2.0 <= slope <= 3.0
    assert third_at(level, second, 0.0) <= -100.0
    asked = np.arange(-18.0, 12.1, 0.5)
    saturated = decibels(harmonics(tape(tmp_path, tones(10000.0, asked), stock=stock), 10000.0, 2)[:, 0])
    highest = int(np.argmax(saturated))
    assert saturated[highest] - REFERENCE_DBFS - mol == pytest.approx(requested.saturated_10k, abs=1.5)
    assert 1.0 <= saturated[highest] - saturated[highest + 12] <= 3.0, "6 dB beyond it falls again"


def steady_third(folder: Path, hz: float, over_operating: float, **params: Any) -> float:
    """Third harmonic in dB of one long tone."""
    time = np.arange(3 * RATE // 2) / RATE
    wave = 10.0 ** ((REFERENCE_DBFS + over_operating) / 20.0) * np.sin(2.0 * np.pi * hz * time)
    part = tape(folder, wave[None, :], **params)[0, RATE // 2:RATE + RATE // 4]
    window = np.blackman(part.size)
    first, third = (abs(np.sum(part * window * np.exp(-2j * np.pi * order * hz * np.arange(part.size) / RATE)))
                    for order in (1, 3))
    return float(decibels(third / first))


@pytest.mark.parametrize(("stock", "hz"), [*((stock, hz) for stock in STOCKS for hz in (499.0, 997.0)),
                                           ("gangway", 997.0), ("steward", 997.0)])
def test_the_third_harmonic_follows_the_square_of_the_level(stock: str, hz: float, tmp_path: Path) -> None:
    """Within 3 dB of 2 dB a dB from 10 dB under MOL down to 30 dB under it: no null, no floor."""
    at_10 = STOCKS[stock].mol - 10.0 if stock in STOCKS else -2.0
    there = steady_third(tmp_path, hz, at_10, stock=stock)
    for below in (7.0, 13.0, 20.0):
        assert steady_third(tmp_path, hz, at_10 - below, stock=stock) == pytest.approx(there - 2.0 * below, abs=3.0)


@pytest.mark.parametrize("stock", STOCKS)
def test_intermodulation_grows_with_level(stock: str, tmp_path: Path) -> None:
    """60 Hz and 7 kHz, 4 to 1 (SMPTE RP120), from 20 dB under operating level to 6 over it."""
    time = np.arange(RATE) / RATE
    pair = 0.8 * np.sin(2.0 * np.pi * 60.0 * time) + 0.2 * np.sin(2.0 * np.pi * 7000.0 * time)
    found = []
    for level in (-20.0, -14.0, -9.0, -5.0, -2.0, 1.0, 4.0, 6.0):
        out = tape(tmp_path, (10.0 ** ((REFERENCE_DBFS + level) / 20.0) * pair)[None, :], stock=stock)[0, RATE // 2:]
        spectrum = np.abs(np.fft.rfft(out * np.blackman(out.size)))
        found.append(float(np.sqrt(np.sum(spectrum[[3440, 3470, 3530, 3560]] ** 2)) / spectrum[3500]))
    assert np.all(np.diff(found) > 0.0)


@pytest.mark.parametrize(("stock", "deck"), [
    ("harbour", "first-mate"), ("harbour", "pilot"), ("harbour", "stoker"), ("harbour", "purser"), ("harbour", "cabin"),
    ("lantern", "stoker"), ("breaker", "first-mate"), ("beacon", "pilot")])
def test_the_second_harmonic_comes_of_the_decks_own_faults(stock: str, deck: str, tmp_path: Path) -> None:
    still = {f"{name}_pct": 0.0 for name in ("wow", "flutter", "drift", "scrape")}
    faults = {**still, "hum_db": -90.0, "mod_noise_db": -80.0, "crosstalk_db": -90.0}
    wave = tones(1000.0, np.array([REFERENCE_DBFS] * 2))
    found = harmonics(tape(tmp_path, wave, stock=stock, deck=deck, own_faults=True, **faults), 1000.0)[1]
    assert -75.0 <= decibels(found[1] / found[0]) <= -65.0


@pytest.mark.parametrize("hz", [30.0, 40.0, 80.0])
def test_transformers_distort_by_level_and_wavelength(hz: float, tmp_path: Path) -> None:
    """The third harmonic in proportion to level and to one over the frequency; heaviest iron."""
    found = []
    for level in (-20.0, -10.0, 0.0, 6.0):
        wave = 10.0 ** ((REFERENCE_DBFS + level) / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(3 * RATE) / RATE)
        part = tape(tmp_path, wave[None, :], monitor="input", transformers=True, deck="stoker")[0, RATE:2 * RATE]
        spectrum = np.abs(np.fft.rfft(part * np.blackman(part.size)))
        found.append(float(decibels(spectrum[round(3 * hz)] / spectrum[round(hz)])))
    assert found[0] <= -60.0 + float(decibels(40.0 / hz))
    assert found == pytest.approx([found[0], found[0] + 10.0, found[0] + 20.0, found[0] + 26.0], abs=1.0)
    assert -40.0 <= found[3] - float(decibels(40.0 / hz)) <= -30.0


def test_modulation_noise_rises_towards_what_carries_it(tmp_path: Path) -> None:
    wave = 10.0 ** (REFERENCE_DBFS / 20.0) * np.sin(2.0 * np.pi * 3000.0 * np.arange(11 * RATE) / RATE)
    out = tape(tmp_path, wave[None, :], mod_noise_db=-56.0)[0, RATE:]
    power = np.abs(np.fft.rfft(out * np.hanning(out.size))) ** 2
    away = np.abs(np.fft.rfftfreq(out.size, 1.0 / RATE) - 3000.0)
    carrier = power[away < 1.0].sum()
    beside = [float(np.mean(power[np.abs(away - distance) < 0.1 * distance])) for distance in (20.0, 500.0)]
    assert 10.0 * np.log10(beside[0] / beside[1]) >= 10.0
    assert 10.0 * np.log10(power[(away > 2.0) & (away < 2500.0)].sum() / carrier) == pytest.approx(-56.0, abs=2.0)


@pytest.mark.parametrize("stock", STOCKS)
def test_distortion_against_bias(stock: str, tmp_path: Path) -> None:
    level, _, third = distortion(tmp_path, stock=stock)
    probe = maximum_output(level, third) - 10.0
    result = {0.0: third_at(level, third, probe)}
    for bias in (-6.0, -4.0, -3.0, -2.0, -1.5, -1.0, -0.5, 0.5, 1.0, 1.5, 2.0, 4.0):
        at_bias, _, third_there = distortion(tmp_path, stock=stock, bias_db=bias)
        result[bias] = third_at(at_bias, third_there, probe)
    assert result[-6.0] == pytest.approx(STOCKS[stock].third_by_bias[0], abs=4.0)
    assert result[-4.0] == pytest.approx(STOCKS[stock].third_by_bias[1], abs=4.0)
    assert result[0.0] <= -54.0
    assert -1.0 <= min(result, key=result.__getitem__) <= 1.0


@pytest.mark.parametrize("stock", [*STOCKS, "gangway", "steward"])
def test_sensitivity_against_bias(stock: str, tmp_path: Path) -> None:
    at_1k = STOCKS[stock].sensitivity_1k if stock in STOCKS else TYPICAL_1K
    at_10k = THIN_10K if stock == "steward" else SENSITIVITY_10K
    for hz, requested, tolerance in ((1000.0, at_1k, 0.7), (10000.0, at_10k, 1.0)):
        aligned = sensitivity(tmp_path, hz, 0.0, stock)
        result = [sensitivity(tmp_path, hz, bias, stock) - aligned for bias in BIASES]
        assert result == pytest.approx(list(requested), abs=tolerance)


def magnitude(folder: Path, hz: Signal, **params: Any) -> Signal:
    """Response in dB at 20 dB below operating level, each tone measured by itself in one long file."""
    length = RATE
    time = np.arange(length) / RATE
    amplitude = 10.0 ** (QUIET[0] / 20.0)
    signal = np.concatenate([amplitude * np.sin(2.0 * np.pi * f * time) for f in hz])[None, :]
    out = tape(folder, signal, **params)[0].reshape(len(hz), length)[:, RATE // 4:-RATE // 4]
    window = np.blackman(out.shape[1])
    time = time[RATE // 4:-RATE // 4]
    result = [abs(np.sum(part * window * np.exp(-2j * np.pi * f * time))) * 2.0 / window.sum()
              for part, f in zip(out, hz, strict=True)]
    return decibels(np.array(result) / amplitude)


@pytest.mark.parametrize(("speed", "standard", "more"), [
    (15.0, "iec", {}), (15.0, "nab", {}), (30.0, "aes", {}),
    *((15.0, "iec", {"stock": stock}) for stock in ("lantern", "breaker", "beacon", "gangway", "steward")),
    *((15.0, "iec", {"deck": deck}) for deck in ("pilot", "stoker", "purser", "cabin"))])
def test_lined_up_response(speed: float, standard: str, more: dict[str, str], tmp_path: Path) -> None:
    inner = np.array([60.0, 100.0, 250.0, 500.0, 1000.0, 2500.0, 5000.0, 10000.0, 12500.0, 15000.0])
    outer = np.array([30.0, 40.0, 16000.0, 18000.0])
    params = {"speed_ips": speed, "standard": standard, "bump_pct": 0.0, **more}
    assert np.abs(magnitude(tmp_path, inner, **params)).max() <= 1.0
    assert np.abs(magnitude(tmp_path, outer, **params)).max() <= 2.0


@pytest.mark.parametrize("speed", [7.5, 15.0, 30.0])
def test_head_bump_follows_speed(speed: float, tmp_path: Path) -> None:
    hz = np.geomspace(12.0, 400.0, 60) * speed / 15.0
    with_bump = magnitude(tmp_path, hz, speed_ips=speed)
    result = with_bump - magnitude(tmp_path, hz, speed_ips=speed, bump_pct=0.0)
    assert 40.0 <= hz[np.argmax(result)] * 15.0 / speed <= 80.0
    assert 1.0 <= result.max() <= 2.5
    assert -1.5 <= result.min() <= -0.5
    assert hz[np.argmin(result)] / hz[np.argmax(result)] == pytest.approx(2.0, abs=0.4)


def weighted_noise(folder: Path, **params: Any) -> float:
    """Noise in dB(A) against operating level, from ten seconds of silence."""
    out = tape(folder, np.zeros((1, 10 * RATE)), hiss=True, **params)[0]
    power = np.abs(np.fft.rfft(out)) ** 2 * 2.0 / out.size**2
    f2 = np.fft.rfftfreq(out.size, 1.0 / RATE) ** 2
    weighting = 10.0**0.1 * 12194.0**2 * f2**2 / (
        (f2 + 20.6**2) * np.sqrt((f2 + 107.7**2) * (f2 + 737.9**2)) * (f2 + 12194.0**2))
    rms = np.sqrt(np.sum(power * weighting**2))
    return float(decibels(rms) - (REFERENCE_DBFS - 10.0 * np.log10(2.0)))


@pytest.mark.parametrize(("stock", "requested"), [
    *((stock, figures.noise_dba) for stock, figures in STOCKS.items()), ("gangway", -54.5), ("steward", -51.0)])
def test_noise_by_stock(stock: str, requested: float, tmp_path: Path) -> None:
    assert weighted_noise(tmp_path, stock=stock) == pytest.approx(requested, abs=2.0)


@pytest.mark.parametrize(("speed", "standard", "more"), [
    (30.0, "aes", -3.6), (15.0, "nab", 2.1), (7.5, "iec", 4.2), (7.5, "nab", 2.0)])
def test_noise_by_speed_and_standard(speed: float, standard: str, more: float, tmp_path: Path) -> None:
    reference = weighted_noise(tmp_path)
    assert weighted_noise(tmp_path, speed_ips=speed, standard=standard) - reference == pytest.approx(more, abs=2.0)


@pytest.mark.parametrize("deck", ["purser", "cabin"])
@pytest.mark.parametrize("stock", ["steward", "gangway"])
def test_machines_made_for_the_slowest_speed_reach_10_khz(deck: str, stock: str, tmp_path: Path) -> None:
    hz = np.array([60.0, 250.0, 1000.0, 3000.0, 6000.0, 8000.0, 10000.0])
    found = magnitude(tmp_path, hz, speed_ips=1.875, deck=deck, stock=stock, bump_pct=0.0)
    assert np.abs(found).max() <= 3.0


def test_the_roll_off_is_the_decks_own_or_set(tmp_path: Path) -> None:
    hz = np.array([1000.0, 5000.0, 10000.0])
    own, lower = (magnitude(tmp_path, hz, **params) for params in ({}, {"rolloff_hz": 5000.0}))
    assert lower[1] - own[1] == pytest.approx(-3.0, abs=0.3)
    assert lower[2] - own[2] < -20.0


def test_linked_levels_keep_the_level(tmp_path: Path) -> None:
    quiet = tones(1000.0, QUIET)
    plain = harmonics(tape(tmp_path, quiet), 1000.0)[0, 0]
    for record in (-12.0, 6.0, 12.0):
        driven = harmonics(tape(tmp_path, quiet, link_levels=True, record_db=record), 1000.0)[0, 0]
        assert decibels(driven / plain) == pytest.approx(0.0, abs=0.5)


def test_level_reference_moves_the_operating_point(tmp_path: Path) -> None:
    out = harmonics(tape(tmp_path, tones(1000.0, np.array([REFERENCE_DBFS]))), 1000.0)[0, 0]
    assert decibels(out) == pytest.approx(REFERENCE_DBFS, abs=0.3)
