"""How a session is run."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class GraphSettings:
    """How a graph runs.

    oversample, max_block : factor, and frames
    only : ids of the strips that it holds, None for all
    staggered : every strip runs a block behind those that feed it, so that all can run at the same time
    """

    oversample: int
    max_block: int
    only: frozenset[str] | None = None
    staggered: bool = False
