"""Which strips would be fed with what they make, by how their ports are connected outside the session."""

from __future__ import annotations

from collections.abc import Set as AbstractSet

from yellow_ember.session.values.model import Session, reached

Wire = tuple[str, str]
"""A connection outside: ids of the strip whose ports give (the master's for its own) and of the one that listens."""


def fed_with_themselves(session: Session, wires: AbstractSet[Wire]) -> frozenset[str]:
    """Ids of the strips that listen and whose sound comes round to where they listen."""
    here = {strip.id for strip in session.strips}
    ways = {(strip_id, to) for strip_id, to in session.passing() if to} | wires

    def onward(strip_id: str) -> set[str]:
        return {to for start, to in ways if start == strip_id}

    return frozenset(to for start, to in wires if to in here and start in reached(to, onward))
