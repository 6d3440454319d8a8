"""Measure how far the level into each stage of a strip lies from the zone that the stage feels at home in."""

from __future__ import annotations

import math
from collections.abc import Collection

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.measuring import capture_strip
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import Session

_WINDOW_SECONDS = 0.3
"""What a VU meter needs to rise (IEC 60268-17)."""
_LOUD = 75.0
"""Percentile of the windows that the needle is read at: of the passages that play, not of the rests."""
_REST_DB = 40.0
_INSIDE_DB = 1.5
"""So far within the zone a level is put that lay outside."""


def loop_vu(sound: Samples, rate: float, reference_dbfs: float) -> float:
    """Where a VU meter's needle stands while a sound plays.

    Parameters
    ----------
    sound : Samples
        (channels, frames); the louder channel counts.
    reference_dbfs : float
        Peak level of a sine at 0 VU.

    Returns
    -------
    float
        dB against 0 VU, -inf for silence.
    """
    size = max(1, min(round(_WINDOW_SECONDS * rate), sound.shape[1]))
    count = sound.shape[1] // size
    mean = np.abs(sound[:, :count * size]).reshape(sound.shape[0], count, size).mean(axis=2).max(axis=0)
    if not mean.size or mean.max() <= 0.0:
        return -math.inf
    playing = mean[mean > mean.max() * gain(-_REST_DB)]
    # A sine's mean is 2/pi of its peak.
    return float(db(np.percentile(playing, _LOUD) * math.pi / 2.0)) - reference_dbfs


def into_the_zone(level_vu: float, zone: tuple[float, float]) -> float:
    """By how many dB a level is to move to lie in a zone; 0 where it does."""
    low, high = zone
    if not math.isfinite(level_vu) or low <= level_vu <= high:
        return 0.0
    inside = min(_INSIDE_DB, 0.5 * (high - low))
    return (high - inside if level_vu > high else low + inside) - level_vu


def zone_levels(progress: Progress, session: Session, strip_id: str, stage_ids: Collection[str]) -> dict[str, float]:
    """Run the strip's loop through its stages, each at the level that suits it.

    Returns
    -------
    dict[str, float]
        By how many dB the level into each of these stages is to move, taken back behind it; those that lie in their
        zone, and stages that add nothing, are left out.
    """
    strip = session.strip(strip_id)
    works = [stage for stage in strip.chain if stage.on]
    dry = capture_strip(lambda share: progress(share / (len(works) + 1)), edit_strip(
        session, strip_id, lambda old: old.with_(chain=())), strip_id)
    sound, result = dry.before, {}
    for done, stage in enumerate(works):
        by = 0.0
        if stage.id in stage_ids and stage.declaration.nonlinear:
            by = into_the_zone(loop_vu(sound, session.rate, session.reference_dbfs), stage.declaration.comfort_db)
        sound = run_in_loop(strip_chain(session, strip_id, (stage,), sound.shape[0]), sound * gain(by),
                            dry.loop.start, session.rate) * gain(-by)
        if by != 0.0:
            result[stage.id] = by
        progress((done + 2) / (len(works) + 1))
    return result
