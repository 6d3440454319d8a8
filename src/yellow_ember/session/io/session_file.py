"""Session files (.ember): JSON, with audio beside them by relative path."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.files.kinds import files_below, is_file
from yellow_ember.session.edits.edits import use_impulse
from yellow_ember.session.io import migrations
from yellow_ember.session.io.chain_content import macro_contents, macros_from, stage_contents, stages_from
from yellow_ember.session.io.content_types import (
    LinkContent,
    LiveInputContent,
    LoopContent,
    MarkerContent,
    PassageContent,
    QualityContent,
    RegionContent,
    SendContent,
    SessionContent,
    SnapshotContent,
    StateContent,
    StripContent,
)
from yellow_ember.session.io.file_format import FileFormat
from yellow_ember.session.io.lane_content import lane_contents, lanes_from
from yellow_ember.session.values.drawn import lane_parameter
from yellow_ember.session.values.limits import MAXIMUM_DEPTH, depth_of_buses
from yellow_ember.session.values.links import FEWEST, LinkGroup
from yellow_ember.session.values.live_input import INPUT_VALUES, InputKind, LiveInput
from yellow_ember.session.values.model import (
    MASTER,
    Loop,
    Quality,
    Send,
    Session,
    Strip,
    StripKind,
    new_id,
    reached,
)
from yellow_ember.session.values.places import Marker, Passage
from yellow_ember.session.values.regions import Region
from yellow_ember.session.values.snapshots import Snapshot, StripState
from yellow_ember.session.values.strip_values import SNAPSHOT_VALUES, STRIP_VALUES

SESSION_FORMAT = FileFormat("yellow-ember/session", SessionContent, migrations.SESSION)
SUFFIX = ".ember"
_SAME_VALUES = ("name", "rate", "tempo", "beats_per_bar", "first_beat", "starts_at", "reference_dbfs", "ceiling_dbfs",
                "seed", "shown")
"""What a session and its file hold alike."""


def write_session(session: Session, path: Path) -> None:
    """Save, whole or not at all.  SessionFileError where it can't be."""
    SESSION_FORMAT.write(session_content(session), path, path.parent.resolve())


def read_session(path: Path) -> Session:
    """Open a session file.  SessionFileError names the file, the position and the reason.

    Audio files may be missing: `missing_audio` lists them.
    """
    return SESSION_FORMAT.read(path, session_from)


def session_to_object(session: Session, folder: Path | None) -> dict[str, Any]:
    """Return the session as a file's JSON object; paths relative to `folder`, or absolute where that is None."""
    return SESSION_FORMAT.to_object(session_content(session), folder)


def session_from_object(document: dict[str, Any], folder: Path) -> Session:
    """Return the session of a file's JSON object; ValueError names the position and the reason."""
    return session_from(SESSION_FORMAT.parse(document, folder))


def session_content(session: Session) -> SessionContent:
    """Return what a session's file holds."""
    return SessionContent.model_construct(
        **{name: getattr(session, name) for name in _SAME_VALUES},
        quality=QualityContent.model_construct(**asdict(session.quality)),
        loop=LoopContent.model_construct(start=session.loop.start, end=session.loop.end, on=session.loop.on),
        markers=[MarkerContent.model_construct(at=marker.at, name=marker.name) for marker in session.markers],
        passages=[PassageContent.model_construct(**asdict(passage)) for passage in session.passages],
        strips=[_strip_content(strip) for strip in session.strips],
        links=[LinkContent.model_construct(
            id=group.id, name=group.name, members=list(group.members), of_stages=group.of_stages,
            relative=group.relative, parameters=list(group.parameters)) for group in session.links],
        snapshots=[_snapshot_content(snapshot) for snapshot in session.snapshots])


def _strip_content(strip: Strip) -> StripContent:
    return StripContent.model_construct(
        id=strip.id, name=strip.name, kind=strip.kind.value, out=strip.out, tint=strip.tint,
        sends=[SendContent.model_construct(to=send.to, level_db=send.level_db, pre=send.pre) for send in strip.sends],
        regions=_region_contents(strip.regions), takes=_region_contents(strip.takes),
        live=None if strip.live is None else LiveInputContent.model_construct(
            kind=strip.live.kind.value, channels=list(strip.live.channels),
            **{value.id: getattr(strip.live, value.id) for value in INPUT_VALUES}),
        own_ports=strip.own_ports,
        zone_lufs=None if strip.zone_lufs is None else list(strip.zone_lufs),
        chain=stage_contents(strip.chain), macros=macro_contents(strip.macros, strip.chain),
        lanes=lane_contents(strip.lanes, "seconds"),
        **{value.id: getattr(strip, value.id) for value in STRIP_VALUES})


def _region_contents(regions: Sequence[Region]) -> list[RegionContent]:
    return [RegionContent.model_construct(
        id=region.id, audio=str(region.audio), start=region.start, begin=region.begin, end=region.end,
        fade_in=region.fade_in, fade_out=region.fade_out) for region in regions]


def _snapshot_content(snapshot: Snapshot) -> SnapshotContent:
    return SnapshotContent.model_construct(
        scope=snapshot.scope, owner=snapshot.owner, place=snapshot.place, name=snapshot.name, note=snapshot.note,
        states=[StateContent.model_construct(
            strip=state.strip_id, chain=stage_contents(state.chain), macros=macro_contents(state.macros, state.chain),
            lanes=lane_contents(state.lanes, "seconds"),
            **{value.id: getattr(state, value.id) for value in SNAPSHOT_VALUES}) for state in snapshot.states])


def session_from(content: SessionContent) -> Session:
    """Return the session that a file holds; ValueError names the position and the reason where it can't be one."""
    loop = content.loop
    end = loop.start if loop.end is None else loop.end
    if end < loop.start:
        raise ValueError(f"loop.end: must not lie before its start at {loop.start}, but is {end}")
    strips = tuple(_strip_from(strip, f"strips[{index}]") for index, strip in enumerate(content.strips))
    _check_routing(strips)
    return Session(
        **{name: getattr(content, name) for name in _SAME_VALUES},
        quality=Quality(**dict(content.quality)),
        loop=Loop(loop.start, end, loop.on),
        markers=tuple(sorted(Marker(**dict(marker)) for marker in content.markers)),
        passages=_passages_from(content.passages), strips=strips, links=_links_from(content.links, strips),
        snapshots=_snapshots_from(content.snapshots, {strip.id for strip in strips}))


def _strip_from(content: StripContent, position: str) -> Strip:
    kind = StripKind(content.kind)
    out = content.out if content.out is not None else "" if kind is StripKind.MASTER else MASTER
    if len({send.to for send in content.sends}) != len(content.sends):
        raise ValueError(f"{position}.sends: two sends go to one bus")
    chain = stages_from(content.chain, f"{position}.chain")
    strip = Strip(
        id=content.id, name=content.name, kind=kind, out=out, tint=content.tint,
        regions=_regions_from(content.regions, f"{position}.regions"),
        takes=_regions_from(content.takes, f"{position}.takes"),
        sends=tuple(Send(**dict(send)) for send in content.sends),
        live=_live_from(content.live, kind, f"{position}.live"), own_ports=content.own_ports,
        zone_lufs=_zone_from(content.zone_lufs, f"{position}.zone_lufs"),
        chain=chain, macros=macros_from(content.macros, chain, f"{position}.macros"),
        **{value.id: getattr(content, value.id) for value in STRIP_VALUES})
    return strip.with_(lanes=lanes_from(
        content.lanes, lambda name: lane_parameter(strip, "", name), f"{position}.lanes", "seconds"))


def _live_from(content: LiveInputContent | None, kind: StripKind, position: str) -> LiveInput | None:
    if content is None:
        return None
    if kind is not StripKind.TRACK:
        raise ValueError(f"{position}: only tracks listen to inputs")
    return LiveInput(**{**dict(content), "kind": InputKind(content.kind), "channels": tuple(content.channels)})


def _regions_from(contents: list[RegionContent], position: str) -> tuple[Region, ...]:
    for index, content in enumerate(contents):
        if not content.audio:
            raise ValueError(f"{position}[{index}].audio: must name a file")
        if content.end is not None and content.end <= content.begin:
            raise ValueError(f"{position}[{index}].end: must come after its beginning at {content.begin:g} s")
    if len({content.id for content in contents if content.id}) != sum(bool(content.id) for content in contents):
        raise ValueError(f"{position}: two regions share an id")
    return tuple(Region(**{**dict(content), "audio": Path(content.audio), "id": content.id or new_id("region")})
                 for content in contents)


def _zone_from(ends: list[float] | None, position: str) -> tuple[float, float] | None:
    if ends is None:
        return None
    if len(ends) != 2:
        raise ValueError(f"{position}: must be two numbers, or null")
    low, high = ends
    if low >= high:
        raise ValueError(f"{position}: must go up, not from {low:g} to {high:g}")
    return low, high


def _check_routing(strips: tuple[Strip, ...]) -> None:
    by_id = {strip.id: strip for strip in strips}
    if len(by_id) != len(strips):
        raise ValueError("strips: two strips share an id")
    if MASTER not in by_id or sum(strip.kind is StripKind.MASTER for strip in strips) != 1:
        raise ValueError(f"strips: there must be one master, with the id {MASTER!r}")
    stage_ids = [stage.id for strip in strips for stage in strip.chain]
    if len(set(stage_ids)) != len(stage_ids):
        raise ValueError("strips: two stages share an id")
    for position, strip in enumerate(strips):
        if strip.kind is StripKind.MASTER:
            if strip.feeds:
                raise ValueError(f"strips[{position}].out: the master feeds nothing")
            if strip.own_ports:
                raise ValueError(f"strips[{position}].own_ports: the master has ports anyway")
            continue
        for index, to in enumerate(strip.feeds):
            here = f"strips[{position}]." + ("out" if index == 0 else f"sends[{index - 1}].to")
            if to not in by_id or by_id[to].kind is StripKind.TRACK:
                raise ValueError(f"{here}: {to!r} is no bus")
            if strip.id in reached(to, lambda at: by_id[at].feeds if at in by_id else ()):
                raise ValueError(f"{here}: the routing goes round in a circle")
    depth = depth_of_buses({strip.id: strip.feeds for strip in strips})
    if depth > MAXIMUM_DEPTH:
        raise ValueError(f"strips: {depth} of them feed each other in a row; there can be at most {MAXIMUM_DEPTH}")


def _links_from(contents: list[LinkContent], strips: tuple[Strip, ...]) -> tuple[LinkGroup, ...]:
    kinds: dict[str, str] = {strip.id: "" for strip in strips}
    kinds |= {stage.id: stage.kind for strip in strips for stage in strip.chain}
    taken = set[str]()
    for index, content in enumerate(contents):
        position, members = f"links[{index}].members", content.members
        unknown = [member for member in members if member not in kinds or (kinds[member] != "") != content.of_stages]
        if unknown:
            raise ValueError(f"{position}: {unknown[0]!r} is no {'stage' if content.of_stages else 'strip'}")
        if len({kinds[member] for member in members}) > 1:
            raise ValueError(f"{position}: only stages of one kind can be linked")
        if len(set(members)) < FEWEST or taken & set(members):
            raise ValueError(f"{position}: must be at least {FEWEST}, each in one link only")
        taken |= set(members)
    return tuple(LinkGroup(content.id or new_id("link"), content.name, tuple(content.members), content.of_stages,
                           content.relative, tuple(content.parameters)) for content in contents)


def _snapshots_from(contents: list[SnapshotContent], strip_ids: set[str]) -> tuple[Snapshot, ...]:
    for index, content in enumerate(contents):
        owner = content.owner
        if (owner != "") != (content.scope != "session") or (owner and owner not in strip_ids):
            raise ValueError(f"snapshots[{index}].owner: {owner!r} is no strip that a snapshot of this scope can be of")
    snapshots = tuple(Snapshot(
        scope=content.scope, owner=content.owner, place=content.place, name=content.name, note=content.note,
        states=tuple(_state_from(state, f"snapshots[{index}].states[{number}]")
                     for number, state in enumerate(content.states))) for index, content in enumerate(contents))
    if len({one.key for one in snapshots}) != len(snapshots):
        raise ValueError("snapshots: two share a place")
    return snapshots


def _passages_from(contents: list[PassageContent]) -> tuple[Passage, ...]:
    for index, content in enumerate(contents):
        if content.end <= content.start:
            raise ValueError(f"passages[{index}].end: must come after its start at {content.start:g} s")
    passages = [Passage(**{**dict(content), "id": content.id or new_id("passage")}) for content in contents]
    if len({passage.id for passage in passages}) != len(passages):
        raise ValueError("passages: two share an id")
    return tuple(sorted(passages, key=lambda passage: (passage.start, passage.end)))


def _state_from(content: StateContent, position: str) -> StripState:
    chain = stages_from(content.chain, f"{position}.chain")
    macros = macros_from(content.macros, chain, f"{position}.macros")
    strip = Strip(id=content.strip, name="", kind=StripKind.TRACK, chain=chain, macros=macros)
    lanes = lanes_from(content.lanes, lambda name: lane_parameter(strip, "", name), f"{position}.lanes", "seconds")
    return StripState(strip_id=content.strip, chain=chain, macros=macros, lanes=lanes,
                      **{value.id: getattr(content, value.id) for value in SNAPSHOT_VALUES})


def missing_audio(session: Session) -> list[Strip]:
    """Tracks of which a file is not there."""
    return [strip for strip in session.strips if not all(map(is_file, strip.files))]


def impulse_files(session: Session) -> list[tuple[Strip, StageSettings, Path]]:
    """Where stages name an impulse response of the user's: strip, stage, file."""
    return [(strip, stage, Path(path)) for strip in session.strips for stage in strip.chain
            if (path := stage.declaration.impulse(stage.params))]


def relocate(session: Session, folder: Path) -> Session:
    """Point tracks and stages whose file is missing to one of the same name below `folder`, where there is one."""
    by_name = {path.name: path for path in files_below(folder)}

    def found(regions: tuple[Region, ...]) -> tuple[Region, ...]:
        return tuple(region if is_file(region.audio) else replace(
            region, audio=by_name.get(region.audio.name, region.audio)) for region in regions)

    for strip in session.strips:
        session = session.with_strip(strip.with_(regions=found(strip.regions), takes=found(strip.takes)))
    for strip, stage, path in impulse_files(session):
        if not is_file(path) and path.name in by_name:
            session = use_impulse(session, strip.id, stage.id, by_name[path.name])
    return session
