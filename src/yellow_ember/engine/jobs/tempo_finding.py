"""Finding the tempo of a track."""

from __future__ import annotations

from pathlib import Path

from yellow_ember.engine.jobs.job import Progress
from yellow_ember.files.conformed import conform
from yellow_ember.measure.tempo import TempoReading, read_tempo

_LONGEST_SECONDS = 180.0
"""More than so much of a song tells nothing new."""


def find_tempo(progress: Progress, path: Path, rate: int) -> TempoReading:
    """Return the tempo of a file.

    Raises
    ------
    AudioFileError
        Where the file can't be read.
    ValueError
        Where it is too short, or nothing begins in it.
    """
    ready = conform(path, rate, lambda share: progress(0.5 * share))
    sound = ready.samples(0, round(_LONGEST_SECONDS * rate)).mean(axis=1).astype(float)
    progress(0.6)
    return read_tempo(sound, rate)
