"""What a strip is to sound like: a file, a passage, another strip, a snapshot; read as sound."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.jobs.measuring import LONGEST_SECONDS, capture_strip
from yellow_ember.files.conformed import conform
from yellow_ember.files.reading import probe, read_blocks
from yellow_ember.session.edits.snapshot_edits import recall
from yellow_ember.session.values.model import Loop, Session

SHORTEST_SECONDS = 2.0
_SILENT = 1e-5
_FLAT_SHARE, _FLAT_WITHIN = 0.01, 0.001


class UnfitReferenceError(ValueError):
    """Why something can't be a reference, and what to do, in words for the user."""


@dataclass(frozen=True, slots=True)
class Reference:
    """One of them is given; of a strip or a snapshot what is behind its chain over the loop.

    Attributes
    ----------
    strip_id : str
        Of the strip that is heard, another one or, in a passage or a snapshot, the same.
    passage_id : str
        Where it is heard, "" for the loop.
    snapshot : tuple[str, str, int] | None
        Key of the snapshot in which the strip is heard.
    """

    path: Path | None = None
    strip_id: str = ""
    passage_id: str = ""
    snapshot: tuple[str, str, int] | None = None


@dataclass(frozen=True, slots=True, eq=False)
class ReferenceSound:
    """sound : (channels, frames) at the session's rate; remarks : what can't be compared and why, in sentences"""

    sound: Samples
    remarks: tuple[str, ...]


def read_reference(progress: Progress, session: Session, reference: Reference) -> ReferenceSound:
    """Read or render a reference.

    Raises
    ------
    UnfitReferenceError
        Where it is silent or too short.
    AudioFileError
        Where its file can't be read.
    """
    remarks = []
    if reference.path is not None:
        rate = probe(reference.path).rate
        ready = conform(reference.path, session.rate, progress)
        sound = ready.samples(0, round(LONGEST_SECONDS * session.rate)).T.astype(np.float64)
        if rate != session.rate:
            remarks.append(f"The reference was converted from {rate} Hz to {session.rate} Hz.")
            # Converting rounds off what was clipped: that is looked for in the file itself.
            blocks = itertools.islice(read_blocks(reference.path, rate), round(LONGEST_SECONDS))
            remarks += _clipped_flat(np.nan_to_num(np.concatenate(list(blocks), axis=1)))
    else:
        sound = capture_strip(progress, _heard(session, reference), reference.strip_id).after
    return checked(sound, session.rate, tuple(remarks))


def _heard(session: Session, reference: Reference) -> Session:
    """The session in which the reference is what its strip sounds like."""
    for passage in session.passages:
        if passage.id == reference.passage_id:
            return session.with_(loop=Loop(round(passage.start * session.rate), round(passage.end * session.rate)))
    for snapshot in session.snapshots:
        if snapshot.key == reference.snapshot:
            return recall(session, snapshot)
    return session


def checked(sound: Samples, rate: float, remarks: tuple[str, ...] = ()) -> ReferenceSound:
    """A sound that can be compared with, and what of it can't be.  UnfitReferenceError where none of it can."""
    if sound.shape[1] < SHORTEST_SECONDS * rate:
        raise UnfitReferenceError(f"The reference is only {sound.shape[1] / rate:.1f} s long. Choose one of at least "
                                  f"{SHORTEST_SECONDS:g} s.")
    peak = float(np.abs(sound).max())
    if peak < _SILENT:
        raise UnfitReferenceError("The reference is silent. Choose another one.")
    remarks = tuple(dict.fromkeys((*remarks, *_clipped_flat(sound))))
    if sound.shape[0] == 1:
        remarks = (*remarks, "The reference has one channel: width is not compared.")
    return ReferenceSound(sound, remarks)


def _clipped_flat(sound: Samples) -> list[str]:
    flat = float(np.mean(np.abs(sound) > (1.0 - _FLAT_WITHIN) * float(np.abs(sound).max())))
    return [f"The reference is clipped flat ({100.0 * flat:.0f} % of its samples are as high as its highest): its "
            "peaks can't be judged, and a chain that clips will come nearest."] if flat > _FLAT_SHARE else []
