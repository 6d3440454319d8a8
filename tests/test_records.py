"""The memory of running stages, and that their compiled half is plain Python that can be looked into."""

from __future__ import annotations

import subprocess
import sys

import numpy as np
import pytest

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.record import Record, part, real, scratch, setting, shared, state, whole, whole_state
from yellow_ember.dsp.stage import Setup, StageKind
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES


class InnerRecord(Record):
    level: float = real()
    memory: Samples = state("channels", 3)


class OuterRecord(Record):
    on: int = whole()
    weights: Samples = setting(2, 2)
    table: Samples = shared(1)
    places: Samples = whole_state("channels")
    memory: Samples = state("channels")
    work: Samples = scratch("frames")
    inner: InnerRecord = part(InnerRecord)


def test_a_record_holds_what_it_declares() -> None:
    record = OuterRecord.make(channels=2, frames=64)
    record.on, record.inner.level = 1, 0.5
    record.weights[:] = [[1.0, 2.0], [3.0, 4.0]]
    record.table = np.linspace(0.0, 1.0, 5)
    assert (record.on, record.inner.level, record.weights[1, 0], record.table.size) == (1, 0.5, 3.0, 5)
    assert (record.work.shape, record.memory.shape, record.inner.memory.shape) == ((64,), (2,), (2, 3))
    assert record.places.dtype == np.int64
    for array in (record.weights, record.memory, record.inner.memory, record.work):
        assert array.ctypes.data % 64 == 0, "each begins on a cache line"
    with pytest.raises(AttributeError, match="has no field 'gain'"):
        record.gain = 1.0


def test_all_state_is_carried_and_nothing_else() -> None:
    first, second = (OuterRecord.make(channels=2, frames=64) for _ in range(2))
    first.on = 1
    for array, value in ((first.memory, 1.5), (first.places, 7), (first.inner.memory, 2.5), (first.weights, 9.0),
                         (first.work, 9.0)):
        array.fill(value)
    second.carried[...] = first.carried
    assert (second.memory.tolist(), second.places.tolist()) == ([1.5, 1.5], [7, 7])
    assert np.all(second.inner.memory == 2.5)
    assert (second.weights.sum(), second.work.sum(), second.on) == (0.0, 0.0, 0)
    second.carried.fill(0.0)
    assert not second.memory.any()
    assert not second.places.any()


@pytest.mark.parametrize("kind", STAGES, ids=lambda kind: kind.kind)
def test_a_stage_that_goes_on_from_another_sounds_like_it(kind: StageKind, rng: np.random.Generator) -> None:
    """All that a stage remembers is in its record's state: a copy of it goes on to the same samples."""
    setup = Setup(48000.0, 2, 256, 2, seed=11, lookahead=kind.lookahead(kind.defaults(), 48000.0))
    first, second = kind.processor(setup), kind.processor(setup)
    for processor in (first, second):
        processor.set(kind.defaults(), at_once=True)
        processor.reset()
    sound = rng.normal(0.0, 0.1, (2, 40 * 256))
    for start in range(0, 20 * 256, 256):
        first.process(np.ascontiguousarray(sound[:, start:start + 256]))
        setup.clock.frame += 256
    second.adopt(first)
    for start in range(20 * 256, 40 * 256, 256):
        one, other = (np.ascontiguousarray(sound[:, start:start + 256]) for _ in range(2))
        first.process(one)
        second.process(other)
        setup.clock.frame += 256
        np.testing.assert_array_equal(one, other)


_PLAIN = """
import numpy as np
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stages import stage_kind
sound = np.random.default_rng(3).normal(0.0, 0.2, (2, 96))
trim = stage_kind("trim")
processor = trim.processor(Setup(48000.0, 2, 32, 1))
processor.set(trim.complete({"gain_db": 3.0, "width_pct": 60.0, "pan": 20.0, "mono_below_hz": 120.0}), at_once=True)
for start in range(0, 96, 32):
    block = np.ascontiguousarray(sound[:, start:start + 32])
    processor.process(block)
    sound[:, start:start + 32] = block
print(sound.tobytes().hex())
"""


def test_the_compiled_half_also_runs_as_plain_python() -> None:
    """So that it can be followed in a debugger; the samples are the same within rounding."""
    outcomes = []
    for disabled in ("0", "1"):
        done = subprocess.run([sys.executable, "-c", _PLAIN], capture_output=True, text=True, check=True,
                              env={"PATH": "", "YELLOW_EMBER_PLAIN_KERNELS": disabled})
        outcomes.append(np.frombuffer(bytes.fromhex(done.stdout.strip())))
    np.testing.assert_allclose(outcomes[1], outcomes[0], atol=1e-12)


def test_a_chain_is_the_same_whatever_the_stage_beside_it_remembers(rng: np.random.Generator) -> None:
    """Two chains of one kind share nothing but tables."""
    setup = Setup(48000.0, 1, 64, 1)
    settings = StageSettings(id="a", kind="echo", params=next(
        kind for kind in STAGES if kind.kind == "echo").complete({"feedback_pct": 50.0}))
    quiet, loud = Chain(setup, [settings]), Chain(setup, [settings])
    for _ in range(200):
        loud.process(rng.normal(0.0, 0.5, (1, 64)))
        assert not quiet.process(np.zeros((1, 64))).any()
