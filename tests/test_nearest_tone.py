"""An equaliser that is set to make a change of tone."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray

from yellow_ember.dsp.nearest_tone import nearest_tone
from yellow_ember.dsp.parameters import Values
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.measure.bands import BAND_CENTRES

RATE = 48000.0
EQUALISER = stage_kind("eq")


def response(values: Values) -> NDArray[np.float64]:
    """What the equaliser itself shows that it does to third octaves."""
    plot: Any = EQUALISER.picture(values, RATE, -18.0)[0]
    return np.interp(np.log(BAND_CENTRES), np.log(plot.curves[0].x), plot.curves[0].y)


def missed(wanted: NDArray[np.float64]) -> float:
    return float(np.std(response(nearest_tone(BAND_CENTRES, wanted)) - wanted))


@pytest.mark.parametrize("seed", range(12))
def test_it_comes_near_any_smooth_change(seed: int) -> None:
    wanted = np.convolve(np.random.default_rng(seed).normal(0.0, 4.0, 47), np.hanning(17) / 2.5, "valid")
    assert missed(wanted) < 0.6


@pytest.mark.parametrize("seed", range(6))
def test_what_cuts_and_a_tilt_did_is_done_by_them(seed: int) -> None:
    chance = np.random.default_rng(seed)
    given = {**EQUALISER.defaults(), "low_cut_hz": chance.uniform(60.0, 600.0),
             "high_cut_hz": chance.uniform(900.0, 9000.0), "tilt_db": chance.uniform(-6.0, 6.0)}
    found: Any = nearest_tone(BAND_CENTRES, response(given))
    assert np.std(response(found) - response(given)) < 0.2
    assert found["low_cut_hz"] == pytest.approx(given["low_cut_hz"], rel=0.25)
    assert found["high_cut_hz"] == pytest.approx(given["high_cut_hz"], rel=0.25)
    assert max(abs(found[f"band{number}_db"]) for number in range(1, 7)) < 2.5


def test_what_was_done_by_its_own_bands_is_met() -> None:
    given = {**EQUALISER.defaults(), "band1_db": 6.0, "band3_db": -9.0, "band3_hz": 900.0, "band3_q": 2.0,
             "band6_db": -7.0, "band6_hz": 6000.0}
    assert missed(response(given)) < 0.4


def test_no_change_and_another_level_leave_it_as_it_is() -> None:
    for level in (0.0, -11.0):
        assert np.abs(response(nearest_tone(BAND_CENTRES, np.full(BAND_CENTRES.size, level)))).max() < 0.01


def test_few_third_octaves_are_enough() -> None:
    values: Any = nearest_tone(BAND_CENTRES[[12, 18]], np.array([0.0, 6.0]))
    change = response(values)
    assert change[18] - change[12] == pytest.approx(6.0, abs=1.0)
