"""How a session is run."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class GraphSettings:
    """How a graph runs: oversampling, longest block, and which strips it holds (None for all)."""

    oversample: int
    max_block: int
    only: frozenset[str] | None = None
