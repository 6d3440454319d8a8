"""What presets and sets are made for: the source they suit, the intention behind them, and how much a set covers."""

from __future__ import annotations

SOURCES = ("drums", "bass", "guitar", "keys", "voice", "bus", "master", "effect")
INTENTIONS = ("glue", "weight", "soften", "air", "age", "destroy")
SET_SCOPES = ("bus", "session")
ANY_SOURCE = "any"
"""Of a part of a set that suits whatever is on a track."""
