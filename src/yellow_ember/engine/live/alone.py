"""A chain that is played through live without a window."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from yellow_ember.dsp.arrays import db
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.forking import start_server
from yellow_ember.engine.live.cards import DeviceError
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import JACK
from yellow_ember.engine.live.jack_card import CLIENT, jack_library, listed_ports
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.plain_text import with_minus
from yellow_ember.session.values.live_input import InputKind, LiveInput
from yellow_ember.session.values.model import Quality, Session, Strip, StripKind, master_strip

_STRIP = "live"
_NAME = "Live"
_START_SECONDS = 120.0
"""So long the engine may take; kernels may have to be compiled."""
_POLL_SECONDS = 0.05
_PORTS_SECONDS = 10.0
"""So long one waits for our own ports."""


@dataclass(frozen=True, slots=True)
class Levels:
    """What `play_chain` tells of: peaks in dBFS, milliseconds from the input to the ear, and dropouts so far."""

    came_in_dbfs: float
    goes_out_dbfs: float
    late_ms: float
    dropouts: int

    def __str__(self) -> str:
        return with_minus(f"in {self.came_in_dbfs:6.1f} dBFS   out {self.goes_out_dbfs:6.1f} dBFS   "
                          f"{self.late_ms:.1f} ms   dropouts {self.dropouts}")


def play_chain(stages: Sequence[StageSettings], device: DeviceSettings, rate: int, oversample: int, *,
               ins: Sequence[str], outs: Sequence[str], say: Callable[[str], None],
               tell: Callable[[Levels], None], seconds: float) -> None:
    """Play through a chain until interrupted, with JACK's ports by name where there are any, else the card's own.

    Parameters
    ----------
    ins, outs : Sequence[str]
        One or two ports of other programs to connect to.
    say, tell : callable
        Told of troubles, and every so many seconds of the levels.

    Raises
    ------
    DeviceError
        Where a port is not there, or the engine does not come up.
    """
    live = LiveInput(kind=InputKind.PORTS if ins else InputKind.CARD, channels=tuple(range(1, 1 + (len(ins) or 2))))
    track = Strip(id=_STRIP, name=_NAME, kind=StripKind.TRACK, live=live, chain=tuple(stages))
    session = Session(name=_NAME, rate=rate, strips=(track, master_strip()),
                      quality=Quality(live=oversample, printing=oversample))
    start_server()
    client = EngineClient(device, say)
    try:
        client.set_session(session)
        end = time.monotonic() + _START_SECONDS
        while client.poll().live_latency is None:
            if time.monotonic() > end:
                raise DeviceError("the engine does not come up")
            time.sleep(_POLL_SECONDS)
        if ins or outs:
            _wire(ins, outs)
        told = 0.0
        while True:
            state = client.poll()
            now = time.monotonic()
            reading = client.reading(_STRIP)
            if now - told >= seconds and reading is not None and state.live_latency is not None:
                told = now
                late_ms = state.heard_after_ms(state.live_latency, rate)
                tell(Levels(float(db(reading.input_peak)), float(db(reading.peak.max())), late_ms, state.missed))
            time.sleep(_POLL_SECONDS)
    finally:
        client.close()


def _wire(ins: Sequence[str], outs: Sequence[str]) -> None:
    """Connect the ports of other programs with ours, as soon as those are there."""
    jack = jack_library()
    assert jack is not None, f"{JACK} is played through"
    with contextlib.closing(jack.Client(f"{CLIENT} wires", no_start_server=True)) as client:
        end = time.monotonic() + _PORTS_SECONDS
        while len(own_ins := _newest(client, f"{_NAME} in", len(ins))) < len(ins) and time.monotonic() < end:
            time.sleep(_POLL_SECONDS)
        own_outs = _newest(client, "out [12]", 2)[:len(outs)]
        for own in own_outs:
            for other in client.get_all_connections(own):
                client.disconnect(own, other)
        pairs = [*zip(ins, [port.name for port in own_ins], strict=False),
                 *zip([port.name for port in own_outs], outs, strict=False)]
        for source, target in pairs:
            try:
                client.connect(source, target)
            except jack.JackError:
                raise DeviceError(f"{source} can't be connected to {target}") from None


def _newest(client: Any, name: str, count: int) -> list[Any]:
    """The ports that we registered last under such names; another program of ours may have some as well."""
    ports = listed_ports(client, f"^{CLIENT}(-[0-9]+)?:{name}")
    return ports[-count:] if count else []
