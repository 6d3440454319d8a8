"""The engine as a client of a real JACK server: ports, delay to the sample, dropouts, and a server that goes away."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import answer, wait_until
from jack_server import HAVE_JACK, Neighbour, Server, neighbour
from yellow_ember.dsp.arrays import gain
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import JACK, SILENT_CARD
from yellow_ember.engine.live.jack_parking import Parking
from yellow_ember.engine.live.messages import ArmedStrip, DeviceSettings, Record, Recorded, RoundTrip
from yellow_ember.session.edits.edits import add_stage, edit_strip, set_parameter
from yellow_ember.session.edits.live_edits import insert_input_track, use_own_ports
from yellow_ember.session.values.live_input import InputKind, LiveInput
from yellow_ember.session.values.model import MASTER, Loop, Session, new_stage

pytestmark = pytest.mark.skipif(not HAVE_JACK, reason="jackd, or JACK's library, is not here")
PORTS = LiveInput(kind=InputKind.PORTS, channels=(1, 2))
Start = Callable[..., EngineClient]
_PULSES, _SPACING = 15, 4000
_LEFT_AT, _RIGHT_AT = 500, 900


@pytest.fixture
def start(server: Server) -> Iterator[Start]:
    started: list[EngineClient] = []

    def make(session: Session, say: Callable[[str], None] = lambda text: None, device: str = JACK) -> EngineClient:
        client = EngineClient(DeviceSettings(device, 256), say)
        started.append(client)
        client.set_session(session)
        wait_until(lambda: client.poll().blocks > 0 and client.device != "" and (
            client.poll().live_latency is not None or not any(strip.listens for strip in session.strips)))
        return client

    yield make
    for client in started:
        client.close()


@pytest.fixture
def insert(demo: Session) -> tuple[Session, str]:
    """A strip that takes what others send to its ports, and gives it back by others."""
    session, strip_id = insert_input_track(demo.with_(loop=Loop(0, 0, False)), MASTER, PORTS)
    session = edit_strip(session, strip_id, lambda strip: strip.with_(name="Guest"))
    return use_own_ports(session, strip_id, on=True), strip_id


def wire(other: Neighbour) -> None:
    """From the neighbour through the guest's strip and back."""
    wait_until(lambda: len(other.ports("Yellow Ember:Guest")) == 4)
    for side, out, into in zip(("left", "right"), other.outs, other.ins, strict=True):
        other.connect(out.name, f"Yellow Ember:Guest in {side}")
        other.connect(f"Yellow Ember:Guest out {side}", into.name)


def pulses() -> np.ndarray:
    """Many of them: on a machine that stands now and then, the server leaves out or repeats a period."""
    sound = np.zeros((2, _PULSES, _SPACING))
    sound[0, :, _LEFT_AT], sound[1, :, _RIGHT_AT] = 0.5, 0.25
    return sound.reshape(2, -1)


def most_heard(heard: np.ndarray, side: int = 0) -> tuple[float, int]:
    """How high the pulses of a side mostly are, and by how many frames they are mostly late."""
    each = np.abs(heard[side].reshape(_PULSES, _SPACING))
    at = each.argmax(axis=1)[each.max(axis=1) > 0.0]
    return float(np.median(each.max(axis=1))), int(np.bincount(at).argmax()) - (_LEFT_AT, _RIGHT_AT)[side]


_DEVICES = """
import os
from yellow_ember.engine.live.devices import device_names
print(*device_names(), sep="\\n", flush=True)
os._exit(0)
"""


def devices() -> list[str]:
    """What another process finds: PortAudio, having met a server that is gone, brings its process down at the end."""
    found = subprocess.run([sys.executable, "-c", _DEVICES], capture_output=True, text=True, check=True)
    return found.stdout.splitlines()


def test_it_is_among_the_devices_while_it_runs(server: Server) -> None:
    assert JACK in devices()
    server.end()
    assert devices()[0] == SILENT_CARD
    assert JACK not in devices()


def test_another_programs_track_goes_through_a_strip(insert: tuple[Session, str], start: Start) -> None:
    session, strip_id = insert
    stage = new_stage("trim")
    session = set_parameter(add_stage(session, strip_id, stage), strip_id, stage.id, "gain_db", 6.0)
    client = start(session)
    assert (client.device, client.block) == (JACK, 128)
    with neighbour() as other:
        wire(other)
        heard = other.play(pulses())
        assert most_heard(heard)[0] == pytest.approx(0.5 * gain(6.0), rel=1e-4)
        assert most_heard(heard, 1)[0] == pytest.approx(0.25 * gain(6.0), rel=1e-4)
        frames = np.count_nonzero(np.abs(heard.reshape(2, _PULSES, _SPACING)) > 1e-6, axis=2)
        assert np.median(frames, axis=1).tolist() == [1.0, 1.0]


@pytest.mark.parametrize("kinds", [(), ("limit",), ("drive", "limit")])
def test_it_is_as_late_as_is_said(kinds: tuple[str, ...], insert: tuple[Session, str], start: Start) -> None:
    """To the sample.  The way back to the neighbour closes a circle, in which the server waits for a period."""
    session, strip_id = insert
    for kind in kinds:
        session = add_stage(session, strip_id, new_stage(kind))
    client = start(session)
    with neighbour() as other:
        wire(other)
        late = most_heard(other.play(pulses()))[1]
        said = client.poll().live_latency
        assert said is not None
        assert late == said + 128


def test_the_card_s_channels_are_connected_by_themselves(demo: Session, start: Start) -> None:
    session, strip_id = insert_input_track(demo, MASTER, LiveInput(channels=(2,)))
    start(edit_strip(session, strip_id, lambda strip: strip.with_(name="Voice: dry")))
    with neighbour() as other:
        wait_until(lambda: other.ports("Yellow Ember:Voice  dry in"))
        own, = other.client.get_ports("Yellow Ember:Voice  dry in")
        assert [port.name for port in other.client.get_all_connections(own)] == ["system:capture_2"]
        outs = other.client.get_ports("Yellow Ember:out")
        assert [[to.name for to in other.client.get_all_connections(out)] for out in outs] == [
            ["system:playback_1"], ["system:playback_2"]]


def test_a_strip_that_is_renamed_keeps_its_connections(insert: tuple[Session, str], start: Start) -> None:
    session, strip_id = insert
    client = start(session)
    with neighbour() as other:
        wire(other)
        client.set_session(edit_strip(session, strip_id, lambda strip: strip.with_(name="Visitor", tint="#123456")))
        wait_until(lambda: client.poll() and len(other.ports("Yellow Ember:Visitor")) == 4)
        assert not other.ports("Guest")
        assert most_heard(other.play(pulses()))[0] == pytest.approx(0.5, rel=1e-4)


def test_strips_that_come_and_go_take_their_ports_along(insert: tuple[Session, str], start: Start) -> None:
    session, strip_id = insert
    client = start(session)
    with neighbour() as other:
        wait_until(lambda: len(other.ports("Guest")) == 4)
        client.set_session(use_own_ports(session, strip_id, on=False))
        wait_until(lambda: client.poll() and len(other.ports("Guest")) == 2)
        more, second = insert_input_track(session, MASTER, PORTS)
        client.set_session(edit_strip(more, second, lambda strip: strip.with_(name="Guest")))
        wait_until(lambda: client.poll() and len(other.ports("Guest 2")) == 2)


def test_ports_are_listed_while_some_come_and_go(server: Server) -> None:
    with neighbour() as other, neighbour() as restless, ThreadPoolExecutor(1) as beside:
        def come_and_go() -> None:
            for _ in range(300):
                for port in [restless.client.outports.register(f"passing {number}") for number in range(8)]:
                    port.unregister()

        passing = beside.submit(come_and_go)
        while not passing.done():
            assert set(other.ports("system:playback")) == {"system:playback_1", "system:playback_2"}
            assert len(other.ports("passing")) <= 8
        passing.result()


class Slow:
    """A client whose server calls only after a while, as one does that stood still."""

    def __init__(self, parking: Parking, seconds: float) -> None:
        self.called = self.called_first = self.ended = False

        def call() -> None:
            time.sleep(seconds)
            self.called = True
            parking.pass_by()
            raise AssertionError("JACK ends this thread, which must not come back from there")

        threading.Thread(target=call, daemon=True).start()

    def deactivate(self, ignore_errors: bool) -> None:
        assert ignore_errors
        self.called_first = self.called

    def close(self, ignore_errors: bool) -> None:
        assert ignore_errors
        self.ended = True


@pytest.mark.parametrize("seconds", [0.0, 1.2, 2.7])
def test_a_client_ends_once_its_thread_is_parked(seconds: float) -> None:
    parking = Parking()
    client = Slow(parking, seconds)
    parking.close(client)
    assert client.ended
    assert client.called_first


def test_a_server_that_is_gone_is_not_waited_for() -> None:
    parking = Parking()
    client = Slow(parking, 60.0)
    threading.Timer(0.3, parking.server_gone).start()
    parking.close(client)
    assert client.ended
    assert not client.called_first


def test_a_neighbour_leaves_while_the_server_stands(server: Server) -> None:
    assert server.process is not None
    for seconds in (0.7, 1.1, 1.6):
        with neighbour():
            server.process.send_signal(signal.SIGSTOP)
            threading.Timer(seconds, server.process.send_signal, (signal.SIGCONT,)).start()
    with neighbour() as other:
        assert other.ports("system:playback")


def test_a_circle_of_connections_is_muted_and_said(insert: tuple[Session, str], start: Start) -> None:
    session, strip_id = insert
    said: list[str] = []
    client = start(use_own_ports(session, strip_id, on=False), said.append)
    with neighbour() as other:
        wait_until(lambda: len(other.ports("Guest")) == 2)
        left = other.ports("Guest in left")[0]
        other.connect("Yellow Ember:out 1", left)
        wait_until(lambda: client.poll() and any("Guest would be fed with what it makes" in text for text in said))
        other.connect(other.outs[0].name, left)
        other.connect("Yellow Ember:out 1", other.ins[0].name)
        assert np.abs(other.play(pulses())).max() < 1e-9
        other.client.disconnect("Yellow Ember:out 1", left)
        wait_until(lambda: float(np.abs(other.play(pulses())[0]).max()) > 0.1)


def test_dropouts_that_the_server_tells_are_counted(insert: tuple[Session, str], start: Start) -> None:
    client = start(insert[0])
    before = client.poll().missed
    assert client.pid is not None
    os.kill(client.pid, signal.SIGSTOP)
    time.sleep(0.25)
    os.kill(client.pid, signal.SIGCONT)
    wait_until(lambda: client.poll().missed > before)


def test_a_server_that_goes_away_is_followed_and_gone_back_to(insert: tuple[Session, str], server: Server,
                                                              start: Start) -> None:
    said: list[str] = []
    client = start(insert[0], said.append)
    with neighbour() as other:
        wait_until(lambda: len(other.ports("Yellow Ember:Guest")) == 4)
    server.end(signal.SIGKILL)
    wait_until(lambda: client.poll() and client.device == SILENT_CARD)
    assert any("went away" in text and "silent card" in text for text in said), said
    blocks = client.poll().blocks
    wait_until(lambda: client.poll().blocks > blocks + 10)
    server.start(period=256)
    wait_until(lambda: client.poll() and client.device == JACK and client.block == 256)
    with neighbour() as other:
        wire(other)
        assert most_heard(other.play(pulses()))[0] == pytest.approx(0.5, rel=1e-4)
    assert client.restarts == 0


def test_a_period_that_changes_is_followed(insert: tuple[Session, str], start: Start) -> None:
    client = start(insert[0])
    with neighbour() as other:
        other.client.blocksize = 512
        wait_until(lambda: client.poll() and client.device == JACK and client.block == 512)
        wire(other)
        late = most_heard(other.play(pulses()))[1]
        said = client.poll().live_latency
        assert said is not None
        assert late == said + 512


def test_a_server_of_another_rate_is_said(insert: tuple[Session, str], server: Server, start: Start) -> None:
    server.end()
    server.start(rate=44100)
    said: list[str] = []
    client = start(insert[0], said.append)
    assert client.device == SILENT_CARD
    assert any("44100 Hz" in text and "48000 Hz" in text for text in said)


def test_the_round_trip_of_a_server_is_measured(insert: tuple[Session, str], start: Start) -> None:
    session, strip_id = insert
    client = start(session)
    with neighbour() as other:
        wait_until(lambda: len(other.ports("Yellow Ember:Guest")) == 4)
        other.connect("Yellow Ember:out 1", "Yellow Ember:Guest in left")
        client.measure_round_trip(strip_id)
        # A circle at one client waits for a period.
        assert answer(client) == RoundTrip(128)


def test_what_comes_through_a_server_is_recorded(insert: tuple[Session, str], start: Start, tmp_path: Path) -> None:
    session, strip_id = insert
    client = start(session)
    client.record(Record((ArmedStrip(strip_id, "Guest"),), tmp_path, 0, None, 0, 0, 0))
    wait_until(lambda: client.poll().playing)
    with neighbour() as other:
        wire(other)
        other.play(pulses())
        client.stop()
        assert isinstance(answer(client), Recorded)
    sound = soundfile.read(tmp_path / "Guest 1.wav")[0]
    left, right = np.flatnonzero(sound[:, 0]), np.flatnonzero(sound[:, 1])
    assert min(len(left), len(right)) > _PULSES / 2
    np.testing.assert_allclose(sound[left, 0], 0.5)
    np.testing.assert_allclose(sound[right, 1], 0.25)
    together = np.isin(right, left + _RIGHT_AT - _LEFT_AT)
    assert np.count_nonzero(together) > _PULSES / 2


def test_a_server_that_goes_away_leaves_what_was_recorded(insert: tuple[Session, str], start: Start, server: Server,
                                                          tmp_path: Path) -> None:
    session, strip_id = insert
    client = start(session)
    client.record(Record((ArmedStrip(strip_id, "Guest"),), tmp_path, 0, None, 0, 0, 0))
    wait_until(lambda: client.poll().position > 48000)
    server.end()
    wait_until(lambda: client.poll().blocks > 0 and client.device == SILENT_CARD)
    recorded, = client.take_answers()
    assert isinstance(recorded, Recorded)
    assert recorded.takes[0].frames > 0.8 * 48000
    assert soundfile.info(tmp_path / "Guest 1.wav").frames == recorded.takes[0].frames
