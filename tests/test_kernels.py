"""Kernels: what they take and give, and that their machine code comes from the disk without what compiles it."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel


@kernel
def _weighted_sum(values: Samples, weight: float, count: int, negate: bool) -> float:
    total = 0.0
    for i in range(count):
        total += weight * values[i, 0]
    return -total if negate else total


@kernel
def _is_above(value: float, limit: float) -> bool:
    return bool(value > limit)


@kernel
def _count_up(counts: Any, singles: Any) -> None:
    for i in range(counts.size):
        counts[i] += 1
        singles[i] = counts[i]


@kernel
def _with_array_of_its_own(values: Samples) -> float:
    doubled = np.empty(values.size)
    for i in range(values.size):
        doubled[i] = 2.0 * values[i]
    return float(doubled[0])


@kernel
def _copies_whole(values: Samples, into: Samples) -> None:
    into[:] = values


@kernel
def _gives_an_array(values: Samples) -> Samples:
    return values[1:]


def test_arrays_and_numbers_go_in_and_a_number_comes_out() -> None:
    values = np.arange(6.0).reshape(3, 2)
    assert _weighted_sum(values, 0.5, 3, False) == 3.0
    numpys: tuple[Any, ...] = (np.float64(0.5), np.int64(2), np.bool_(True))
    assert _weighted_sum(values, *numpys) == -1.0
    assert _is_above(2.0, 1.0) is True
    assert _is_above(0.0, 1.0) is False


def test_other_kinds_of_arguments_get_code_of_their_own() -> None:
    """A whole number where a real one was given before, and arrays of other types."""
    assert _weighted_sum(np.ones((4, 1)), 2, 4, False) == 8.0
    counts, singles = np.array([1, 2]), np.zeros(2, np.float32)
    _count_up(counts, singles)
    assert counts.tolist() == [2, 3]
    assert singles.tolist() == [2.0, 3.0]


@pytest.mark.parametrize("argument", [np.ones((4, 4))[:, :2], "text", None, [1.0]])
def test_what_is_no_number_and_no_contiguous_array_is_refused(argument: Any) -> None:
    with pytest.raises(TypeError, match="takes"):
        _weighted_sum(argument, 1.0, 1, False)


@pytest.mark.parametrize("allocating", [
    lambda: _with_array_of_its_own(np.ones(8)), lambda: _copies_whole(np.ones(8), np.ones(8))])
def test_a_kernel_that_allocates_is_not_compiled(allocating: Callable[[], object]) -> None:
    """It may run where sound is made in real time; copying a whole array allocates where the two overlap."""
    with pytest.raises(TypeError, match="allocates"):
        allocating()


def test_a_kernel_that_gives_an_array_is_for_other_kernels_alone() -> None:
    with pytest.raises(TypeError, match="returns"):
        _gives_an_array(np.ones(4))


_PLAYING = """
import sys
import numpy as np
from yellow_ember.engine.warm_up import load_for_playing
for _ in load_for_playing():
    pass
print("numba" in sys.modules)
"""


def test_what_is_on_disk_is_loaded_without_numba() -> None:
    """Which takes longer to come than all kernels together."""
    subprocess.run([sys.executable, "-c", _PLAYING], check=True, capture_output=True)
    again = subprocess.run([sys.executable, "-c", _PLAYING], check=True, capture_output=True, text=True)
    assert again.stdout.split() == ["False"]
