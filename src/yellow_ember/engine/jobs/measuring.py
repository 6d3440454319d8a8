"""Measuring a strip over its loop: before its chain against behind it."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.jobs.level_law import excerpt_of
from yellow_ember.engine.placing import files_reaching
from yellow_ember.engine.transport import Transport
from yellow_ember.files.conformed import conform_all
from yellow_ember.files.reading import AudioFileError
from yellow_ember.measure.comparison import Comparison, compare
from yellow_ember.measure.loudness import Loudness, loudness
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import MASTER, Loop, Session

BLOCK = 2048
_SETTLE_SECONDS = 1.0
LONGEST_SECONDS = 60.0
SHORTEST = 256
"""Frames; of less there is nothing to measure."""
NOTHING = "there is nothing to measure: no sound in the loop"
WAVE_COLUMNS = 1200


@dataclass(frozen=True, slots=True, eq=False)
class StripMeasurement:
    """Before and after a strip's chain over its loop, the match offset not applied.

    Attributes
    ----------
    wave_before, wave_after : Samples
        (columns, 2) least and greatest sample.
    start, end : int
        The stretch measured, in frames.
    excerpt : NDArray[np.float32]
        A part of what enters the chain that stands for all of it, one channel.
    """

    strip_id: str
    comparison: Comparison
    before: Loudness
    after: Loudness
    wave_before: Samples
    wave_after: Samples
    start: int
    end: int
    excerpt: NDArray[np.float32]

    @property
    def silent(self) -> bool:
        """True where there is no loudness to match: what enters the chain, or comes out, is silent."""
        return not np.isfinite(self.before.integrated_lufs - self.after.integrated_lufs)

    @property
    def offset_db(self) -> float:
        """What makes after as loud as before; 0 where either is silent."""
        return 0.0 if self.silent else float(self.before.integrated_lufs - self.after.integrated_lufs)


def measured_stretch(session: Session, frames: int) -> Loop:
    """What is measured: the loop, or the whole where there is none, at most a minute."""
    loop = session.loop if session.loop.on and session.loop.end > session.loop.start else Loop(0, frames)
    return Loop(loop.start, min(loop.end, loop.start + round(LONGEST_SECONDS * session.rate)))


@dataclass(frozen=True, slots=True, eq=False)
class Capture:
    """A strip's loop before its chain and behind it, aligned: (channels, frames) each, one turn as it comes round."""

    before: Samples
    after: Samples
    loop: Loop


def unmuted(session: Session) -> Session:
    """The session with every strip heard: what is measured is measured whether it is muted or not."""
    return session.with_(strips=tuple(strip.with_(mute=False, solo=False) for strip in session.strips))


TurnTap = Callable[[str, bool, int, Samples], None]
"""Called with a strip, True for what is behind its chain, the block's first frame in the loop, and the block."""


def run_turn(progress: Progress, graph: Graph, loop: Loop, strip_ids: Collection[str], take: TurnTap) -> None:
    """Run a loop once as it comes round; `take` is given what enters these strips' chains and what leaves, aligned."""
    length = loop.end - loop.start
    settle = min(length, round(_SETTLE_SECONDS * graph.session.rate))
    transport = Transport()
    transport.position = loop.end - settle if settle < length else loop.start
    nodes = [graph.nodes[strip_id] for strip_id in strip_ids]
    for node in nodes:
        node.chain.keep_points(on=True)
    total = settle + length + max(node.latency for node in nodes)
    done = 0

    def give(strip_id: str, block: Samples, latency: int, *, behind: bool) -> None:
        first = done - settle - latency
        begin, stop = max(first, 0), min(first + block.shape[1], length)
        if stop > begin:
            take(strip_id, behind, begin, block[:, begin - first:stop - first])

    while done < total:
        frames = min(BLOCK, total - done)
        graph.process(transport.advance(frames, loop), frames)
        for node in nodes:
            chain = node.chain
            give(node.strip.id, chain.at_point(0, frames), node.input_latency, behind=False)
            give(node.strip.id, chain.at_point(len(chain.slots), frames), node.latency, behind=True)
        done += frames
        progress(done / total)


def capture_strip(progress: Progress, session: Session, strip_id: str, *, as_heard: bool = False) -> Capture:
    """Run the strip's loop; `as_heard` with mute and solo.  AudioFileError where there is nothing to run."""
    if not as_heard:
        session = unmuted(session)
    reaching = frozenset(session.upstream(strip_id))
    conform_all(files_reaching(session, [strip_id]), session.rate)
    graph = Graph(session, GraphSettings(session.quality.live, BLOCK, reaching))
    node = graph.nodes[strip_id]
    loop = measured_stretch(session, graph.frames)
    length = loop.end - loop.start
    if length < SHORTEST:
        raise AudioFileError(NOTHING)
    # Where the path makes two channels of one, before counts as two that are alike.
    before = np.zeros((node.out_channels, length))
    after = np.zeros((node.out_channels, length))

    def take(_strip_id: str, behind: bool, first: int, block: Samples) -> None:
        (after if behind else before)[:, first:first + block.shape[1]] = block

    run_turn(progress, graph, loop, {strip_id}, take)
    return Capture(before, after, loop)


def measure_strip(progress: Progress, session: Session, strip_id: str) -> StripMeasurement:
    """Run the strip's loop and compare.  AudioFileError where there is nothing to measure."""
    result = capture_strip(lambda share: progress(0.8 * share), session, strip_id)
    comparison = compare(result.before, result.after, session.rate, loop=True)
    progress(0.95)
    return StripMeasurement(strip_id, comparison, loudness(result.before, session.rate),
                            loudness(result.after, session.rate), wave_of(result.before), wave_of(result.after),
                            result.loop.start, result.loop.end, excerpt_of(result.before))


def stage_offset(progress: Progress, session: Session, strip_id: str, stage_id: str) -> float:
    """What makes a stage as loud as what enters it, in dB; 0 where either is silent."""
    index = session.strip(strip_id).index_of(stage_id)

    def level(count: int, share: Progress) -> float:
        """Loudness behind so many stages."""
        as_far = edit_strip(session, strip_id, lambda strip: strip.with_(chain=strip.chain[:count]))
        return loudness(capture_strip(share, as_far, strip_id).after, session.rate).integrated_lufs

    offset = level(index, lambda share: progress(share / 2.0)) - level(
        index + 1, lambda share: progress(0.5 + share / 2.0))
    return float(offset) if np.isfinite(offset) else 0.0


_MIX_TRIES, _MIX_WITHIN_DB = 6, 0.03


def mix_offset(progress: Progress, session: Session, strip_id: str) -> float:
    """The match with which the mix is as loud with the strip's chain as without it, in dB.

    The mix is heard as it stands, with mute and solo, behind the master's own chain.
    AudioFileError where the strip is not heard in it, or no offset makes them agree.
    """
    def loud(strip_changes: dict[str, object], done: int) -> float:
        heard = edit_strip(session, strip_id, lambda strip: strip.with_(**strip_changes))
        result = capture_strip(lambda share: progress((done + share) / (_MIX_TRIES + 3)), heard, MASTER, as_heard=True)
        return loudness(result.after, session.rate).integrated_lufs

    requested = loud({"bypass": True}, 0)
    # From the match that makes the strip alone as loud as before: the one that is set may be of other settings.
    alone = capture_strip(lambda share: None, session, strip_id)
    start = loudness(alone.before, session.rate).integrated_lufs - loudness(alone.after, session.rate).integrated_lufs
    if not np.isfinite(start):
        raise AudioFileError("the strip is silent in the loop")
    ends = [(at, loud({"bypass": False, "match_db": at}, 1 + index) - requested)
            for index, at in enumerate((start - 3.0, start + 3.0))]
    for done in range(_MIX_TRIES):
        (first, low), (second, high) = ends[-2:]
        if not np.isfinite(low + high) or abs(high - low) < 1e-4:
            raise AudioFileError("the strip is not heard in the mix")
        at = float(np.clip(second - high * (second - first) / (high - low), start - 30.0, start + 30.0))
        ends.append((at, loud({"bypass": False, "match_db": at}, 3 + done) - requested))
        if abs(ends[-1][1]) <= _MIX_WITHIN_DB:
            return at
    raise AudioFileError("no level of the strip makes the mix as loud as before")


def wave_of(signal: Samples) -> Samples:
    """Least and greatest sample over all channels in at most WAVE_COLUMNS columns."""
    edges = np.linspace(0, signal.shape[1], min(WAVE_COLUMNS, signal.shape[1]) + 1).astype(int)[:-1]
    low = np.minimum.reduceat(signal.min(axis=0), edges)
    high = np.maximum.reduceat(signal.max(axis=0), edges)
    return np.stack((low, high), axis=1)
