"""Making, joining, leaving and changing link groups; none of it moves a member."""

from __future__ import annotations

import itertools
import string
from collections.abc import Callable, Iterator

from yellow_ember.dsp.stage_values import STAGE_VALUES
from yellow_ember.session.edits.edits import replace_stage, without_lost_links
from yellow_ember.session.values.links import FEWEST, LinkGroup
from yellow_ember.session.values.model import Session, new_id
from yellow_ember.session.values.strip_values import LINKED_VALUES


def group_of(session: Session, member: str) -> LinkGroup | None:
    """The group of a strip or stage, where it is in one."""
    return next((group for group in session.links if member in group.members), None)


def link_strips(session: Session, strip_ids: tuple[str, ...], *, relative: bool = True) -> Session:
    """A new group of those strips; none of them moves.  ValueError for fewer than two.

    Strips that are in another group leave it.
    """
    return _link(session, strip_ids, of_stages=False, relative=relative)


def link_stages(session: Session, stage_ids: tuple[str, ...], *, relative: bool = True) -> Session:
    """A new group of those stages, as `link_strips`; ValueError where they are of different kinds."""
    kinds = {stage.kind for strip in session.strips for stage in strip.chain if stage.id in stage_ids}
    if len(kinds) > 1:
        raise ValueError("only stages of one kind can be linked")
    return _link(session, stage_ids, of_stages=True, relative=relative)


def _link(session: Session, members: tuple[str, ...], *, of_stages: bool, relative: bool) -> Session:
    if len(set(members)) < FEWEST:
        raise ValueError(f"a link needs at least {FEWEST} members")
    for member in members:
        session = leave_link(session, member)
    taken = {group.name for group in session.links}
    name = next(letter for letter in _names() if letter not in taken)
    group = LinkGroup(new_id("link"), name, tuple(dict.fromkeys(members)), of_stages, relative)
    return session.with_(links=(*session.links, group))


def _names() -> Iterator[str]:
    """A, B to Z, then A2 and so on."""
    for number in itertools.count(1):
        yield from (f"{letter}{number if number > 1 else ''}" for letter in string.ascii_uppercase)


def join_link(session: Session, group_id: str, member: str) -> Session:
    """Into a group; its values stay until one of the group changes.

    ValueError where strips and stages, or stages of two kinds, would meet.
    """
    group = next(group for group in session.links if group.id == group_id)
    kinds = {stage.id: stage.kind for strip in session.strips for stage in strip.chain}
    if kinds.get(member) != kinds.get(group.members[0]):
        raise ValueError("only strips, or stages of one kind, can be linked with each other")
    if member in group.members:
        return session
    session = leave_link(session, member)
    return edit_link(session, group_id, lambda old: old.joined(member))


def leave_link(session: Session, member: str) -> Session:
    """Out of its group, with the values it has; a group of one is dissolved."""
    return without_lost_links(session.with_(links=tuple(group.left(member) for group in session.links)))


def edit_link(session: Session, group_id: str, change: Callable[[LinkGroup], LinkGroup]) -> Session:
    """One group changed; no member moves by that."""
    return session.with_(links=tuple(change(group) if group.id == group_id else group for group in session.links))


def remove_link(session: Session, group_id: str) -> Session:
    return session.with_(links=tuple(group for group in session.links if group.id != group_id))


def strips_of(session: Session, group: LinkGroup) -> tuple[str, ...]:
    """Ids of the strips that a group is about, in the desk's order."""
    return tuple(strip.id for strip, _ in session.depth_first()
                 if strip.id in group.members or any(stage.id in group.members for stage in strip.chain))


def bypass_group(session: Session, group: LinkGroup, *, bypass: bool) -> Session:
    """All members at once: the whole path of strips, or the stages alone."""
    for strip_id in strips_of(session, group):
        strip = session.strip(strip_id)
        if group.of_stages:
            strip = strip.with_(chain=tuple(replace_stage(stage, on=not bypass) if stage.id in group.members else stage
                                            for stage in strip.chain))
        else:
            strip = strip.with_(bypass=bypass)
        session = session.with_strip(strip)
    return session


def bypassed(session: Session, group: LinkGroup) -> bool:
    """True where all members are."""
    if group.of_stages:
        return not any(stage.on for strip in session.strips for stage in strip.chain if stage.id in group.members)
    return all(session.strip(strip_id).bypass for strip_id in group.members)


def solo_group(session: Session, group: LinkGroup, *, solo: bool) -> Session:
    """All strips of a group, alone or not."""
    for strip_id in strips_of(session, group):
        session = session.with_strip(session.strip(strip_id).with_(solo=solo))
    return session


def linkable(session: Session, group: LinkGroup) -> dict[str, str]:
    """What can be linked in a group: labels by the names that `LinkGroup.parameters` holds."""
    result: dict[str, str] = {}
    if not group.of_stages:
        result |= {value.id: value.label for value in LINKED_VALUES}
    for strip in session.strips:
        for stage in strip.chain:
            if group.of_stages and stage.id not in group.members:
                continue
            if not group.of_stages and strip.id not in group.members:
                continue
            kind = stage.declaration
            result |= {f"{kind.kind}.{value.id}": f"{kind.label}: {value.label}"
                       for value in (*STAGE_VALUES, *kind.parameters)}
    return result
