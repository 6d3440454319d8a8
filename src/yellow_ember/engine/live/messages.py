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
    synced : bool
        Playing goes with the server's transport, where there is one.
    feed : str
        What comes into the silent card: "" for silence, OWN_OUTPUT, or the path of a file that is played in a loop.
    """

    name: str
    block: int
    record: Path | None = None
    threads: int = 1
    feed: str = ""
    synced: bool = False


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
class ArmedStrip:
    """A strip that is recorded.

    Attributes
    ----------
    name : str
        What its files are called, before their numbers.
    path_too : bool
        What leaves its path is written as well, to files of its own.
    """

    strip_id: str
    name: str
    path_too: bool = False


@dataclass(frozen=True, slots=True)
class Record:
    """Write down what comes in while playing, from now on and until playing stops.

    Attributes
    ----------
    first, end : int, int | None
        Frames of the session between which it is written; None for no end.
    round_trip : int | None
        Frames from what goes out to when it comes in again, None for what the card says.
    starts_at : int
        The session's first frame, counted from midnight.
    play_from : int | None
        Where playing begins as soon as all is ready, where the session stands; None to wait for that.
    """

    strips: tuple[ArmedStrip, ...]
    folder: Path
    first: int
    end: int | None
    round_trip: int | None
    starts_at: int
    play_from: int | None = None


@dataclass(frozen=True, slots=True)
class EndRecording:
    """Close all files, though playing goes on."""


@dataclass(frozen=True, slots=True)
class MeasureRoundTrip:
    """Send a burst out, and look when it comes in again at a strip's input."""

    strip_id: str


@dataclass(frozen=True, slots=True)
class SendMidi:
    """Messages for controllers."""

    messages: tuple[bytes, ...]


@dataclass(frozen=True, slots=True)
class TellTurns:
    """Say how long the last blocks took to make, and count from now on."""


@dataclass(frozen=True, slots=True)
class Quit:
    """End the engine."""


Command = (SetSession | ChangeValues | Play | Stop | Locate | Watch | HearBefore | UsePrints | ForgetClips
           | Record | EndRecording | MeasureRoundTrip | SendMidi | TellTurns | ChangeDevice | Quit)


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


@dataclass(frozen=True, slots=True)
class RecordedTake:
    """A file that was recorded.

    Attributes
    ----------
    position, frames : int
        Where in the session it begins, and how long it is.
    of_path : bool
        It holds what left the path, not what came in.
    """

    strip_id: str
    path: Path
    position: int
    frames: int
    of_path: bool


@dataclass(frozen=True, slots=True)
class Recorded:
    """A recording has ended; `trouble` says why, where it had to."""

    takes: tuple[RecordedTake, ...]
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class RoundTrip:
    """Frames from what goes out to when it comes in; None where nothing came back."""

    frames: int | None


@dataclass(frozen=True, slots=True)
class Moved:
    """MIDI messages that came from controllers."""

    messages: tuple[bytes, ...]


@dataclass(frozen=True, slots=True)
class TurnTimes:
    """How long blocks took to make, in seconds: the middle one, the one that 99.9 % stay under, and the longest."""

    count: int
    median: float
    nearly_all: float
    worst: float


Answer = Recorded | RoundTrip | TurnTimes
"""What was asked for by a command."""
Report = Ready | Trouble | Answer | Moved
