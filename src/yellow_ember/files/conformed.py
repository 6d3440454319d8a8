"""Audio made ready for playing: float samples at the session's rate, and a waveform overview.

Each source file is read once, freed of NaN and infinities, resampled and kept in the cache
as raw interleaved float32.  Playing and printing both read that copy, so they hear the same.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellow_ember.files.atomic import cannot_write, replacing, write_text
from yellow_ember.files.json_files import JsonFileError, read_object
from yellow_ember.files.kinds import FileState, is_file, state_of_file
from yellow_ember.files.overview import FINEST, Stretch, extremes, overview_of, read_stretch, write_overview
from yellow_ember.files.reading import AudioFileError, RateChanger, probe, read_blocks
from yellow_ember.folders import Base, folder

CACHE_LIMIT = 20 * 2**30
_FORMAT = 4

Segment = tuple[int, int]
"""A stretch of a time line: first frame, number of frames."""


class Cancelled(Exception):
    """The user called the work off."""


def cache_folder() -> Path:
    """The cache, in the user's XDG cache folder."""
    return folder(Base.CACHE, "audio")


@dataclass(frozen=True, slots=True)
class Conformed:
    """A source made ready.

    Attributes
    ----------
    data : Path
        Raw float32 file (frames, channels).
    overview : Path
        Its overviews (`files/overview.py`).
    replaced : int
        NaN and infinities set to silence.
    states : tuple[FileState | None, FileState | None]
        Of both files when they were made, by which it is noticed when anything happens to them.
    """

    source: Path
    data: Path
    overview: Path
    rate: int
    channels: int
    frames: int
    replaced: int
    warning: str
    states: tuple[FileState | None, FileState | None]

    @property
    def is_whole(self) -> bool:
        """True while both files are as they were made."""
        return None not in self.states and (state_of_file(self.data), state_of_file(self.overview)) == self.states

    def stretch(self, begin: int, end: int, frames: float) -> Stretch:
        """What lies between two frames, for a view whose points stand for `frames` each."""
        return read_stretch(self.overview, self.channels, self.frames, begin, end, frames)

    def samples(self, begin: int, end: int) -> NDArray[np.float32]:
        """The samples (frames, channels) between two frames of the sound; none where the copy was damaged just now."""
        begin, end = max(0, begin), min(end, self.frames)
        try:
            values = np.fromfile(self.data, np.float32, max(0, end - begin) * self.channels,
                                 offset=begin * self.channels * 4)
        except (OSError, ValueError):
            values = np.zeros(0, np.float32)
        return values[:values.size // self.channels * self.channels].reshape(-1, self.channels)


def _names(source: Path, rate: int) -> tuple[Path, Path, Path]:
    status = source.stat()
    key = f"{_FORMAT}:{os.path.realpath(source)}:{status.st_size}:{status.st_mtime_ns}:{rate}"
    stem = hashlib.sha256(os.fsencode(key)).hexdigest()[:32]
    cache = cache_folder()
    return cache / f"{stem}.f32", cache / f"{stem}.wave", cache / f"{stem}.json"


def find_conformed(source: Path, rate: int) -> Conformed | None:
    """The ready copy, where there is one."""
    try:
        data, overview, card = _names(source, rate)
        facts = read_object(card)
        states = tuple(facts["data"]), tuple(facts["overview"])
        result = Conformed(source, data, overview, rate, int(facts["channels"]), int(facts["frames"]),
                           int(facts["replaced"]), str(facts["warning"]), states)
        # The card's time says when the copy was last used.
        os.utime(card)
    except (OSError, JsonFileError, ValueError, KeyError, TypeError):
        return None
    return result if result.is_whole else None


def conform(source: Path, rate: int, progress: Callable[[float], None] = lambda share: None) -> Conformed:
    """Make the ready copy, or find it.

    Parameters
    ----------
    progress : Callable[[float], None]
        Called with the share done; raise `Cancelled` from it to stop.

    Raises
    ------
    AudioFileError
        Where the source can't be read or the cache can't be written.
    """
    info = probe(source)
    result = find_conformed(source, rate)
    if result is not None:
        return result
    data, overview, card = _names(source, rate)
    trim_cache(CACHE_LIMIT)
    changer = RateChanger(info.rate, rate, info.channels)
    columns: list[NDArray[np.float32]] = []
    rest = np.zeros((0, info.channels), np.float32)
    done = frames = replaced = 0
    try:
        with replacing(data) as temporary, temporary.open("wb") as target:

            def take(samples: NDArray[np.float32], *, last: bool) -> None:
                nonlocal rest, frames
                samples.tofile(target)
                frames += len(samples)
                pending = np.concatenate((rest, samples))
                whole = len(pending) if last else len(pending) // FINEST * FINEST
                columns.append(extremes(pending[:whole], FINEST))
                rest = pending[whole:]

            for block in read_blocks(source):
                bad = ~np.isfinite(block)
                replaced += int(np.count_nonzero(bad))
                block[bad] = 0.0
                done += block.shape[1]
                take(changer.process(np.ascontiguousarray(block.T.astype(np.float32)), last=False), last=False)
                progress(min(1.0, done / info.frames))
            empty = np.zeros((0, info.channels), np.float32)
            take(changer.process(empty, last=True), last=True)
        with replacing(overview) as temporary:
            write_overview(temporary, overview_of(np.concatenate(columns)))
        warning = info.warning
        if replaced:
            warning = f"{warning} {source.name} held {replaced} samples that are no numbers; they are silent".strip()
        states = state_of_file(data), state_of_file(overview)
        write_text(card, json.dumps({"frames": frames, "channels": info.channels, "replaced": replaced,
                                     "warning": warning, "data": states[0], "overview": states[1]}))
    except OSError as error:
        raise AudioFileError(f"{source.name} can't be made ready. {cannot_write(data, error)}") from None
    return Conformed(source, data, overview, rate, info.channels, frames, replaced, warning, states)


def conform_all(sources: Iterable[Path | None], rate: int) -> None:
    """Make ready copies of files that have none, or none any more; what is not there is left out.

    AudioFileError where one can't be read.
    """
    for source in sources:
        if source is not None and is_file(source):
            conform(source, rate)


def trim_cache(limit: int) -> None:
    """Remove the copies used longest ago until the cache holds at most `limit` bytes."""
    def used(copy: Path) -> float:
        state = state_of_file(copy.with_suffix(".json"))
        return 0.0 if state is None else state[2]

    held = 0
    for copy in sorted(cache_folder().glob("*.f32"), key=used, reverse=True):
        state = state_of_file(copy)
        held += 0 if state is None else state[1]
        if held > limit:
            for path in (copy, copy.with_suffix(".wave"), copy.with_suffix(".json")):
                path.unlink(missing_ok=True)
