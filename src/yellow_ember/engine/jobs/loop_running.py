"""Stages run over a stretch of a captured loop, apart from the graph."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.chain import Chain, run_whole
from yellow_ember.dsp.seeds import seed_from
from yellow_ember.dsp.stage import Clock, Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.jobs.measuring import BLOCK
from yellow_ember.files.impulses import find_impulse
from yellow_ember.session.values.model import Session

_SETTLE_SECONDS = 0.5


def strip_chain(session: Session, strip_id: str, stages: tuple[StageSettings, ...], channels: int,
                factor: int | None = None) -> Chain:
    """Stages as a strip would run them, at an oversampling (None for the session's live quality)."""
    clock = Clock(session.tempo, session.beats_per_bar, session.first_beat)
    return Chain(Setup(session.rate, channels, BLOCK, factor or session.quality.live, session.reference_dbfs,
                       seed_from(session.seed, strip_id), read_impulse=find_impulse, clock=clock,
                       still=not any(stage.lanes for stage in stages)), stages)


def run_in_loop(chain: Chain, loop: Samples, start: int, rate: float, begin: int = 0,
                end: int | None = None) -> Samples:
    """What a chain makes of a turn of a loop (channels, frames) that came round before, or of a stretch of it.

    Parameters
    ----------
    start : int
        The session's frame at which the loop begins.
    begin, end : int, int | None
        The stretch, all of it for None.
    """
    frames = loop.shape[1]
    end = frames if end is None else end
    settle = min(round(_SETTLE_SECONDS * rate), frames)
    # What follows the stretch pushes its end through the chain's latency.
    first, last = begin - settle, end + chain.latency
    turns = [loop[:, max(first - at, 0):last - at] for at in range(first // frames * frames, last, frames)]
    chain.clock.frame = start + first
    return run_whole(chain, np.concatenate(turns, axis=1), BLOCK)[:, settle:settle + end - begin]
