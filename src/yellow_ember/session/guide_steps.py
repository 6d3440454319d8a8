"""Steps that a guide can do in the session: what stands behind its "Do it".

A step is a verb and what it is about; several are parted by semicolons:

    strip NAME      go to the strip of that name, where there is one
    preset NAME     put a preset in place of the path
    add KIND        go to the path's stage of that kind, or add one behind the chosen stage
    set ID VALUE    set a parameter of the chosen stage
    run COMMAND     what the window does by a command of its menus
"""

from __future__ import annotations

from dataclasses import dataclass

from yellow_ember.session.edits.edits import put_stages, set_parameter, use_chain
from yellow_ember.session.io.presets import find_preset
from yellow_ember.session.values.drawn import lanes_in_seconds
from yellow_ember.session.values.model import Session, new_stage

_VERBS = ("strip", "preset", "add", "set", "run")


@dataclass(frozen=True, slots=True)
class GuideStep:
    """verb : one of those above; rest : what it is about"""

    verb: str
    rest: str


@dataclass(frozen=True, slots=True)
class Guided:
    """A session with what is chosen in it.  stage_id : "" for none"""

    session: Session
    strip_id: str
    stage_id: str


def guide_steps(text: str) -> list[GuideStep]:
    """Read steps.  ValueError names a verb that there is not."""
    result = []
    for part in filter(None, (part.strip() for part in text.split(";"))):
        verb, _, rest = part.partition(" ")
        if verb not in _VERBS:
            raise ValueError(f"a guide can't {verb!r}; there are {', '.join(_VERBS)}")
        result.append(GuideStep(verb, rest.strip()))
    return result


def take_step(guided: Guided, step: GuideStep) -> Guided:
    """Do a step that is an edit, or chooses something.

    ValueError where a preset, kind, parameter or value is none.
    """
    session, strip = guided.session, guided.session.strip(guided.strip_id)
    match step.verb:
        case "strip":
            named = next((one.id for one in session.strips if one.name.lower() == step.rest.lower()), strip.id)
            chain = session.strip(named).chain
            return Guided(session, named, chain[0].id if chain else "")
        case "preset":
            preset = find_preset(step.rest)
            session = use_chain(session, strip.id, lanes_in_seconds(preset.stages, session), preset.macros,
                                preset.match_db)
            return Guided(session, strip.id, session.strip(strip.id).chain[0].id)
        case "add":
            there = next((stage.id for stage in strip.chain if stage.kind == step.rest), "")
            if there:
                return Guided(session, strip.id, there)
            before = {stage.id for stage in strip.chain}
            session = put_stages(session, strip.id, (new_stage(step.rest),), guided.stage_id, replace=False)
            return Guided(session, strip.id, next(stage.id for stage in session.strip(strip.id).chain
                                                  if stage.id not in before))
        case "set":
            name, _, words = step.rest.partition(" ")
            if not guided.stage_id:
                raise ValueError("there is no stage to set")
            parameter = strip.stage(guided.stage_id).declaration.parameter(name)
            return Guided(set_parameter(session, strip.id, guided.stage_id, name, parameter.parse(words)), strip.id,
                          guided.stage_id)
        case _:
            raise ValueError(f"{step.verb} is no edit")
