"""The added part alone: what a strip's chain put to the sound over its loop, as a print to be heard in its place."""

from __future__ import annotations

import hashlib
import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.jobs.measuring import capture_strip, wave_of
from yellow_ember.engine.jobs.strip_prints import prints_folder, trim_prints
from yellow_ember.engine.print_player import StripPrint
from yellow_ember.files.atomic import cannot_write, replacing
from yellow_ember.files.reading import AudioFileError
from yellow_ember.measure.comparison import added_part
from yellow_ember.session.values.model import Session

LOUDER_MOST_DB = 40.0


@dataclass(frozen=True, slots=True, eq=False)
class AddedPart:
    """part : to be played; wave : least and greatest in columns; against_db : its level against what comes out"""

    part: StripPrint
    wave: Samples
    against_db: float


def print_added(progress: Progress, session: Session, strip_id: str, keep_tone: bool, louder_db: float,
                limit: int) -> AddedPart:
    """The added part of a strip over its loop, into the cache, which then holds at most `limit` bytes.

    Parameters
    ----------
    keep_tone : bool
        What the chain does to the tone linearly is left in: after less before, at the match's level.

    Raises
    ------
    AudioFileError
        Where there is nothing to run, or it can't be written.
    """
    strip = session.strip(strip_id)
    result = capture_strip(lambda share: progress(0.8 * share), session, strip_id)
    # The strip's match is put on when it is played: what is taken off here stands before it.
    matched = result.before / gain(strip.match_db)
    added = result.after - matched if keep_tone else added_part(result.before, result.after)
    whole, rest = float(np.sum(result.after**2)), float(np.sum(added**2))
    against = 10.0 * math.log10(rest / whole) if rest > 0.0 and whole > 0.0 else -math.inf
    sound = np.ascontiguousarray((added * gain(louder_db)).T, np.float32)
    name = hashlib.sha256(sound.tobytes()).hexdigest()[:32]
    data = prints_folder() / f"added-{name}.f32"
    try:
        with replacing(data) as temporary:
            sound.tofile(temporary)
        trim_prints(limit, keep=data)
    except OSError as error:
        raise AudioFileError(f"The added part of {strip.name} can't be kept. {cannot_write(data, error)}") from None
    part = StripPrint(strip_id, strip.chain, data, sound.shape[1], sound.shape[0], result.loop.start, stays=True)
    return AddedPart(part, wave_of(added * gain(louder_db)), against)
