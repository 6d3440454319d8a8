"""Brightness in words."""

from __future__ import annotations


def tone_words(brightness: float) -> str:
    """From a slope in dB an octave (`measure.character`)."""
    if abs(brightness) < 0.25:
        return "tone kept"
    how = "much " if abs(brightness) > 2.0 else "a little " if abs(brightness) < 0.8 else ""
    return f"{how}{'brighter' if brightness > 0 else 'darker'}"
