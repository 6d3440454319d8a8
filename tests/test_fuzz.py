"""Two minutes of cases that nobody chose, others every day; `script/fuzz` goes on for as long as one likes."""

from __future__ import annotations

import time

import numpy as np

import fuzzing
from yellow_ember.dsp.parameters import Number
from yellow_ember.dsp.stages import STAGES


def test_what_must_hold_for_every_stage_holds_in_todays_cases() -> None:
    tried, told = fuzzing.run(int(time.strftime("%Y%m%d")), 120.0)
    assert not told, "\n".join(told)
    assert tried > len(STAGES)


def test_a_case_is_the_same_whenever_it_is_made() -> None:
    for number in range(40):
        assert fuzzing.case_of(7, number) == fuzzing.case_of(7, number)
        stage = fuzzing.case_of(7, number).stage
        for parameter in stage.declaration.parameters:
            value = stage.params[parameter.id]
            if isinstance(parameter, Number) and isinstance(value, float):
                assert parameter.minimum <= value <= parameter.maximum


def test_what_does_not_hold_is_told() -> None:
    """A level that jumps clicks, and a value that stays does not."""
    kind = next(kind for kind in STAGES if kind.kind == "trim")
    stage = fuzzing.settings_of(np.random.default_rng(1), kind, 0.0)
    gain = kind.parameter("gain_db")
    assert fuzzing.click_db(stage, gain, 0.0, 0.0) < 3.0
    assert fuzzing.click_of_a_jump_db(0.0) < 3.0
    assert fuzzing.click_of_a_jump_db(0.3) > 20.0
