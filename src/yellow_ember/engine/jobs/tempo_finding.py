"""Finding the tempo of a track."""

from __future__ import annotations

import numpy as np

from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.placing import end_of, placed
from yellow_ember.files.conformed import conform_all
from yellow_ember.measure.tempo import TempoReading, read_tempo
from yellow_ember.session.values.model import Strip

_LONGEST_SECONDS = 180.0
"""More than so much of a song tells nothing new."""


def find_tempo(progress: Progress, strip: Strip, rate: int) -> TempoReading:
    """Return the tempo of a track.

    Raises
    ------
    AudioFileError
        Where a file of it can't be read.
    ValueError
        Where it is too short, or nothing begins in it.
    """
    conform_all(strip.files, rate)
    progress(0.5)
    places = placed(strip, rate)
    sound = np.zeros(min(end_of(places), round(_LONGEST_SECONDS * rate)))
    for place in places:
        span = place.span
        part = place.sound.samples(span.offset, span.offset + min(span.frames, sound.size - span.first)).mean(axis=1)
        sound[span.first:span.first + part.size] += part
    progress(0.6)
    return read_tempo(sound, rate)
