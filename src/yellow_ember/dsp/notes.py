"""Note values for rates that are locked to the tempo."""

from __future__ import annotations

from yellow_ember.dsp.parameters import Choice

_BEATS = {"4/1": 16.0, "2/1": 8.0, "1/1": 4.0, "1/2": 2.0, "1/4": 1.0, "1/8": 0.5, "1/16": 0.25, "1/32": 0.125}
NOTE_CHOICES = (Choice("free", "free"), *(Choice(note, note) for note in _BEATS))


def beats_of(note: str) -> float:
    """Quarter notes that a note value lasts; KeyError for "free", which lasts none."""
    return _BEATS[note]
