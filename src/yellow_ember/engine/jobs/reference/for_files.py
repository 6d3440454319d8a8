"""A chain that makes one file sound like another."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yellow_ember.engine.jobs.reference.references import Reference
from yellow_ember.engine.jobs.reference.search import Findings, SearchOrder, search
from yellow_ember.files.reading import probe
from yellow_ember.session.values.model import MASTER, Session, Strip, StripKind, master_strip
from yellow_ember.session.values.regions import Region

_TRACK = "track"


def match_file(source: Path, reference: Path, seed: int = 1, workers: int | None = None,
               progress: Callable[[float], None] = lambda share: None) -> Findings:
    """What is known at the end of a search for chains that make `source` sound like `reference`.

    Parameters
    ----------
    workers : int | None
        Processes, None for one a core.  The result does not depend on it.

    Raises
    ------
    AudioFileError, UnfitReferenceError
        Where either can't be read or compared.
    """
    # Names by which noises go are the same each time.
    track = Strip(id=_TRACK, name=_TRACK, kind=StripKind.TRACK, out=MASTER,
                  regions=(Region(audio=source.absolute(), id=f"{_TRACK}-1"),))
    session = Session(rate=probe(source).rate, seed=1, strips=(track, master_strip()))
    order = SearchOrder(_TRACK, Reference(reference.absolute()), seed, workers=workers)
    *_, last = search(progress, session, order)
    return last
