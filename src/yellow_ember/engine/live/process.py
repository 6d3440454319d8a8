"""The engine's process: takes commands, runs the graph in time, feeds the card, publishes levels."""

from __future__ import annotations

import gc
import signal
import sys
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import replace
from multiprocessing.connection import Connection

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels.mixing import glide
from yellow_ember.dsp.ramps import Ramp
from yellow_ember.dsp.slot import FADE_SECONDS
from yellow_ember.engine.forking import be_a_child
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.listening import Listener
from yellow_ember.engine.live.board import Board
from yellow_ember.engine.live.cards import Beat, Card, DeviceError
from yellow_ember.engine.live.devices import JACK, SILENT_CARD, device_names, open_card
from yellow_ember.engine.live.feedback import Wire, fed_with_themselves
from yellow_ember.engine.live.jack_card import jack_runs
from yellow_ember.engine.live.messages import (
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
    Report,
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
from yellow_ember.engine.live.meters import GraphMeters
from yellow_ember.engine.live.midi_clock import MidiClock
from yellow_ember.engine.live.ports import MASTER_CHANNELS, Crossing, Ports
from yellow_ember.engine.live.preparing import NewGraph, NewValues, Preparer
from yellow_ember.engine.live.recording import Recorder
from yellow_ember.engine.live.round_trip import RoundTripProbe
from yellow_ember.engine.plan import Crew
from yellow_ember.engine.print_player import StripPrint
from yellow_ember.engine.strip import StripNode
from yellow_ember.engine.transport import Transport
from yellow_ember.engine.urgency import be_on_time
from yellow_ember.files.conformed import Segment
from yellow_ember.session.values.bars import beat_frames
from yellow_ember.session.values.model import Session

_RUN_IN_SHARE = 0.7
"""How much of a block's time goes into running in."""
_SHOWN_SECONDS = 0.016
"""How often readings are published; the window looks at them some thirty times a second."""
_HELPED_SHARE, _ALONE_SHARE = 0.5, 0.35
"""Others help where one thread alone would be busy for more than this of a block's time, and no more where it would be
for less: waiting for another thread takes longer on a busy machine than a small block does."""
_SILENT = 3e-5
"""-90 dBFS: what is quieter behind the last sound is its end."""
_SILENT_SECONDS, _LONGEST_TAIL_SECONDS = 0.4, 10.0
"""How long it has to be so quiet; and how long one waits for that, since some noises never end."""
_NOWHERE = -(1 << 40)
"""A frame before anything that could be played."""
_STUCK_SECONDS = 0.5
"""A block that takes longer will not end."""
_LOOKS_SECONDS = 1.0
"""How often it is looked whether a device came back, and how late the present one is."""
_AWAKE_SECONDS, _RESTING_SECONDS = 2.0, 0.4
"""How long behind the last sound and the last command blocks are made on, and how slowly it looks around then."""
_TIMES = 1 << 16
"""Blocks of which it is known how long they took."""
_ARMED_SECONDS = 10.0
"""So long a recording waits for its inputs."""
_NOTICED_SECONDS = 0.15
"""A longer wait for the first sound is cut short by running in."""


class Engine:
    """Everything that happens in the engine's process.

    `run` attends to commands, ports and the device; `turn` makes sound, in the same thread or in the sound server's.
    What is for both goes through `_commands` and through references that are replaced whole.
    """

    def __init__(self, pipe: Connection, board: Board, device: DeviceSettings) -> None:
        self._pipe = pipe
        self._board = board
        self._device = device
        self._wished: DeviceSettings | None = None
        """The device that is to be used as soon as it is there."""
        self.transport = Transport()
        self.graph: Graph | None = None
        self._reports: deque[Report] = deque()
        """Messages for the interface, from any thread."""
        self._preparer = Preparer(lambda text: self._say(Trouble(text)))
        self._session: Session | None = None
        """What is played, or was prepared to be."""
        self._set = False
        """True once a session was set."""
        self._meters: GraphMeters | None = None
        self._crew = Crew(device.threads, on_time=True)
        self._next_crew: Crew | None = None
        self._helped = False
        self._work = 0.0
        """How much of a block's time one thread would be busy alone, at most."""
        self._watched = ("", 0)
        self._before: frozenset[str] = frozenset()
        self._prints: dict[str, StripPrint] = {}
        self._card: Card | None = None
        self._delay = 0
        self._rate = 48000
        self._block = device.block
        self._running = True
        self._reopen = False
        self._commands: deque[Command] = deque()
        """What was received and not yet taken up by `turn`."""
        self._ports = Ports()
        """What the session asks for."""
        self._opened_live = False
        self._loops: frozenset[str] = frozenset()
        """Strips whose input would be what they make; it is kept from them."""
        self._wired: tuple[Session | None, frozenset[Wire]] = None, frozenset()
        """By what it was worked out."""
        self._looked_at = self._shown_at = 0.0
        self._awake_until = 0.0
        self._say_devices = True
        self._turn_since: float | None = None
        """When the block began that is being made, None between blocks."""
        self._load = 0.0
        self._waiting: tuple[Graph, GraphMeters] | None = None
        self._stopping = False
        self._starting: int | None = None
        self._relocate: int | None = None
        self._fade = Ramp(1.0, self._rate, FADE_SECONDS / 2)
        self._silence_left = 0
        self._silent_frames = 0
        """How long nothing was heard behind the last sound."""
        self._standing_frame = _NOWHERE
        """What is read from while nothing is played, so that live inputs are heard and no file."""
        self._crossed: tuple[Graph, Ports] | None = None
        self._fed: tuple[tuple[Listener, int, str], ...] = ()
        self._leaving: tuple[tuple[StripNode, int], ...] = ()
        self._record: tuple[Record, float] | None = None
        """What is to be recorded as soon as its strips listen, and since when."""
        self._recorder: Recorder | None = None
        self._probe: RoundTripProbe | None = None
        self._clock = MidiClock()
        self._times: Samples = np.zeros(_TIMES)
        self._turns = 0
        self._from_start = False
        """True while the graph runs in from the session's first frame."""

    # -- life ---------------------------------------------------------------------------

    def run(self) -> None:
        """Play until told to quit or until the interface is gone."""
        self.play_until(lambda: not self._running)
        self.close()

    def play_until(self, done: Callable[[], bool]) -> None:
        """Make blocks until something holds, with the device opened again as often as that is needed."""
        while not done():
            if self._card is None or self._reopen:
                self._open_card()
            assert self._card is not None
            try:
                self._card.run(self.turn, lambda seconds: self._attend(seconds) and not done())
            except DeviceError as error:
                self._fall_back(str(error))
                self._reopen = True

    def close(self) -> None:
        """End the threads and let the card go."""
        self._end_recording()
        self._preparer.close()
        self._crew.close()
        if self._card is not None:
            self._card.close()

    def _say(self, report: Report) -> None:
        self._reports.append(report)

    def _open_card(self) -> None:
        self._end_recording()
        if self._card is not None:
            self._card.close()
        self._reopen = False
        live = bool(self._ports.ins)
        try:
            self._card = open_card(self._device, self._rate, self._ports, live=live, any_rate=not self._set)
        except DeviceError as error:
            self._fall_back(str(error))
            self._card = open_card(self._device, self._rate, self._ports, live=live)
        self._opened_live = live
        self._block, self._delay = self._card.block, self._card.delay
        # A graph that was made for other blocks or another rate can't play here.
        self.graph = self._waiting = None
        self._silence_left = 0
        self._move_transport()
        self._silent: Samples = np.zeros((2, self._block))
        self._fade = Ramp(1.0, self._rate, FADE_SECONDS / 2)
        if self._set:
            self._preparer.build(None, self._block, fresh=True)
        self._say(Ready(self._device.name, tuple(device_names()) if self._say_devices else (), self._block))
        self._say_devices = False

    def _fall_back(self, why: str) -> None:
        """Play with the silent card; a sound server is gone back to as soon as it is there again."""
        self._say(Trouble(f"{why}. The silent card plays instead"))
        if self._device.name == JACK:
            self._wished = self._device
        self._device = replace(self._device, name=SILENT_CARD, record=None, feed="")

    def _attend(self, seconds: float) -> bool:
        """See to commands and to the device, between blocks or beside them; False where the card is to be left.

        Parameters
        ----------
        seconds : float
            So long it waits for a command.
        """
        try:
            while self._reports:
                self._pipe.send(self._reports.popleft())
            self._rest()
            while self._pipe.poll(seconds):
                seconds = 0.0
                self._awake_until = time.monotonic() + _AWAKE_SECONDS
                self.receive(self._pipe.recv())
        except (EOFError, OSError):
            self._running = False
        assert self._card is not None
        now = time.monotonic()
        if self._turn_since is None or now - self._turn_since < _STUCK_SECONDS:
            # A sound server may leave one waiting; only a block that never ends is a fault of the engine's.
            self._board.head[0]["beat"] += 1
        if now - self._looked_at > _LOOKS_SECONDS:
            self._looked_at = now
            self._delay = self._card.delay
            self._look_for_the_wished()
        if self._sounding and now - self._shown_at > _SHOWN_SECONDS and (meters := self._meters) is not None:
            self._shown_at = now
            meters.show(self._board)
        self._see_to_ports(self._card)
        self._see_to_recording(self._card)
        if self._card.moved:
            self._say(Moved(tuple(self._card.moved.popleft() for _ in range(len(self._card.moved)))))
        return self._running and not self._reopen

    def _rest(self) -> None:
        """Where nothing sounds, and nothing did or was asked for lately, wait for a command."""
        assert self._card is not None
        now = time.monotonic()
        if self._sounding or self._commands or self._probe is not None:
            self._awake_until = now + _AWAKE_SECONDS
        elif now > self._awake_until:
            self._card.pause()
            self._pipe.poll(_RESTING_SECONDS)

    @property
    def _suits(self) -> bool:
        """False where the card was opened without anything live, and something is to come in, or the other way."""
        return bool(self._ports.ins) == self._opened_live or self._device.name == JACK

    def _see_to_ports(self, card: Card) -> None:
        if not self._suits or not card.use(self._ports):
            self._reopen = True
            return
        session, wires = self._session, card.wires
        if session is None or (session is self._wired[0] and wires == self._wired[1]):
            return
        self._wired = session, wires
        loops = fed_with_themselves(session, wires)
        fresh, self._loops = loops - self._loops, loops
        if fresh:
            names = ", ".join(strip.name for strip in session.strips if strip.id in fresh)
            self._say(Trouble(f"{names} would be fed with what it makes: its input is muted until that is undone"))

    def _see_to_recording(self, card: Card) -> None:
        if self._record is not None:
            self._begin_recording(card, *self._record)
        if self._recorder is not None and self._recorder.done:
            self._end_recording()
        if self._probe is not None and self._probe.done:
            probe, self._probe = self._probe, None
            self._say(RoundTrip(probe.frames()))

    def _begin_recording(self, card: Card, order: Record, since: float) -> None:
        """Begin where every armed strip listens by now."""
        graph = self.graph
        listening = {} if graph is None or self._waiting is not None or not self._suits else {
            strip_id for strip_id, node in graph.nodes.items() if node.listener is not None}
        if graph is not None and all(strip.strip_id in listening for strip in order.strips):
            self._record = None
            self._end_recording()
            round_trip = card.round_trip if order.round_trip is None else order.round_trip
            self._recorder = Recorder(order, graph.nodes, self._rate, graph.latency, round_trip)
            if order.play_from is not None and not self.transport.playing:
                self._commands.append(Play(order.play_from))
        elif time.monotonic() > since + _ARMED_SECONDS:
            self._record = None
            self._say(Recorded((), "What was to be recorded does not come in"))

    def _end_recording(self) -> None:
        """Close what is recorded, and tell of it."""
        recorder, self._recorder = self._recorder, None
        if recorder is not None:
            self._say(recorder.result())

    def _look_for_the_wished(self) -> None:
        if self._wished is not None and jack_runs():
            self._device, self._wished = self._wished, None
            self._reopen = self._say_devices = True
            self._say(Trouble("The JACK server is back and plays again"))

    # -- commands -----------------------------------------------------------------------

    def receive(self, command: Command) -> None:
        """Take in a command: what concerns device and session at once, all else when the next block is made."""
        match command:
            case Quit():
                self._running = False
            case ChangeDevice(settings):
                others = replace(settings, threads=self._device.threads)
                if settings.threads != self._crew.threads:
                    self._next_crew = Crew(settings.threads, on_time=True)
                if others != self._device or self._wished is not None:
                    self._say_devices = self._reopen = True
                self._device, self._wished = settings, None
            case SetSession(packed, reload):
                self._set = True
                if packed.frame.rate != self._rate or (self._card and packed.frame.rate != self._card.rate):
                    self._rate = packed.frame.rate
                    self._reopen = reload = True
                self._preparer.build(packed, self._block, fresh=reload)
            case ChangeValues(changes):
                self._preparer.change(changes)
            case Record() | EndRecording():
                self._preparer.pass_on(command)
            case TellTurns():
                self._say(self._turn_times())
            case SendMidi(messages) if self._card is not None:
                for message in messages:
                    self._card.send(message)
            case MeasureRoundTrip(strip_id):
                self._probe = RoundTripProbe(strip_id, self._rate)
            case _:
                self._commands.append(command)

    def _take(self, command: Command) -> None:
        """Take up a command, between two blocks."""
        match command:
            case Play(position) if self._synced:
                assert self._card is not None
                self._card.go(position, rolls=True)
            case Stop() if self._synced:
                assert self._card is not None
                self._card.go(None, rolls=False)
            case Locate(position) if self._synced:
                assert self._card is not None
                self._card.go(position, rolls=self.transport.playing)
            case Play(position):
                self._start(self.transport.position if position is None else position)
            case Stop():
                self._stopping = self.transport.playing
                if self._stopping:
                    self._fade.move(0.0)
            case Locate(position):
                if self.transport.playing:
                    self._relocate = position
                    self._fade.move(0.0)
                else:
                    self.transport.go(position)
            case Watch(strip_id, point):
                self._watched = (strip_id, point)
                self._apply_watch()
            case HearBefore(strip_ids):
                self._before = strip_ids
                self._apply_before()
            case UsePrints(prints):
                self._prints = {result.strip_id: result for result in prints}
                self._apply_prints()
            case ForgetClips() if self._meters is not None:
                self._meters.forget_clips()

    @property
    def _synced(self) -> bool:
        """True where a server's transport says what is played."""
        return self._device.synced and self._device.name == JACK

    def _follow(self) -> None:
        """Start, stop and jump with the server's transport: what goes out now is to be its present frame."""
        assert self._card is not None
        place = self._card.place()
        if place is None or self.graph is None or self._session is None or not self._fade.resting:
            return
        (rolls, frame), loop = place, self._session.loop
        playing, due = self.transport.playing and not self._stopping, frame + self.graph.latency
        if loop.on and frame < loop.end <= due and loop.start < loop.end:
            due = loop.start + (due - loop.end) % (loop.end - loop.start)
        if rolls and loop.on and loop.start < loop.end <= frame:
            self._card.go(loop.start, rolls=True)
        elif rolls and not playing:
            self._start(due)
        elif playing and not rolls:
            self._stopping, self._relocate = True, frame
            self._fade.move(0.0)
        elif playing and self.transport.position != due:
            self._relocate = due
            self._fade.move(0.0)
        elif not rolls and self.transport.position != frame:
            self.transport.go(frame)

    def _start(self, position: int) -> None:
        if self.transport.playing and not self._stopping:
            return
        if self._live:
            # Who plays live is heard on: only the files begin.
            self._starting, self._stopping = position, False
            self._fade.move(0.0)
            return
        self.transport.go(position)
        self._stopping = False
        self._fade.jump(1.0)
        if self.graph is not None:
            self.graph.reset()
            if self._meters is not None:
                self._meters.begin()
            self._silence_left = 0
            if self.graph.latency > _NOTICED_SECONDS * self._rate and not self._synced:
                self._fade.jump(0.0)
                self._silence_left = self.graph.latency
                self._from_start = self.transport.position == 0
            elif self.transport.position > 0:
                self._fade.jump(0.0)
                self._fade.move(1.0)
        self.transport.playing = True

    def _apply_watch(self) -> None:
        if self._meters is not None:
            self._meters.watch(*self._watched, self._board)

    def _apply_before(self) -> None:
        if self.graph is not None:
            for strip_id, node in self.graph.nodes.items():
                node.hear(before=strip_id in self._before)

    def _apply_prints(self, *, at_once: bool = False) -> None:
        if self.graph is None:
            return
        for strip_id, node in self.graph.nodes.items():
            try:
                node.use_print(self._prints.get(strip_id), at_once=at_once)
            except OSError as error:
                self._prints.pop(strip_id, None)
                self._say(Trouble(f"The print of {node.strip.name} can't be played: {error.strerror}"))

    def _take_prepared(self) -> None:
        """Take up what the preparer has ready: settings at once, a graph when the sound has faded out."""
        while (result := self._preparer.result()) is not None:
            if isinstance(result, NewGraph | NewValues):
                session = self._session = result.session
                self._ports = result.ports
                assert self._card is not None
                self._card.beat = Beat(session.tempo, session.beats_per_bar, session.first_beat * session.rate)
            match result:
                case Record():
                    self._record = result, time.monotonic()
                case EndRecording():
                    if self._record is not None:
                        self._record = None
                        self._say(Recorded(()))
                    if self._recorder is not None:
                        self._recorder.end()
                case NewValues(session, _, strip_ids):
                    if self.graph is not None and self._waiting is None:
                        self.graph.update(session, touched=strip_ids)
                case NewGraph(_, _, graph, meters):
                    self._adopt(graph, meters)

    def _adopt(self, graph: Graph, meters: GraphMeters) -> None:
        if (graph.settings.max_block, graph.session.rate) != (self._block, self._rate):
            return
        if self._sounding and self.graph is not None:
            self._waiting = (graph, meters)
            self._fade.move(0.0)
        else:
            self._swap(graph, meters)
            if self._sounding:
                self._fade.jump(0.0)
                self._run_in_or_rise()

    def _swap(self, graph: Graph, meters: GraphMeters) -> None:
        assert self._session is not None
        if self._recorder is not None and self.graph is not None and graph.latency != self.graph.latency:
            # What comes in would no longer lie where it was played.
            self._recorder.end()
            self._say(Trouble("A path's delay changed, so recording ended there"))
        meters.stand(self._session)
        self.graph, self._meters = graph, meters
        self._apply_watch()
        # Values may have come while it waited.
        graph.update(self._session)
        for strip_id, node in graph.nodes.items():
            node.hear(before=strip_id in self._before, at_once=True)
        self._apply_prints(at_once=True)

    # -- sound --------------------------------------------------------------------------

    @property
    def _sounding(self) -> bool:
        """True where the graph runs."""
        return self.transport.playing or self._live

    @property
    def _live(self) -> bool:
        """True where something comes in live, so that the graph runs whether the transport does or not."""
        return self.graph is not None and self.graph.live_latency is not None

    def turn(self, crossing: Crossing) -> None:
        """Make the next block of what came in."""
        self._turn_since = time.monotonic()
        started = time.perf_counter()
        while self._commands:
            self._take(self._commands.popleft())
        if self._next_crew is not None:
            self._crew.close()
            self._crew, self._next_crew = self._next_crew, None
        self._take_prepared()
        if self._synced:
            self._follow()
        frames = self._block
        segments: list[Segment] = []
        if self._probe is not None and not self._probe.done:
            self._send_burst(self._probe, crossing)
        elif self.graph is not None and self._session is not None and self._sounding:
            self._cross(self.graph, crossing)
            if self._silence_left > 0:
                self._run_in(started)
                out = self._silent
            else:
                heard, playing, stretches = self.transport.run, self.transport.playing, self._stretches(frames)
                out = self._made(self.graph, stretches, frames)
                segments = stretches if playing else []
                if self._recorder is not None:
                    self._recorder.capture(self.graph.nodes, segments, frames, heard)
                if playing:
                    self._end_with_the_tail(self.graph, out)
            assert self._meters is not None
            self._meters.process(frames)
            if self._silence_left <= 0 and not (self._fade.resting and self._fade.target == 1.0):
                glide(out, self._fade.state)
                if self._fade.resting and self._fade.target == 0.0:
                    self._after_fade()
            crossing.goes_out[:2] = out
            for node, row in self._leaving:
                crossing.goes_out[row:row + 2] = node.out(frames)
        else:
            crossing.goes_out.fill(0.0)
            self._let_meters_fall()
        crossing.clock = self._ticks(segments, frames)
        busy = time.perf_counter() - started
        self._times[self._turns % self._times.size] = busy
        self._turns += 1
        self._load += 0.05 * (busy * self._rate / frames - self._load)
        self._publish()
        self._turn_since = None

    def _made(self, graph: Graph, stretches: Sequence[Segment], frames: int) -> Samples:
        """Run the graph for a block, with as many threads as it needs."""
        started = time.thread_time()
        out = graph.process(stretches, frames, self._crew if self._helped else None)
        share = (time.thread_time() - started) * self._rate / frames * (self._crew.threads if self._helped else 1)
        self._work = max(self._work + 0.1 * (share - self._work), share if share > 1.0 and not self._helped else 0.0)
        self._helped = self._work > (_ALONE_SHARE if self._helped else _HELPED_SHARE)
        return out

    def _turn_times(self) -> TurnTimes:
        """How long the last blocks took; counting begins again behind that."""
        times = self._times[:min(self._turns, _TIMES)].copy()
        self._turns = 0
        if not times.size:
            return TurnTimes(0, 0.0, 0.0, 0.0)
        median, nearly_all = np.percentile(times, (50.0, 99.9))
        return TurnTimes(times.size, float(median), float(nearly_all), float(times.max()))

    def _ticks(self, segments: Sequence[Segment], frames: int) -> list[tuple[int, bytes]]:
        """The MIDI clock of a block in which these stretches were read, none while the session stands."""
        session, heard = self._session, list[Segment]()
        if session is None:
            return []
        if segments and self.graph is not None:
            heard = self.transport.heard_block(frames, self.graph.latency, session.loop)
        return self._clock.events(heard, frames, beat_frames(session), session.first_beat * session.rate)

    def _send_burst(self, probe: RoundTripProbe, crossing: Crossing) -> None:
        row = 0
        for port in crossing.ports.ins:
            if port.strip_id == probe.strip_id:
                probe.turn(crossing.came_in[row], crossing.goes_out)
                return
            row += port.channels
        probe.turn(None, crossing.goes_out)

    def _stretches(self, frames: int) -> list[Segment]:
        """What the next block is read from: the session, or nowhere while it stands."""
        assert self._session is not None
        if self.transport.playing:
            return self.transport.advance(frames, self._session.loop)
        self._standing_frame += frames
        return [(self._standing_frame, frames)]

    def _cross(self, graph: Graph, crossing: Crossing) -> None:
        """Hand what came in to the strips that listen."""
        if self._crossed is None or self._crossed[0] is not graph or self._crossed[1] is not crossing.ports:
            self._crossed = graph, crossing.ports
            fed, row = [], 0
            for port in crossing.ports.ins:
                listener = graph.nodes[port.strip_id].listener if port.strip_id in graph.nodes else None
                if listener is not None and listener.channels == port.channels:
                    fed.append((listener, row, port.strip_id))
                row += port.channels
            leaving = [(graph.nodes[port.strip_id], MASTER_CHANNELS * (1 + index))
                       for index, port in enumerate(crossing.ports.outs) if port.strip_id in graph.nodes]
            self._fed, self._leaving = tuple(fed), tuple(leaving)
        for listener, row, strip_id in self._fed:
            came_in = crossing.came_in[row:row + listener.channels]
            if strip_id in self._loops:
                came_in.fill(0.0)
            listener.feed(came_in)

    def _run_in_or_rise(self) -> None:
        """After a gap: files run in unheard until they reach the output; live inputs and servers wait for nothing."""
        assert self.graph is not None
        if self._live or self._synced:
            self._fade.move(1.0)
        else:
            self._silence_left = self.graph.latency + self._block

    def _run_in(self, started: float) -> None:
        """Run the graph unheard until what it was given reaches its output, faster than real time where it can.

        Stages that look ahead (print-through: a turn of the reel) would otherwise keep one waiting.
        """
        assert self.graph is not None
        assert self._session is not None
        frames = self._block
        until = started + _RUN_IN_SHARE * frames / self._rate
        while self._silence_left > 0:
            count = min(frames, self._silence_left)
            self._made(self.graph, self.transport.advance(count, self._session.loop), count)
            self._silence_left -= count
            if time.perf_counter() > until:
                break
        if self._silence_left <= 0:
            if self._stopping or self._waiting is not None or self._relocate is not None:
                # Another change came while all was silent anyway.
                self._after_fade()
            elif self._from_start:
                # Nothing is cut off that a fade would have to hide.
                self._fade.jump(1.0)
            else:
                self._fade.move(1.0)
            self._from_start = False

    def _after_fade(self) -> None:
        """The output has faded out: do what it faded out for."""
        stops = self._stopping
        if self._waiting is not None:
            self._swap(*self._waiting)
            self._waiting = None
        self._move_transport()
        if stops and not self._live:
            self._fade.jump(1.0)
        else:
            self._run_in_or_rise()

    def _move_transport(self) -> None:
        """Stop, jump or start, as was asked for while sound was to be faded out first."""
        if self._stopping:
            self._stopping = False
            self.transport.playing = False
        place = self._card.place() if self._synced and self._card is not None else None
        if place is not None and place[0] and self.graph is not None:
            # It has gone on while the sound faded; reading goes on with the next block.
            now = place[1] + self._block + self.graph.latency
            self._starting = None if self._starting is None else now
            self._relocate = None if self._relocate is None else now
            if not self._live:
                self.graph.reset()
        if self._relocate is not None:
            self.transport.go(self._relocate)
            self._relocate = None
        if self._starting is not None:
            self.transport.go(self._starting)
            self.transport.playing = True
            self._starting = None
            if self._meters is not None:
                self._meters.begin()

    def _end_with_the_tail(self, graph: Graph, out: Samples) -> None:
        """Stop, and go back to the start, where all has died away behind the last sound."""
        assert self._session is not None
        loop = self._session.loop
        past = self.transport.position - graph.latency - graph.frames
        if (loop.on and loop.end > loop.start) or past <= 0 or graph.frames == 0 or self._stopping:
            self._silent_frames = 0
            return
        quiet = float(np.abs(out).max()) < _SILENT
        self._silent_frames = self._silent_frames + out.shape[1] if quiet else 0
        if self._silent_frames >= _SILENT_SECONDS * self._rate or past >= _LONGEST_TAIL_SECONDS * self._rate:
            self._silent_frames = 0
            self._stopping, self._relocate = True, 0
            self._fade.move(0.0)

    # -- meters -------------------------------------------------------------------------

    def _let_meters_fall(self) -> None:
        for name in ("vu", "peak", "programme", "point_vu", "point_peak", "input_peak"):
            self._board.strips[name] *= 0.9

    def _publish(self) -> None:
        head = self._board.head[0]
        session, graph = self._session, self.graph
        latency = graph.latency if graph is not None else 0
        if session is not None:
            playing = self.transport.playing
            behind = latency + self._delay
            head["position"] = (self.transport.heard(behind, session.loop) if playing
                                else self.transport.position)
        head["playing"] = self.transport.playing
        head["load"] = self._load
        assert self._card is not None
        head["missed"] = self._card.missed
        head["ceiling_gain"] = graph.ceiling_gain if graph is not None and self.transport.playing else 1.0
        head["latency"], head["delay"] = latency, self._delay
        head["live_latency"] = (-1 if graph is None or graph.live_latency is None or not self._suits
                                else graph.live_latency)
        head["blocks"] += 1


def main(pipe: Connection, board: Board, device: DeviceSettings) -> None:
    """Entry point of the engine's process."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    be_a_child(signal.SIGKILL)
    be_on_time()
    sys.setswitchinterval(0.00005)
    engine = Engine(pipe, board, device)
    gc.collect()
    gc.freeze()
    gc.disable()
    try:
        engine.run()
    finally:
        board.close()
