"""MIDI clock, and what goes to and comes from controllers and the transport of a real JACK server."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import Any

import pytest
from pytestqt.qtbot import QtBot

from conftest import wait_until
from jack_server import HAVE_JACK, Server
from yellow_ember.app.state.midi_devices import MidiDevices, midi_library
from yellow_ember.app.state.settings import Settings
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import JACK, SILENT_CARD
from yellow_ember.engine.live.jack_card import jack_library
from yellow_ember.engine.live.jack_parking import Parking
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.engine.live.midi_clock import CONTINUE, START, STOP, TICK, MidiClock
from yellow_ember.session.edits.edits import add_stage
from yellow_ember.session.values.model import Loop, Session, new_stage

with_jack = pytest.mark.skipif(not HAVE_JACK, reason="jackd, or JACK's library, is not here")
RATE = 48000


def played(clock: MidiClock, first: int, frames: int, block: int, beat: float, bar_1: float = 0.0
           ) -> list[tuple[int, bytes]]:
    """What is sent while a stretch is played, with the frames from its beginning on."""
    result = []
    for at in range(0, frames, block):
        count = min(block, frames - at)
        result += [(at + frame, message) for frame, message in clock.events([(first + at, count)], count, beat, bar_1)]
    return result


@pytest.mark.parametrize("block", [32, 128, 1000, 4096])
@pytest.mark.parametrize("tempo", [60.0, 96.5, 240.0])
def test_the_clock_ticks_24_times_a_beat(block: int, tempo: float) -> None:
    beat = 60.0 / tempo * RATE
    sent = played(MidiClock(), 0, 10 * RATE, block, beat)
    assert sent[0] == (0, START)
    ticks = [frame for frame, message in sent if message == TICK]
    assert abs(len(ticks) - 10.0 * tempo / 60.0 * 24.0) <= 1.0
    assert max(abs(frame - number * beat / 24.0) for number, frame in enumerate(ticks)) <= 1.0
    assert len(sent) == len(ticks) + 1


def test_the_clock_says_where_it_begins_and_ends() -> None:
    clock, beat = MidiClock(), RATE / 2.0
    first = round(9.2 * beat)
    sent = played(clock, first, round(beat), 128, beat)
    # On from the next sixteenth, the 37th: its own tick is the first.
    assert [message for _, message in sent[:2]] == [bytes((0xF2, 37, 0)), CONTINUE]
    assert sent[2] == (round(9.25 * beat) - first, TICK)
    events = clock.events([(round(100 * beat), 100)], 128, beat, 0.0)
    # What is heard only from the 28th frame on begins there.
    assert events[:3] == [(28, STOP), (28, bytes((0xF2, 400 & 0x7F, 400 >> 7))), (28, CONTINUE)]
    assert clock.events([], 128, beat, 0.0) == [(0, STOP)]
    assert clock.events([], 128, beat, 0.0) == []


def test_the_clock_goes_round_with_the_loop_and_begins_at_bar_1() -> None:
    clock, beat = MidiClock(), RATE / 2.0
    sent = clock.events([(47000, 1000), (24000, 1000)], 2000, beat, 24000.0)
    assert (1000, START) in sent
    assert (1000, TICK) in sent
    before = MidiClock().events([(0, 24128)], 24128, beat, 24000.0)
    assert before[0] == (0, START)
    assert [frame for frame, message in before if message == TICK][-1] == 24000


class Controller:
    """Another program that sends and hears MIDI, and moves the server's transport."""

    def __init__(self) -> None:
        jack = jack_library()
        assert jack is not None
        self.jack = jack
        self.client = jack.Client("Box", no_start_server=True)
        self.out = self.client.midi_outports.register("keys")
        self.ins = [self.client.midi_inports.register(name) for name in ("lamps", "clock")]
        self.to_send: list[bytes] = []
        self.heard: list[tuple[str, bytes]] = []
        self._parking = Parking()
        self.client.set_process_callback(self._process)
        self.client.set_shutdown_callback(self._parking.server_gone)
        self.client.activate()

    def _process(self, _frames: int) -> None:
        self._parking.pass_by()
        self.out.clear_buffer()
        while self.to_send:
            self.out.write_midi_event(0, self.to_send.pop(0))
        for port in self.ins:
            self.heard += [(port.shortname, bytes(message)) for _, message in port.incoming_midi_events()]

    def wire(self) -> None:
        wait_until(lambda: len(self.client.get_ports("Yellow Ember:", is_midi=True)) == 3)
        self.client.connect(self.out, "Yellow Ember:control in")
        self.client.connect("Yellow Ember:control out", self.ins[0])
        self.client.connect("Yellow Ember:clock out", self.ins[1])

    def place(self) -> tuple[bool, dict[str, Any]]:
        state, position = self.client.transport_query()
        return state == self.jack.ROLLING, position

    def close(self) -> None:
        self._parking.close(self.client)


@pytest.fixture
def box(server: Server) -> Iterator[Controller]:
    result = Controller()
    yield result
    result.close()


@pytest.fixture
def start(box: Controller, demo: Session) -> Iterator[Callable[..., EngineClient]]:
    started: list[EngineClient] = []

    def make(*, synced: bool = False, loop: Loop | None = None, kind: str = "drive") -> EngineClient:
        client = EngineClient(DeviceSettings(JACK, 128, synced=synced))
        started.append(client)
        session = add_stage(demo, "upright-bass", new_stage(kind))
        client.set_session(session.with_(loop=loop or Loop(0, 0, False), tempo=120.0))
        wait_until(lambda: client.poll().latency > 0 and client.device == JACK)
        box.wire()
        return client

    yield make
    for client in started:
        client.close()


@with_jack
def test_messages_come_from_and_go_to_controllers(start: Callable[..., EngineClient], box: Controller) -> None:
    client = start()
    messages = [bytes((0xB0, 74, value)) for value in (1, 64, 127)]
    box.to_send += messages
    came: list[bytes] = []

    def all_came() -> bool:
        client.poll()
        came.extend(client.take_moved())
        return len(came) == 3

    wait_until(all_came)
    assert came == messages
    client.send_midi(tuple(messages))
    wait_until(lambda: [message for port, message in box.heard if port == "lamps"] == messages)


@with_jack
def test_the_clock_goes_out_while_it_plays(start: Callable[..., EngineClient], box: Controller) -> None:
    client = start()
    client.play(0)
    wait_until(lambda: sum(message == TICK for _, message in box.heard) > 60)
    client.stop()
    wait_until(lambda: ("clock", STOP) in box.heard)
    assert box.heard[0] == ("clock", START), box.heard[:4]
    assert all(port == "clock" for port, _ in box.heard)


@with_jack
@pytest.mark.parametrize("loop", [Loop(0, 0, False), Loop(2 * RATE, 3 * RATE, True)])
def test_playing_goes_with_the_servers_transport(loop: Loop, start: Callable[..., EngineClient], box: Controller
                                                 ) -> None:
    client = start(synced=True, loop=loop)
    # It is led from outside ...
    box.client.transport_frame = 2 * RATE
    wait_until(lambda: client.poll().position == 2 * RATE)
    box.client.transport_start()
    wait_until(lambda: client.poll().playing)
    time.sleep(0.4)
    assert abs(client.poll().position - box.client.transport_frame) < RATE // 10
    if loop.on:
        time.sleep(2.0)
        assert 2 * RATE - 4800 <= box.client.transport_frame <= 3 * RATE + 4800
    box.client.transport_stop()
    wait_until(lambda: not client.poll().playing)
    # ... and leads from here.
    client.locate(RATE)
    wait_until(lambda: box.client.transport_frame == RATE)
    client.play()
    wait_until(lambda: box.place()[0] and client.poll().playing)
    client.stop()
    wait_until(lambda: not box.place()[0] and not client.poll().playing)


@with_jack
def test_a_jump_of_the_transport_is_followed_once(start: Callable[..., EngineClient], box: Controller) -> None:
    client = start(synced=True, kind="tape")
    box.client.transport_start()
    wait_until(lambda: client.poll().playing)

    def apart() -> int:
        time.sleep(0.02)
        return int(box.client.transport_frame) - client.poll().position

    for frame in (5 * RATE, RATE):
        box.client.transport_frame = frame
        # What is heard lies behind the transport, by the card's delay; just behind a jump nothing is heard yet, and
        # what is read lies ahead of it by all of the tape's latency.
        assert client.poll().latency > 1000
        wait_until(lambda: all(apart() > -300 for _ in range(20)))
    box.client.transport_stop()


@with_jack
def test_others_are_told_of_bars(start: Callable[..., EngineClient], box: Controller) -> None:
    start(synced=True)
    box.client.transport_frame = RATE * 3
    wait_until(lambda: box.place()[1].get("bar") is not None and box.place()[1]["frame"] == 3 * RATE)
    place = box.place()[1]
    # Six beats at 120 a minute: the third beat of the second bar.
    assert (place["bar"], place["beat"], place["beats_per_minute"]) == (2, 3, 120.0)


@pytest.fixture
def devices(box: Controller, qtbot: QtBot) -> Iterator[MidiDevices]:
    """What the system knows of controllers; JACK carries it here, as the machines of tests have no ALSA."""
    library = midi_library()
    if library is None:
        pytest.skip("rtmidi is not here")
    result = MidiDevices(Settings(device=SILENT_CARD), library.API_UNIX_JACK)
    yield result
    result.close()


@with_jack
def test_controllers_that_the_system_knows_are_heard_and_told(devices: MidiDevices, box: Controller, qtbot: QtBot
                                                              ) -> None:
    came: list[bytes] = []
    devices.moved.connect(came.append)
    # What was connected just now carries from one of the next periods on.
    time.sleep(0.3)
    messages = [bytes((0xB0, 74, value)) for value in (1, 64, 127)]
    box.to_send += messages
    qtbot.waitUntil(lambda: came == messages, timeout=5000)
    devices.send(messages)
    # Both of its ways in are told; nothing comes back.
    wait_until(lambda: all([message for port, message in box.heard if port == name] == messages
                           for name in ("lamps", "clock")))
    assert came == messages


@with_jack
def test_a_controller_that_comes_later_is_heard_and_one_that_goes_is_let_go(devices: MidiDevices, qtbot: QtBot) -> None:
    jack = jack_library()
    assert jack is not None
    client = jack.Client("Pads", no_start_server=True)
    port = client.midi_outports.register("pads")
    client.activate()
    devices.look()
    assert port.number_of_connections == 1
    assert sum("Pads" in name for name in devices.names) == 1
    client.deactivate()
    client.close()
    devices.look()
    assert not any("Pads" in name for name in devices.names)


def test_nothing_is_opened_where_a_jack_server_carries_controllers(qtbot: QtBot) -> None:
    library = midi_library()
    if library is None:
        pytest.skip("rtmidi is not here")
    devices = MidiDevices(Settings(device=JACK), library.API_UNIX_JACK)
    assert devices.names == []
    devices.close()
