"""What a track listens to in place of its files: channels of the card, or ports that any program can connect to."""

from __future__ import annotations

import enum
from dataclasses import dataclass

from yellow_ember.dsp.parameters import Automation, Group, Number, Switch

MAXIMUM_CARD_CHANNELS = 64
"""The highest channel of a card that a track can listen to."""

INPUT_GAIN = Number(id="input_db", label="Input gain", unit="dB", minimum=-24.0, maximum=40.0, default=0.0,
                    group=Group.OUTPUT, automation=Automation.RAMP,
                    help="The level of what comes in, before the path.")
INVERTED = Switch(id="inverted", label="Polarity", group=Group.OUTPUT, default=False, automation=Automation.RAMP,
                  help="Turns what comes in upside down.")
LISTENS = Switch(id="on", label="Listen", group=Group.OUTPUT, default=True, automation=Automation.RAMP,
                 help="The input is heard through the path; off, the track plays its files.")
INPUT_VALUES: tuple[Number | Switch, ...] = (INPUT_GAIN, INVERTED, LISTENS)
"""What of an input moves by hand: each is a field of `LiveInput`."""


class InputKind(enum.Enum):
    """Where an input comes from."""

    CARD = "card"
    PORTS = "ports"


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveInput:
    """An input of a track.

    Attributes
    ----------
    channels : tuple[int, ...]
        One or two channels of the card, counted from 1; for ports only how many there are counts.
    input_db, inverted, on : float, bool, bool
        INPUT_VALUES.
    """

    kind: InputKind = InputKind.CARD
    channels: tuple[int, ...] = (1,)
    input_db: float = 0.0
    inverted: bool = False
    on: bool = True

    @property
    def words(self) -> str:
        """What it is, for rows and menus."""
        if self.kind is InputKind.PORTS:
            return "ports" if len(self.channels) > 1 else "a port"
        return "input " + " and ".join(map(str, self.channels))
