"""Printing: the session, or its strips one by one, to files."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from yellow_ember.engine.cores import cores
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.plan import Crew
from yellow_ember.engine.strip import StripNode
from yellow_ember.files.atomic import free_name
from yellow_ember.files.conformed import conform_all
from yellow_ember.files.kinds import is_file
from yellow_ember.files.reading import AudioFileError
from yellow_ember.files.writing import AudioWriter, writing
from yellow_ember.plain_text import plain_file_name
from yellow_ember.session.values.model import MASTER, Session, Strip
from yellow_ember.session.values.places import Passage

BLOCK = 4096


@dataclass(frozen=True, slots=True)
class PrintOrder:
    """What to print.

    Attributes
    ----------
    strips : tuple[str, ...]
        Ids of the strips to print, each behind its fader; the master is the mix.
    oversample : int | None
        None for the session's printing quality.
    dtype : str
        "pcm16", "pcm24" or "float32".
    start, end : int, int | None
        Frames; end None for the whole length.
    passage : str
        What the files are named after beside the session and the strip, "" for nothing.
    """

    folder: Path
    strips: tuple[str, ...] = (MASTER,)
    format: str = "wav"
    dtype: str = "float32"
    oversample: int | None = None
    start: int = 0
    end: int | None = None
    passage: str = ""

    def of_passage(self, session: Session, passage: Passage) -> PrintOrder:
        """The same order for a passage, with what is left of its fade behind its end."""
        return replace(self, start=round(passage.start * session.rate),
                       end=round((passage.end + passage.fade_out) * session.rate), passage=passage.name)


@dataclass(frozen=True, slots=True)
class Printed:
    """What came of it: files, and by how many dB the ceiling held the mix down at most.

    Attributes
    ----------
    left_out : tuple[str, ...]
        Why strips could not be printed, a sentence each.
    """

    files: tuple[Path, ...]
    ceiling_db: float
    clipped: int
    left_out: tuple[str, ...] = ()


def print_session(progress: Progress, session: Session, order: PrintOrder) -> Printed:
    """Print to new files in `order.folder`; no file that is there is touched.

    A file appears only when all are whole.  A strip that audio is missing of is left out, and the others are printed.
    AudioFileError where none can be.
    """
    if not order.folder.is_dir():
        raise AudioFileError(f"there is no folder {order.folder}")
    troubles = _what_is_missing(session, order.strips)
    able = tuple(strip_id for strip_id in order.strips if strip_id not in troubles)
    if not able:
        raise AudioFileError("; ".join(troubles.values()))
    order = replace(order, strips=able)
    upstream = frozenset().union(*(session.upstream(strip_id) for strip_id in order.strips))
    factor = order.oversample or session.quality.printing
    graph = Graph(session, GraphSettings(factor, BLOCK, upstream, staggered=cores() > 1))
    end = graph.frames if order.end is None else order.end
    if end <= order.start:
        raise AudioFileError("there is nothing to print: the session holds no sound")
    paths = _paths(session, order)
    least = 1.0
    with contextlib.ExitStack() as stack, Crew(cores()) as crew:
        writers = {strip_id: stack.enter_context(writing(
            path, session.rate, 2, order.dtype, frames=end - order.start,
            time=session.starts_at + order.start / session.rate))
                   for strip_id, path in paths.items()}
        last = end + max(graph.nodes[strip_id].latency for strip_id in writers)
        lengths = [min(BLOCK, last - position) for position in range(order.start, last, BLOCK)]
        blocks = len(lengths) + graph.last.behind
        for number in range(blocks):
            frames = lengths[number] if number < len(lengths) else BLOCK
            graph.process([(order.start + number * BLOCK, frames)], frames, crew)
            if number >= graph.last.behind:
                least = min(least, graph.ceiling_gain)
            for strip_id, writer in writers.items():
                node = graph.nodes[strip_id]
                out = number - node.behind
                if 0 <= out < len(lengths):
                    _write_aligned(writer, node, order.start + out * BLOCK, lengths[out], order.start, end)
            progress((number + 1) / blocks)
        clipped = sum(writer.clipped for writer in writers.values())
    return Printed(tuple(writer.path for writer in writers.values()), 20.0 * math.log10(least), clipped,
                   tuple(troubles.values()))


def _what_is_missing(session: Session, strip_ids: tuple[str, ...]) -> dict[str, str]:
    """Why strips can't be printed whole, of those that can't; each file is looked at once."""
    upstream = {strip_id: session.upstream(strip_id) for strip_id in strip_ids}
    reaching = frozenset().union(*upstream.values())
    bad = {source.id: trouble for source in session.strips
           if source.id in reaching and (trouble := _trouble_with(source, session.rate))}
    troubles = {}
    for strip_id, sources in upstream.items():
        trouble = next((trouble for source_id, trouble in bad.items() if source_id in sources), "")
        if trouble:
            name = "The mix" if strip_id == MASTER else session.strip(strip_id).name
            troubles[strip_id] = f"{name} can't be printed: {trouble}"
    return troubles


def _trouble_with(strip: Strip, rate: int) -> str:
    """Why a strip's audio can't be used, "" where it can."""
    missing = next((path for path in strip.files if not is_file(path)), None)
    if missing is not None:
        return f"the audio of {strip.name} is missing ({missing})"
    try:
        conform_all(strip.files, rate)
    except AudioFileError as error:
        return str(error)
    return ""


def _write_aligned(writer: AudioWriter, node: StripNode, position: int, frames: int, start: int, end: int) -> None:
    """Write the part of a node's block that belongs between start and end, its latency taken off."""
    first = position - node.latency
    begin, stop = max(first, start), min(first + frames, end)
    if stop > begin:
        writer.write(node.out(frames)[:, begin - first:stop - first])


def _paths(session: Session, order: PrintOrder) -> dict[str, Path]:
    taken: set[Path] = set()
    paths = {}
    for strip_id in order.strips:
        label = "mix" if strip_id == MASTER else session.strip(strip_id).name
        names = [session.name, label, *([order.passage] if order.passage else [])]
        requested = order.folder / f"{' - '.join(map(plain_file_name, names))}.{order.format}"
        path = free_name(requested)
        while path in taken:
            path = free_name(path.with_name(f"{path.stem} b{path.suffix}"))
        taken.add(path)
        paths[strip_id] = path
    return paths


def stems(session: Session) -> Iterator[str]:
    """Ids of all strips that a print with stems makes files of, the mix last."""
    for strip, _depth in session.depth_first():
        yield strip.id
