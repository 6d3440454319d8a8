"""The stages.  `FAMILIES` is the one list that names them."""

from __future__ import annotations

from yellow_ember.dsp.stage import StageKind
from yellow_ember.dsp.stages.amp import AMP
from yellow_ember.dsp.stages.bands import BANDS
from yellow_ember.dsp.stages.bits import BITS
from yellow_ember.dsp.stages.cabinet import CABINET
from yellow_ember.dsp.stages.comp import COMP
from yellow_ember.dsp.stages.drive import DRIVE
from yellow_ember.dsp.stages.echo import ECHO
from yellow_ember.dsp.stages.eq import EQ
from yellow_ember.dsp.stages.limit import LIMIT
from yellow_ember.dsp.stages.motion import MOTION
from yellow_ember.dsp.stages.room import ROOM
from yellow_ember.dsp.stages.sway import SWAY
from yellow_ember.dsp.stages.tame import TAME
from yellow_ember.dsp.stages.tape import TAPE
from yellow_ember.dsp.stages.texture import TEXTURE
from yellow_ember.dsp.stages.trim import TRIM
from yellow_ember.dsp.stages.vinyl import VINYL
from yellow_ember.dsp.stages.wear import WEAR

FAMILIES: dict[str, tuple[StageKind, ...]] = {
    "Tape and records": (TAPE, MOTION, WEAR, VINYL),
    "Drive": (DRIVE, BANDS, BITS, AMP),
    "Speakers": (CABINET,),
    "Layers and space": (TEXTURE, ECHO, ROOM, SWAY),
    "Around the colour": (EQ, COMP, TAME, LIMIT, TRIM)}
"""What they are grouped by where one is chosen."""
STAGES: tuple[StageKind, ...] = tuple(kind for family in FAMILIES.values() for kind in family)
_BY_KIND = {stage.kind: stage for stage in STAGES}


def stage_kind(kind: str) -> StageKind:
    """The declaration of that kind; ValueError names the kinds there are."""
    try:
        return _BY_KIND[kind]
    except KeyError:
        raise ValueError(f"no stage is called {kind!r}; there are {', '.join(_BY_KIND)}") from None
