"""A JACK server (PipeWire is one too): its real-time thread calls, and every way in or out is a port of its own."""

from __future__ import annotations

import contextlib
import threading
from types import ModuleType
from typing import Any

from yellow_ember.engine.live.cards import Attend, DeviceError, Turn
from yellow_ember.engine.live.ports import Crossing, Port, Ports

CLIENT = "Yellow Ember"
_ATTENDED_SECONDS = 0.002
"""How often all else is seen to, beside the server's thread."""


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


def jack_runs() -> bool:
    """True where a server can be reached."""
    jack = jack_library()
    if jack is None:
        return False
    with contextlib.suppress(jack.JackError):
        jack.Client(f"{CLIENT} looks", no_start_server=True).close()
        return True
    return False


class _Ways:
    """The server's ports for one set of ours, and the block that goes through them."""

    def __init__(self, ports: Ports, block: int, ins: list[Any], outs: list[Any]) -> None:
        self.crossing = Crossing(ports, block)
        self.ins, self.outs = ins, outs


class JackCard:
    """A client of the server.  DeviceError where none runs, or where it runs at another rate."""

    def __init__(self, rate: int, ports: Ports) -> None:
        jack = jack_library()
        if jack is None:
            raise DeviceError("JACK needs its library, which is not installed")
        self._jack = jack
        try:
            self._client = jack.Client(CLIENT, no_start_server=True)
        except jack.JackError:
            raise DeviceError("no JACK server is running") from None
        if self._client.samplerate != rate:
            served = self._client.samplerate
            self._client.close()
            raise DeviceError(f"the JACK server runs at {served} Hz, the session at {rate} Hz")
        self.block: int = self._client.blocksize
        self.missed = 0
        self.loops: frozenset[str] = frozenset()
        self._gone = ""
        self._rewired = threading.Event()
        self._turn: Turn | None = None
        self._fault: BaseException | None = None
        self._by_name: dict[tuple[bool, str], Any] = {}
        outs = [self._client.outports.register(f"out {index}") for index in (1, 2)]
        self._ways = _Ways(Ports(), self.block, [], outs)
        self._client.set_process_callback(self._process)
        self._client.set_xrun_callback(self._on_dropout)
        self._client.set_blocksize_callback(self._on_block_size)
        self._client.set_shutdown_callback(self._on_shutdown)
        self._client.set_port_connect_callback(self._on_connect)
        try:
            self._client.activate()
        except jack.JackError as error:
            raise DeviceError(f"the JACK server refuses: {error}") from None
        self.use(ports)
        self._connect_to_card(outs, playing=True)

    # -- ports --------------------------------------------------------------------------

    def use(self, ports: Ports) -> bool:
        """Register what is new, let go of what is gone; ports that stay keep their connections."""
        wanted = {(True, name): (port, index) for port in ports.ins for index, name in enumerate(_names(port))}
        wanted |= {(False, name): (port, index) for port in ports.outs for index, name in enumerate(_names(port))}
        kept = {key: self._by_name[key] for key in wanted if key in self._by_name}
        fresh = {key: self._register(*key) for key in wanted if key not in kept}
        before, self._by_name = self._by_name, kept | fresh
        ins, outs = ([self._by_name[key] for key in wanted if key[0] is into] for into in (True, False))
        self._ways = _Ways(ports, self.block, ins, [*self._ways.outs[:2], *outs])
        for key, port in before.items():
            if key not in wanted:
                with contextlib.suppress(self._jack.JackError):
                    port.unregister()
        for key in fresh:
            port, index = wanted[key]
            if port.card:
                self._connect_to_card([fresh[key]], playing=False, first=port.card[index] - 1)
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

    def _find_loops(self) -> None:
        """Which strips are connected to what they feed."""
        loops = set[str]()
        names = {own: port.strip_id for port in self._ways.crossing.ports.ins for own in _names(port)}
        ours = {port.name for port in self._ways.outs}
        with contextlib.suppress(self._jack.JackError):
            for port in self._ways.ins:
                sources = {other.name for other in self._client.get_all_connections(port)}
                if sources & ours:
                    loops.add(names[port.shortname])
        self.loops = frozenset(loops)

    # -- the server's threads -----------------------------------------------------------

    def _process(self, frames: int) -> None:
        ways, turn = self._ways, self._turn
        try:
            if turn is None or frames != self.block:
                for port in ways.outs:
                    port.get_array().fill(0.0)
                return
            crossing = ways.crossing
            for row, port in enumerate(ways.ins):
                crossing.came_in[row] = port.get_array()
            turn(crossing)
            for row, port in enumerate(ways.outs):
                port.get_array()[:] = crossing.goes_out[row]
        except Exception as fault:  # the server's thread must not end; `run` raises it
            self._fault, self._turn = fault, None

    def _on_dropout(self, _delayed: float) -> None:
        self.missed += 1

    def _on_block_size(self, frames: int) -> None:
        if frames != self.block:
            self._gone = f"the JACK server changed its period to {frames} frames"

    def _on_shutdown(self, _status: Any, reason: str) -> None:
        self._gone = f"the JACK server went away ({reason})"

    def _on_connect(self, *_which: Any) -> None:
        self._rewired.set()

    # -- life ---------------------------------------------------------------------------

    @property
    def delay(self) -> int:
        """What the server says of its first output."""
        with contextlib.suppress(self._jack.JackError):
            return int(self._ways.outs[0].get_latency_range(self._jack.PLAYBACK)[1])
        return self.block

    def run(self, turn: Turn, attend: Attend) -> None:
        self._turn = turn
        waiting = threading.Event()
        while attend():
            if self._fault is not None:
                raise self._fault
            if self._gone:
                raise DeviceError(self._gone)
            if self._rewired.is_set():
                self._rewired.clear()
                self._find_loops()
            waiting.wait(_ATTENDED_SECONDS)
        self._turn = None

    def close(self) -> None:
        self._turn = None
        with contextlib.suppress(self._jack.JackError):
            self._client.deactivate(ignore_errors=True)
            self._client.close(ignore_errors=True)


def _names(port: Port) -> tuple[str, ...]:
    """What its channels are called among the server's ports."""
    clean = port.name.replace(":", " ")
    return (clean,) if port.channels == 1 else tuple(f"{clean} {side}" for side in ("left", "right"))


