"""Live inputs through the silent card: heard through their paths, at once, whatever files do."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import wait_until
from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.engine.live.cards import LIVE_BLOCKS, SilentCard
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import OWN_OUTPUT, SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.engine.live.ports import Crossing, Ports
from yellow_ember.session.edits.edits import add_bus, add_stage, edit_strip, route, set_parameter
from yellow_ember.session.edits.live_edits import insert_input_track, listen, set_input_value, use_own_ports
from yellow_ember.session.values.live_input import InputKind, LiveInput
from yellow_ember.session.values.model import MASTER, Loop, Session, new_stage

RATE, BLOCK = 48000, 128
LOOP = 9600
Start = Callable[..., EngineClient]


@pytest.fixture
def start(tmp_path: Path) -> Iterator[Start]:
    """Starts engines with a silent card that is fed with some sound (channels, frames) and records."""
    started: list[EngineClient] = []

    def make(session: Session, sound: Samples | None, feed: str = "",
             say: Callable[[str], None] = lambda text: None, block: int = BLOCK) -> EngineClient:
        if sound is not None:
            soundfile.write(tmp_path / "feed.wav", sound.T, RATE, "FLOAT")
            feed = str(tmp_path / "feed.wav")
        client = EngineClient(DeviceSettings(SILENT_CARD, block, tmp_path / "heard.f32", feed=feed), say)
        started.append(client)
        client.set_session(session)
        listens = any(strip.listens for strip in session.strips)
        wait_until(lambda: client.poll().blocks > 0 and (not listens or client.poll().live_latency is not None))
        return client

    yield make
    for client in started:
        client.close()


@pytest.fixture
def heard(tmp_path: Path) -> Callable[[], Samples]:
    """What was recorded since this was asked last but for, (2, frames)."""
    def read() -> Samples:
        return np.fromfile(tmp_path / "heard.f32", np.float32).reshape(-1, 2).T.astype(float)

    return read


def tone(hz: float, level: float = 0.25) -> Samples:
    return level * np.sin(2.0 * np.pi * hz * np.arange(LOOP) / RATE)


def with_input(session: Session, live: LiveInput | None = None, bus: str = MASTER) -> tuple[Session, str]:
    return insert_input_track(session.with_(loop=Loop(0, 0, False)), bus, live or LiveInput())


def level_at(sound: Samples, hz: float) -> float:
    """Peak of a sine in the last tenth of a second of one channel."""
    last = sound[-LOOP // 2:]
    return float(2.0 * abs(np.mean(last * np.exp(-2j * np.pi * hz * np.arange(last.size) / RATE))))


def test_an_input_is_heard_through_its_path(demo: Session, start: Start, heard: Callable[[], Samples]) -> None:
    session, strip_id = with_input(demo, LiveInput(channels=(2,), input_db=6.0))
    stage = new_stage("trim")
    session = set_parameter(add_stage(session, strip_id, stage), strip_id, stage.id, "gain_db", -3.0)
    client = start(session, np.stack([tone(300.0), tone(1000.0)]))
    time.sleep(0.5)
    sound = heard()
    assert not client.poll().playing
    # A mono strip in the middle goes to both sides at -3 dB.
    assert level_at(sound[0], 1000.0) == pytest.approx(0.25 * gain(6.0 - 3.0 - 3.01), rel=1e-3)
    assert level_at(sound[1], 1000.0) == pytest.approx(level_at(sound[0], 1000.0), rel=1e-6)
    assert level_at(sound[0], 300.0) < 1e-6
    reading = client.reading(strip_id)
    assert reading is not None
    assert reading.input_peak == pytest.approx(0.25, rel=0.02)
    assert not reading.clipped


def test_two_channels_polarity_and_gain(demo: Session, start: Start, heard: Callable[[], Samples]) -> None:
    session, strip_id = with_input(demo, LiveInput(channels=(2, 1)))
    client = start(session, np.stack([tone(300.0), tone(1000.0)]))
    time.sleep(0.4)
    before = heard()
    assert level_at(before[0], 1000.0) == pytest.approx(0.25, rel=1e-3)
    assert level_at(before[1], 300.0) == pytest.approx(0.25, rel=1e-3)
    assert level_at(before[1], 1000.0) < 1e-6
    client.set_session(set_input_value(set_input_value(session, strip_id, "inverted", True), strip_id, "input_db", 6.0))
    client.poll()
    time.sleep(0.4)
    after = heard()
    period = RATE // 100
    last = after.shape[1] // period * period
    assert level_at(after[0][:last], 1000.0) == pytest.approx(0.25 * gain(6.0), rel=1e-3)


@pytest.mark.parametrize("kind", ["", "tape", "cabinet", "limit"])
def test_it_is_as_late_as_is_said(kind: str, demo: Session, start: Start, heard: Callable[[], Samples]) -> None:
    """To the sample: what is fed in block n goes out with block n, later by what the stages need."""
    session, strip_id = with_input(demo, LiveInput(channels=(1, 2)))
    if kind:
        session = add_stage(session, strip_id, new_stage(kind))
        stage = session.strip(strip_id).chain[0]
        quiet = {p.id: False for p in stage.declaration.parameters if p.id in ("hiss", "noises", "transformers")}
        for name, value in quiet.items():
            session = set_parameter(session, strip_id, stage.id, name, value)
    pulse = np.zeros((2, 16384))
    pulse[:, 5000] = 0.5
    client = start(session, pulse)
    begun = heard().shape[1]
    wait_until(lambda: heard().shape[1] > begun + 3 * 16384)
    said = client.poll().live_latency
    assert said is not None
    sound = np.abs(heard()[0])
    half = 0.5 * sound[begun:].max()
    places = [at for at in range(begun + 300, sound.size - 1) if sound[at] > half and sound[at] == sound[
        at - 300:at + 300].max()]
    offsets = {(at - 5000 - said) % 16384 for at in places}
    # A stage's own response may have its top beside its middle.
    assert offsets, "the pulse is heard"
    assert all(min(offset, 16384 - offset) <= (0 if kind in ("", "limit") else 24) for offset in offsets), (
        offsets, said)


def test_a_live_input_does_not_wait_for_files(demo: Session, start: Start) -> None:
    late = add_stage(demo, "upright-bass", new_stage("room"))
    late = add_stage(late, "brushed-drums", new_stage("tape"))
    session, _ = with_input(late, bus="band")
    client = start(session, tone(300.0)[None])
    state = client.poll()
    assert state.live_latency == 0
    assert state.latency > 0
    assert state.delay == LIVE_BLOCKS * BLOCK


def test_files_come_and_go_while_one_plays_live(demo: Session, start: Start, heard: Callable[[], Samples]) -> None:
    """Starting, jumping and stopping fade for some milliseconds; between them the input is never gone."""
    muted = demo
    for strip in demo.strips:
        if strip.regions:
            muted = edit_strip(muted, strip.id, lambda strip: strip.with_(mute=True))
    session, _ = with_input(muted)
    client = start(session, tone(1000.0)[None])
    time.sleep(0.3)
    begun = heard().shape[1]
    client.play(0)
    wait_until(lambda: client.poll().playing and client.poll().position > RATE // 2)
    client.locate(5 * RATE)
    wait_until(lambda: client.poll().position > 5 * RATE + RATE // 4)
    client.stop()
    wait_until(lambda: not client.poll().playing)
    time.sleep(0.3)
    sound = heard()[0][begun:]
    envelope = np.abs(sound[:sound.size // 48 * 48]).reshape(-1, 48).max(axis=1)
    gaps = envelope < 0.9 * np.median(envelope)
    runs = np.diff(np.flatnonzero(np.diff(np.concatenate(([0], gaps.astype(int), [0])))))[::2]
    assert len(runs) <= 3
    assert runs.max(initial=0) <= 25, "milliseconds in a row"


def test_what_leaves_by_ports_is_not_in_the_mix(demo: Session, start: Start, heard: Callable[[], Samples]) -> None:
    session, strip_id = with_input(demo)
    session = use_own_ports(session, strip_id, on=True)
    client = start(session, tone(1000.0)[None])
    time.sleep(0.4)
    assert np.abs(heard()).max() < 1e-9
    reading = client.reading(strip_id)
    assert reading is not None
    assert reading.peak.max() > 0.1
    client.set_session(use_own_ports(session, strip_id, on=False))
    client.poll()
    time.sleep(0.4)
    assert np.abs(heard()[0, -2000:]).max() > 0.1


def test_a_strip_that_would_feed_itself_is_muted_and_said(demo: Session, start: Start,
                                                         heard: Callable[[], Samples]) -> None:
    said: list[str] = []
    session, strip_id = with_input(demo, LiveInput(input_db=12.0))
    client = start(session, None, OWN_OUTPUT, said.append)
    client.play(0)
    wait_until(lambda: client.poll().position > RATE)
    assert any("would be fed with what it makes" in text for text in said)
    assert np.abs(heard()).max() < 1.01
    reading = client.reading(strip_id)
    assert reading is not None
    assert reading.input_peak < 1e-9
    client.set_session(use_own_ports(session, strip_id, on=True))
    wait_until(lambda: (read := client.reading(strip_id)) is not None and client.poll() and read.input_peak > 1e-3)


def test_the_round_trip_is_what_is_said(demo: Session, start: Start, heard: Callable[[], Samples]) -> None:
    """What goes out comes back in after the card's delay, to the sample."""
    session, strip_id = with_input(demo, LiveInput(channels=(1, 2)))
    session = use_own_ports(session, strip_id, on=True)
    client = start(session, None, OWN_OUTPUT)
    client.play(0)
    wait_until(lambda: client.poll().position > RATE)
    assert client.poll().delay == LIVE_BLOCKS * BLOCK


def test_what_goes_out_of_the_silent_card_comes_back_when_it_is_heard(demo: Session) -> None:
    session, strip_id = with_input(demo, LiveInput(channels=(1, 2)))
    ports = Ports.of(session)
    card = SilentCard(RATE, BLOCK, ports=ports, live=True, loops_back=True)
    came_in: list[Samples] = []

    def turn(crossing: Crossing) -> None:
        came_in.append(crossing.came_in.astype(float))
        crossing.goes_out.fill(0.0)
        if len(came_in) == 4:
            crossing.goes_out[1, 17] = 0.5

    assert card.use(ports)
    assert card.wires == {(MASTER, strip_id)}
    card.run(turn, lambda _seconds: len(came_in) < 12)
    card.close()
    heard = np.concatenate(came_in, axis=1)
    assert np.argwhere(heard).tolist() == [[1, 3 * BLOCK + 17 + card.delay]]


def test_an_input_that_clips_says_so_until_it_is_forgotten(demo: Session, start: Start) -> None:
    session, strip_id = with_input(demo)
    sound = np.zeros((1, 1 << 17))
    sound[0, 4000:4100] = 1.0
    client = start(session, sound)
    wait_until(lambda: client.poll() and client.reading(strip_id).clipped)
    client.forget_clips()
    wait_until(lambda: client.poll() and not client.reading(strip_id).clipped)


def test_bad_samples_do_not_get_in(demo: Session, start: Start, heard: Callable[[], Samples]) -> None:
    session, strip_id = with_input(demo)
    sound = tone(1000.0)[None].copy()
    sound[0, ::1000], sound[0, 7::1000] = np.nan, np.inf
    start(add_stage(session, strip_id, new_stage("drive")), sound)
    time.sleep(0.4)
    assert np.all(np.isfinite(heard()))
    assert np.abs(heard()).max() > 0.05


def test_a_track_plays_its_files_again_when_it_no_longer_listens(demo: Session, start: Start,
                                                                heard: Callable[[], Samples]) -> None:
    live = LiveInput()
    session = listen(demo.with_(loop=Loop(0, 0, False)), "upright-bass", live)
    session = edit_strip(session, "upright-bass", lambda strip: strip.with_(solo=True))
    client = start(session, np.zeros((1, 1000)))
    client.play(0)
    wait_until(lambda: client.poll().position > 2 * RATE)
    assert np.abs(heard()).max() < 1e-9
    client.set_session(listen(session, "upright-bass", replace(live, on=False)))
    wait_until(lambda: client.poll().live_latency is None and np.abs(heard()[:, -4000:]).max(initial=0.0) > 1e-3)


def test_only_tracks_listen(demo: Session) -> None:
    with pytest.raises(ValueError, match="only tracks listen"):
        listen(demo, "band", LiveInput())
    with pytest.raises(ValueError, match="listens to no input"):
        set_input_value(demo, "upright-bass", "input_db", 3.0)
    with pytest.raises(ValueError, match="has ports anyway"):
        use_own_ports(demo, MASTER, on=True)
    nested, bus = add_bus(demo, "Bus"), ""
    bus = nested.strips[-1].id if nested.strips[-1].id != MASTER else nested.strips[-2].id
    session, strip_id = insert_input_track(nested, bus, LiveInput(kind=InputKind.PORTS, channels=(1, 2)))
    assert session.strip(strip_id).live == LiveInput(kind=InputKind.PORTS, channels=(1, 2))
    assert route(session, strip_id, MASTER).strip(strip_id).out == MASTER
