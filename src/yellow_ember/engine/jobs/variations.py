"""Variations of one stage, each rendered over the strip's loop and measured; in workers, as they are done."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.parameters import Values
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.measuring import Capture, capture_strip, wave_of
from yellow_ember.measure.character import character_of
from yellow_ember.measure.comparison import Before
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.edits.edits import edit_strip, replace_stage
from yellow_ember.session.values.model import Session

_COLUMNS = 120


@dataclass(frozen=True, slots=True)
class VariationOrder:
    """seconds : of the loop's loudest part, None for all of it; oversample : None for the session's live quality"""

    strip_id: str
    stage_id: str
    seconds: float | None = None
    oversample: int | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Variation:
    """What a strip would be with other values of one stage.

    Attributes
    ----------
    number : int
        Its place among the values asked for.
    offset_db : float
        What makes it as loud as what goes into the strip.
    tone_db : Samples
        Change of level in third octaves, at equal loudness.
    wave : Samples
        Least and greatest in columns.
    """

    number: int
    values: Values
    added_db: float
    brightness: float
    offset_db: float
    tone_db: Samples
    wave: Samples


def render_variations(progress: Progress, session: Session, order: VariationOrder,
                      asked: tuple[tuple[int, Values], ...]) -> Iterator[Variation]:
    """The strip's loop with each of these values in the stage, one after the other."""
    strip = session.strip(order.strip_id)
    index = strip.index_of(order.stage_id)
    as_far = edit_strip(session, order.strip_id, lambda old: old.with_(chain=old.chain[:index]))
    result = capture_strip(lambda share: progress(0.1 * share), as_far, order.strip_id)
    begin, end = _stretch(result, session.rate, order.seconds)
    whole = end - begin == result.before.shape[1]
    before = result.before[:, begin:end]
    compared = Before(before, session.rate, loop=whole)
    loud_before = loudness(before, session.rate).integrated_lufs
    for done, (number, values) in enumerate(asked):
        chain = (replace_stage(strip.chain[index], params=values, on=True), *strip.chain[index + 1:])
        after = run_in_loop(strip_chain(session, strip.id, chain, before.shape[0], order.oversample), result.after,
                            result.loop.start, session.rate, begin, end)
        comparison = compared.against(after)
        character = character_of(comparison)
        offset = loud_before - loudness(after, session.rate).integrated_lufs
        offset = float(offset) if np.isfinite(offset) else 0.0
        tone = np.where(comparison.before_db > comparison.before_db.max() - 60.0,
                        comparison.after_db - comparison.before_db + offset, np.nan)
        columns = wave_of(after)
        step = max(1, len(columns) // _COLUMNS)
        yield Variation(number, values, character.added_db, character.brightness, offset, tone,
                        columns[::step] * 10.0 ** (offset / 20.0))
        progress(0.1 + 0.9 * (done + 1) / len(asked))


def _stretch(capture: Capture, rate: int, seconds: float | None) -> tuple[int, int]:
    """The loop, or its loudest part of that length."""
    frames = capture.before.shape[1]
    length = frames if seconds is None else min(frames, round(seconds * rate))
    power = np.concatenate(([0.0], np.cumsum(np.sum(capture.before**2, axis=0))))
    begin = int(np.argmax(power[length:] - power[:-length])) if length < frames else 0
    return begin, begin + length


def dealt(asked: Sequence[Values], workers: int = 2) -> list[tuple[tuple[int, Values], ...]]:
    """What several workers are to render: numbered, each taking every so manieth."""
    numbered = list(enumerate(asked))
    return [share for first in range(workers) if (share := tuple(numbered[first::workers]))]
