"""What each kind of file holds, as types.

Reading, writing and the published schema all follow from them.  What every stage, strip and send has comes from the
declarations in `dsp/stage_values.py` and `session/values/strip_values.py`, a stage's parameters from its own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Annotated, Any, Literal, TypeVar, Union

from pydantic import BaseModel, ConfigDict, Field, SerializerFunctionWrapHandler, create_model, model_serializer

from yellow_ember.choices import FACTORS, RATES
from yellow_ember.dsp.lanes import MAXIMUM_POINTS, Shape
from yellow_ember.dsp.parameters import Parameter
from yellow_ember.dsp.stage import StageKind
from yellow_ember.dsp.stage_values import STAGE_VALUES
from yellow_ember.dsp.stages import STAGES, stage_kind
from yellow_ember.dsp.tape.line_up import KEPT
from yellow_ember.session.io.field_types import (
    Between,
    DeclaredValues,
    FilePath,
    Name,
    Note,
    OneOf,
    Tint,
    declared_type,
)
from yellow_ember.session.values.limits import MAXIMUM_STAGES, MAXIMUM_STRIPS
from yellow_ember.session.values.links import FEWEST
from yellow_ember.session.values.live_input import INPUT_VALUES, MAXIMUM_CARD_CHANNELS, InputKind
from yellow_ember.session.values.macros import MAX_MACROS, Bend
from yellow_ember.session.values.model import LOUDEST_LUFS, QUIETEST_LUFS, Quality, StripKind
from yellow_ember.session.values.places import LONGEST_FADE, MAXIMUM_PLACES, USUAL_FADE
from yellow_ember.session.values.purposes import ANY_SOURCE, INTENTIONS, SET_SCOPES, SOURCES
from yellow_ember.session.values.regions import LAST_SECOND, MAXIMUM_REGIONS
from yellow_ember.session.values.snapshots import PLACES
from yellow_ember.session.values.snapshots import SCOPES as SNAPSHOT_SCOPES
from yellow_ember.session.values.strip_values import MATCH, SEND_LEVEL, SNAPSHOT_VALUES, STRIP_VALUES

_Frame = Annotated[int, Between(0, 2**40)]
_Second = Annotated[float, Between(0.0, LAST_SECOND)]
_Fade = Annotated[float, Between(0.0, LONGEST_FADE)]
_KINDS = [kind.value for kind in StripKind]
_INPUT_KINDS = [kind.value for kind in InputKind]
_CardChannel = Annotated[int, Between(1, MAXIMUM_CARD_CHANNELS)]


class Content(BaseModel):
    """An object in a file: unknown keys and other types than those named are refused."""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, defer_build=True)


Model = TypeVar("Model", bound=Content)


def _declaring(parameters: Iterable[Parameter]) -> Callable[[type[Model]], type[Model]]:
    """Give a type a key for each declared parameter, with its default."""

    def decorate(model: type[Model]) -> type[Model]:
        fields: dict[str, Any] = {parameter.id: (declared_type(parameter), parameter.default_value)
                                  for parameter in parameters}
        made = create_model(model.__name__, __base__=model, __module__=__name__, **fields)
        made.__doc__ = model.__doc__
        return made

    return decorate


class _Identified(Content):
    """Something with an id, which is not written where it has none."""

    id: Name = ""

    @model_serializer(mode="wrap")
    def _without_empty_id(self, write: SerializerFunctionWrapHandler) -> dict[str, Any]:
        result: dict[str, Any] = write(self)
        return result if self.id else {key: value for key, value in result.items() if key != "id"}


class PointContent(Content):
    """A point of a lane, by seconds in a session or a chain, by beats in a preset or a set.

    value : in the parameter's unit; of a switch 0 to 1; shape : how it goes on to the next
    """

    seconds: _Second | None = None
    beats: _Second | None = None
    value: float
    shape: Annotated[str, OneOf([shape.value for shape in Shape])] = Shape.LINE.value

    @model_serializer(mode="wrap")
    def _with_one_time(self, write: SerializerFunctionWrapHandler) -> dict[str, Any]:
        return {key: value for key, value in write(self).items() if value is not None}


class LaneContent(Content):
    """A parameter along the session."""

    parameter: Name
    on: bool = True
    points: Annotated[list[PointContent], Field(min_length=1, max_length=MAXIMUM_POINTS)]


_Lanes = list[LaneContent]


@_declaring(STAGE_VALUES)
class StageContent(_Identified):
    """A stage of any kind; those of one kind have their parameters in `params`."""

    kind: str
    params: dict[str, Any]
    lanes: _Lanes = []

    @model_serializer(mode="wrap")
    def _without_what_is_empty(self, write: SerializerFunctionWrapHandler) -> dict[str, Any]:
        result: dict[str, Any] = write(self)
        return {key: value for key, value in result.items() if value or key not in ("id", "lanes")}


def _stage_content(kind: StageKind) -> type[StageContent]:
    # A dictionary, for a parameter's id may be a name that a model has for itself (`copy`).
    fields: dict[str, Any] = {"kind": (Literal[kind.kind], ...),
                              "params": (Annotated[dict[str, Any], DeclaredValues(kind.parameters)], {})}
    return create_model(kind.kind, __base__=StageContent, __module__=__name__, **fields)


STAGE_CONTENTS: dict[str, type[StageContent]] = {kind.kind: _stage_content(kind) for kind in STAGES}
"""The type of a stage by its kind."""
if TYPE_CHECKING:
    AnyStage = StageContent
else:
    AnyStage = Annotated[Union[tuple(STAGE_CONTENTS.values())], Field(discriminator="kind")]  # noqa: UP007
_Stages = Annotated[list[AnyStage], Field(max_length=MAXIMUM_STAGES)]


class TargetContent(Content):
    """What a macro moves.  stage : index in the chain; low, high : the parameter's range where left out"""

    stage: Annotated[int, Between(0, MAXIMUM_STAGES - 1)] = 0
    parameter: Name
    low: float | None = None
    high: float | None = None
    curve: Annotated[str, OneOf([bend.value for bend in Bend])] = Bend.STRAIGHT.value


class MacroContent(_Identified):
    """One control of a strip.  value : percent"""

    name: Name
    value: Annotated[float, Between(0.0, 100.0)] = 0.0
    targets: list[TargetContent]


_Macros = Annotated[list[MacroContent], Field(max_length=MAX_MACROS)]


class ChainContent(Content):
    """A chain file."""

    stages: _Stages


@_declaring([MATCH])
class PresetContent(Content):
    """A preset file."""

    name: Name
    source: Annotated[str, OneOf(SOURCES)]
    intention: Annotated[str, OneOf(INTENTIONS)]
    note: Note = ""
    stages: _Stages
    macros: _Macros = []
    if TYPE_CHECKING:
        match_db: float


@_declaring([MATCH])
class PartContent(Content):
    """A chain of a set, for strips of a kind and a source."""

    where: Annotated[str, OneOf(_KINDS)]
    source: Annotated[str, OneOf((ANY_SOURCE, *SOURCES))] = ANY_SOURCE
    stages: _Stages
    macros: _Macros = []
    if TYPE_CHECKING:
        match_db: float


class SetContent(Content):
    """A set's file."""

    name: Name
    scope: Annotated[str, OneOf(SET_SCOPES)]
    intention: Annotated[str, OneOf(INTENTIONS)]
    note: Note = ""
    linked: bool = False
    parts: Annotated[list[PartContent], Field(min_length=1)]


@_declaring([SEND_LEVEL])
class SendContent(Content):
    """A send of a strip."""

    to: Name
    pre: bool = False


class RegionContent(_Identified):
    """A file, or a part of it, on a track.  All times in seconds; end : the file's where None"""

    audio: FilePath
    start: _Second = 0.0
    begin: _Second = 0.0
    end: _Second | None = None
    fade_in: _Second = 0.0
    fade_out: _Second = 0.0


@_declaring(INPUT_VALUES)
class LiveInputContent(Content):
    """What a track listens to.  channels : of the card, from 1; of ports only how many there are counts"""

    kind: Annotated[str, OneOf(_INPUT_KINDS)] = InputKind.CARD.value
    channels: Annotated[list[_CardChannel], Field(min_length=1, max_length=2)] = [1]


@_declaring(STRIP_VALUES)
class StripContent(Content):
    """A strip of a session.  out : the master where left out; tint : "" for none; live : none for files alone"""

    id: Name
    name: Name
    kind: Annotated[str, OneOf(_KINDS)]
    out: Name | None = None
    tint: Annotated[str, Tint()] = ""
    sends: list[SendContent] = []
    regions: Annotated[list[RegionContent], Field(max_length=MAXIMUM_REGIONS)] = []
    live: LiveInputContent | None = None
    takes: Annotated[list[RegionContent], Field(max_length=MAXIMUM_REGIONS)] = []
    own_ports: bool = False
    zone_lufs: list[Annotated[float, Between(QUIETEST_LUFS, LOUDEST_LUFS)]] | None = None
    chain: _Stages = []
    macros: _Macros = []
    lanes: _Lanes = []


@_declaring(SNAPSHOT_VALUES)
class StateContent(Content):
    """A strip as a snapshot holds it."""

    strip: Name
    chain: _Stages
    macros: _Macros = []
    lanes: _Lanes = []


class SnapshotContent(Content):
    """A snapshot.  owner : the strip or bus it is of, "" for the session"""

    scope: Annotated[str, OneOf(SNAPSHOT_SCOPES)]
    owner: Name = ""
    place: Annotated[int, Between(0, PLACES - 1)] = 0
    name: Name = ""
    note: Note = ""
    states: list[StateContent]


class LinkContent(_Identified):
    """A link group."""

    name: Name
    members: Annotated[list[Name], Field(min_length=FEWEST)]
    of_stages: bool = False
    relative: bool = True
    parameters: list[Name] = []


class QualityContent(Content):
    """Oversampling factors.  low_delay : what comes in live goes through shorter filters"""

    live: Annotated[int, OneOf(FACTORS)] = Quality().live
    printing: Annotated[int, OneOf(FACTORS)] = Quality().printing
    low_delay: bool = Quality().low_delay


class LoopContent(Content):
    """The loop, in frames."""

    start: _Frame = 0
    end: _Frame | None = None
    on: bool = False


class MarkerContent(Content):
    """A named place.  at : seconds"""

    at: _Second
    name: Name = ""


class PassageContent(_Identified):
    """A named stretch.  All times in seconds"""

    name: Name
    start: _Second
    end: _Second
    fade_in: _Fade = USUAL_FADE
    fade_out: _Fade = USUAL_FADE


class SessionContent(Content):
    """A session file."""

    name: Name = "Untitled"
    rate: Annotated[int, OneOf(RATES)] = 48000
    tempo: Annotated[float, Between(20.0, 400.0)] = 120.0
    beats_per_bar: Annotated[int, Between(1, 16)] = 4
    reference_dbfs: Annotated[float, Between(-30.0, 0.0)] = -18.0
    ceiling_dbfs: Annotated[float, Between(-20.0, 0.0)] = -0.3
    seed: Annotated[int, Between(0, 2**31)] = 1
    quality: QualityContent = QualityContent.model_construct()
    loop: LoopContent = LoopContent.model_construct()
    starts_at: _Second = 0.0
    first_beat: _Second = 0.0
    markers: Annotated[list[MarkerContent], Field(max_length=MAXIMUM_PLACES)] = []
    passages: Annotated[list[PassageContent], Field(max_length=MAXIMUM_PLACES)] = []
    strips: Annotated[list[StripContent], Field(max_length=MAXIMUM_STRIPS)]
    links: list[LinkContent] = []
    snapshots: list[SnapshotContent] = []
    shown: Name = ""


@_declaring([stage_kind("tape").parameter(name) for name in KEPT])
class AlignmentContent(Content):
    """How a tape machine is lined up."""


class AlignmentsContent(Content):
    """The alignments that the user keeps, by name."""

    alignments: dict[Name, AlignmentContent]
