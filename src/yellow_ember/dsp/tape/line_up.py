"""Lining up a tape machine: what its meters read from an alignment tape and from an oscillator,
and the adjustments made in the order of the trade, playback first, then bias, then record."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.filters import high_shelf, low_shelf, response
from yellow_ember.dsp.parameters import Value, Values, as_number, as_pair
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.tape.machine import MAX_BIAS, MAX_SHELF, Machine, machine
from yellow_ember.dsp.tape.model import IPS, record_losses, remanence
from yellow_ember.dsp.tape.processor import SHELF_HIGH_HZ, SHELF_LOW_HZ, bump_sections

BIAS, AZIMUTH = "bias_db", "azimuth_arcmin"
LINE_UP_ORDER = (("1  Playback", ("play_db", AZIMUTH, "play_high_db", "play_low_db")), ("2  Bias", (BIAS,)),
                 ("3  Record", ("record_db", "record_high_db", "record_low_db")))
"""What is set, in the order of the trade."""
ALIGNED = tuple(name for _, names in LINE_UP_ORDER for name in names)
KEPT = (*ALIGNED, "operating_nwb")
"""The settings that an alignment which is kept holds."""
RATE = 48000
TONES = (100.0, 1000.0, 10000.0)
_SECONDS, _OVERSAMPLE, _BLOCK = 0.15, 4, 2048
_SMALL = 0.01


@dataclass(frozen=True, slots=True, eq=False)
class MeterReading:
    """What the meters show of one tone; pairs are left and right.

    Attributes
    ----------
    vu : tuple[float, float]
        DB against 0 VU for the tone's level.
    third_pct : tuple[float, float]
        Third harmonic.
    phase_deg : float
        By how much the left channel leads.
    scope : Samples
        (2, points), both waves.
    """

    hz: float
    vu: tuple[float, float]
    third_pct: tuple[float, float]
    phase_deg: float
    scope: Samples


def tone_level_db(hz: float) -> float:
    """Level of a line-up tone in dB against operating level: lower away from 1 kHz, as alignment tapes have it."""
    return 0.0 if hz == 1000.0 else -10.0


def quiet(values: Values) -> dict[str, Value]:
    """The machine as it is on the line-up bench: playing, levels not linked, without noise and motion."""
    return {**values, "monitor": "play", "link_levels": False, "hiss": False, "squash_pct": 0.0, "lean_db": 0.0,
            "clean_lows_hz": 20.0, "low_cut_hz": 20.0, "high_cut_hz": 20000.0, "noise_reduction": "off",
            "wow_pct": 0.0, "flutter_pct": 0.0, "drift_pct": 0.0, "scrape_pct": 0.0, "hum_db": -90.0,
            "crosstalk_db": -90.0, "mod_noise_db": -80.0, "transformers": False}


def _shelved(made: Machine, where: str, side: int, hz: Samples) -> Samples:
    """dB of the record or playback shelves of one side."""
    low, high = made.pair(f"{where}_low_db")[side], made.pair(f"{where}_high_db")[side]
    sections = np.array([low_shelf(SHELF_LOW_HZ, low, RATE), high_shelf(SHELF_HIGH_HZ, high, RATE)])
    return db(response(sections, hz, RATE))


def playback_response(values: Values, side: int, hz: Samples) -> Samples:
    """What the replay side makes of a tape recorded to its standard, in dB at some frequencies."""
    made = machine({**quiet(values), "coating_um": None})
    bump = response(np.array(bump_sections(made, RATE)), hz, RATE)
    level = db(made.record_amplifier(hz) * made.replay(hz, 0.0) * bump)
    return np.asarray(level + _shelved(made, "play", side, hz) + made.pair("play_db")[side])


def whole_response(values: Values, side: int, hz: Samples) -> Samples:
    """Small-signal response of recording and playing together, in dB at some frequencies."""
    made = machine(quiet(values))
    bias = made.pair("bias_db")[side]
    bump = response(np.array(bump_sections(made, RATE)), hz, RATE)
    sensitivity = _sensitivity(made, bias) - _sensitivity(made, 0.0)
    level = db(made.record_amplifier(hz) * made.replay(hz, bias) * bump) + sensitivity
    return np.asarray(level + _shelved(made, "record", side, hz) + _shelved(made, "play", side, hz)
                      + made.pair("record_db")[side] + made.pair("play_db")[side])


def from_alignment_tape(values: Values, hz: float, reference_dbfs: float) -> MeterReading:
    """The meters on a tone of the alignment tape.  Linear, so it is calculated."""
    made = machine(quiet(values))
    at = np.array([hz])
    level = [float(playback_response(values, side, at)[0]) for side in range(2)]
    ahead = made.width.apart_mm * 1e-3 * math.tan(math.radians(made.azimuth / 60.0)) / (made.speed * IPS)
    phase = 360.0 * hz * ahead
    time = np.linspace(0.0, 2.0, 240)
    waves = np.stack([gain(level[0]) * np.sin(2.0 * np.pi * time + math.radians(phase)),
                      gain(level[1]) * np.sin(2.0 * np.pi * time)])
    return MeterReading(hz, (level[0], level[1]), (0.0, 0.0), _wrapped(phase), waves)


def from_oscillator(values: Values, hz: float, reference_dbfs: float) -> MeterReading:
    """The meters on an oscillator's tone that is recorded and played back by the real process."""
    peak = gain(reference_dbfs + tone_level_db(hz))
    stage = StageSettings(id="line-up", kind="tape", params=quiet(values))
    chain = Chain(Setup(RATE, 2, _BLOCK, _OVERSAMPLE, reference_dbfs), [stage])
    frames = chain.latency + 2 * round(_SECONDS * RATE)
    time = np.arange(frames) / RATE
    sound: Samples = np.ascontiguousarray(np.tile(peak * np.sin(2.0 * np.pi * hz * time), (2, 1)))
    for start in range(0, frames, _BLOCK):
        part = np.ascontiguousarray(sound[:, start:start + _BLOCK])
        chain.process(part)
        sound[:, start:start + _BLOCK] = part
    heard, time = sound[:, -round(_SECONDS * RATE):], time[-round(_SECONDS * RATE):]
    window = np.hanning(heard.shape[1])
    parts = np.array([heard @ (window * np.exp(-2j * np.pi * hz * order * time)) for order in (1, 3)])
    parts *= 2.0 / window.sum()
    vu = db(np.abs(parts[0]) / peak)
    audible = 3.0 * hz < RATE / 2.0
    third = 100.0 * np.abs(parts[1] / parts[0]) if audible else np.zeros(2)
    phase = math.degrees(float(np.angle(parts[0][0] / parts[0][1])))
    shown = heard[:, :min(heard.shape[1], max(64, round(2.0 * RATE / hz)))] / peak
    return MeterReading(hz, (float(vu[0]), float(vu[1])), (float(third[0]), float(third[1])), _wrapped(phase), shown)


def _wrapped(degrees: float) -> float:
    return (degrees + 180.0) % 360.0 - 180.0


# -- bias -----------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True, eq=False)
class BiasCurves:
    """Of a stock at a speed against bias in dB: sensitivities in dB, third harmonic in %; (points,) each."""

    bias_db: Samples
    at_1k_db: Samples
    at_10k_db: Samples
    third_pct: Samples


def _sensitivity(made: Machine, bias: float) -> float:
    """Small-signal sensitivity of the record curve in dB."""
    return float(db(remanence(np.array([_SMALL]), made.stock, bias))[0])


def _at_10k(made: Machine, bias: float) -> float:
    lost = record_losses(np.array([10000.0]), made.coating, made.speed, bias)
    return _sensitivity(made, bias) + float(db(lost)[0])


def bias_curves(values: Values) -> BiasCurves:
    """The curves that a maker prints for a stock: 0 dB at the aligned bias."""
    made = machine(values)
    bias = np.linspace(-MAX_BIAS, MAX_BIAS, 49)
    phase = 2.0 * np.pi * np.arange(64) / 64
    third = []
    for at in bias:
        wave = remanence(made.field * np.sin(phase), made.stock, float(at))
        spectrum = np.abs(np.fft.rfft(wave))
        third.append(100.0 * spectrum[3] / spectrum[1])
    at_1k = np.array([_sensitivity(made, float(at)) for at in bias]) - _sensitivity(made, 0.0)
    at_10k = np.array([_at_10k(made, float(at)) for at in bias]) - _at_10k(made, 0.0)
    return BiasCurves(bias, at_1k, at_10k, np.array(third))


def over_bias_drop_db(values: Values) -> float:
    """By how much the 10 kHz output lies at the aligned bias under the greatest value that bias can be set to."""
    return float(bias_curves(values).at_10k_db.max())


# -- alignment ------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Step:
    """One step of a line-up: what was done, what it read before and after, and the settings now."""

    name: str
    sentence: str
    values: dict[str, Value]


_MOST = {"play_db": 24.0, "record_db": 24.0}


def _with(values: dict[str, Value], name: str, left: float, right: float) -> dict[str, Value]:
    most = _MOST.get(name, MAX_SHELF)
    sides = [round(min(max(side, -most), most), 2) for side in (left, right)]
    return {**values, name: sides[0] if sides[0] == sides[1] else (sides[0], sides[1])}


def line_up(values: Values, reference_dbfs: float) -> Iterator[Step]:
    """All steps in order; each starts from what the one before left."""
    now = dict(values)
    for name, what, hz, read in (
            ("Playback level", "play_db", 1000.0, from_alignment_tape), ("Azimuth", "", 10000.0, from_alignment_tape),
            ("Playback highs", "play_high_db", 10000.0, from_alignment_tape),
            ("Playback lows", "play_low_db", 100.0, from_alignment_tape),
            ("Bias", "bias_db", 10000.0, from_oscillator), ("Record level", "record_db", 1000.0, from_oscillator),
            ("Record highs", "record_high_db", 10000.0, from_oscillator),
            ("Record lows", "record_low_db", 100.0, from_oscillator)):
        if what == "":
            now, sentence = _azimuth(now, reference_dbfs)
        elif what == "bias_db":
            now, sentence = _bias(now, reference_dbfs)
        else:
            before = read(now, hz, reference_dbfs).vu
            for _ in range(4):
                vu = read(now, hz, reference_dbfs).vu
                left, right = as_pair(now[what])
                now = _with(now, what, left - vu[0], right - vu[1])
            after = read(now, hz, reference_dbfs).vu
            sentence = f"{hz:g} Hz from {_two(before)} to {_two(after)} VU"
        yield Step(name, sentence, now)


def _two(pair: tuple[float, float]) -> str:
    return f"{pair[0]:+.1f}/{pair[1]:+.1f}"


def _azimuth(values: dict[str, Value], reference_dbfs: float) -> tuple[dict[str, Value], str]:
    """Turn the head until both channels are in phase at 10 kHz."""
    before = from_alignment_tape(values, 10000.0, reference_dbfs).phase_deg
    now, step = dict(values), 4.0
    for _ in range(24):
        here = as_number(now["azimuth_arcmin"])
        tried = [here - step, here, here + step]
        # Near the truth the channels' level is greatest and their phases agree.
        error = [abs(from_alignment_tape({**now, "azimuth_arcmin": at}, 1000.0, reference_dbfs).phase_deg)
                 for at in tried]
        best = tried[int(np.argmin(error))]
        step *= 0.5 if best == here else 1.0
        now["azimuth_arcmin"] = round(min(max(best, -30.0), 30.0), 3)
    after = from_alignment_tape(now, 10000.0, reference_dbfs).phase_deg
    return now, f"left leads by {before:.0f} degrees at 10 kHz, then {after:.0f}"


_TRIED: Samples = np.linspace(-MAX_BIAS, MAX_BIAS, 25)
_MAX_STRAY = 3.0


def _over_bias_curve(values: Values, reference_dbfs: float) -> Samples:
    """10 kHz output of both channels as bias is raised through its range, (points, 2) in VU."""
    return np.array([from_oscillator({**values, "bias_db": float(bias)}, 10000.0, reference_dbfs).vu
                     for bias in _TRIED])


def _bias(values: dict[str, Value], reference_dbfs: float) -> tuple[dict[str, Value], str]:
    """Raise bias past the peak of the 10 kHz output, and set it where the drop is the stock's.

    The peak of some stocks lies below what can be set, so the whole falling side is laid over
    that of a machine without errors; how far it had to be moved is the channel's error.
    """
    ideal = _over_bias_curve({**values, "channel_spread_pct": 0.0}, reference_dbfs)[:, 0]
    result = _over_bias_curve(values, reference_dbfs)
    falling = np.linspace(-2.0, MAX_BIAS - _MAX_STRAY, 60)

    def misfit(stray: float, curve: Samples) -> float:
        apart = np.interp(falling, _TRIED, curve) - np.interp(falling + stray, _TRIED, ideal)
        return float(np.var(apart))

    strays = np.linspace(-_MAX_STRAY, _MAX_STRAY, 601)
    sides = [-float(strays[np.argmin([misfit(stray, curve) for stray in strays])]) for curve in result.T]
    now = _with(values, "bias_db", sides[0], sides[1])
    return now, f"over-biased by {over_bias_drop_db(values):.1f} dB at 10 kHz: {_two((sides[0], sides[1]))} dB"
