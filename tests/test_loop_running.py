"""Stages that run over a captured loop, apart from the graph, and stay as they are."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.lanes import Lane, Point
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.stage import Clock, Setup
from yellow_ember.dsp.stages import STAGES
from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.measuring import BLOCK
from yellow_ember.engine.jobs.reference.grammar import plain_stage
from yellow_ember.files.impulses import find_impulse
from yellow_ember.session.values.model import Session

RATE = 48000


@pytest.mark.parametrize("kind", sorted(declared.kind for declared in STAGES))
def test_what_stays_as_it_is_sounds_as_what_could_change(kind: str, rng: np.random.Generator) -> None:
    loop = 0.1 * rng.standard_normal((2, RATE // 2))
    session = Session(rate=RATE)
    still = strip_chain(session, "strip", (plain_stage(kind),), 2, 1)
    clock = Clock(session.tempo, session.beats_per_bar, session.first_beat)
    ready = Chain(Setup(RATE, 2, BLOCK, 1, session.reference_dbfs, seed_from(session.seed, "strip"),
                        read_impulse=find_impulse, clock=clock), [plain_stage(kind)])
    assert np.array_equal(run_in_loop(still, loop, 0, RATE), run_in_loop(ready, loop, 0, RATE))
    other = replace(plain_stage(kind), mix_pct=50.0)
    ready.update([other])
    with pytest.raises(ValueError, match="stay as it is"):
        still.update([other])


def test_what_moves_along_lanes_is_not_kept_still() -> None:
    lane = Lane(parameter="drive_db", points=(Point(0.0, 0.0), Point(0.5, 12.0)))
    moving = strip_chain(Session(rate=RATE), "strip", (replace(plain_stage("drive"), lanes=(lane,)),), 1, 1)
    moving.update([plain_stage("drive")])
    assert moving.slots[0].settings == plain_stage("drive")
