"""What presets and sets are made for: the source they suit, the intention behind them, and how much a set covers."""

from __future__ import annotations

import re

SOURCES = ("drums", "bass", "guitar", "keys", "voice", "bus", "master", "effect")
INTENTIONS = ("glue", "weight", "soften", "air", "age", "destroy")
SET_SCOPES = ("bus", "session")
ANY_SOURCE = "any"
"""Of a part of a set that suits whatever is on a track."""

_WORDS: dict[str, tuple[str, ...]] = {
    "drums": ("drum", "kick", "snare", "brush", "tom", "hat", "cymbal", "percussion", "kit", "loop", "beat", "clap",
              "conga", "shaker", "tambourine"),
    "bass": ("bass", "sub", "contrabass", "cello"),
    "voice": ("voice", "vocal", "vox", "announcer", "narrator", "choir", "singer", "speech", "dialogue", "rap"),
    "guitar": ("guitar", "gtr", "banjo", "mandolin", "ukulele", "lute"),
    "keys": ("keys", "piano", "organ", "harmonium", "synth", "pad", "accordion", "strings", "violin", "brass", "horn",
             "flute", "celesta", "clavinet"),
    "effect": ("effect", "fx", "sfx", "noise", "ambience", "atmosphere", "foley", "wind", "waves")}


def source_by_name(name: str) -> str:
    """What plays on a track by the words of its name, "" where they don't say.

    >>> source_by_name("Brushed drums L"), source_by_name("Take 3")
    ('drums', '')
    """
    words = re.findall(r"[a-z]+", name.lower())
    hits = [(len(words) - index, source) for source, stems in _WORDS.items() for index, word in enumerate(words)
            if any(word == stem or (len(stem) > 3 and word.startswith(stem)) for stem in stems)]
    # In "bass drum" and "organ bass" the last word is the noun.
    return min(hits)[1] if hits else ""


def proposed_intention(added_db: float, brightness: float) -> str:
    """What a chain is probably meant for, from what it does (`measure.character`)."""
    if added_db > -8.0:
        return "destroy"
    if brightness < -0.8:
        return "age" if added_db > -20.0 else "soften"
    if brightness > 0.5:
        return "air"
    return "weight" if added_db > -20.0 else "glue"
