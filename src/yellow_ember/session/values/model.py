"""The session as a value.

Nothing here changes in place: an edit makes a new `Session` that shares what stayed.
"""

from __future__ import annotations

import dataclasses
import enum
import secrets
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Self

from yellow_ember.choices import FACTORS
from yellow_ember.dsp.lanes import Lane
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.plain_text import plain_line
from yellow_ember.session.values.limits import MAXIMUM_NAME
from yellow_ember.session.values.links import LinkGroup
from yellow_ember.session.values.live_input import LiveInput
from yellow_ember.session.values.macros import Macro
from yellow_ember.session.values.places import Marker, Passage
from yellow_ember.session.values.regions import Region, files_of
from yellow_ember.session.values.snapshots import Snapshot

MASTER = "master"
QUIETEST_LUFS, LOUDEST_LUFS = -60.0, 0.0


class StripKind(enum.Enum):
    TRACK = "track"
    BUS = "bus"
    MASTER = "master"


class _Value:
    """A frozen dataclass that can be copied with changes."""

    def with_(self, **changes: Any) -> Self:
        return dataclasses.replace(self, **changes)  # type: ignore[type-var]


@dataclass(frozen=True, slots=True, kw_only=True)
class Send(_Value):
    """A second way out of a strip.

    Attributes
    ----------
    to : str
        Id of the bus (or master) that gets it.
    pre : bool
        Taken before the strip's fader and pan.
    """

    to: str
    level_db: float = 0.0
    pre: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Strip(_Value):
    """A track, a bus or the master.

    Attributes
    ----------
    out : str
        Id of the strip it feeds; empty for the master.
    tint : str
        The colour that the strip is known by on screen, "#rrggbb"; "" for none.
    sends : tuple[Send, ...]
        At most one to each bus.
    regions : tuple[Region, ...]
        The track's files, none for buses.
    live : LiveInput | None
        What the track listens to; while that is on, its files are silent.
    takes : tuple[Region, ...]
        What was recorded for it, in its order; a take is heard where one of the regions is of its file.
    own_ports : bool
        What comes out leaves by ports of its own and does not enter the bus that it feeds.
    volume_db, pan, mute, solo, bypass, match_db : float, float, bool, bool, bool, float
        What every strip has (`strip_values.py`).
    zone_lufs : tuple[float, float] | None
        Target of its short-term loudness, None for none.
    macros : tuple[Macro, ...]
        At most MAX_MACROS controls that move several parameters of the chain.
    lanes : tuple[Lane, ...]
        What moves along the session of its volume, pan, mute, bypass and macros; stages have their own.
    """

    id: str
    name: str
    kind: StripKind
    out: str = MASTER
    tint: str = ""
    sends: tuple[Send, ...] = ()
    regions: tuple[Region, ...] = ()
    live: LiveInput | None = None
    takes: tuple[Region, ...] = ()
    own_ports: bool = False
    volume_db: float = 0.0
    pan: float = 0.0
    mute: bool = False
    solo: bool = False
    bypass: bool = False
    match_db: float = 0.0
    zone_lufs: tuple[float, float] | None = None
    chain: tuple[StageSettings, ...] = ()
    macros: tuple[Macro, ...] = ()
    lanes: tuple[Lane, ...] = ()

    @property
    def listens(self) -> bool:
        """True where it is fed by an input."""
        return self.live is not None and self.live.on

    @property
    def files(self) -> tuple[Path, ...]:
        """The files of its regions, each once."""
        return files_of(self.regions)

    def region(self, region_id: str) -> Region:
        """The region of that id; KeyError where the strip has none such."""
        for region in self.regions:
            if region.id == region_id:
                return region
        raise KeyError(region_id)

    def macro(self, macro_id: str) -> Macro:
        """The macro of that id; KeyError where the strip has none such."""
        for macro in self.macros:
            if macro.id == macro_id:
                return macro
        raise KeyError(macro_id)

    @property
    def feeds(self) -> tuple[str, ...]:
        """Ids of all that gets its sound: what it feeds, then where its sends go."""
        return (*((self.out,) if self.out else ()), *(send.to for send in self.sends))

    @property
    def enters(self) -> tuple[str, ...]:
        """Ids of the buses that its sound enters, "" for none: what it feeds, but where it leaves by its own ports."""
        feeds = self.feeds[1:] if self.own_ports else self.feeds
        return (*feeds, "") if self.own_ports or not feeds else feeds

    def stage(self, stage_id: str) -> StageSettings:
        """The stage of that id; KeyError where the strip has none such."""
        for stage in self.chain:
            if stage.id == stage_id:
                return stage
        raise KeyError(stage_id)

    def index_of(self, stage_id: str) -> int:
        return [stage.id for stage in self.chain].index(stage_id)


@dataclass(frozen=True, slots=True)
class Loop(_Value):
    """A stretch of the session in frames at its rate."""

    start: int
    end: int
    on: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Quality(_Value):
    """Oversampling when playing and when printing.

    low_delay : what comes in live goes through shorter filters, which are heard sooner and are not exact in phase
    """

    live: int = 4
    printing: int = 8
    low_delay: bool = True

    def __post_init__(self) -> None:
        for factor in (self.live, self.printing):
            if factor not in FACTORS:
                raise ValueError(f"oversampling must be one of {FACTORS}, not {factor}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Session(_Value):
    """All of it.  `strips` holds tracks and buses in the desk's order, the master last.

    Attributes
    ----------
    rate : int
        Frames a second.
    tempo : float
        Beats a minute.
    reference_dbfs : float
        Sine peak at 0 VU.
    seed : int
        Where the stages' noise starts.
    ceiling_dbfs : float
        What the output never passes.
    starts_at : float
        The time of day at its start, in seconds since midnight: what time stamps in files are counted from.
    first_beat : float
        Where bar 1 begins, in seconds.
    markers : tuple[Marker, ...]
        In the order of time.
    passages : tuple[Passage, ...]
        In the order of their starts.
    shown : str
        Id of the strip that was looked at when the session was saved, "" for the first.
    """

    name: str = "Untitled"
    rate: int = 48000
    tempo: float = 120.0
    beats_per_bar: int = 4
    reference_dbfs: float = -18.0
    ceiling_dbfs: float = -0.3
    seed: int = 1
    quality: Quality = field(default_factory=Quality)
    loop: Loop = Loop(0, 0, False)
    starts_at: float = 0.0
    first_beat: float = 0.0
    markers: tuple[Marker, ...] = ()
    passages: tuple[Passage, ...] = ()
    strips: tuple[Strip, ...] = ()
    links: tuple[LinkGroup, ...] = ()
    snapshots: tuple[Snapshot, ...] = ()
    shown: str = ""

    def strip(self, strip_id: str) -> Strip:
        """The strip of that id; KeyError where there is none."""
        for strip in self.strips:
            if strip.id == strip_id:
                return strip
        raise KeyError(strip_id)

    @property
    def master(self) -> Strip:
        return self.strip(MASTER)

    @property
    def files(self) -> tuple[Path, ...]:
        """The files of all tracks, each once."""
        return files_of(region for strip in self.strips for region in strip.regions)

    def feeding(self, strip_id: str) -> list[Strip]:
        """Strips that feed this one, sends left aside, in the desk's order."""
        return [strip for strip in self.strips if strip.out == strip_id and strip.kind is not StripKind.MASTER]

    def sources(self, strip_id: str) -> list[Strip]:
        """Strips that feed this one or send to it, in the desk's order."""
        return [strip for strip in self.strips if strip_id in strip.feeds]

    def depth_first(self) -> Iterator[tuple[Strip, int]]:
        """Strips with their depth as the desk shows them: under the bus they feed, the master last."""
        yield from self._below(MASTER, 0)
        yield self.master, 0

    def below(self, strip_id: str) -> set[str]:
        """Ids of the strips that the desk shows under a bus: those that feed it, at whatever depth."""
        return {strip.id for strip, _ in self._below(strip_id, 0)}

    def _below(self, strip_id: str, depth: int) -> Iterator[tuple[Strip, int]]:
        for strip in self.feeding(strip_id):
            yield strip, depth
            yield from self._below(strip.id, depth + 1)

    def processing_order(self) -> list[Strip]:
        """Strips so that each comes after all that feed it or send to it, the master last."""
        order: dict[str, Strip] = {}
        self._visit(self.master, order)
        return list(order.values())

    def _visit(self, strip: Strip, order: dict[str, Strip]) -> None:
        # No function within a function that calls itself: that is a cycle which only the garbage collector ends,
        # and the engine's never runs.
        if strip.id not in order:
            for source in self.sources(strip.id):
                self._visit(source, order)
            order[strip.id] = strip

    def upstream(self, strip_id: str) -> set[str]:
        """Ids of the strip and of all that reach it."""
        return reached(strip_id, lambda at: [strip.id for strip in self.sources(at)])

    def downstream(self, strip_id: str) -> set[str]:
        """Ids of the strip and of all that it reaches."""
        return reached(strip_id, lambda at: self.strip(at).feeds)

    def passing(self) -> set[tuple[str, str]]:
        """The ways that let sound through, by mute and solo: ids of a strip and of what gets it ("" behind the master).

        Of a soloed strip all that it reaches is heard, and of what reaches it just what goes there.
        """
        soloed = [strip.id for strip in self.strips if strip.solo]
        before = set().union(*(self.upstream(strip_id) for strip_id in soloed))
        behind = set().union(*(self.downstream(strip_id) for strip_id in soloed))
        return {(strip.id, to) for strip in self.strips if not strip.mute for to in strip.enters
                if not soloed or strip.id in behind or to in before}

    def with_strip(self, strip: Strip) -> Session:
        """The session with that strip in place of the one of the same id."""
        return self.with_(strips=tuple(strip if old.id == strip.id else old for old in self.strips))


def reached(start: str, onward: Callable[[str], Iterable[str]]) -> set[str]:
    """All that is reached from a place, itself among them."""
    result, waiting = {start}, [start]
    while waiting:
        fresh = set(onward(waiting.pop())) - result
        result |= fresh
        waiting += fresh
    return result


def new_id(prefix: str) -> str:
    """An id not used before."""
    return f"{prefix}-{secrets.token_hex(4)}"


def new_stage(kind: str) -> StageSettings:
    """A stage of that kind with its defaults; ValueError for unknown kinds."""
    return StageSettings(id=new_id(kind), kind=kind, params=stage_kind(kind).defaults())


def master_strip() -> Strip:
    return Strip(id=MASTER, name="Master", kind=StripKind.MASTER, out="")


def name_of(path: Path) -> str:
    """What a track is called after its file."""
    return plain_line(path.stem)[:MAXIMUM_NAME]


def new_track(audio: Path, out: str = MASTER) -> Strip:
    """A track with all of a file, from the session's start."""
    return Strip(id=new_id("track"), name=name_of(audio), kind=StripKind.TRACK, regions=(Region(audio=audio),), out=out)


def session_from_audio(paths: list[Path], rate: int) -> Session:
    """A session with a track for each file, straight into the master."""
    tracks = [new_track(path) for path in paths]
    name = name_of(paths[0] if len(paths) == 1 else paths[0].parent)
    return Session(name=name or "Untitled", rate=rate, strips=(*tracks, master_strip()))
