"""A JACK server (PipeWire is one too): its real-time thread calls, and every way in or out is a port of its own."""

from __future__ import annotations

import contextlib
import ctypes
import ctypes.util
import math
import threading
from collections import deque
from collections.abc import Callable
from types import ModuleType
from typing import Any

from cffi import FFI

from yellow_ember.engine.live.cards import Attend, Beat, DeviceError, Turn
from yellow_ember.engine.live.feedback import Wire
from yellow_ember.engine.live.jack_parking import Parking
from yellow_ember.engine.live.ports import MASTER_CHANNELS, Crossing, Port, Ports
from yellow_ember.engine.urgency import be_on_time
from yellow_ember.session.values.model import MASTER

CLIENT = "Yellow Ember"
_CAPTURE, _PLAYBACK = 0, 1
"""`JackCaptureLatency`, `JackPlaybackLatency`."""
_BARS = 0x10
"""`JackPositionBBT`: a position that says where in the bars it is."""
_MOST_MESSAGES = 4096
_TICKS_A_BEAT, _BEAT_TYPE = 1920.0, 4.0
_LISTED_TIMES = 100
"""So often ports are listed again where one of them has just gone away."""
_ATTENDED_SECONDS = 0.02
"""How often all else is seen to, beside the server's thread, which the interpreter may keep waiting meanwhile."""


def jack_library() -> ModuleType | None:
    """The jack package, silenced, or None where JACK's library is not installed."""
    try:
        import jack
    except OSError:
        return None
    jack.set_error_function(_say_nothing)
    jack.set_info_function(_say_nothing)
    result: ModuleType = jack
    return result


def _say_nothing(_text: str) -> None:
    """The library writes to standard error else."""


def jack_rate() -> int | None:
    """The rate at which a server runs, None where none can be reached."""
    jack = jack_library()
    if jack is None:
        return None
    with contextlib.suppress(jack.JackError), contextlib.closing(
            jack.Client(f"{CLIENT} looks", no_start_server=True)) as client:
        return int(client.samplerate)
    return None


def jack_runs() -> bool:
    """True where a server can be reached."""
    return jack_rate() is not None


def listed_ports(client: Any, pattern: str) -> list[Any]:
    """All ports whose names hold a regular expression, oldest first.

    The package lists names first and then asks for each one, which fails where a port goes away between.
    """
    jack = jack_library()
    assert jack is not None, "a client needs the library"
    for _ in range(_LISTED_TIMES - 1):
        with contextlib.suppress(jack.JackError):
            return list(client.get_ports(pattern))
    return list(client.get_ports(pattern))


class _Range(ctypes.Structure):
    """`jack_latency_range_t` of JACK's types.h."""

    _fields_ = (("min", ctypes.c_uint32), ("max", ctypes.c_uint32))


def _port_latency() -> Callable[[Any, int], int]:
    """What tells how far a port is from the card, in frames; the package does not reach that function."""
    library, foreign = ctypes.CDLL(ctypes.util.find_library("jack")), FFI()
    ask = library.jack_port_get_latency_range
    ask.argtypes, ask.restype = (ctypes.c_void_p, ctypes.c_int, ctypes.POINTER(_Range)), None

    def tell(port: Any, mode: int) -> int:
        latency = _Range()
        ask(int(foreign.cast("uintptr_t", port._ptr)), mode, ctypes.byref(latency))
        return int(latency.max)

    return tell


class _Ways:
    """The server's ports for one set of ours, and the block that goes through them."""

    def __init__(self, ports: Ports, block: int, ins: list[Any], outs: list[Any]) -> None:
        self.crossing = Crossing(ports, block)
        self.ins, self.outs = ins, outs


class JackCard:
    """A client of the server.  DeviceError where none runs, or where it runs at another rate.

    rate : None for any
    """

    def __init__(self, rate: int | None, ports: Ports) -> None:
        jack = jack_library()
        if jack is None:
            raise DeviceError("JACK needs its library, which is not installed")
        self._jack = jack
        try:
            self._client = jack.Client(CLIENT, no_start_server=True)
        except jack.JackError:
            raise DeviceError("no JACK server is running") from None
        if rate is not None and self._client.samplerate != rate:
            served = self._client.samplerate
            self._client.close()
            raise DeviceError(f"the JACK server runs at {served} Hz, the session at {rate} Hz")
        self.rate: int = self._client.samplerate
        self.block: int = self._client.blocksize
        self.missed = 0
        self.wires: frozenset[Wire] = frozenset()
        self._latency_of = _port_latency()
        self._gone = ""
        self._parking = Parking()
        self._on_time = False
        self._rewired = threading.Event()
        self._turn: Turn | None = None
        self._fault: BaseException | None = None
        self._own: dict[tuple[bool, str, int], Any] = {}
        """By direction, strip and channel."""
        self._control_in = self._client.midi_inports.register("control in")
        self._control_out = self._client.midi_outports.register("control out")
        self._clock_out = self._client.midi_outports.register("clock out")
        self.moved: deque[bytes] = deque(maxlen=_MOST_MESSAGES)
        self.beat = Beat()
        self._to_send: deque[bytes] = deque(maxlen=_MOST_MESSAGES)
        outs = [self._client.outports.register(f"out {index}") for index in range(1, MASTER_CHANNELS + 1)]
        self._ways = _Ways(Ports(), self.block, [], outs)
        self._client.set_process_callback(self._process)
        self._client.set_xrun_callback(self._on_dropout)
        self._client.set_blocksize_callback(self._on_block_size)
        self._client.set_shutdown_callback(self._on_shutdown)
        self._client.set_port_connect_callback(self._on_connect)
        # Whoever tells of bars already goes on doing so.
        with contextlib.suppress(jack.JackError):
            self._client.set_timebase_callback(self._tell_bars, conditional=True)
        try:
            self._client.activate()
        except jack.JackError as error:
            raise DeviceError(f"the JACK server refuses: {error}") from None
        self.use(ports)
        self._connect_to_card(outs, playing=True)

    # -- ports --------------------------------------------------------------------------

    def use(self, ports: Ports) -> bool:
        """Register what is new, let go of what is gone; what stays keeps its connections, under another name too."""
        if ports == self._ways.crossing.ports:
            return True
        wanted = {(into, port.strip_id, index): (port, index) for into, ways in ((True, ports.ins), (False, ports.outs))
                  for port in ways for index in range(port.channels)}
        before, self._own = self._own, {}
        for key, (port, index) in wanted.items():
            name = _name_of(port, index, into=key[0])
            own = self._own[key] = before.get(key) or self._register(key[0], name)
            if own.shortname != name:
                own.shortname = name
            if key not in before and port.card:
                self._connect_to_card([own], playing=False, first=port.card[index] - 1)
        ins, outs = ([self._own[key] for key in wanted if key[0] is into] for into in (True, False))
        self._ways = _Ways(ports, self.block, ins, [*self._ways.outs[:MASTER_CHANNELS], *outs])
        for key, own in before.items():
            if key not in wanted:
                with contextlib.suppress(self._jack.JackError):
                    own.unregister()
        self._rewired.set()
        return True

    def _register(self, into: bool, name: str) -> Any:
        try:
            return (self._client.inports if into else self._client.outports).register(name)
        except self._jack.JackError as error:
            raise DeviceError(f"the JACK server gives no port {name}: {error}") from None

    def _connect_to_card(self, ports: list[Any], *, playing: bool, first: int = 0) -> None:
        """Connect to the card's own ports, from one on, as far as there are any."""
        with contextlib.suppress(self._jack.JackError):
            card = self._client.get_ports(is_audio=True, is_physical=True, is_input=playing, is_output=not playing)
            for port, other in zip(ports, card[first:], strict=False):
                self._client.connect(*((port, other) if playing else (other, port)))

    def _find_wires(self) -> None:
        """What of ours is connected to ours."""
        outs = {port.name: MASTER for port in self._ways.outs[:MASTER_CHANNELS]}
        outs |= {port.name: strip_id for (into, strip_id, _), port in self._own.items() if not into}
        wires = set[Wire]()
        with contextlib.suppress(self._jack.JackError):
            for (into, strip_id, _), port in self._own.items():
                if into:
                    wires |= {(outs[other.name], strip_id) for other in self._client.get_all_connections(port)
                              if other.name in outs}
        self.wires = frozenset(wires)

    # -- the server's threads -----------------------------------------------------------

    def _process(self, frames: int) -> None:
        self._parking.pass_by()
        if not self._on_time:  # the package hands no thread over before its first turn
            be_on_time()
            self._on_time = True
        ways, turn = self._ways, self._turn
        try:
            if turn is None or frames != self.block:
                for port in ways.outs:
                    port.get_array().fill(0.0)
                return
            crossing = ways.crossing
            for _, message in self._control_in.incoming_midi_events():
                self.moved.append(bytes(message))
            for row, port in enumerate(ways.ins):
                crossing.came_in[row] = port.get_array()
            turn(crossing)
            for row, port in enumerate(ways.outs):
                port.get_array()[:] = crossing.goes_out[row]
            self._send_messages(crossing)
        except Exception as fault:  # the server's thread must not end; `run` raises it
            self._fault, self._turn = fault, None

    def _send_messages(self, crossing: Crossing) -> None:
        self._control_out.clear_buffer()
        self._clock_out.clear_buffer()
        with contextlib.suppress(self._jack.JackError):
            # What finds no room waits for the next block, the clock's does not.
            while self._to_send:
                self._control_out.write_midi_event(0, self._to_send[0])
                self._to_send.popleft()
            for frame, message in crossing.clock:
                self._clock_out.write_midi_event(frame, message)

    def _tell_bars(self, _state: int, _frames: int, position: Any, _is_new: bool) -> None:
        """Where in the bars a frame is, for whoever follows the server's transport."""
        beat = self.beat
        beats = (position.frame - beat.first_frame) * beat.tempo / 60.0 / self.rate
        whole = math.floor(beats)
        position.valid = _BARS
        position.bar, position.beat = whole // beat.beats_per_bar + 1, whole % beat.beats_per_bar + 1
        position.tick = int((beats - whole) * _TICKS_A_BEAT)
        position.bar_start_tick = (position.bar - 1) * beat.beats_per_bar * _TICKS_A_BEAT
        position.beats_per_bar, position.beat_type = beat.beats_per_bar, _BEAT_TYPE
        position.ticks_per_beat, position.beats_per_minute = _TICKS_A_BEAT, beat.tempo

    def _on_dropout(self, _delayed: float) -> None:
        self.missed += 1

    def _on_block_size(self, frames: int) -> None:
        if frames != self.block:
            self._gone = f"the JACK server changed its period to {frames} frames"

    def _on_shutdown(self, _status: Any, reason: str) -> None:
        self._parking.server_gone()
        self._gone = f"the JACK server went away ({reason})"

    def _on_connect(self, *_which: Any) -> None:
        self._rewired.set()

    # -- life ---------------------------------------------------------------------------

    @property
    def delay(self) -> int:
        """What the server says of the way from the first output to the ear; the card's period where it says nothing."""
        return self._latency_of(self._ways.outs[0], _PLAYBACK) or self.block

    @property
    def round_trip(self) -> int:
        return self.delay + max((self._latency_of(port, _CAPTURE) for port in self._ways.ins), default=0)

    def run(self, turn: Turn, attend: Attend) -> None:
        self._turn = turn
        while attend(_ATTENDED_SECONDS):
            if self._fault is not None:
                raise self._fault
            if self._gone:
                raise DeviceError(self._gone)
            if self._rewired.is_set():
                self._rewired.clear()
                self._find_wires()
        self._turn = None

    def send(self, message: bytes) -> None:
        self._to_send.append(message)

    def place(self) -> tuple[bool, int] | None:
        state, position = self._client.transport_query_struct()
        return state == self._jack.ROLLING, int(position.frame)

    def go(self, frame: int | None, *, rolls: bool) -> None:
        if frame is not None:
            self._client.transport_frame = max(0, frame)
        if rolls:
            self._client.transport_start()
        else:
            self._client.transport_stop()

    def pause(self) -> None:
        """The server calls on."""

    def close(self) -> None:
        self._turn = None
        self._parking.close(self._client)


def _name_of(port: Port, index: int, *, into: bool) -> str:
    """What a channel is called among the server's ports."""
    side = "" if port.channels == 1 else f" {('left', 'right')[index]}"
    return f"{port.name.replace(':', ' ')} {'in' if into else 'out'}{side}"
