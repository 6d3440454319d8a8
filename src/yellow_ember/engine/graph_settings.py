"""How a session is run."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class GraphSettings:
    """How a graph runs.

    Attributes
    ----------
    oversample, max_block : int
        Factor, and frames.
    only : frozenset[str] | None
        Ids of the strips that it holds, None for all.
    live : bool
        Tracks that listen are fed by their inputs; else they play their files.
    staggered : bool
        Every strip runs a block behind those that feed it, so that all can run at the same time.
    """

    oversample: int
    max_block: int
    only: frozenset[str] | None = None
    live: bool = False
    staggered: bool = False
