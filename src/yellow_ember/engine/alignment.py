"""When what strips make arrives where: files all at the same time, live inputs as soon as they can.

Files are read ahead, so strips that play them can wait for each other.  What comes in live must not wait: where it
shares a bus with files, these wait before the bus, and not the bus behind it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from collections.abc import Set as AbstractSet
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Alignment:
    """All in frames.

    Attributes
    ----------
    arrives : dict[str, int]
        By strip, from the reading of a file to its arrival before the strip's chain.
    leaves : dict[str, int]
        The same behind it.
    waits : dict[tuple[str, str], int]
        How long what a strip (the first id) makes waits before another.
    live : dict[str, int]
        By strip that carries a live input, from there to what comes out; the longest way counts.
    heard : dict[str, int]
        The same to where the last strip behind it ends, or to the strip's own ports.
    """

    arrives: dict[str, int] = field(default_factory=dict)
    leaves: dict[str, int] = field(default_factory=dict)
    waits: dict[tuple[str, str], int] = field(default_factory=dict)
    live: dict[str, int] = field(default_factory=dict)
    heard: dict[str, int] = field(default_factory=dict)


def align(order: Sequence[str], sources: Mapping[str, Sequence[str]], own: Mapping[str, int],
          listening: AbstractSet[str], leaving: AbstractSet[str] = frozenset()) -> Alignment:
    """Work out who waits for whom.

    Parameters
    ----------
    order : Sequence[str]
        Ids of strips, each behind those that feed it.
    sources : Mapping[str, Sequence[str]]
        Ids of the strips that feed each.
    own : Mapping[str, int]
        Latency of each strip's chain.
    listening : AbstractSet[str]
        Ids of tracks that are fed by an input.
    leaving : AbstractSet[str]
        Ids of strips that end in ports of their own.
    """
    result = Alignment()
    timed = set[str]()
    """Strips that carry what was read from files, or nothing."""
    for strip in order:
        fed_in_time = [source for source in sources[strip] if source in timed]
        if strip not in listening and (fed_in_time or not sources[strip]):
            timed.add(strip)
        result.arrives[strip] = max((result.leaves[source] for source in fed_in_time), default=0)
        result.leaves[strip] = result.arrives[strip] + own[strip]
    carries = carriers(order, sources, listening)
    _wait_before_buses(order, sources, own, carries & timed, result)
    for strip in order:
        for source in sources[strip]:
            result.waits[source, strip] = result.arrives[strip] - result.leaves[source] if source in timed else 0
        ways = [result.live[source] + result.waits[source, strip] for source in sources[strip] if source in carries]
        if strip in carries:
            result.live[strip] = max(ways, default=0) + own[strip]
    rest = dict.fromkeys(order, 0)
    for strip in reversed(order):
        for source in sources[strip]:
            if source not in leaving:
                rest[source] = max(rest[source], result.waits[source, strip] + own[strip] + rest[strip])
    result.heard.update({strip: late + rest[strip] for strip, late in result.live.items()})
    return result


def carriers(order: Sequence[str], sources: Mapping[str, Sequence[str]],
             listening: AbstractSet[str]) -> AbstractSet[str]:
    """Return the ids of the strips that carry a live input; parameters as for `align`."""
    carries = set(listening)
    for strip in order:
        if any(source in carries for source in sources[strip]):
            carries.add(strip)
    return carries


def _wait_before_buses(order: Sequence[str], sources: Mapping[str, Sequence[str]], own: Mapping[str, int],
                       mixed: AbstractSet[str], result: Alignment) -> None:
    """Let files wait before a bus that carries live inputs as well, as long as all that it feeds would wait for them.

    mixed : strips that carry files and live inputs
    """
    for strip in reversed(order):
        if strip in mixed:
            fed = [other for other in order if strip in sources[other]]
            later = min((result.arrives[other] - result.leaves[strip] for other in fed), default=0)
            result.arrives[strip] += later
            result.leaves[strip] = result.arrives[strip] + own[strip]
