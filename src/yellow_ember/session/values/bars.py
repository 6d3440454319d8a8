"""Bars and beats of a session, in frames."""

from __future__ import annotations

from yellow_ember.session.values.model import Loop, Session


def beat_frames(session: Session) -> float:
    """How long a beat is."""
    return 60.0 / session.tempo * session.rate


def bar_frames(session: Session) -> float:
    """How long a bar is."""
    return beat_frames(session) * session.beats_per_bar


def bar_1(session: Session) -> float:
    """Where bar 1 begins."""
    return session.first_beat * session.rate


def beats_at(session: Session, frame: float) -> float:
    """Beats from the beginning of bar 1 to a frame; below zero before it."""
    return (frame - bar_1(session)) / beat_frames(session)


def at_beat(session: Session, beats: float) -> int:
    """The frame so many beats behind the beginning of bar 1; 0 for what lies before the session."""
    return max(0, round(bar_1(session) + beats * beat_frames(session)))


def nearest_beat(session: Session, frame: float, step: int = 1) -> int:
    """The nearest frame at which every so many beats one begins."""
    return at_beat(session, round(beats_at(session, frame) / step) * step)


def snapped(session: Session, frame: float, snap: str) -> float:
    """A frame brought to the nearest "beat" or "bar"; as it is where it snaps to anything else."""
    if snap not in ("beat", "bar"):
        return frame
    return nearest_beat(session, frame, session.beats_per_bar if snap == "bar" else 1)


def bars_stretch(session: Session, words: str, length: int) -> Loop:
    """The stretch from one bar to the end of another, "5-8" or "5" alone; ValueError says what is wrong."""
    first, _, last = words.replace("\N{EN DASH}", "-").partition("-")
    try:
        start, end = int(first), int(last or first)
    except ValueError:
        raise ValueError("type bars like 5-8") from None
    if not 1 <= start <= end:
        raise ValueError("bars begin at 1, and the last comes after the first")
    beats = session.beats_per_bar
    stretch = Loop(at_beat(session, (start - 1) * beats), min(at_beat(session, end * beats), length))
    if stretch.end <= stretch.start:
        raise ValueError(f"the session ends with bar {int(beats_at(session, length) / beats) + 1}")
    return stretch
