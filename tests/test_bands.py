"""Band saturation through `yellow-ember process`: transparency, bands, order, feedback, filter, glue."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tones import RATE, Signal, decibels, process
from yellow_ember.dsp.shapes import SHAPES

FIVE = [100.0, 400.0, 1500.0, 6000.0]


def bands(folder: Path, signal: Signal, *options: str, **params: Any) -> Signal:
    return process(folder, signal, {"kind": "bands", "params": params}, options=options)


def each(name: str, value: Any, numbers: range = range(1, 6)) -> dict[str, Any]:
    return {f"band{number}_{name}": value for number in numbers}


AT_REST = {**each("drive_db", 0.0), **each("gain_db", 0.0)}
SHAPES_AT_24 = {**each("drive_db", 24.0), **each("gain_db", -12.0)}


def tone(hz: float, dbfs: float = -18.0, seconds: float = 1.0) -> Signal:
    return 10.0 ** (dbfs / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)[None, :]


def level(out: Signal, hz: float) -> float:
    part = out[0, out.shape[1] // 2:]
    window = np.hanning(part.size)
    wave = np.exp(-2j * np.pi * hz * np.arange(part.size) / RATE)
    return float(decibels(2.0 * np.abs(np.sum(part * window * wave)) / window.sum()))


@pytest.mark.parametrize("edges", [[800.0], [150.0, 900.0, 4500.0], FIVE, [120.0, 160.0, 210.0, 280.0]])
@pytest.mark.parametrize("split", ["linkwitz-riley", "linear"])
@pytest.mark.parametrize("order", ["parallel", "series"])
def test_at_rest_only_the_phase_changes(order: str, split: str, edges: list[float], tmp_path: Path) -> None:
    before = np.zeros((1, RATE))
    before[0, RATE // 4] = 0.25
    after = bands(tmp_path, before, order=order, split=split, edges_hz=edges, **AT_REST)
    ratio = np.fft.rfft(after[0]) / np.fft.rfft(before[0])
    hz = np.fft.rfftfreq(RATE, 1.0 / RATE)
    band = (hz > 20.0) & (hz < 20000.0)
    assert np.abs(decibels(np.abs(ratio[band]))).max() < 0.1
    if split == "linear" or order == "series":
        assert np.abs(ratio[band] - 1.0).max() < 1e-3


@pytest.mark.parametrize("factor", [2, 4, 8, 16])
def test_quiet_sounds_keep_their_tone_through_the_shapes(factor: int, tmp_path: Path) -> None:
    """Too quiet to be bent, driven by 12 dB in all bands: flat to 20 kHz."""
    before = np.zeros((1, RATE))
    before[0, RATE // 4] = 1e-3
    after = bands(tmp_path, before, "--oversample", str(factor), **each("drive_db", 12.0), **each("gain_db", -12.0))
    ratio = np.fft.rfft(after[0]) / np.fft.rfft(before[0])
    hz = np.fft.rfftfreq(RATE, 1.0 / RATE)
    assert np.abs(decibels(np.abs(ratio[(hz > 20.0) & (hz < 20000.0)]))).max() < 0.1


@pytest.mark.parametrize("split", ["linkwitz-riley", "linear"])
def test_only_the_driven_band_distorts(split: str, tmp_path: Path) -> None:
    both = tone(80.0) + tone(3000.0)
    params = {**AT_REST, "band1_drive_db": 24.0, "band1_gain_db": -12.0, "split": split}
    out = bands(tmp_path, both, **params)
    assert level(out, 240.0) - level(out, 80.0) > -20.0
    assert level(out, 9000.0) - level(out, 3000.0) < -80.0
    assert level(out, 3000.0) == pytest.approx(-18.0, abs=0.2)
    assert level(out, 3080.0) < -80.0, "bands side by side know nothing of each other"


def test_in_series_later_bands_bend_what_earlier_ones_added(tmp_path: Path) -> None:
    """A 100 Hz tone in the lowest band; its harmonics reach the upper bands only in series."""
    params = {**AT_REST, "edges_hz": [200.0, 1000.0], **each("drive_db", 24.0), **each("gain_db", -6.0),
              **each("shape", "hard")}
    apart, through = (bands(tmp_path, tone(100.0, -6.0), order=order, **params) for order in ("parallel", "series"))
    assert np.abs(apart - through).max() > 0.02
    lone = {**params, **each("drive_db", 0.0, range(2, 4)), **each("gain_db", 0.0, range(2, 4))}
    harmonics = [level(bands(tmp_path, tone(100.0, -6.0), order="series", **chosen), 1500.0)
                 for chosen in (params, lone)]
    assert abs(harmonics[0] - harmonics[1]) > 3.0


@pytest.mark.parametrize("order", ["parallel", "series"])
def test_gain_mix_solo_and_off(order: str, tmp_path: Path) -> None:
    signal = tone(50.0) + tone(2000.0)
    base = {**AT_REST, "order": order}
    lifted = bands(tmp_path, signal, **{**base, "band3_gain_db": 6.0})
    assert level(lifted, 2000.0) == pytest.approx(-12.0, abs=0.7)
    assert level(lifted, 50.0) == pytest.approx(-18.0, abs=0.3)
    alone = bands(tmp_path, signal, **{**base, "band3_solo": True})
    assert level(alone, 2000.0) == pytest.approx(-18.0, abs=0.7)
    assert level(alone, 50.0) < (-60.0 if order == "parallel" else -40.0)
    hot = {**base, "band3_drive_db": 24.0, "band3_gain_db": -12.0}
    thirds = [level(bands(tmp_path, signal, **{**hot, **extra}), 6000.0)
              for extra in ({}, {"band3_mix_pct": 25.0}, {"band3_on": False})]
    assert thirds[0] - thirds[1] == pytest.approx(12.0, abs=1.0)
    assert thirds[2] < -80.0


@pytest.mark.parametrize("order", ["parallel", "series"])
def test_squash_evens_a_band_out(order: str, tmp_path: Path) -> None:
    params = {**AT_REST, "order": order, "band3_squash_pct": 100.0}
    loud, quiet = (level(bands(tmp_path, tone(2000.0, at), **params), 2000.0) - at for at in (-6.0, -42.0))
    assert quiet - loud > 12.0
    assert level(bands(tmp_path, tone(2000.0, -18.0), **params), 2000.0) == pytest.approx(-18.0, abs=1.5)


@pytest.mark.parametrize("shape", [shape.id for shape in SHAPES])
@pytest.mark.parametrize("hz", [300.0, 3000.0])
def test_aliasing_in_bands(shape: str, hz: float, tmp_path: Path) -> None:
    """24 dB of drive at full scale: the same limits as for the shapes alone."""
    out = bands(tmp_path, tone(hz, 0.0, 2.0), **{**SHAPES_AT_24, **each("shape", shape), "edges_hz": [700.0, 5000.0]})
    part = out[0, RATE // 2:RATE // 2 + RATE]
    power = np.abs(np.fft.rfft(part * np.kaiser(part.size, 20.0))) ** 2
    axis = np.fft.rfftfreq(part.size, 1.0 / RATE)
    audible = axis < 20000.0
    harmonic = np.abs(axis - np.round(axis / hz) * hz) < 30.0
    limit = -60.0 if shape in ("hard", "fold", "wrap", "rectify") else -80.0
    assert 10.0 * np.log10(power[audible & ~harmonic].sum() / power[audible].sum()) < limit


# -- feedback, filter, glue -----------------------------------------------------------------


@pytest.mark.parametrize("pitch", [40.0, 110.0, 350.0])
def test_feedback_rings_at_its_pitch(pitch: float, tmp_path: Path) -> None:
    click = np.zeros((1, 2 * RATE))
    click[0, 1000:1040] = 0.5
    out = bands(tmp_path, click, **AT_REST, feedback_pct=90.0, feedback_hz=pitch)
    tail = out[0, RATE // 4:RATE]
    spectrum = np.abs(np.fft.rfft(tail * np.hanning(tail.size), 8 * RATE))
    hz = np.fft.rfftfreq(8 * RATE, 1.0 / RATE)
    near = (hz > 0.6 * pitch) & (hz < 1.4 * pitch)
    assert hz[near][np.argmax(spectrum[near])] == pytest.approx(pitch, rel=0.03)
    assert np.abs(tail).max() > 1e-3


@pytest.mark.parametrize("more", [{}, {"filter": "band", "filter_hz": 400.0, "filter_q": 8.0}, {"order": "series"},
                                  {"split": "linear"}, {"edges_hz": FIVE}])
@pytest.mark.parametrize("drive", [0.0, 24.0])
def test_feedback_dies_away_below_100_and_stands_there(drive: float, more: dict[str, Any], tmp_path: Path) -> None:
    burst = tone(200.0, -6.0, 5.0)
    burst[0, RATE // 2:] = 0.0

    def levels(amount: float) -> Signal:
        out = bands(tmp_path, burst, **each("gain_db", 0.0), drive_db=drive, feedback_pct=amount, **more)
        return decibels(np.abs(out[0, RATE:].reshape(8, -1)).max(axis=1))

    for amount in (50.0, 90.0, 98.0):
        dying = levels(amount)
        assert dying[-1] < dying[0] - 15.0 or dying[-1] < -100.0
    standing = levels(100.0)
    assert np.ptp(standing[4:]) < 3.0
    assert standing[-1] > -35.0


@pytest.mark.parametrize("seed", range(6))
def test_feedback_is_stable_at_any_setting(seed: int, tmp_path: Path, rng: np.random.Generator) -> None:
    """Every gain up, sharp filters, either order: what comes out stays bounded, and finite."""
    chance = np.random.default_rng(seed)
    shapes = [shape.id for shape in SHAPES]
    params = {"feedback_pct": 100.0, "feedback_hz": float(chance.uniform(40.0, 350.0)), "follow_pct": 100.0 - 40 * seed,
              "order": ("parallel", "series")[seed % 2], "split": ("linkwitz-riley", "linear")[seed // 2 % 2],
              "filter": ("off", "low", "high", "band", "notch", "low")[seed], "filter_q": 20.0, "edges_hz": FIVE,
              "drive_db": 24.0, **each("drive_db", 36.0), **each("gain_db", 12.0),
              **{f"band{n}_shape": str(chance.choice(shapes)) for n in range(1, 6)}}
    noise = 0.5 * rng.standard_normal((2, 3 * RATE)) * (np.arange(3 * RATE) < RATE)
    out = bands(tmp_path, noise, "--oversample", "2", out_db=0.0, **params)
    assert np.all(np.isfinite(out))
    assert np.abs(out).max() < 101.0, "no more than 40 dB over full scale, whatever is asked for"


def test_the_follower_opens_and_closes_the_feedback(tmp_path: Path) -> None:
    burst = tone(700.0, -12.0) * (np.arange(RATE) < RATE // 2)
    tails = {share: bands(tmp_path, burst, **AT_REST, feedback_pct=90.0, feedback_hz=220.0, follow_pct=share,
                          follow_release_ms=10.0)[0, RATE // 2 + 4800:].std() for share in (-100.0, 0.0, 100.0)}
    assert tails[100.0] < 0.2 * tails[0.0]
    assert tails[-100.0] > 3.0 * tails[100.0]


def test_the_filter_rings_and_the_glue_holds(tmp_path: Path) -> None:
    ringing = [level(bands(tmp_path, tone(1000.0), **AT_REST, filter="low", filter_hz=1000.0, filter_q=q), 1000.0)
               for q in (0.5, 8.0)]
    assert ringing[1] - ringing[0] == pytest.approx(24.1, abs=0.3)
    assert level(bands(tmp_path, tone(1000.0), **AT_REST, filter="notch", filter_hz=1000.0, filter_q=2.0),
                 1000.0) < -80.0
    held = level(bands(tmp_path, tone(1000.0, -6.0), **AT_REST, glue_ratio=4.0, glue_threshold_db=-6.0,
                       glue_attack_ms=1.0), 1000.0)
    assert held == pytest.approx(-6.0 - 18.0 * 0.75, abs=1.0)


def test_edges_are_checked(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(AssertionError):
        bands(tmp_path, tone(100.0), edges_hz=[400.0, 300.0])
    assert "stages[0].params.edges_hz: edges must rise" in capsys.readouterr().err
