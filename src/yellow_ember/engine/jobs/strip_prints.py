"""Strips printed at printing quality into the cache, to be played from there in place of their chains.

A print is named by all that it depends on, so that one that was made before is found again.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterable
from pathlib import Path

import numpy as np

from yellow_ember import __version__
from yellow_ember.dsp.lanes import Lane
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.placing import files_reaching
from yellow_ember.engine.print_player import StripPrint
from yellow_ember.files.atomic import cannot_write, replacing, write_text
from yellow_ember.files.conformed import conform_all
from yellow_ember.files.json_files import JsonFileError, read_object
from yellow_ember.files.kinds import state_of_file
from yellow_ember.files.reading import AudioFileError
from yellow_ember.folders import Base, folder
from yellow_ember.session.values.drawn import with_macro_lanes
from yellow_ember.session.values.model import Session, Strip

BLOCK = 4096
TAIL_SECONDS = 10.0
"""How long a print goes on behind the session's last sound."""
_FORMAT = 4


def prints_folder() -> Path:
    """The prints, in the user's XDG cache folder."""
    return folder(Base.CACHE, "prints")


def _file_facts(path: str | Path) -> tuple[str, int, int]:
    try:
        status = os.stat(path)
    except OSError:
        return str(path), 0, 0
    return str(path), status.st_size, status.st_mtime_ns


def _chain_facts(strip: Strip) -> list[object]:
    stages = [[stage.id, stage.kind, stage.own_values, dict(stage.params), _lane_facts(stage.lanes)]
              for stage in strip.chain]
    impulses = [_file_facts(path) for stage in strip.chain if (path := stage.declaration.impulse(stage.params))]
    regions = [[*_file_facts(region.audio), region.start, region.begin, region.end, region.fade_in, region.fade_out]
               for region in strip.regions]
    return [strip.id, regions, stages, impulses]


def _lane_facts(lanes: Iterable[Lane]) -> list[object]:
    return [[lane.parameter, lane.on, [[point.seconds, point.value, point.shape.value] for point in lane.points]]
            for lane in lanes]


def print_file(session: Session, strip_id: str, frames: int) -> Path:
    """Where the print of a strip as it is now is kept, whether it was made or not.

    Parameters
    ----------
    frames : int
        How long the session's sound lasts.
    """
    session = with_macro_lanes(session)
    reaching = session.upstream(strip_id)
    passing = sorted(way for way in session.passing() if way[0] in reaching)
    before = [[_chain_facts(strip), _lane_facts(strip.lanes), strip.volume_db, strip.pan, strip.bypass,
               strip.match_db, strip.out, [(send.to, send.level_db, send.pre) for send in strip.sends]]
              for strip in session.strips if strip.id in reaching and strip.id != strip_id]
    facts = [_FORMAT, __version__, session.rate, session.reference_dbfs, session.seed, session.tempo,
             session.beats_per_bar, session.first_beat, session.quality.printing, frames,
             _chain_facts(session.strip(strip_id)), before, passing if before else []]
    key = hashlib.sha256(json.dumps(facts).encode()).hexdigest()[:32]
    return prints_folder() / f"{key}.f32"


def find_print(session: Session, strip_id: str, frames: int) -> StripPrint | None:
    """The print of a strip as it is now, where there is a whole one."""
    data = print_file(session, strip_id, frames)
    try:
        card = data.with_suffix(".json")
        facts = read_object(card)
        channels, length, state = int(facts["channels"]), int(facts["frames"]), tuple(facts["data"])
        # The card's time says when the print was last used.
        os.utime(card)
    except (OSError, JsonFileError, ValueError, KeyError, TypeError):
        return None
    if state_of_file(data) != state:
        return None
    return StripPrint(strip_id, with_macro_lanes(session).strip(strip_id).chain, data, channels, length)


def print_strip(progress: Progress, session: Session, strip_id: str, frames: int, limit: int) -> StripPrint:
    """Print a strip's chain, all of it, into the cache, which then holds at most `limit` bytes.

    AudioFileError where it can't be written.
    """
    os.nice(9)
    reaching = frozenset(session.upstream(strip_id))
    conform_all(files_reaching(session, [strip_id]), session.rate)
    graph = Graph(session, GraphSettings(session.quality.printing, BLOCK, reaching))
    node = graph.nodes[strip_id]
    length = frames + round(TAIL_SECONDS * session.rate)
    data = print_file(session, strip_id, frames)
    node.chain.keep_points(on=True)
    last_point = len(node.chain.slots)
    done = 0
    try:
        with replacing(data) as temporary, temporary.open("wb") as target:
            while done < length + node.latency:
                count = min(BLOCK, length + node.latency - done)
                graph.process([(done, count)], count)
                first = max(0, node.latency - done)
                np.ascontiguousarray(node.chain.at_point(last_point, count)[:, first:].T, np.float32).tofile(target)
                done += count
                progress(done / (length + node.latency))
        write_text(data.with_suffix(".json"), json.dumps(
            {"channels": node.out_channels, "frames": length, "data": state_of_file(data)}))
        trim_prints(limit, keep=data)
    except OSError as error:
        raise AudioFileError(f"{session.strip(strip_id).name} can't be printed. "
                             f"{cannot_write(data, error)}") from None
    return StripPrint(strip_id, node.strip.chain, data, node.out_channels, length)


def trim_prints(limit: int, keep: Path | None = None) -> None:
    """Remove the prints used longest ago until all together take at most `limit` bytes."""
    def used(path: Path) -> float:
        state = state_of_file(path.with_suffix(".json")) or state_of_file(path)
        return 0.0 if state is None else state[2]

    held = 0
    for data in sorted(prints_folder().glob("*.f32"), key=used, reverse=True):
        state = state_of_file(data)
        size = 0 if state is None else state[1]
        held += size
        if (held > limit or size == 0) and data != keep:
            held -= size
            data.unlink(missing_ok=True)
            data.with_suffix(".json").unlink(missing_ok=True)
    for card in prints_folder().glob("*.json"):
        # Whoever removes a print by hand leaves its card.
        if not card.with_suffix(".f32").exists():
            card.unlink(missing_ok=True)
