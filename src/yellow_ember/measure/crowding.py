"""Where what was added booms, crowds or hisses more than the source itself."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.measure.comparison import Comparison

REGIONS = (("boom", 0.0, 120.0), ("crowd", 2000.0, 5000.0), ("hiss", 8000.0, 20000.0))
"""What it is called, and from where to where in Hz."""
_MORE_DB = 6.0
"""The region's share of what was added is greater than its share of the source by this."""
_HEARD_DB = -36.0
"""In the region, what was added is at least so loud against all that comes out."""


@dataclass(frozen=True, slots=True)
class Crowding:
    """what : boom, crowd or hiss; more_db : by how much more of it there is in what was added than in the source"""

    what: str
    more_db: float


def crowding(comparison: Comparison) -> list[Crowding]:
    """The regions in which the additions stand out, the worst first."""
    before, added, after = (10.0 ** (level / 10.0) for level in (
        comparison.before_db, comparison.added_bands_db, comparison.after_db))
    told = []
    for what, low, high in REGIONS:
        inside = (comparison.bands >= low) & (comparison.bands < high)
        source, extra = float(before[inside].sum() / before.sum()), float(added[inside].sum() / added.sum())
        heard = 10.0 * np.log10(max(float(added[inside].sum() / after.sum()), 1e-12))
        more = 10.0 * np.log10(max(extra, 1e-12) / max(source, 1e-6))
        if more >= _MORE_DB and heard >= _HEARD_DB:
            told.append(Crowding(what, float(more)))
    return sorted(told, key=lambda one: -one.more_db)
