"""Two revisions' speeds, compared row by row from what their runs have printed."""

from __future__ import annotations

from comparing import Compared, Measured, compared, rows_of

PRINTED = """Measuring; this takes some minutes.
  tape, 8x, stereo, all on: times real time on one core: 34.9 (wanted >= 25)
  what a stage costs a block beside its samples, us, the dearest (bands): 8.8 (wanted < 2)
  the same: how long a period of 2667 us takes, us (median, 99.9 %, worst): 917, 6263, 112429 (wanted -)
  (no jackd: playing through a server is not measured)

what  result  requested  met
"""


def test_rows_are_read_with_their_first_number_and_which_way_is_better() -> None:
    rows = rows_of(PRINTED)
    assert rows["tape, 8x, stereo, all on: times real time on one core"] == Measured(34.9, True)
    assert rows["what a stage costs a block beside its samples, us, the dearest (bands)"] == Measured(8.8, False)
    assert rows["the same: how long a period of 2667 us takes, us (median, 99.9 %, worst)"] == Measured(917.0, None)
    assert len(rows) == 3


def run(speed: float, cost: float) -> dict[str, Measured]:
    return {"speed": Measured(speed, True), "cost": Measured(cost, False), "neither": Measured(1.0, None)}


def test_more_is_better_where_that_is_asked_for_and_less_where_that_is() -> None:
    speed, cost = compared([(run(20.0, 4.0), run(10.0, 2.0))])
    assert (speed.what, speed.ratio, cost.what, cost.ratio) == ("speed", 2.0, "cost", 0.5)
    assert not speed.slower
    assert cost.slower


def test_what_only_one_revision_measures_is_left_out() -> None:
    ours = run(1.0, 1.0) | {"new": Measured(3.0, True)}
    assert [row.what for row in compared([(ours, run(1.0, 1.0))])] == ["speed", "cost"]


def test_slower_is_what_is_slower_each_time_by_over_a_tenth() -> None:
    assert Compared("a", 1.0, 1.0, (0.85, 0.88, 0.95)).slower
    # Once it was as fast: the machine was busy in the other runs.
    assert not Compared("a", 1.0, 1.0, (0.5, 0.6, 1.01)).slower
    assert not Compared("a", 1.0, 1.0, (0.92, 0.93, 0.95)).slower
