"""The figures of a recording by which another one can be made to sound like it, whatever notes either plays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.likeness.density import Density, density
from yellow_ember.measure.likeness.dynamics import Dynamics, dynamics
from yellow_ember.measure.likeness.faults import Faults, faults
from yellow_ember.measure.likeness.floor import Floor, floor
from yellow_ember.measure.likeness.frames import frames_of
from yellow_ember.measure.likeness.speed import Speed, speed
from yellow_ember.measure.likeness.tone import Tone, tone
from yellow_ember.measure.likeness.width import Width, width


@dataclass(frozen=True, slots=True, eq=False)
class Portrait:
    """All figures of one recording; each part says how sure it is, 0 to 1."""

    tone: Tone
    density: Density
    dynamics: Dynamics
    floor: Floor
    speed: Speed
    width: Width
    faults: Faults


def portrait(pieces: Sequence[Samples], rate: float) -> Portrait:
    """Measure a recording, or some pieces of it.

    Parameters
    ----------
    pieces : Sequence[Samples]
        (channels, frames) each, at least a quarter of a second long.
    """
    spectra = frames_of(pieces, rate)
    return Portrait(tone(spectra), density(spectra), dynamics(pieces, rate), floor(spectra), speed(pieces, rate),
                    width(spectra), faults(pieces, rate))
