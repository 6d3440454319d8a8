"""The tempo: found in generated rhythms, tapped, typed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from yellow_ember.app.state.tempo_tap import tapped_tempo
from yellow_ember.app.tools.tempo import TempoTool
from yellow_ember.dsp.arrays import Samples
from yellow_ember.measure.tempo import FASTEST, SLOWEST, read_tempo

if TYPE_CHECKING:
    from conftest import OpenWindow
    from yellow_ember.app.main_window import MainWindow

RATE = 48000


class Player:
    """Plays a rhythm with swing, fills and a tempo that wanders by 2 %."""

    def __init__(self, seed: int, seconds: float) -> None:
        self.rng = np.random.default_rng(seed)
        self.seconds = seconds
        self.sound: Samples = np.zeros(round((seconds + 1.0) * RATE))

    def hit(self, at: float, level: float, hz: float, decay: float, noise: float) -> None:
        first = round(at * RATE)
        if first < self.sound.size:
            t = np.arange(min(RATE // 3, self.sound.size - first)) / RATE
            tone = np.sin(2.0 * np.pi * hz * t * np.exp(-3.0 * t)) * np.exp(-t / decay)
            self.sound[first:first + t.size] += level * (
                (1.0 - noise) * tone + noise * self.rng.standard_normal(t.size) * np.exp(-1.5 * t / decay))

    def drums(self, at: float, period: float, beat: int, off: float) -> None:
        self.hit(at, *((0.9, 60.0, 0.12, 0.05) if beat % 2 == 0 else (0.7, 190.0, 0.1, 0.6)))
        self.hit(at, 0.25, 8000.0, 0.03, 0.95)
        if self.rng.random() < 0.9:
            self.hit(at + off * period, 0.2, 8000.0, 0.03, 0.95)
        if beat % 16 >= 14:
            for quarter in (1, 2, 3):
                self.hit(at + quarter * period / 4.0, 0.5, float(self.rng.choice([110.0, 150.0])), 0.12, 0.2)

    def bass(self, at: float, period: float, _beat: int, off: float) -> None:
        for place in (0.0, off) if self.rng.random() < 0.6 else (0.0,):
            self.hit(at + place * period, 0.6, float(self.rng.choice([55.0, 62.0, 73.0])), 0.25, 0.0)

    def play(self, bpm: float, swing: float, instrument: str, rubato: float = 0.02) -> float:
        """Fill the sound, and return the tempo that it came to on average."""
        first = at = float(self.rng.uniform(0.0, 1.5))
        beat, drift = 0, 0.0
        while at < self.seconds:
            drift = float(np.clip(drift + self.rng.normal(0.0, rubato / 4.0), -rubato, rubato))
            period = 60.0 / bpm * (1.0 + drift)
            getattr(self, instrument)(at, period, beat, 0.5 + swing / 6.0)
            at, beat = at + period, beat + 1
        self.sound += 0.002 * self.rng.standard_normal(self.sound.size)
        return 60.0 * beat / (at - first)


def test_the_tempo_of_generated_rhythms_is_found() -> None:
    """Within 1 % in nine of ten; in all but a few within 1 % of it, its half or its double."""
    found = related = 0
    rng = np.random.default_rng(7)
    count = 30
    for seed in range(count):
        player = Player(seed, float(rng.uniform(20.0, 40.0)))
        truth = player.play(float(rng.uniform(70.0, 165.0)), float(rng.choice([0.0, 0.0, 0.5, 1.0])),
                            "drums" if rng.random() < 0.7 else "bass")
        reading = read_tempo(player.sound, RATE)
        assert 0.0 <= reading.confidence <= 1.0
        found += abs(reading.bpm / truth - 1.0) < 0.01
        related += any(abs(bpm / truth - 1.0) < 0.012 for bpm in (reading.bpm, *reading.others))
    assert found >= 0.9 * count
    assert related >= 0.95 * count


@pytest.mark.parametrize("rate", [44100, 96000])
def test_the_rate_does_not_matter(rate: int) -> None:
    clicks = np.zeros(20 * rate)
    clicks[(np.arange(1, 39) * rate / 2.0).astype(int)] = 0.5
    assert read_tempo(clicks, rate).bpm == pytest.approx(120.0, rel=0.003)


def test_what_has_no_tempo_says_so() -> None:
    with pytest.raises(ValueError, match="no notes"):
        read_tempo(np.zeros(10 * RATE), RATE)
    with pytest.raises(ValueError, match="4 seconds"):
        read_tempo(np.ones(RATE), RATE)
    noise = read_tempo(np.random.default_rng(1).normal(0.0, 0.1, 20 * RATE), RATE)
    assert SLOWEST * 0.9 <= noise.bpm <= FASTEST * 1.1
    steady = np.zeros(20 * RATE)
    steady[:: RATE // 2] = 0.5
    assert noise.confidence < 0.3


def test_taps_lie_on_a_line() -> None:
    rng = np.random.default_rng(2)
    assert tapped_tempo([0.0, 0.5]) is None
    times = [5.0 + 0.5 * tap + float(rng.normal(0.0, 0.01)) for tap in range(12)]
    assert tapped_tempo(times) == pytest.approx(120.0, abs=1.0)
    assert tapped_tempo([0.0, 0.001, 0.002]) == 400.0
    assert tapped_tempo([3.0, 3.0, 3.0]) is None


def test_tapping_the_key_sets_the_tempo_as_one_step(
        window: MainWindow, qtbot: QtBot) -> None:
    document = window.workspace.sessions.document
    now = 100.0
    window.workspace.tempo_tap.clock = lambda: now
    for _ in range(6):
        qtbot.keyClick(window, Qt.Key.Key_T)
        now += 60.0 / 87.0
    assert window.workspace.sessions.session.tempo == pytest.approx(87.0, abs=0.11)
    document.settle()
    assert document.undo_label == "Tempo"
    document.undo()
    assert window.workspace.sessions.session.tempo == 96.0


def test_the_window_finds_halves_and_counts(open_window: OpenWindow, qtbot: QtBot, tmp_path: Path) -> None:
    player, path = Player(3, 25.0), tmp_path / "drums.wav"
    truth = player.play(101.0, 0.0, "drums", rubato=0.0)
    soundfile.write(path, 0.5 * player.sound, RATE)
    window = open_window()
    workspace = window.workspace
    workspace.sessions.open_audio([path])
    workspace.selection.select(workspace.sessions.session.strips[0].id)
    tool = workspace.tools.open(TempoTool)
    tool.buttons["Find"].click()
    qtbot.waitUntil(lambda: "bpm" in tool.said.text(), timeout=60000)
    assert workspace.sessions.session.tempo == pytest.approx(truth, rel=0.01)
    tool.buttons["Half"].click()
    assert workspace.sessions.session.tempo == pytest.approx(truth / 2.0, rel=0.01)
    tool.buttons["Double"].click()
    tool.beats.setValue(3)
    assert workspace.sessions.session.beats_per_bar == 3
    assert workspace.sessions.document.undo_label == "Beats a bar"
    workspace.selection.select("master")
    tool.find()
    assert "Choose a track" in tool.said.text()
    assert not tool.grab().isNull()


@pytest.mark.parametrize("bpm", [76.0, 97.3, 131.0])
@pytest.mark.parametrize("first", [0.0, 0.21, 1.13])
def test_the_first_beat_is_found(bpm: float, first: float, rng: np.random.Generator) -> None:
    rate = 48000
    sound = 1e-4 * rng.standard_normal(20 * rate)
    for number in range(int((19.0 - first) * bpm / 60.0)):
        at = round((first + number * 60.0 / bpm) * rate)
        sound[at:at + 4000] += rng.standard_normal(4000) * np.exp(-np.arange(4000) / 600.0)
        at = round((first + (number + 0.5) * 60.0 / bpm) * rate)
        sound[at:at + 2000] += 0.25 * rng.standard_normal(2000) * np.exp(-np.arange(2000) / 300.0)
    assert read_tempo(sound, rate).first_beat == pytest.approx(first, abs=0.01)
