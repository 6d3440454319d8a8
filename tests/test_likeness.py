"""What makes recordings alike: every figure against sounds of which it is known, and how far sounds are apart."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.bands import BAND_CENTRES
from yellow_ember.measure.likeness.density import density
from yellow_ember.measure.likeness.distance import Respect, distance, spread, tone_apart_db
from yellow_ember.measure.likeness.dynamics import dynamics
from yellow_ember.measure.likeness.faults import faults
from yellow_ember.measure.likeness.figures import figure_curve, figure_words
from yellow_ember.measure.likeness.floor import floor
from yellow_ember.measure.likeness.frames import OCTAVES, frames_of
from yellow_ember.measure.likeness.performance import Change, aligned, tone_apart, tone_lacking_db
from yellow_ember.measure.likeness.portrait import portrait
from yellow_ember.measure.likeness.speed import speed
from yellow_ember.measure.likeness.tone import tone
from yellow_ember.measure.likeness.whole_tone import ToneBetween, tone_between, whole_tone_db
from yellow_ember.measure.likeness.width import width

RATE = 48000


def noise(seconds: float, seed: int = 1, channels: int = 1) -> Samples:
    return 0.1 * np.random.default_rng(seed).standard_normal((channels, round(seconds * RATE)))


def notes(hertz: list[float], seed: int = 1, length: float = 0.5) -> Samples:
    """Plucked notes one after the other, each with ten partials and a breath of noise at its start."""
    chance, t = np.random.default_rng(seed), np.arange(round(length * RATE)) / RATE
    played = []
    for hz in hertz:
        partials = sum(np.sin(2.0 * np.pi * k * hz * t + chance.uniform(0.0, 6.0)) / k for k in range(1, 11))
        played.append(np.exp(-4.0 * t) * (0.2 * partials + 0.02 * chance.standard_normal(t.size) * np.exp(-80.0 * t)))
    return np.concatenate(played)[None]


FIRST, SECOND = [110.0, 147.0, 165.0, 131.0, 110.0, 196.0], [123.0, 98.0, 185.0, 139.0, 165.0, 104.0]


def test_tone_tells_a_filter_from_another_level() -> None:
    sos = butter(1, 1000.0, fs=RATE, output="sos")
    plain, dark = portrait([noise(3.0)], RATE), portrait([2.0 * sosfilt(sos, noise(3.0))], RATE)
    apart = tone_apart_db(plain, dark)
    expected = -10.0 * np.log10(1.0 + (np.tan(np.pi * BAND_CENTRES / RATE) / np.tan(np.pi * 1000.0 / RATE)) ** 2)
    middle = (BAND_CENTRES > 200.0) & (BAND_CENTRES < 6000.0)
    # Which frames count as loud is not the same behind a filter.
    assert np.ptp((apart - expected)[middle]) < 1.6
    louder = tone(frames_of([5.0 * noise(3.0)], RATE))
    assert louder.loud_db == pytest.approx(tone(frames_of([noise(3.0)], RATE)).loud_db, abs=1e-6)


def test_density_tells_noise_from_partials_and_odd_from_even() -> None:
    hiss = density(frames_of([noise(3.0)], RATE))
    played = density(frames_of([notes(FIRST)], RATE))
    # The mean logarithm of a chi-squared spectrum lies 2.5 dB below its mean.
    assert hiss.flatness_db[3:] == pytest.approx(-2.5, abs=0.5)
    assert np.all(played.tonal_db[2:5] > hiss.tonal_db[2:5] + 12.0)
    assert hiss.pitched < 0.1
    t = np.arange(2 * RATE) / RATE
    wave = 0.5 * np.sin(2.0 * np.pi * 220.0 * t)[None]
    odd, even = (density(frames_of([bent], RATE)).odd_even_db for bent in (np.tanh(6.0 * wave), wave + wave**2))
    assert odd > 20.0
    assert even < -20.0
    assert density(frames_of([np.tanh(6.0 * wave)], RATE)).pitched > 0.9


def test_dynamics_of_a_tone_and_of_strokes() -> None:
    t = np.arange(2 * RATE) / RATE
    tone_crest = dynamics([np.sin(2.0 * np.pi * 1000.0 * t)[None]], RATE)
    # A tone that begins and ends rings in a band by itself.
    assert tone_crest.crest_db[4] == pytest.approx(3.0, abs=0.8)
    assert tone_crest.range_db < 1.0
    strokes = noise(2.0) * np.exp(-30.0 * (t % 0.25))
    struck = dynamics([strokes], RATE)
    assert struck.crest_db[4] > 12.0
    assert struck.attack_db_per_ms > 1.0
    assert struck.sure > 0.8
    soft = noise(2.0) * np.minimum(1.0, (t % 0.25) / 0.1) * np.exp(-10.0 * (t % 0.25))
    assert dynamics([soft], RATE).attack_db_per_ms < struck.attack_db_per_ms


@pytest.mark.parametrize("level_db", [-40.0, -55.0])
def test_the_floor_between_notes_is_measured(level_db: float) -> None:
    t = np.arange(4 * RATE) / RATE
    played = np.sin(2.0 * np.pi * 700.0 * t) * (t % 1.0 < 0.6)
    hiss = 10.0 ** (level_db / 20.0) * np.sqrt(0.5) * noise(4.0)[0] / 0.1
    found = floor(frames_of([(played + hiss)[None]], RATE))
    # White noise between 20 Hz and 20 kHz is a little less than all of it.
    assert found.total_db == pytest.approx(level_db - 0.8, abs=1.5)
    assert found.sure > 0.5
    assert floor(frames_of([noise(3.0)], RATE)).sure < 0.1


def test_hum_is_told_from_hiss() -> None:
    t = np.arange(4 * RATE) / RATE
    played = np.sin(2.0 * np.pi * 700.0 * t) * (t % 1.0 < 0.6) + 0.001 * noise(4.0)[0]
    hum = 0.003 * sum(np.sin(2.0 * np.pi * 50.0 * k * t) for k in (1, 2, 3))
    assert floor(frames_of([(played + hum)[None]], RATE)).hum_db > floor(
        frames_of([played[None]], RATE)).hum_db + 12.0


@pytest.mark.parametrize(("rate_hz", "which"), [(1.5, "wow_pct"), (3.0, "wow_pct"), (12.0, "flutter_pct")])
@pytest.mark.parametrize("percent", [0.1, 0.5])
def test_wow_and_flutter_are_read_from_partials(rate_hz: float, which: str, percent: float) -> None:
    t = np.arange(4 * RATE) / RATE
    moved = t + percent / 100.0 * 2.0**0.5 * np.sin(2.0 * np.pi * rate_hz * t) / (2.0 * np.pi * rate_hz)
    sound = sum(np.sin(2.0 * np.pi * 220.0 * k * moved) / k for k in range(1, 6))[None]
    found = speed([0.2 * sound], RATE)
    assert getattr(found, which) == pytest.approx(percent, rel=0.25)
    other = "flutter_pct" if which == "wow_pct" else "wow_pct"
    assert getattr(found, other) < 0.3 * percent
    assert found.sure > 0.9
    assert speed([noise(2.0)], RATE).sure < 0.3


def test_width_is_read_by_octave() -> None:
    middle, side = noise(3.0, 1)[0], noise(3.0, 2)[0]
    found = width(frames_of([np.stack((middle + 0.5 * side, middle - 0.5 * side))], RATE))
    assert found.side_db[2:] == pytest.approx(-6.0, abs=0.7)
    assert found.correlation[2:] == pytest.approx(0.6, abs=0.08)
    assert width(frames_of([noise(3.0)], RATE)).sure == 0.0


def test_clicks_and_dropouts_are_counted() -> None:
    t = np.arange(4 * RATE) / RATE
    sound = 0.3 * np.sin(2.0 * np.pi * 300.0 * t) + 0.0005 * noise(4.0)[0]
    clicked, holed = sound.copy(), sound.copy()
    clicked[np.arange(1, 9) * RATE // 2 - 5000] += 0.4
    for at in (0.7, 1.9, 3.1):
        holed[round(at * RATE):round((at + 0.05) * RATE)] *= 0.05
    plain = faults([sound[None]], RATE)
    assert (plain.clicks_per_s, plain.dropouts_per_min) == (0.0, 0.0)
    assert faults([clicked[None]], RATE).clicks_per_s == pytest.approx(2.0, abs=0.3)
    assert faults([holed[None]], RATE).dropouts_per_min == pytest.approx(45.0)


def test_other_notes_of_one_sound_are_nearer_than_the_same_notes_of_another() -> None:
    def driven(sound: Samples) -> Samples:
        return np.tanh(8.0 * sound) * 0.3

    played = [notes(FIRST, 1), notes(SECOND, 2)]
    plain, others = (portrait([sound], RATE) for sound in played)
    bent, bent_others = (portrait([driven(sound)], RATE) for sound in played)
    spreads = [spread([portrait([sound[:, at:at + RATE]], RATE) for at in (0, RATE, 2 * RATE)]) for sound in played]
    weights = dict.fromkeys(Respect, 1.0)
    assert distance(plain, plain).total(weights) == 0.0
    assert distance(bent, bent_others, spreads).total(weights) < distance(bent, others, spreads).total(weights)
    assert distance(bent, bent_others, spreads).steps[Respect.ADDED] < distance(
        plain, bent_others, spreads).steps[Respect.ADDED]
    # What changes with the notes counts less once that is known.
    assert distance(plain, others, spreads).total(weights) < distance(plain, others).total(weights)


def test_what_does_not_matter_has_no_part_in_the_sum() -> None:
    one, other = portrait([noise(3.0)], RATE), portrait([notes(FIRST)], RATE)
    apart = distance(one, other)
    alone = {respect: float(respect is Respect.TONE) for respect in Respect}
    assert apart.total(alone) == pytest.approx(apart.steps[Respect.TONE])


@pytest.mark.parametrize("unexplained", [0.5, 3.0])
def test_what_stays_unexplained_hides_no_other_difference(unexplained: float) -> None:
    """As what two noises leave of each other is the same whatever else is right, it must not cover that."""
    one, other = portrait([noise(3.0)], RATE), portrait([notes(FIRST)], RATE)
    apart = distance(one, other)
    added = {respect: float(respect is Respect.ADDED) for respect in Respect}
    beside = replace(apart, unexplained=unexplained)
    assert beside.total(added) == pytest.approx(apart.total(added) + unexplained)
    assert beside.steps[Respect.TONE] == apart.steps[Respect.TONE]
    assert np.square(beside.figures(added)).sum() == pytest.approx(
        np.square(apart.figures(added)).sum() + unexplained**2)


def test_third_octaves_are_compared_as_they_are_heard() -> None:
    """With what was added in them, at their best level against each other, and not where nobody hears them."""
    before, bands = np.full(31, -15.0), np.arange(31)
    after = np.where(bands < 20, -15.0, -90.0)
    low, lower = (Change(-20.0, before, after - down, np.full(31, -40.0)) for down in (0.0, 3.0))
    assert np.abs(tone_apart(low, lower)[:20]).max() < 1e-9
    dull = Change(-20.0, before, np.where(bands < 20, -15.0, -75.0), low.added_bands_db)
    assert np.abs(tone_apart(low, dull)).max() == 0.0
    bright = Change(-20.0, before, np.where(bands == 12, -9.0, after), low.added_bands_db)
    lacking = tone_lacking_db(low, bright)
    assert lacking[12] == pytest.approx(6.0)
    assert np.abs(np.delete(lacking, 12)).max() == 0.0
    # What lies too deep after either lacks nothing, even of a sound whose other third octaves all came up.
    deep = Change(-20.0, before, np.where(bands < 20, -12.0, -95.0), low.added_bands_db)
    assert not tone_lacking_db(lower, deep).any()
    silent = Change(-20.0, np.full(31, -90.0), np.full(31, -90.0), low.added_bands_db)
    assert np.isnan(tone_lacking_db(silent, silent)).all()
    assert not tone_apart(silent, silent).any()


def test_a_whole_tone_tells_the_level_of_each_third_octave() -> None:
    """Against all of them, even of the lowest, and not of what lies too deep."""
    t = np.arange(3 * RATE) / RATE
    sines = sum(10.0 ** (level / 20.0) * np.sin(2.0 * np.pi * BAND_CENTRES[band] * t)
                for band, level in ((1, 0.0), (10, -12.0), (25, -40.0), (29, -90.0)))
    both = whole_tone_db([np.stack([sines, sines])[:, :RATE], np.stack([sines, sines])[:, RATE:]], RATE)
    expected = np.full(31, -60.0)
    expected[[1, 10, 25]] = np.array([0.0, -12.0, -40.0]) - 10.0 * np.log10(1.0 + 10.0**-1.2 + 1e-4)
    assert both[[1, 10, 25, 29]] == pytest.approx(expected[[1, 10, 25, 29]], abs=0.3)
    assert whole_tone_db([5.0 * sines[None]], RATE) == pytest.approx(whole_tone_db([sines[None]], RATE), abs=1e-6)
    # What is shorter than a frame is read as far as it goes.
    assert whole_tone_db([sines[None, :RATE // 10]], RATE)[10] == pytest.approx(expected[10], abs=1.0)


def test_two_performances_tell_what_was_done_to_the_tone_of_both_and_how_sure_that_is() -> None:
    sos = butter(1, 1000.0, fs=RATE, output="sos")
    wanted = -10.0 * np.log10(1.0 + (np.tan(np.pi * BAND_CENTRES / RATE) / np.tan(np.pi * 1000.0 / RATE)) ** 2)
    middle = (BAND_CENTRES > 200.0) & (BAND_CENTRES < 10000.0)
    steady = tone_between(noise(8.0, seed=1), sosfilt(sos, noise(8.0, seed=2)), RATE)
    assert np.ptp((steady.change_db - wanted)[middle]) < 1.5
    played = tone_between(notes(FIRST * 3), sosfilt(sos, notes(SECOND * 3)), RATE)
    # By how much notes differ is known from part to part, and covers what is missed.
    missed = (played.change_db - wanted)[middle & played.heard]
    assert np.median(np.abs(missed - np.median(missed)) / played.error_db[middle & played.heard]) < 2.0
    assert np.median(played.error_db[middle]) > 2.0 * np.median(steady.error_db[middle])
    # A pause is no part of either, though something hisses in it.
    paused = np.concatenate((notes(FIRST * 3), 1e-4 * noise(8.0)), axis=1)
    through = tone_between(paused, sosfilt(sos, notes(SECOND * 3)), RATE)
    assert np.median(through.error_db[middle]) < 1.5 * np.median(played.error_db[middle])
    assert np.abs(through.change_db - played.change_db)[played.heard].max() < 1.5
    # Of one note nothing tells what another would have been.
    assert not tone_between(notes([110.0]), notes([110.0]), RATE).compared_with(np.zeros(31)).any()


def test_third_octaves_are_compared_that_are_sure_and_heard_in_any() -> None:
    between = ToneBetween(np.zeros(31), np.where(np.arange(31) < 5, 9.0, 1.0), np.arange(31) < 10)
    after = np.where((np.arange(31) == 3) | (np.arange(31) == 20), -20.0, -60.0)
    assert np.flatnonzero(between.compared_with(after)).tolist() == [5, 6, 7, 8, 9, 20]


@pytest.mark.parametrize("lag", [0, 1234, -3000])
def test_the_same_performance_is_known_and_lined_up(lag: int) -> None:
    sound = notes(FIRST) + 0.02 * noise(3.0)
    treated = sosfilt(butter(1, 3000.0, fs=RATE, output="sos"), np.tanh(2.0 * sound))
    shifted = np.pad(treated, ((0, 0), (lag, 0))) if lag >= 0 else treated[:, -lag:]
    assert aligned(sound, shifted, RATE) == pytest.approx(lag, abs=8)
    # A delay as filters have it is left to the chain that is looked for.
    assert aligned(sound, np.pad(treated, ((0, 0), (200, 0))), RATE) == 0
    assert aligned(sound, notes(SECOND, 2) + 0.02 * noise(3.0, seed=5), RATE) is None


def test_a_performance_is_known_that_begins_after_a_silence() -> None:
    """Where four seconds are all silent, and then half of the strip is not: by what is heard of both."""
    sound = np.pad(notes(FIRST) + 0.02 * noise(3.0), ((0, 0), (6 * RATE, 0)))
    treated = sosfilt(butter(1, 3000.0, fs=RATE, output="sos"), np.tanh(2.0 * sound))
    assert aligned(sound, treated, RATE) == 0
    other = np.pad(notes(SECOND, 2) + 0.02 * noise(3.0, seed=5), ((0, 0), (6 * RATE, 0)))
    assert aligned(sound, other, RATE) is None


@pytest.mark.parametrize("same", [True, False])
def test_a_chord_that_both_play_does_not_make_them_one_performance(same: bool) -> None:
    """The loudest four seconds are alike, and three seconds later; what follows tells."""
    t = np.arange(4 * RATE) / RATE
    chord = np.sum([np.sin(2.0 * np.pi * hz * partial * t + partial) / partial
                    for hz in (98.0, 147.0, 233.0, 311.0) for partial in range(1, 25)], axis=0)[None]
    first, second = notes(SECOND, 2), notes(SECOND if same else FIRST[::-1], 2 if same else 5)
    one = np.concatenate((notes(FIRST), 0.2 * chord, first), axis=1) + 1e-3 * noise(10.0)
    other = np.concatenate((0.2 * chord, second), axis=1) + 1e-3 * noise(7.0, seed=3)
    assert aligned(one, np.tanh(other), RATE) == (-3 * RATE if same else None)


def test_every_respect_has_words_and_a_curve() -> None:
    for sound in (noise(2.0), notes(FIRST), noise(2.0, channels=2)):
        one = portrait([sound], RATE)
        for respect in Respect:
            assert figure_words(one, respect)
            hz, values, unit = figure_curve(one, respect)
            assert hz.shape == values.shape
            assert np.isfinite(values).any()
            assert unit in ("dB", "%")
    assert OCTAVES.size == 8
