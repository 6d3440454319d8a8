"""Loudness against an independent implementation, what was added against known additions."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyloudnorm
import pytest
from scipy import signal as sps

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.filters import tilt
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.meters import needle
from yellow_ember.dsp.metering import LoudnessMeter, needle_speed, vu_amplitude
from yellow_ember.measure.character import character
from yellow_ember.measure.comparison import Before, compare
from yellow_ember.measure.loudness import LoudnessScan, loudness

RATE = 48000
SECONDS = 6


def noise_like(rng: np.random.Generator) -> Samples:
    return 0.1 * rng.standard_normal((2, SECONDS * RATE))


def musical(rng: np.random.Generator) -> Samples:
    """Plucked tones over a quiet floor."""
    time = np.arange(SECONDS * RATE) / RATE
    tones = sum(np.sin(2 * np.pi * f * time) for f in (110.0, 165.3, 220.7, 331.1, 1203.0))
    envelope = np.exp(-(time % 0.5) * 6.0)
    return 0.08 * tones * envelope + 1e-3 * rng.standard_normal((2, time.size))


Source = Callable[[np.random.Generator], Samples]
SOURCES = pytest.mark.parametrize("source", [noise_like, musical])


@SOURCES
@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_integrated_loudness_agrees_with_an_independent_meter(source: Source, rate: int,
                                                              rng: np.random.Generator) -> None:
    sound = source(rng)
    requested = pyloudnorm.Meter(rate).integrated_loudness(sound.T)
    assert loudness(sound, rate).integrated_lufs == pytest.approx(requested, abs=0.1)


def test_a_1_khz_sine_reads_what_the_standard_says() -> None:
    tone = np.sin(2 * np.pi * 997.0 * np.arange(5 * RATE) / RATE)
    result = loudness(np.stack([tone, np.zeros_like(tone)]), RATE)
    assert result.integrated_lufs == pytest.approx(-3.01, abs=0.05)
    assert result.true_peak_dbtp == pytest.approx(0.0, abs=0.2)
    assert result.crest_db == pytest.approx(6.02, abs=0.05)


def test_true_peak_sees_between_samples() -> None:
    tone = 0.5 * np.sin(2 * np.pi * RATE / 4 * np.arange(RATE) / RATE + np.pi / 4)[None, :]
    result = loudness(tone, RATE)
    assert result.peak_dbfs == pytest.approx(-9.03, abs=0.05)
    assert result.true_peak_dbtp == pytest.approx(-6.02, abs=0.3)


def test_loudness_does_not_depend_on_blocks_and_knows_silence(rng: np.random.Generator) -> None:
    sound = noise_like(rng)
    scan = LoudnessScan(RATE, 2)
    for start in range(0, sound.shape[1], 777):
        scan.push(sound[:, start:start + 777])
    assert scan.result().integrated_lufs == pytest.approx(loudness(sound, RATE).integrated_lufs, abs=1e-9)
    assert loudness(np.zeros((1, RATE)), RATE).integrated_lufs == -np.inf
    assert np.isfinite(loudness(sound[:, :2000], RATE).integrated_lufs)


def test_needle_takes_300_ms_and_overshoots_a_little() -> None:
    needles, peak = np.zeros((1, 2)), np.zeros(1)
    tone = 0.125 * np.sin(2 * np.pi * 1000.0 * np.arange(2 * RATE) / RATE)
    readings = []
    for start in range(0, tone.size, 48):
        needle(np.ascontiguousarray(tone[None, start:start + 48]), needle_speed(RATE), needles, peak)
        readings.append(float(vu_amplitude(needles)[0]) / 0.125)
    reached = np.argmax(np.array(readings) >= 0.99)
    assert reached * 1e-3 == pytest.approx(0.3, abs=0.03)
    assert 1.005 <= max(readings) <= 1.02
    assert readings[-1] == pytest.approx(1.0, abs=0.005)


def test_running_loudness_agrees_with_the_scan(rng: np.random.Generator) -> None:
    sound = noise_like(rng)
    meter = LoudnessMeter(RATE, 2)
    for start in range(0, sound.shape[1], 480):
        meter.process(np.ascontiguousarray(sound[:, start:start + 480]))
    assert meter.short_term == pytest.approx(loudness(sound, RATE).short_term_max_lufs, abs=0.3)


# -- added ----------------------------------------------------------------------------------


@SOURCES
@pytest.mark.parametrize("level", [-30.0, -50.0, -70.0])
def test_added_reads_a_known_addition(source: Source, level: float, rng: np.random.Generator) -> None:
    before = source(rng)
    added = rng.standard_normal(before.shape)
    added *= 10.0 ** (level / 20.0) * np.std(before) / np.std(added)
    # Noise reaches up to 24 kHz and what was added is read up to 20 kHz.
    audible = 10.0 * np.log10(20.0 / 24.0) if source is musical else 0.0
    assert compare(before, before + added, RATE, loop=True).added_db == pytest.approx(level + audible, abs=1.0)


def twice_round(before: Samples, system: Samples) -> Samples:
    """A loop through a filter, the second time round."""
    return sps.sosfilt(system, np.tile(before, 2), axis=1)[:, before.shape[1]:]


@SOURCES
def test_filters_and_delays_add_nothing(source: Source, rng: np.random.Generator) -> None:
    before = source(rng)
    low, high = (4, 3000.0, "lowpass"), (2, 120.0, "highpass")
    for system in (sps.butter(*design, fs=RATE, output="sos") for design in (low, high)):
        assert compare(before, twice_round(before, system), RATE, loop=True).added_db < -90.0
    assert compare(before, np.roll(before, 300, axis=1), RATE, loop=True).added_db < -90.0
    assert compare(before, -0.3 * before, RATE, loop=True).added_db < -150.0


def test_tone_change_is_the_filters_response(rng: np.random.Generator) -> None:
    before = noise_like(rng)
    system = sps.butter(2, 1000.0, fs=RATE, output="sos")
    result = compare(before, twice_round(before, system), RATE, loop=True)
    _, requested = sps.sosfreqz(system, result.bands, fs=RATE)
    inside = (result.bands > 100.0) & (result.bands < 4000.0)
    assert result.tone_db[inside] == pytest.approx(20.0 * np.log10(np.abs(requested[inside])), abs=0.7)


def test_band_levels_add_up(rng: np.random.Generator) -> None:
    before = noise_like(rng)
    result = compare(before, 2.0 * before, RATE, loop=True)
    total = 10.0 * np.log10(np.sum(10.0 ** (result.before_db / 10.0)))
    requested = 10.0 * np.log10(np.mean(before**2) * (22387.0 - 17.8) / 24000.0)
    assert total == pytest.approx(requested, abs=0.1)
    assert result.after_db - result.before_db == pytest.approx(np.full(31, 6.02), abs=0.01)


@pytest.mark.parametrize("channels", [1, 2])
def test_a_quick_comparison_comes_near_the_whole_one(channels: int, rng: np.random.Generator) -> None:
    before = 0.1 * rng.standard_normal((channels, 48000))
    after = np.tanh(4.0 * before + 0.1) + sps.lfilter([1.0, 0.5], [1.0], before)
    quick, whole = Before(before, 48000.0, quick=True).against(after), compare(before, after, 48000.0)
    assert quick.added_db == pytest.approx(whole.added_db, abs=0.2)
    heard = whole.bands > 100.0
    # The levels of noise are told from a quarter of it, what is done to it not.
    for name, most in (("before_db", 1.0), ("after_db", 1.0), ("added_bands_db", 1.0), ("tone_db", 0.3)):
        assert np.abs(getattr(quick, name) - getattr(whole, name))[heard].max() < most


def test_lengths_must_agree() -> None:
    with pytest.raises(ValueError, match="lengths differ: 100 and 99 frames"):
        compare(np.zeros((1, 100)), np.zeros((1, 99)), RATE)


def test_character_is_what_is_added_and_tilt(rng: np.random.Generator) -> None:
    spectrum = np.fft.rfft(rng.standard_normal((1, 4 * 48000)), axis=1)
    hz = np.fft.rfftfreq(4 * 48000, 1.0 / 48000.0)
    pink = np.fft.irfft(spectrum / np.sqrt(np.maximum(hz, 20.0)), axis=1)
    # Silent at both ends, so that a filter's tail is not cut off.
    pink *= np.hanning(pink.shape[1])
    pink *= 0.1 / pink.std()
    darker = pink.copy()
    biquads(darker, np.array([tilt(700.0, -9.0, 48000.0)]), np.zeros((1, 1, 2)))
    result = character(pink, darker, 48000.0)
    assert -2.0 < result.brightness < -0.8
    assert result.added_db < -70.0
    noisy = pink + 0.01 * rng.standard_normal(pink.shape)
    assert character(pink, noisy, 48000.0).added_db == pytest.approx(-20.0, abs=0.5)
