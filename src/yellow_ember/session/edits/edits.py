"""Edits: from one session value to the next."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from pathlib import Path

from yellow_ember.dsp.parameters import Impulse, Number, Value, Values, as_number, as_pair
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stage_values import STAGE_CONTROLS
from yellow_ember.session.values.drawn import with_macros
from yellow_ember.session.values.links import kept_links
from yellow_ember.session.values.macros import MAX_MACROS, Macro, Target, renamed_stages, without_stages
from yellow_ember.session.values.model import (
    MASTER,
    Send,
    Session,
    Strip,
    StripKind,
    new_id,
    new_track,
)
from yellow_ember.session.values.snapshots import without_lost_snapshots


def edit_strip(session: Session, strip_id: str, change: Callable[[Strip], Strip]) -> Session:
    """The session with one strip changed."""
    return session.with_strip(change(session.strip(strip_id)))


def edit_stage(session: Session, strip_id: str, stage_id: str,
               change: Callable[[StageSettings], StageSettings]) -> Session:
    """The session with one stage changed.  KeyError where the strip has none such."""
    strip = session.strip(strip_id)
    strip.stage(stage_id)
    chain = tuple(change(stage) if stage.id == stage_id else stage for stage in strip.chain)
    return session.with_strip(strip.with_(chain=chain))


def replace_stage(stage: StageSettings, **changes: object) -> StageSettings:
    """The stage with some of its fields changed."""
    return dataclasses.replace(stage, **changes)  # type: ignore[arg-type]


def difference(before: Session, after: Session) -> Callable[[Session], Session]:
    """What leads from one value to another with the same strips, as an edit of any value that has them."""
    own = {name: getattr(after, name) for name in _fields(after) - {"strips"}
           if getattr(after, name) != getattr(before, name)}
    changed = {strip.id: {name: getattr(strip, name) for name in _fields(strip)
                          if getattr(strip, name) != getattr(old, name)}
               for strip, old in zip(after.strips, before.strips, strict=True) if strip is not old}

    def edit(session: Session) -> Session:
        for strip_id, values in changed.items():
            if values:
                session = session.with_strip(session.strip(strip_id).with_(**values))
        return session.with_(**own) if own else session

    return edit


def _fields(value: Session | Strip) -> set[str]:
    return {field.name for field in dataclasses.fields(value)}


AS_NEW: dict[str, object] = {parameter.id: parameter.default_value for parameter in STAGE_CONTROLS}
"""What a stage has beside its parameters, as it is when it is added."""


def to_defaults(session: Session, strip_id: str, stage_id: str) -> Session:
    """Every setting of a stage but on and off as it is when it is added."""
    return edit_stage(session, strip_id, stage_id,
                      lambda stage: replace_stage(stage, params=stage.declaration.defaults(), **AS_NEW))


def set_parameter(session: Session, strip_id: str, stage_id: str, name: str, value: Value) -> Session:
    """One parameter of one stage, and what follows it by the stage's declaration.

    ValueError where the declaration does not allow the value.
    """

    def change(stage: StageSettings) -> StageSettings:
        kind = stage.declaration
        params: Values = {**stage.params, name: kind.parameter(name).check(value)}
        if kind.follow is not None:
            params, _ = kind.follow(stage.params, params)
        return replace_stage(stage, params=params)

    return edit_stage(session, strip_id, stage_id, change)


def use_impulse(session: Session, strip_id: str, stage_id: str, path: Path | None) -> Session:
    """An impulse response's file for a stage that takes one; None for none."""
    stage = session.strip(strip_id).stage(stage_id)
    name = next(p.id for p in stage.declaration.parameters if isinstance(p, Impulse))
    return set_parameter(session, strip_id, stage_id, name, "" if path is None else str(path))


def moved(number: Number, value: Value, by: float) -> Value:
    """A value, or both of a pair, higher by some amount as far as the range goes."""
    if isinstance(value, tuple):
        left, right = as_pair(value)
        return number.clamp(left + by), number.clamp(right + by)
    return number.clamp(as_number(value) + by)


def drive_stage(session: Session, strip_id: str, stage_id: str, by_db: float) -> Session:
    """Drive a stage harder by some dB and take the level back behind it.

    Uses the stage's own drive parameter; where it has none, the session stays as it is.
    What the stage does not compensate by itself (a linked playback level) its make-up takes back.
    """
    stage = session.strip(strip_id).stage(stage_id)
    kind = stage.declaration
    if kind.drive is None:
        return session
    drive, old = kind.number(kind.drive), stage.params[kind.drive]
    new = moved(drive, old, by_db * kind.drive_units)
    session = set_parameter(session, strip_id, stage_id, kind.drive, new)
    if kind.makeup is not None and not kind.compensates(stage.params):
        taken = (as_pair(new)[0] - as_pair(old)[0]) / kind.drive_units
        level = moved(kind.number(kind.makeup), stage.params[kind.makeup], -taken)
        session = set_parameter(session, strip_id, stage_id, kind.makeup, level)
    return session


def add_stage(session: Session, strip_id: str, stage: StageSettings, index: int | None = None) -> Session:
    """A stage into a strip's chain, at the end unless a place is given."""

    def change(strip: Strip) -> Strip:
        at = len(strip.chain) if index is None else index
        return strip.with_(chain=(*strip.chain[:at], stage, *strip.chain[at:]))

    return edit_strip(session, strip_id, change)


def use_chain(session: Session, strip_id: str, stages: tuple[StageSettings, ...],
              macros: tuple[Macro, ...] = (), match_db: float = 0.0) -> Session:
    """These stages and macros, as new ones, with their match, in place of a strip's: what a preset does."""
    new = {stage.id: new_id(stage.kind) for stage in stages}
    chain = tuple(replace_stage(stage, id=new[stage.id]) for stage in stages)
    own = renamed_stages(macros, new, [new_id("macro") for _ in macros])
    return without_lost_links(edit_strip(session, strip_id, lambda strip: with_macros(strip.with_(
        chain=chain, match_db=match_db), own)))


def put_stages(session: Session, strip_id: str, stages: tuple[StageSettings, ...], stage_id: str, *,
               replace: bool) -> Session:
    """Put these stages, as new ones, behind a stage of the strip or in its place; at the end for no stage.

    Macros and links let go of what goes.  KeyError where the strip has no such stage.
    """
    strip = session.strip(strip_id)
    chain, at = strip.chain, strip.index_of(stage_id) if stage_id else len(strip.chain)
    new = tuple(replace_stage(stage, id=new_id(stage.kind)) for stage in stages)
    kept = (*chain[:at + (0 if replace else 1)], *new, *chain[at + 1:])
    return without_lost_links(edit_strip(session, strip_id, lambda strip: strip.with_(
        chain=kept, macros=without_stages(strip.macros, kept))))


def remove_stage(session: Session, strip_id: str, stage_id: str) -> Session:
    """Without that stage; macros and links let go of it."""
    return without_lost_links(_taken_out(session, strip_id, stage_id))


def _taken_out(session: Session, strip_id: str, stage_id: str) -> Session:
    def change(strip: Strip) -> Strip:
        chain = tuple(stage for stage in strip.chain if stage.id != stage_id)
        return strip.with_(chain=chain, macros=without_stages(strip.macros, chain))

    return edit_strip(session, strip_id, change)


def add_macro(session: Session, strip_id: str, name: str, targets: tuple[Target, ...] = ()) -> Session:
    """A macro at 0 %; ValueError where the strip has as many as it can hold."""
    strip = session.strip(strip_id)
    if len(strip.macros) >= MAX_MACROS:
        raise ValueError(f"{strip.name} has {MAX_MACROS} macros, which is as many as a strip can hold")
    return edit_macros(session, strip_id, (*strip.macros, Macro(new_id("macro"), name, 0.0, targets)))


def edit_macros(session: Session, strip_id: str, macros: tuple[Macro, ...]) -> Session:
    """These macros in place of a strip's.

    Targets that are new, or of a macro that was moved, go where they now belong; what else was
    moved by hand since stays where it is.
    """
    old = {macro.id: macro for macro in session.strip(strip_id).macros}
    session = edit_strip(session, strip_id, lambda strip: with_macros(strip, macros))
    for macro in macros:
        was = old.get(macro.id)
        stays = was.targets if was is not None and was.value == macro.value else ()
        session = _move_targets(session, strip_id, macro, tuple(t for t in macro.targets if t not in stays))
    return session


def edit_macro(session: Session, strip_id: str, macro_id: str, change: Callable[[Macro], Macro]) -> Session:
    """One macro changed, as by `edit_macros`."""
    return edit_macros(session, strip_id, tuple(
        change(macro) if macro.id == macro_id else macro for macro in session.strip(strip_id).macros))


def set_macro(session: Session, strip_id: str, macro_id: str, percent: float) -> Session:
    """Move a macro, and with it every parameter it has in hand."""
    strip = session.strip(strip_id)
    moved_one = dataclasses.replace(strip.macro(macro_id), value=min(max(percent, 0.0), 100.0))
    session = session.with_strip(strip.with_(macros=tuple(
        moved_one if macro.id == macro_id else macro for macro in strip.macros)))
    return _move_targets(session, strip_id, moved_one, moved_one.targets)


def _move_targets(session: Session, strip_id: str, macro: Macro, targets: tuple[Target, ...]) -> Session:
    """Some of a macro's targets to where its value puts them."""
    strip = session.strip(strip_id)
    for target in targets:
        number = strip.stage(target.stage).declaration.number(target.parameter)
        session = set_parameter(session, strip_id, target.stage, target.parameter,
                                target.value(number, macro.value))
    return session


def move_stage(session: Session, strip_id: str, stage_id: str, index: int) -> Session:
    """The stage to another place of its chain, counted without itself."""

    def change(strip: Strip) -> Strip:
        moved = strip.stage(stage_id)
        rest = [stage for stage in strip.chain if stage.id != stage_id]
        at = min(max(index, 0), len(rest))
        return strip.with_(chain=(*rest[:at], moved, *rest[at:]))

    return edit_strip(session, strip_id, change)


def carry_stage(session: Session, strip_id: str, stage_id: str, to: str) -> Session:
    """The stage to the end of another strip's chain, where it stays in its link; macros let go of it."""
    stage = session.strip(strip_id).stage(stage_id)
    return add_stage(_taken_out(session, strip_id, stage_id), to, stage)


def add_track(session: Session, audio: Path, out: str = MASTER) -> Session:
    """A track for a file, before the first bus."""
    return _insert(session, new_track(audio, out), StripKind.TRACK)


def add_bus(session: Session, name: str, out: str = MASTER) -> Session:
    """An empty bus, before the master."""
    return _insert(session, Strip(id=new_id("bus"), name=name, kind=StripKind.BUS, out=out), StripKind.BUS)


def _insert(session: Session, strip: Strip, kind: StripKind) -> Session:
    places = [index for index, old in enumerate(session.strips) if old.kind is kind]
    at = places[-1] + 1 if places else (0 if kind is StripKind.TRACK else len(session.strips) - 1)
    return session.with_(strips=(*session.strips[:at], strip, *session.strips[at:]))


def remove_strip(session: Session, strip_id: str) -> Session:
    """Without that strip; what fed it feeds what it fed, and sends to it are gone.  The master stays."""
    gone = session.strip(strip_id)
    if gone.kind is StripKind.MASTER:
        raise ValueError("the master can't be removed")
    left = session.with_(snapshots=without_lost_snapshots(
        session.snapshots, {strip.id for strip in session.strips} - {strip_id}))
    return without_lost_links(left.with_(strips=tuple(
        strip.with_(out=gone.out if strip.out == strip_id else strip.out,
                    sends=tuple(send for send in strip.sends if send.to != strip_id))
        for strip in session.strips if strip.id != strip_id)))


def _check_way(session: Session, strip_id: str, to: str) -> None:
    """ValueError where sound can't go from one strip to another."""
    if session.strip(to).kind is StripKind.TRACK:
        raise ValueError("a track can't be fed by another strip")
    if to in session.upstream(strip_id):
        raise ValueError(f"{session.strip(to).name} is fed by {session.strip(strip_id).name}; "
                         "that would go round in a circle")


def route(session: Session, strip_id: str, out: str) -> Session:
    """Feed another bus; ValueError where that would go round in a circle."""
    _check_way(session, strip_id, out)
    return edit_strip(session, strip_id, lambda strip: strip.with_(out=out))


def set_send(session: Session, strip_id: str, send: Send) -> Session:
    """Add a send, or change the one to the same bus; ValueError where it would go round in a circle."""
    strip = session.strip(strip_id)
    if all(old.to != send.to for old in strip.sends):
        _check_way(session, strip_id, send.to)
        return session.with_strip(strip.with_(sends=(*strip.sends, send)))
    return session.with_strip(strip.with_(sends=tuple(send if old.to == send.to else old for old in strip.sends)))


def remove_send(session: Session, strip_id: str, to: str) -> Session:
    return edit_strip(session, strip_id, lambda strip: strip.with_(
        sends=tuple(send for send in strip.sends if send.to != to)))


def without_lost_links(session: Session) -> Session:
    """Link groups without members that are gone."""
    if not session.links:
        return session
    ids = {strip.id for strip in session.strips} | {stage.id for strip in session.strips for stage in strip.chain}
    return session.with_(links=kept_links(session.links, ids))
