"""Time stamps, markers and tempo of WAV files, and the formats that are read and written."""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from yellow_ember.cli import main
from yellow_ember.files import writing as writing_module
from yellow_ember.files.conformed import conform
from yellow_ember.files.file_marks import FileMarks, read_marks, write_time_stamp
from yellow_ember.files.reading import probe, read_blocks
from yellow_ember.files.riff import append_chunk, chunks
from yellow_ember.files.writing import writing

if TYPE_CHECKING:
    from collections.abc import Callable

RATE = 48000


def cue_chunk(frames: list[int]) -> bytes:
    return struct.pack("<I", len(frames)) + b"".join(
        struct.pack("<II4sIII", number, frame, b"data", 0, 0, frame) for number, frame in enumerate(frames))


def label_chunk(names: list[str]) -> bytes:
    body = b"adtl"
    for number, name in enumerate(names):
        words = name.encode() + b"\0"
        body += struct.pack("<4sII", b"labl", 4 + len(words), number) + words + b"\0" * (len(words) & 1)
    return body


def smpl_chunk(starts: list[int]) -> bytes:
    return bytes(28) + struct.pack("<II", len(starts), 0) + b"".join(
        struct.pack("<IIIIII", number, 0, start, start + 100, 0, 0) for number, start in enumerate(starts))


@pytest.mark.parametrize(("rate", "seconds", "kind"), [(48000, 3723.5, "WAV"), (44100, 0.25, "WAV"),
                                                        (96000, 80000.0, "RF64")])
def test_a_time_stamp_is_read_as_it_was_written(rate: int, seconds: float, kind: str, tmp_path: Path) -> None:
    path, sound = tmp_path / "a.wav", np.linspace(-0.5, 0.5, 1001)
    soundfile.write(path, sound, rate, subtype="PCM_24", format=kind)
    write_time_stamp(path, seconds, rate, "printed")
    assert read_marks(path).time == pytest.approx(seconds, abs=0.5 / rate)
    # The file still holds its sound, and its header tells its size.
    assert np.abs(soundfile.read(path)[0] - sound).max() < 2.0**-22
    assert probe(path).warning == ""
    head = path.read_bytes()
    size = struct.unpack_from("<Q", head, 20)[0] if kind == "RF64" else struct.unpack_from("<I", head, 4)[0]
    assert size == len(head) - 8
    with path.open("rb") as file:
        assert [chunk.name for chunk in chunks(file)][-1] == b"bext"


def test_markers_with_names_and_tempo(make_audio: Callable[..., Path]) -> None:
    path = make_audio(seconds=2.0)
    append_chunk(path, b"cue ", cue_chunk([48000, 12000]))
    append_chunk(path, b"LIST", label_chunk(["Chorus", "Verse"]))
    append_chunk(path, b"acid", struct.pack("<IHHfIHHf", 0, 60, 0, 0.0, 8, 4, 4, 97.5))
    assert read_marks(path) == FileMarks(None, 97.5, ((0.25, "Verse"), (1.0, "Chorus")))


def test_a_samplers_loops_are_markers(make_audio: Callable[..., Path]) -> None:
    path = make_audio(seconds=2.0)
    append_chunk(path, b"smpl", smpl_chunk([24000]))
    assert read_marks(path).markers == ((0.5, ""),)


@given(st.binary(max_size=400), st.sampled_from([b"bext", b"cue ", b"smpl", b"acid", b"LIST"]))
def test_damaged_marks_are_none(tmp_path_factory: pytest.TempPathFactory, body: bytes, name: bytes) -> None:
    path = tmp_path_factory.mktemp("marks") / "a.wav"
    soundfile.write(path, np.zeros(100), RATE)
    append_chunk(path, name, body)
    marks = read_marks(path)
    assert marks.tempo is None or 20.0 <= marks.tempo <= 400.0


def test_what_is_no_wav_says_nothing(tmp_path: Path) -> None:
    (tmp_path / "a.wav").write_bytes(b"RIFF\0\0\0\0WAVE")
    soundfile.write(tmp_path / "a.flac", np.zeros(100), RATE)
    for name in ("a.wav", "a.flac", "none.wav"):
        assert read_marks(tmp_path / name) == FileMarks()


@pytest.mark.parametrize(("name", "kind", "subtype"), [
    ("a.rf64", "RF64", "PCM_24"), ("a.w64", "W64", "PCM_24"), ("a.caf", "CAF", "PCM_24"),
    ("a.mp3", "MP3", "MPEG_LAYER_III"), ("a.opus", "OGG", "OPUS")])
def test_formats_that_come_in(name: str, kind: str, subtype: str, tmp_path: Path) -> None:
    tone = 0.25 * np.sin(2.0 * np.pi * 440.0 * np.arange(RATE) / RATE)
    soundfile.write(tmp_path / name, np.stack([tone, tone], axis=1), RATE, format=kind, subtype=subtype)
    info = probe(tmp_path / name)
    assert (info.rate, info.channels) == (RATE, 2)
    sound = np.concatenate(list(read_blocks(tmp_path / name)), axis=1)
    middle = np.abs(np.fft.rfft(sound[0, 8192:8192 + 32768] * np.hanning(32768)))
    assert np.argmax(middle) * RATE / 32768 == pytest.approx(440.0, abs=2.0)
    assert conform(tmp_path / name, RATE).frames == pytest.approx(RATE, abs=4096)


def test_opus_holds_the_sound_at_its_own_rate(tmp_path: Path) -> None:
    tone = 0.25 * np.sin(2.0 * np.pi * 1000.0 * np.arange(44100) / 44100)
    with writing(tmp_path / "a.opus", 44100, 1) as writer:
        for start in range(0, tone.size, 1000):
            writer.write(tone[None, start:start + 1000])
    sound, rate = soundfile.read(tmp_path / "a.opus")
    assert rate == 48000
    assert sound.size == pytest.approx(48000, abs=1000)
    spectrum = np.abs(np.fft.rfft(sound[8000:40000] * np.hanning(32000)))
    assert np.argmax(spectrum) * 48000 / 32000 == pytest.approx(1000.0, abs=2.0)


def test_what_is_too_large_for_a_wav_is_an_rf64(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(writing_module, "LARGEST_WAV", 1000)
    for frames, kind in ((100, "WAV"), (1000, "RF64")):
        path = tmp_path / f"{kind}.wav"
        with writing(path, RATE, 2, frames=frames, time=12.0) as writer:
            writer.write(np.zeros((2, frames)))
        assert soundfile.info(path).format == kind
        assert read_marks(path).time == 12.0


def test_processing_keeps_the_time_stamp(make_audio: Callable[..., Path], tmp_path: Path) -> None:
    source = make_audio()
    write_time_stamp(source, 3600.5, RATE)
    chain = tmp_path / "c.json"
    chain.write_text(json.dumps({"format": "yellow-ember/chain", "version": 1, "stages": []}))
    assert main(["process", str(source), str(tmp_path / "out.wav"), "--chain", str(chain)]) == 0
    assert read_marks(tmp_path / "out.wav").time == 3600.5
