"""Audio files in and out, good and bad."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile

from yellow_ember.engine.raw_reader import RawReader
from yellow_ember.files.atomic import free_name, replacing, write_text
from yellow_ember.files.conformed import (
    Cancelled,
    cache_folder,
    conform,
    find_conformed,
    trim_cache,
)
from yellow_ember.files.reading import AudioFileError, probe, read_blocks
from yellow_ember.files.writing import writing

MakeAudio = Callable[..., Path]


@pytest.mark.parametrize("name", ["a.wav", "a.flac", "a.aiff", "a.ogg"])
@pytest.mark.parametrize("channels", [1, 2])
def test_reads_what_it_says(name: str, channels: int, make_audio: MakeAudio) -> None:
    info = probe(make_audio(name, channels=channels))
    assert (info.rate, info.channels, info.frames, info.warning) == (48000, channels, 48000, "")


@pytest.mark.parametrize("channels", [3, 6, 8])
def test_more_channels_are_refused_with_advice(channels: int, make_audio: MakeAudio) -> None:
    with pytest.raises(AudioFileError, match=f"has {channels} channels; one or two can be used. Split it"):
        probe(make_audio(channels=channels))


@pytest.mark.parametrize("rate", [8000, 11025, 44100, 192000, 384000])
def test_rates_that_can_be_used(rate: int, make_audio: MakeAudio) -> None:
    path = make_audio(f"{rate}.wav", rate=rate, seconds=0.5)
    assert probe(path).rate == rate
    assert conform(path, 48000).frames == pytest.approx(24000, abs=2)


@pytest.mark.parametrize("rate", [4000, 500000])
def test_rates_that_cannot(rate: int, make_audio: MakeAudio) -> None:
    with pytest.raises(AudioFileError, match="8000 to 384000 Hz can be used"):
        probe(make_audio(rate=rate, seconds=0.1))


def test_empty_missing_text_and_folder(tmp_path: Path) -> None:
    empty, text = tmp_path / "empty.wav", tmp_path / "text.wav"
    empty.touch()
    text.write_text("All aboard the night ferry.")
    for path, words in ((empty, "is empty"), (text, "is not an audio file"), (tmp_path / "no.wav", "is not there"),
                        (tmp_path, "is a folder")):
        with pytest.raises(AudioFileError, match=words):
            probe(path)


def test_cut_short_wav_is_used_with_a_warning(make_audio: MakeAudio) -> None:
    path = make_audio()
    path.write_bytes(path.read_bytes()[:20000])
    info = probe(path)
    assert "was cut short" in info.warning
    assert sum(block.shape[1] for block in read_blocks(path)) == info.frames < 48000


def test_damaged_flac_is_refused(make_audio: MakeAudio) -> None:
    path = make_audio("a.flac", seconds=5.0)
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    with pytest.raises(AudioFileError, match="damaged"):
        list(read_blocks(path))


def test_header_without_sound(make_audio: MakeAudio) -> None:
    path = make_audio()
    path.write_bytes(path.read_bytes()[:44])
    with pytest.raises(AudioFileError, match="holds no sound"):
        probe(path)


def test_bad_samples_become_silence_and_are_counted(tmp_path: Path) -> None:
    samples = np.full(1000, 0.5, np.float32)
    samples[10], samples[20], samples[30] = np.nan, np.inf, -np.inf
    path = tmp_path / "bad.wav"
    soundfile.write(path, samples, 48000, subtype="FLOAT")
    ready = conform(path, 48000)
    assert ready.replaced == 3
    assert "3 samples that are no numbers" in ready.warning
    data = np.fromfile(ready.data, np.float32)
    assert np.all(np.isfinite(data))
    assert data[10] == 0.0


def test_conformed_copy_is_kept_and_noticed_when_the_source_changes(make_audio: MakeAudio) -> None:
    path = make_audio(seconds=0.5)
    first = conform(path, 48000)
    assert find_conformed(path, 48000) == first
    assert find_conformed(path, 44100) is None
    first.data.write_bytes(b"short")
    assert find_conformed(path, 48000) is None
    make_audio(seconds=0.6)
    assert conform(path, 48000).frames == 28800


def test_resampling_keeps_a_tone(tmp_path: Path) -> None:
    tone = 0.5 * np.sin(2.0 * np.pi * 1000.0 * np.arange(44100) / 44100)
    path = tmp_path / "tone.wav"
    soundfile.write(path, tone, 44100, subtype="FLOAT")
    data = np.fromfile(conform(path, 48000).data, np.float32)
    requested = 0.5 * np.sin(2.0 * np.pi * 1000.0 * np.arange(data.size) / 48000)
    assert np.abs(data - requested)[2000:-2000].max() < 1e-5


@pytest.mark.parametrize("seconds", [0.0011, 0.51, 7.3])
@pytest.mark.parametrize("frames", [1.0, 64.0, 255.0, 256.0, 5000.0, 1e9])
def test_an_overview_holds_the_extremes_at_every_resolution(
        seconds: float, frames: float, make_audio: MakeAudio) -> None:
    ready = conform(make_audio(channels=2, seconds=seconds), 48000)
    data = np.fromfile(ready.data, np.float32).reshape(-1, 2)
    for begin, end in ((0, len(data)), (len(data) // 3, len(data) // 2), (-500, 200), (len(data) - 5, len(data) + 900)):
        part = ready.stretch(begin, end, frames)
        assert part.frames <= max(16.0, frames)
        assert part.start <= max(begin, 0) < part.start + part.frames
        assert part.start + len(part.columns) * part.frames >= min(end, len(data))
        for index, column in enumerate(part.columns):
            sound = data[part.start + index * part.frames:part.start + (index + 1) * part.frames]
            np.testing.assert_array_equal(column, np.stack((sound.min(axis=0), sound.max(axis=0)), axis=1))


def test_samples_are_read_by_their_place(make_audio: MakeAudio) -> None:
    ready = conform(make_audio(channels=2, seconds=0.2), 48000)
    data = np.fromfile(ready.data, np.float32).reshape(-1, 2)
    np.testing.assert_array_equal(ready.samples(700, 900), data[700:900])
    np.testing.assert_array_equal(ready.samples(-5, 3), data[:3])
    assert ready.samples(len(data) + 5, len(data) + 9).shape == (0, 2)
    ready.data.write_bytes(b"abc")
    assert ready.samples(0, 100).shape == (0, 2)


def test_cancelling_leaves_nothing(make_audio: MakeAudio) -> None:
    path = make_audio(seconds=5.0)
    before = set(cache_folder().iterdir())

    def stop(share: float) -> None:
        raise Cancelled

    with pytest.raises(Cancelled):
        conform(path, 48000, stop)
    assert set(cache_folder().iterdir()) == before


def test_cache_is_bounded(make_audio: MakeAudio) -> None:
    ready = conform(make_audio(), 48000)
    trim_cache(ready.data.stat().st_size - 1)
    assert not ready.data.exists()
    assert not ready.overview.exists()


def test_reader_gives_any_stretch_and_silence_beyond(make_audio: MakeAudio) -> None:
    ready = conform(make_audio(channels=2), 48000)
    data = np.fromfile(ready.data, np.float32).reshape(-1, 2).T
    reader = RawReader(ready.data, 2, ready.frames, 512)
    block = np.ones((2, 512))
    reader.read(1000, block)
    assert np.array_equal(block, data[:, 1000:1512])
    reader.read(48000 - 100, block)
    assert np.array_equal(block[:, :100], data[:, -100:])
    assert not block[:, 100:].any()
    reader.read(99999, block)
    assert not block.any()


@pytest.mark.parametrize(("name", "dtype", "error"), [
    ("a.wav", "pcm16", 2.0**-15), ("a.wav", "pcm24", 2.0**-23), ("a.wav", "float32", 2.0**-24),
    ("a.flac", "pcm16", 2.0**-15), ("a.flac", "pcm24", 2.0**-23)])
def test_written_files_hold_the_samples(name: str, dtype: str, error: float, tmp_path: Path,
                                        rng: np.random.Generator) -> None:
    samples = 0.3 * rng.standard_normal((2, 5000)).clip(-3, 3)
    with writing(tmp_path / name, 44100, 2, dtype) as writer:
        writer.write(samples[:, :2000])
        writer.write(samples[:, 2000:])
    result, rate = soundfile.read(tmp_path / name, dtype="float64")
    assert rate == 44100
    assert np.abs(result.T - samples).max() <= 2.0 * error


def test_dither_frees_a_quiet_tone_of_distortion(tmp_path: Path) -> None:
    tone = 2.0**-15 * np.sin(2.0 * np.pi * 1000.0 * np.arange(48000) / 48000)
    with writing(tmp_path / "a.wav", 48000, 1, "pcm16") as writer:
        writer.write(tone[None, :])
    spectrum = np.abs(np.fft.rfft(soundfile.read(tmp_path / "a.wav")[0]))
    assert spectrum[3000] < 0.02 * spectrum[1000]


def test_what_cannot_be_written_is_said(tmp_path: Path) -> None:
    cases = ((tmp_path / "a.mp3", "pcm16", "ends in .wav, .flac or .opus"),
             (tmp_path / "a.flac", "float32", "FLAC holds 16"),
             (tmp_path / "no" / "a.wav", "pcm16", "there is no folder"))
    for path, dtype, words in cases:
        with pytest.raises(AudioFileError, match=words), writing(path, 48000, 2, dtype):
            pass


def test_a_failed_write_leaves_no_file(tmp_path: Path) -> None:
    with pytest.raises(ZeroDivisionError), writing(tmp_path / "a.wav", 48000, 1) as writer:
        writer.write(np.zeros((1, 100)))
        raise ZeroDivisionError
    assert list(tmp_path.iterdir()) == []


def test_atomic_text_and_free_names(tmp_path: Path) -> None:
    path = tmp_path / "a.json"
    write_text(path, json.dumps([1]))
    with pytest.raises(RuntimeError), replacing(path) as temporary:
        temporary.write_text("half")
        raise RuntimeError
    assert json.loads(path.read_text()) == [1]
    assert [p.name for p in tmp_path.iterdir()] == ["a.json"]
    assert free_name(path).name == "a 2.json"
