"""One file through one chain, by blocks, at the file's own rate, length and channels."""

from __future__ import annotations

import math
import os
import tempfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from yellow_ember.dsp.arrays import Samples, db, gain
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.files.atomic import cannot_write
from yellow_ember.files.file_marks import read_marks
from yellow_ember.files.impulses import read_impulse
from yellow_ember.files.kinds import is_file
from yellow_ember.files.reading import AudioFileError, AudioInfo, probe, read_blocks
from yellow_ember.files.writing import writing
from yellow_ember.measure.loudness import LoudnessScan


@dataclass(frozen=True, slots=True)
class FileOrder:
    """How to process a file.

    Attributes
    ----------
    match : bool
        Make the result as loud as the input (BS.1770).
    peak_dbfs : float | None
        Or bring its highest sample to this level.
    reference : Path | None
        Find, from `seed`, the chain that makes the file sound like this one, and use that.
    """

    oversample: int = 8
    block: int = 4096
    dtype: str = "float32"
    match: bool = False
    peak_dbfs: float | None = None
    tail_seconds: float = 0.0
    reference: Path | None = None
    seed: int = 1


@dataclass(frozen=True, slots=True)
class FileResult:
    """target: where the result is; replaced: input samples that were no numbers;
    match_db: gain put on by matching, or to reach the peak."""

    target: Path
    frames: int
    replaced: int
    match_db: float
    clipped: int
    warning: str


def process_file(source: Path, target: Path, stages: Sequence[StageSettings], order: FileOrder,
                 progress: Callable[[float], None] = lambda share: None) -> FileResult:
    """Write `target` from `source`; memory does not grow with length.

    AudioFileError where either file can't be used.  A target that holds anything is not overwritten; where one
    appears while this works, the result gets the next free name.
    """
    info = probe(source)
    refuse_taken(target)
    if order.reference is not None:
        # Only here: a search needs far more than a file that goes through a chain.
        from yellow_ember.engine.jobs.reference.for_files import match_file

        stages = match_file(source, order.reference, order.seed, workers=1).proposals[0].chain
    try:
        return _process(info, target, stages, order, progress)
    except OSError as error:
        raise AudioFileError(cannot_write(target, error)) from None


def refuse_taken(target: Path) -> None:
    """AudioFileError where a name is taken; a file of no bytes only keeps it free."""
    if os.path.lexists(target) and not (is_file(target) and target.stat().st_size == 0):
        raise AudioFileError(f"{target} is there already and is not overwritten; choose another name")


def _process(info: AudioInfo, target: Path, stages: Sequence[StageSettings], order: FileOrder,
             progress: Callable[[float], None]) -> FileResult:
    run = _Run(info, stages, order)
    opened = writing(target, info.rate, info.channels, order.dtype, over_empty=True, frames=run.length,
                     time=read_marks(info.path).time)
    if not order.match and order.peak_dbfs is None:
        with opened as writer:
            for block in run.blocks(progress):
                writer.write(block)
        return FileResult(writer.path, run.written, run.replaced, 0.0, writer.clipped, info.warning)
    with tempfile.TemporaryFile(dir=target.parent if os.path.isdir(target.parent) else None) as store:
        after = LoudnessScan(info.rate, info.channels)
        highest = 0.0
        for block in run.blocks(lambda share: progress(0.8 * share)):
            after.push(block)
            highest = max(highest, float(np.abs(block).max()))
            store.write(np.ascontiguousarray(block.T).tobytes())
        if order.peak_dbfs is None:
            offset = run.before.result().integrated_lufs - after.result().integrated_lufs
        else:
            offset = order.peak_dbfs - float(db(highest)) if highest > 0.0 else 0.0
        offset = offset if math.isfinite(offset) else 0.0
        store.seek(0)
        size = order.block * info.channels * 8
        with opened as writer:
            while data := store.read(size):
                samples = np.frombuffer(data, np.float64).reshape(-1, info.channels)
                writer.write(np.ascontiguousarray(samples.T) * gain(offset))
    progress(1.0)
    return FileResult(writer.path, run.written, run.replaced, offset, writer.clipped, info.warning)


class _Run:
    """The chain over the file's blocks, its latency taken off the beginning."""

    def __init__(self, info: AudioInfo, stages: Sequence[StageSettings], order: FileOrder) -> None:
        self._info = info
        self._order = order
        setup = Setup(info.rate, info.channels, order.block, order.oversample,
                      read_impulse=lambda path, rate: read_impulse(Path(path), rate))
        # A chain file's stages have no names of their own: their noises go by their places.
        self._chain = Chain(setup, [replace(stage, id=str(index)) for index, stage in enumerate(stages)])
        self.before = LoudnessScan(info.rate, info.channels)
        self.length = info.frames + round(order.tail_seconds * info.rate)
        self.replaced = 0
        self.written = 0

    def blocks(self, progress: Callable[[float], None]) -> Iterator[Samples]:
        delay = self._chain.latency
        for block in self._fed(self.length + delay):
            skipped = min(delay, block.shape[1])
            delay -= skipped
            part = block[:, skipped:skipped + self.length - self.written]
            if part.shape[1] > 0:
                self.written += part.shape[1]
                progress(self.written / self.length)
                yield part

    def _fed(self, frames: int) -> Iterator[Samples]:
        """Processed blocks of the file, then of silence, `frames` in all."""
        for block in read_blocks(self._info.path, self._order.block):
            bad = ~np.isfinite(block)
            self.replaced += int(np.count_nonzero(bad))
            block[bad] = 0.0
            if self._order.match:
                self.before.push(block)
            frames -= block.shape[1]
            self._chain.process(block)
            yield block
        while frames > 0:
            silence = np.zeros((self._info.channels, min(self._order.block, frames)))
            frames -= silence.shape[1]
            self._chain.process(silence)
            yield silence
