"""Recording while playing: where it lies, what is in the files, and what is left when it ends badly."""

from __future__ import annotations

import errno
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile
from numpy.typing import NDArray
from scipy.signal import correlate

from conftest import answer, wait_until
from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import OWN_OUTPUT, SILENT_CARD
from yellow_ember.engine.live.messages import ArmedStrip, DeviceSettings, Record, Recorded, RoundTrip, TurnTimes
from yellow_ember.files.broadcast_wav import BroadcastWriter
from yellow_ember.files.conformed import conform
from yellow_ember.files.file_marks import read_marks
from yellow_ember.session.edits.edits import add_stage
from yellow_ember.session.edits.live_edits import insert_input_track, set_input_value, use_own_ports
from yellow_ember.session.values.live_input import LiveInput
from yellow_ember.session.values.model import MASTER, Loop, Session, new_stage, session_from_audio

RATE, BLOCK = 48000, 128
SECONDS = 6
Begin = Callable[..., tuple[EngineClient, str]]
FADE = 2000
"""Frames after which what plays is no longer fading in."""
LISTENING = LiveInput(channels=(1, 2))


@pytest.fixture(scope="module")
def noise() -> Samples:
    """What the session plays: no two stretches of it are alike."""
    return 0.1 * np.random.default_rng(5).standard_normal((2, SECONDS * RATE)).clip(-4.0, 4.0)


@pytest.fixture
def session(noise: Samples, tmp_path: Path) -> Session:
    """One track of noise, which leaves as it is."""
    path = tmp_path / "noise.wav"
    soundfile.write(path, noise.T, RATE, "FLOAT")
    conform(path, RATE)
    return session_from_audio([path], RATE).with_(loop=Loop(0, 0, False))


@pytest.fixture
def begin(session: Session, tmp_path: Path) -> Iterator[Begin]:
    """Starts an engine that plays the session beside an input track, which leaves by ports of its own."""
    started: list[EngineClient] = []

    def make(stages: tuple[str, ...] = (), feed: str = OWN_OUTPUT, loop: Loop | None = None,
             change: Callable[[Session, str], Session] = lambda session, strip_id: session) -> tuple[EngineClient, str]:
        live, strip_id = insert_input_track(session.with_(loop=loop or session.loop), MASTER, LISTENING)
        live = use_own_ports(live, strip_id, on=True)
        for kind in stages:
            live = add_stage(live, strip_id, new_stage(kind))
        client = EngineClient(DeviceSettings(SILENT_CARD, BLOCK, feed=feed))
        started.append(client)
        client.set_session(change(live, strip_id))
        wait_until(lambda: client.poll().live_latency is not None)
        return client, strip_id

    yield make
    for client in started:
        client.close()


def order(strip_id: str, folder: Path, first: int = 0, end: int | None = None, *, path_too: bool = False,
          round_trip: int | None = None, play_from: int | None = 0) -> Record:
    folder.mkdir(exist_ok=True)
    return Record((ArmedStrip(strip_id, "Guitar", path_too),), folder, first, end, round_trip, 3600 * RATE, play_from)


def recorded(client: EngineClient) -> Recorded:
    result = answer(client)
    assert isinstance(result, Recorded)
    return result


def sound_of(path: Path) -> Samples:
    return np.asarray(soundfile.read(path, always_2d=True)[0].T)


def played_until(client: EngineClient, frame: int) -> None:
    wait_until(lambda: client.poll().position > frame)


def lag_between(piece: Samples, whole: Samples) -> int:
    """How many frames later than something (frames,) a piece is that was made of it."""
    matched = np.abs(correlate(piece, whole[:piece.size], "full", "fft"))
    return int(np.argmax(matched)) - min(piece.size, whole.size) + 1


def test_who_plays_along_is_recorded_where_it_was_heard(begin: Begin, noise: Samples, tmp_path: Path) -> None:
    # What comes in is what went out: played along, by somebody who is never late.
    client, strip_id = begin()
    client.record(order(strip_id, tmp_path / "takes", first=RATE // 2))
    played_until(client, 2 * RATE)
    client.stop()
    result = recorded(client)
    take, = result.takes
    assert (result.trouble, take.strip_id, take.position, take.of_path) == ("", strip_id, RATE // 2, False)
    info = soundfile.info(take.path)
    assert (info.subtype, info.samplerate, info.channels, info.frames) == ("FLOAT", RATE, 2, take.frames)
    assert read_marks(take.path).time == pytest.approx(3600.5, abs=1e-6)
    assert take.frames > 1.4 * RATE
    piece = sound_of(take.path)
    # But for the fade at the stop, what was recorded is what was played there.
    assert np.abs(piece[:, :-4800] - noise[:, RATE // 2:][:, :take.frames - 4800]).max() < 1e-6


def test_a_path_is_recorded_beside_its_input_in_step(begin: Begin, noise: Samples, tmp_path: Path) -> None:
    client, strip_id = begin(("drive",), change=lambda session, track: set_input_value(
        set_input_value(session, track, "input_db", -6.0), track, "inverted", True))
    client.record(order(strip_id, tmp_path / "takes", path_too=True))
    played_until(client, 2 * RATE)
    client.stop()
    takes = {take.of_path: take for take in recorded(client).takes}
    assert set(takes) == {False, True}
    dry, wet = sound_of(takes[False].path)[0], sound_of(takes[True].path)[0]
    # What the path got: behind gain and polarity.
    assert np.abs(dry[FADE:RATE] + 10.0 ** (-6.0 / 20.0) * noise[0, FADE:RATE]).max() < 1e-6
    assert takes[True].position == 0
    assert lag_between(wet[:RATE], noise[0, :RATE]) == 0
    assert takes[True].path.stem == "Guitar path 1"


def test_going_round_gives_a_take_a_pass_within_its_ends(begin: Begin, noise: Samples, tmp_path: Path) -> None:
    first, end = RATE, 2 * RATE
    client, strip_id = begin(loop=Loop(first, end, True))
    client.record(order(strip_id, tmp_path / "takes", first=first, end=end, play_from=first))
    for _ in range(2):
        played_until(client, first + RATE // 2)
        wait_until(lambda: client.poll().position < first + RATE // 2)
    played_until(client, first + RATE // 2)
    client.stop()
    result = recorded(client)
    takes = result.takes
    assert result.trouble == ""
    assert [take.path.name for take in takes] == ["Guitar 1.wav", "Guitar 2.wav", "Guitar 3.wav"]
    for take in takes[:-1]:
        assert (take.position, take.frames) == (first, end - first)
        assert np.abs(sound_of(take.path)[:, FADE:] - noise[:, first + FADE:end]).max() < 1e-6


def test_a_stretch_is_punched_in_while_playing_goes_on(begin: Begin, noise: Samples, tmp_path: Path) -> None:
    client, strip_id = begin()
    client.record(order(strip_id, tmp_path / "takes", first=RATE, end=RATE + 12345, play_from=RATE // 2))
    result = recorded(client)
    take, = result.takes
    assert (take.position, take.frames) == (RATE, 12345)
    assert np.abs(sound_of(take.path) - noise[:, RATE:RATE + 12345]).max() < 1e-6
    assert client.poll().playing
    # By hand, while it plays: from what was heard just then.
    client.record(order(strip_id, tmp_path / "takes", play_from=None))
    wait_until(lambda: client.poll().position > 3 * RATE)
    client.end_recording()
    second, = recorded(client).takes
    assert second.path.name == "Guitar 2.wav"
    assert np.abs(sound_of(second.path) - noise[:, second.position:second.position + second.frames]).max() < 1e-6
    assert client.poll().playing


def test_the_round_trip_is_measured_to_the_sample(begin: Begin, tmp_path: Path) -> None:
    client, strip_id = begin()
    client.measure_round_trip(strip_id)
    assert answer(client) == RoundTrip(client.poll().delay)
    silence = tmp_path / "silence.wav"
    soundfile.write(silence, np.zeros(1000), RATE)
    deaf, strip_id = begin(feed=str(silence))
    deaf.measure_round_trip(strip_id)
    assert answer(deaf) == RoundTrip(None)


def test_a_measured_round_trip_moves_what_is_recorded(begin: Begin, noise: Samples, tmp_path: Path) -> None:
    client, strip_id = begin()
    client.record(order(strip_id, tmp_path / "takes", round_trip=client.poll().delay + 100))
    played_until(client, RATE)
    client.stop()
    take, = recorded(client).takes
    # What comes in a hundred frames sooner than it is said to lies so much earlier.
    assert np.abs(sound_of(take.path)[0, FADE:RATE // 2] - noise[0, FADE + 100:RATE // 2 + 100]).max() < 1e-6


def test_what_was_recorded_is_kept_when_the_disk_is_full(begin: Begin, tmp_path: Path,
                                                         monkeypatch: pytest.MonkeyPatch) -> None:
    # The engine is a process of its own: a folder that holds no more than so much stands for the disk.
    folder = tmp_path / "small"
    folder.mkdir()
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=512k", "none", str(folder)], capture_output=True)
    if mounted.returncode:
        pytest.skip("nothing can be mounted here")
    try:
        client, strip_id = begin()
        client.record(order(strip_id, folder))
        result = recorded(client)
        assert result.trouble == "Recording ended: No space left on device. What was recorded before is kept"
        take, = result.takes
        assert 40000 < take.frames < 65536
        assert soundfile.info(take.path).frames == take.frames
        assert client.poll().playing
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=False)


@pytest.mark.parametrize("whose", ["the engine's process", "its device"])
def test_what_was_recorded_opens_when_it_ends_badly(whose: str, begin: Begin, noise: Samples, tmp_path: Path) -> None:
    client, strip_id = begin()
    client.record(order(strip_id, tmp_path / "takes"))
    played_until(client, 2 * RATE)
    if whose == "its device":
        client.change_device(DeviceSettings(SILENT_CARD, 256))
        assert recorded(client).takes[0].frames > 1.5 * RATE
    else:
        client.kill()
    piece = sound_of(tmp_path / "takes" / "Guitar 1.wav")
    assert piece.shape[1] > 1.2 * RATE
    assert np.abs(piece[:, FADE:] - noise[:, FADE:piece.shape[1]]).max() < 1e-6


def test_nothing_is_recorded_of_what_does_not_come_in(begin: Begin, tmp_path: Path) -> None:
    client, _ = begin()
    client.record(order("noise", tmp_path / "takes"))
    assert recorded(client) == Recorded((), "What was to be recorded does not come in")


_KILLED = """
import sys, time
from pathlib import Path
import numpy as np
from yellow_ember.files.broadcast_wav import BroadcastWriter
writer = BroadcastWriter(Path(sys.argv[1]), 48000, 1, 4800)
for number in range(10):
    writer.write(np.full((4800, 1), number / 10.0, np.float32))
    if number == 7:
        writer.settle()
print("written", flush=True)
time.sleep(60)
"""


def test_a_file_opens_however_its_writing_ends(tmp_path: Path) -> None:
    path = tmp_path / "take.wav"
    with subprocess.Popen([sys.executable, "-c", _KILLED, str(path)], stdout=subprocess.PIPE, text=True) as writing:
        assert writing.stdout is not None
        assert writing.stdout.readline() == "written\n"
        writing.kill()
    sound, rate = soundfile.read(path)
    assert (sound.size, rate) == (8 * 4800, 48000)
    assert sound[-1] == pytest.approx(0.7)
    assert read_marks(path).time == pytest.approx(0.1)
    with pytest.raises(FileExistsError):
        BroadcastWriter(path, 48000, 1, 0)


def test_a_long_recording_becomes_an_rf64(tmp_path: Path) -> None:
    # The sound itself is a hole in the file; what counts is what its head says.
    writer = BroadcastWriter(tmp_path / "long.wav", RATE, 2, 0)
    frames = 5 * (1 << 30) // 8
    writer.frames = frames
    last: NDArray[np.float32] = np.full((1, 2), 0.5, np.float32)
    writer.write(last)
    writer.close()
    info = soundfile.info(writer.path)
    assert (info.format, info.frames) == ("RF64", frames + 1)
    with soundfile.SoundFile(writer.path) as file:
        file.seek(frames)
        assert file.read(1).tolist() == [[0.5, 0.5]]
    assert read_marks(writer.path).time == 0.0


def test_a_disk_that_is_full_from_the_first_byte(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> int:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(os, "pwrite", full)
    with pytest.raises(OSError, match="No space"):
        BroadcastWriter(tmp_path / "take.wav", RATE, 1, 0)
    assert not (tmp_path / "take.wav").exists()


def test_how_long_blocks_took_is_told(begin: Begin) -> None:
    client, _ = begin()
    client.ask_for_turns()
    times = answer(client)
    assert isinstance(times, TurnTimes)
    assert times.count > 0
    assert 0.0 < times.median <= times.nearly_all <= times.worst < 1.0
