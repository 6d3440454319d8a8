"""The interface's side of the engine: commands out, readings in, and a new engine when one dies.

Free of Qt; `poll` is called some thirty times a second and never waits.
"""

from __future__ import annotations

import contextlib
import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection

from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.forking import context
from yellow_ember.engine.live.board import Board, StripReading
from yellow_ember.engine.live.changes import PackedSession, value_changes
from yellow_ember.engine.live.messages import (
    Answer,
    ChangeDevice,
    ChangeValues,
    Command,
    DeviceSettings,
    EndRecording,
    ForgetClips,
    HearBefore,
    Locate,
    MeasureRoundTrip,
    Moved,
    Play,
    Quit,
    Ready,
    Record,
    Recorded,
    RoundTrip,
    SendMidi,
    SetSession,
    Stop,
    TellTurns,
    Trouble,
    TurnTimes,
    UsePrints,
    Watch,
)
from yellow_ember.engine.live.process import main as engine_main
from yellow_ember.engine.print_player import StripPrint
from yellow_ember.session.values.model import Session

APART_SECONDS = 0.015
"""Sessions are sent so far apart at least."""
HANG_SECONDS = 1.0
"""Without a block for so long the engine counts as hung."""
_LOOK_SECONDS = 0.1
"""What passed between two looks counts for so much at most: where the whole machine stood, so did the engine."""
PATIENCE, TRIES = 20.0, 3
"""After so many restarts within so many seconds the next one waits until they have passed."""
_QUIT_SECONDS = 0.4
START_SECONDS = 15.0
"""So long a new engine may take to its first block (kernels may have to be compiled)."""


@dataclass(frozen=True, slots=True)
class EngineState:
    """What the engine last published.

    Attributes
    ----------
    position, latency, delay : int
        Frames: where playing is; from what is read to the card; from there to the ear.
    load : float
        1 is all of a block's time.
    live_latency : int | None
        Frames from the live input that is heard last to the card, None where nothing comes in live.
    """

    position: int
    playing: bool
    load: float
    missed: int
    blocks: int
    ceiling_gain: float
    latency: int
    delay: int
    live_latency: int | None

    def heard_after_ms(self, frames: int, rate: int) -> float:
        """How many milliseconds pass from `frames` before the card to the ear."""
        return 1000.0 * (frames + self.delay) / rate

    @property
    def runs(self) -> bool:
        """True where sound goes through the strips: files are played, or something comes in live."""
        return self.playing or self.live_latency is not None


class EngineClient:
    """Runs an engine and keeps it running."""

    def __init__(self, device: DeviceSettings, say: Callable[[str], None] = lambda text: None) -> None:
        self._device = device
        self._say = say
        self._session: Session | None = None
        self._sent: Session | None = None
        """The session that the engine has."""
        self._sent_at = 0.0
        self._behind = False
        self._watch = Watch("", 0)
        self.before = HearBefore(frozenset())
        self.prints = UsePrints(())
        self.devices: tuple[str, ...] = ()
        self.device, self.block = "", device.block
        self.restarts = 0
        self._answers: list[Answer] = []
        self._moved: list[bytes] = []
        self._restarted: list[float] = []
        self._said = ""
        self._state = EngineState(0, False, 0.0, 0, 0, 1.0, 0, 0, None)
        self._start()

    # -- process ------------------------------------------------------------------------

    def _start(self) -> None:
        self._board = Board()
        self._pipe, theirs = context().Pipe()
        process = context().Process(target=engine_main, args=(theirs, self._board, self._device), daemon=True)
        process.start()
        # Only then: another thread may end whichever engine there is.
        self._process = process
        theirs.close()
        self._outbox: queue.SimpleQueue[Command | None] = queue.SimpleQueue()
        self._sender = threading.Thread(target=_send_all, args=(self._pipe, self._outbox), daemon=True)
        self._sender.start()
        self._beat, self._waited = 0, 0.0
        self._polled_at = time.monotonic()

    @property
    def pid(self) -> int | None:
        return self._process.pid

    def _restart(self, why: str) -> None:
        now = time.monotonic()
        self._restarted = [moment for moment in self._restarted if now - moment < PATIENCE]
        if len(self._restarted) == TRIES:
            self._say_once(f"The engine {why} {TRIES} times; it is tried again in a while.")
            return
        self._restarted.append(now)
        position, playing = self._state.position, self._state.playing
        self._drop()
        self.restarts += 1
        self._say(f"The engine {why} and was started again; nothing was lost.")
        self._start()
        self._sent = None
        if self._session is not None:
            self._send_session(self._session)
        self._send(self._watch)
        self._send(self.before)
        self._send(self.prints)
        self._send(Play(position) if playing else Locate(position))

    def _say_once(self, text: str) -> None:
        if text != self._said:
            self._said = text
            self._say(text)

    def _drop(self) -> None:
        self._process.kill()
        self._process.join(timeout=2.0)
        self._outbox.put(None)
        self._sender.join(timeout=2.0)
        self._pipe.close()
        self._board.close()

    def close(self) -> None:
        """End the engine."""
        self._send(Quit())
        self._process.join(timeout=_QUIT_SECONDS)
        self._drop()

    def kill(self) -> None:
        """End the engine without a word; from any thread."""
        self._process.kill()

    def poll(self) -> EngineState:
        """Take in reports, look after the process, and read what it published."""
        if self._behind and self._session is not None:
            self._behind = False
            self._send_session(self._session)
        with contextlib.suppress(EOFError, OSError):
            while self._pipe.poll():
                match self._pipe.recv():
                    case Ready(device, devices, block):
                        self.device, self.block = device, block
                        self.devices = devices or self.devices
                    case Trouble(text):
                        self._say(text)
                    case Moved(messages):
                        self._moved += messages
                    case Recorded() | RoundTrip() | TurnTimes() as answer:
                        self._answers.append(answer)
        head = self._board.head[0]
        beat, now = int(head["beat"]), time.monotonic()
        self._waited += min(now - self._polled_at, _LOOK_SECONDS)
        self._polled_at = now
        if beat != self._beat:
            self._beat, self._waited = beat, 0.0
            self._state = EngineState(
                int(head["position"]), bool(head["playing"]), float(head["load"]), int(head["missed"]),
                int(head["blocks"]), float(head["ceiling_gain"]), int(head["latency"]),
                int(head["delay"]), int(head["live_latency"]) if head["live_latency"] >= 0 else None)
        if not self._process.is_alive():
            self._restart("ended unexpectedly")
        elif self._waited > (HANG_SECONDS if beat else START_SECONDS):
            self._restart("stopped answering")
        return self._state

    # -- commands -----------------------------------------------------------------------

    def _send(self, command: Command) -> None:
        self._outbox.put(command)

    def set_session(self, session: Session, *, reload: bool = False) -> None:
        """Play this session from now on (at the latest from the next `poll`); `reload` when files became ready."""
        if session is self._session and not reload:
            return
        self._session = session
        now = time.monotonic()
        if reload or now - self._sent_at >= APART_SECONDS:
            self._sent_at, self._behind = now, False
            self._send_session(session, reload=reload)
        else:
            # A control moves faster than is heard: the newest value goes with the next poll.
            self._behind = True

    def _send_session(self, session: Session, *, reload: bool = False) -> None:
        """Send what differs from the session that the engine has, as small as it can be said."""
        changes = None if self._sent is None or reload else value_changes(self._sent, session)
        if changes is None:
            self._send(SetSession(PackedSession.of(session), reload))
        elif changes:
            self._send(ChangeValues(changes))
        self._sent = session

    def play(self, position: int | None = None) -> None:
        self._send(Play(position))

    def stop(self) -> None:
        self._send(Stop())

    def locate(self, position: int) -> None:
        self._send(Locate(max(0, position)))

    def watch(self, strip_id: str, point: int) -> None:
        """Show the signal around stage `point` of a strip in the scope."""
        if self._watch != Watch(strip_id, point):
            self._watch = Watch(strip_id, point)
            self._send(self._watch)

    def hear_before(self, strip_ids: frozenset[str]) -> None:
        """Hear these strips without their chains."""
        if self.before != HearBefore(strip_ids):
            self.before = HearBefore(strip_ids)
            self._send(self.before)

    def use_prints(self, prints: tuple[StripPrint, ...]) -> None:
        """Play these strips from their prints."""
        if self.prints != UsePrints(prints):
            self.prints = UsePrints(prints)
            self._send(self.prints)

    def record(self, order: Record) -> None:
        """Record, as soon as what is armed listens."""
        self._send(order)

    def end_recording(self) -> None:
        """Close what is recorded, though playing goes on."""
        self._send(EndRecording())

    def measure_round_trip(self, strip_id: str) -> None:
        """Send a burst out, and look when it comes in at a strip's input."""
        self._send(MeasureRoundTrip(strip_id))

    def take_moved(self) -> list[bytes]:
        """MIDI messages that `poll` brought since this was asked last."""
        moved, self._moved = self._moved, []
        return moved

    def send_midi(self, messages: tuple[bytes, ...]) -> None:
        """Send messages to controllers."""
        self._send(SendMidi(messages))

    def ask_for_turns(self) -> None:
        """Have it told how long blocks took since this was asked last."""
        self._send(TellTurns())

    def take_answers(self) -> list[Answer]:
        """What `poll` brought of recordings, round trips and times since this was asked last."""
        answers, self._answers = self._answers, []
        return answers

    def forget_clips(self) -> None:
        """Watch inputs for clipping from now on."""
        self._send(ForgetClips())

    def change_device(self, device: DeviceSettings) -> None:
        self._device = device
        self._send(ChangeDevice(device))

    # -- readings -----------------------------------------------------------------------

    def reading(self, strip_id: str) -> StripReading | None:
        """Levels of a strip, or None where the engine has none of that id."""
        if self._session is None:
            return None
        for row, strip in enumerate(self._session.strips):
            if strip.id == strip_id:
                return self._board.reading(row) if row < len(self._board.strips) else None
        return None

    def scope(self) -> tuple[Samples, Samples]:
        """The watched stage's last input and output, (2, SCOPE_FRAMES) each."""
        return self._board.scope_copy()


def _send_all(pipe: Connection, outbox: queue.SimpleQueue[Command | None]) -> None:
    """The sender's thread, so that a full pipe never makes the interface wait."""
    while (command := outbox.get()) is not None:
        try:
            pipe.send(command)
        except (OSError, ValueError):
            return
