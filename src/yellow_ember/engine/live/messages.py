"""What the interface and the engine say to each other through the pipe."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from yellow_ember.engine.live.changes import PackedSession, ValueChange
from yellow_ember.engine.print_player import StripPrint


@dataclass(frozen=True, slots=True)
class DeviceSettings:
    """Where and how to play.

    Attributes
    ----------
    block : int
        Frames; a JACK server has its own.
    record : Path | None
        A file for what the silent card is sent.
    threads : int
        That run strips side by side.
    feed : str
        What comes into the silent card: "" for silence, OWN_OUTPUT, or the path of a file that is played in a loop.
    """

    name: str
    block: int
    record: Path | None = None
    threads: int = 1
    feed: str = ""


@dataclass(frozen=True, slots=True)
class SetSession:
    """The session to play from now on, where its structure is another; `reload` after audio became ready."""

    session: PackedSession
    reload: bool = False


@dataclass(frozen=True, slots=True)
class ChangeValues:
    """Other values of the session that was set last."""

    changes: tuple[ValueChange, ...]


@dataclass(frozen=True, slots=True)
class Play:
    """Start, at a frame or where playing stopped."""

    position: int | None = None


@dataclass(frozen=True, slots=True)
class Stop:
    """Stop with a short fade."""


@dataclass(frozen=True, slots=True)
class Locate:
    """Go to a frame, playing or not."""

    position: int


@dataclass(frozen=True, slots=True)
class Watch:
    """The stage whose signal is shown in the scope."""

    strip_id: str
    point: int


@dataclass(frozen=True, slots=True)
class HearBefore:
    """Strips whose input is heard instead of their chains."""

    strip_ids: frozenset[str]


@dataclass(frozen=True, slots=True)
class UsePrints:
    """Strips that play from a print wherever their settings are those it was made with; all others run live."""

    prints: tuple[StripPrint, ...]


@dataclass(frozen=True, slots=True)
class ChangeDevice:
    """Close the card and open another."""

    settings: DeviceSettings


@dataclass(frozen=True, slots=True)
class ForgetClips:
    """Inputs are watched for clipping from now on."""


@dataclass(frozen=True, slots=True)
class Quit:
    """End the engine."""


Command = (SetSession | ChangeValues | Play | Stop | Locate | Watch | HearBefore | UsePrints | ForgetClips
           | ChangeDevice | Quit)


@dataclass(frozen=True, slots=True)
class Ready:
    """The engine runs and its card is open.

    block : frames of a turn
    """

    device: str
    devices: tuple[str, ...]
    block: int


@dataclass(frozen=True, slots=True)
class Trouble:
    """Something the user should know."""

    text: str


Report = Ready | Trouble
