"""A reference heard in a strip's place."""

from __future__ import annotations

import math
from pathlib import Path

from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.edits.strip_edits import insert_track
from yellow_ember.session.values.model import MASTER, Session, Strip, StripKind
from yellow_ember.session.values.regions import MAXIMUM_REGIONS, Region
from yellow_ember.session.values.strip_values import VOLUME

_NAME = "Reference"


def hear_in_place(session: Session, strip_id: str, audio: Path, seconds: float, offset_db: float) -> Session:
    """The session with a file, over and over from the loop's start, where the strip's sound was.

    A track plays it itself, without its path.  What a bus or the master mixes is muted, and a track plays into it.

    Parameters
    ----------
    seconds : float
        The file's length.
    offset_db : float
        What makes it as loud as the strip: of its fader, as a strip without a chain has no match.
    """
    strip = session.strip(strip_id)
    if strip.kind is StripKind.TRACK:
        return edit_strip(session, strip_id, lambda old: _playing(session, old, audio, seconds, offset_db))
    session, added = insert_track(session, strip_id, _NAME)
    session = edit_strip(session, strip_id, lambda old: old.with_(bypass=True, match_db=0.0))
    mixed = {one.id for one in session.strips if strip_id in one.feeds} - {added}
    for one in mixed if strip_id != MASTER else {one.id for one in session.strips} - {added, MASTER}:
        session = edit_strip(session, one, lambda old: old.with_(mute=True))
    return edit_strip(session, added, lambda old: _playing(session, old, audio, seconds, offset_db))


def _playing(session: Session, strip: Strip, audio: Path, seconds: float, offset_db: float) -> Strip:
    start = session.loop.start / session.rate
    length = max(session.loop.end / session.rate - start, seconds) if session.loop.on else seconds
    turns = min(math.ceil(length / seconds - 1e-6), MAXIMUM_REGIONS)
    volume = VOLUME.clamp(strip.volume_db + offset_db)
    return strip.with_(chain=(), macros=(), live=None, bypass=False, match_db=0.0, volume_db=volume, regions=tuple(
        Region(audio=audio, start=start + turn * seconds, id=f"reference-{turn}") for turn in range(turns)))
