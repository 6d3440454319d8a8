"""The added part alone: measured, printed, heard from the engine, and seen."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from conftest import wait_until
from yellow_ember.app.main_window import MainWindow
from yellow_ember.dsp.arrays import Samples
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.difference import print_added
from yellow_ember.engine.jobs.strip_prints import prints_folder
from yellow_ember.engine.live.client import EngineClient
from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.measure.comparison import added_part
from yellow_ember.session.edits.edits import add_stage, edit_strip, set_parameter
from yellow_ember.session.values.model import Loop, Session, new_stage

RATE, STRIP = 48000, "upright-bass"
PLENTY = 10**12


def quiet(_share: float) -> None:
    """No progress is shown."""


def level(signal: Samples) -> float:
    return float(20.0 * np.log10(max(np.sqrt(np.mean(signal**2)), 1e-15)))


def filtered(signal: Samples, response: Callable[[Samples], np.ndarray]) -> Samples:
    """A turn of a loop through a linear system, by its response over frequency in Hz."""
    hz: np.ndarray = np.fft.rfftfreq(signal.shape[1], 1.0 / RATE)
    result: np.ndarray = np.fft.irfft(np.fft.rfft(signal, axis=1) * response(hz), signal.shape[1], axis=1)
    return result


@pytest.fixture
def noise(rng: np.random.Generator) -> Samples:
    return 0.1 * rng.standard_normal((2, 2 * RATE))


@pytest.mark.parametrize("name", ["gain", "delay", "shelf", "resonance"])
def test_no_linear_system_adds_anything(name: str, noise: Samples) -> None:
    response: dict[str, Callable[[Samples], Samples]] = {
        "gain": lambda hz: np.full(hz.shape, -0.7),
        "delay": lambda hz: np.exp(-2j * np.pi * hz * 317 / RATE),
        "shelf": lambda hz: (1.0 + 1j * hz / 300.0) / (1.0 + 1j * hz / 2400.0),
        "resonance": lambda hz: 1.0 / (1.0 - (hz / 900.0) ** 2 + 0.2j * hz / 900.0)}
    after = filtered(noise, response[name])
    assert level(added_part(noise, after)) < level(after) - 90.0


@pytest.mark.parametrize("added_db", [-30.0, -50.0, -70.0])
def test_what_was_added_comes_back_alone(added_db: float, noise: Samples, rng: np.random.Generator) -> None:
    tone = filtered(noise, lambda hz: 1.0 / (1.0 + 1j * hz / 4000.0))
    other = rng.standard_normal(noise.shape)
    other *= 10.0 ** ((level(tone) + added_db - level(other)) / 20.0)
    result = added_part(noise, tone + other)
    assert level(result) == pytest.approx(level(other), abs=1.0)
    # The fit takes an eighth of what is random with it.
    assert np.corrcoef(result.ravel(), other.ravel())[0, 1] > 0.9


@pytest.fixture
def session(demo: Session) -> Session:
    stage = new_stage("drive")
    made = add_stage(demo, STRIP, stage).with_(loop=Loop(4 * RATE, 6 * RATE))
    return set_parameter(made, STRIP, stage.id, "drive_db", 24.0)


def samples(path: Path, channels: int) -> Samples:
    return np.fromfile(path, np.float32).reshape(-1, channels).T.astype(float)


def test_the_added_part_of_a_strip_with_and_without_its_tone(session: Session) -> None:
    alone = print_added(quiet, session, STRIP, False, 0.0, PLENTY)
    assert alone.part.start == 4 * RATE
    assert alone.part.frames == 2 * RATE
    assert -60.0 < alone.against_db < -3.0
    with_tone = print_added(quiet, edit_strip(session, STRIP, lambda strip: strip.with_(match_db=2.0)),
                            STRIP, True, 0.0, PLENTY)
    assert with_tone.against_db > alone.against_db
    louder = print_added(quiet, session, STRIP, False, 20.0, PLENTY)
    first, tenfold = (samples(result.part.data, result.part.channels) for result in (alone, louder))
    np.testing.assert_allclose(tenfold, 10.0 * first, atol=1e-5)
    clean = add_stage(session.with_strip(session.strip(STRIP).with_(chain=())), STRIP, new_stage("eq"))
    eq = clean.strip(STRIP).chain[0]
    clean = set_parameter(clean, STRIP, eq.id, "high_cut_hz", 900.0)
    assert print_added(quiet, clean, STRIP, False, 0.0, PLENTY).against_db < -90.0
    assert print_added(quiet, clean, STRIP, True, 0.0, PLENTY).against_db > -40.0


def test_with_the_tone_before_and_the_added_part_make_after(session: Session) -> None:
    """In the graph, through match and fader: what is heard before, and what is heard of the added part, add up."""
    session = edit_strip(session, STRIP, lambda strip: strip.with_(match_db=-4.0))
    result = print_added(quiet, session, STRIP, True, 0.0, PLENTY).part

    def heard(*, before: bool = False, added: bool = False) -> Samples:
        graph = Graph(session, GraphSettings(session.quality.live, 2048, frozenset({STRIP})))
        node = graph.nodes[STRIP]
        node.hear(before=before, at_once=True)
        node.use_print(result if added else None, at_once=True)
        blocks = [graph.process([(at, 2048)], 2048).copy() for at in range(4 * RATE, 6 * RATE - 2048, 2048)]
        return np.concatenate(blocks, axis=1)[:, 24000:]

    difference = heard(before=True) + heard(added=True) - heard()
    assert level(difference) < level(heard()) - 80.0


def test_an_edit_keeps_the_added_part_until_the_next_comes(session: Session, tmp_path: Path) -> None:
    record = tmp_path / "heard.f32"
    client = EngineClient(DeviceSettings(SILENT_CARD, 256, record))
    solo = edit_strip(session, STRIP, lambda strip: strip.with_(solo=True))
    stage = session.strip(STRIP).chain[0]
    try:
        client.set_session(solo)
        wait_until(lambda: client.poll().latency > 0)
        first = print_added(quiet, session, STRIP, False, 0.0, PLENTY).part
        client.use_prints((first,))
        client.play(4 * RATE)
        wait_until(lambda: client.poll().position > 4 * RATE + 12000)
        edited = set_parameter(solo, STRIP, stage.id, "drive_db", 20.0)
        client.set_session(edited)
        wait_until(lambda: client.poll().position > 4 * RATE + 36000)
        client.use_prints((print_added(quiet, edited, STRIP, False, 0.0, PLENTY).part,))
        wait_until(lambda: client.poll().position > 4 * RATE + 72000)
        client.stop()
        wait_until(lambda: not client.poll().playing)
    finally:
        client.close()
    heard = np.fromfile(record, np.float32).reshape(-1, 2).T.astype(float)
    loudest = np.abs(samples(first.data, first.channels)).max()
    # The strip itself, which is ten times as loud, never comes through.
    assert 0.0 < np.abs(heard).max() < 1.5 * loudest


# -- in the window ----------------------------------------------------------------------------


def test_the_added_part_is_heard_and_seen_until_after_is_chosen(window: MainWindow, qtbot: Any) -> None:
    workspace, compare = window.workspace, window.top_line.compare
    workspace.selection.select(STRIP)
    window.path_view.add("drive")
    compare.toggle_added()
    assert compare.accessibleDescription() == "added is heard"
    qtbot.waitUntil(lambda: workspace.added.part is not None, timeout=60000)
    (heard,) = workspace.playback.engine.prints.prints
    assert heard.stays
    assert heard.strip_id == STRIP
    assert window.balance.alone.text().endswith("dB")
    assert window.balance.louder.isVisible()
    window.balance.keep_tone.setChecked(True)
    qtbot.waitUntil(lambda: workspace.playback.engine.prints.prints[0] != heard, timeout=60000)
    first = workspace.added.part
    window.balance.louder.ask(12.0, commit=True)
    qtbot.waitUntil(lambda: workspace.added.part is not first, timeout=60000)
    compare.toggle()
    assert workspace.playback.before
    assert not workspace.added.on
    assert workspace.playback.engine.prints.prints == ()
    assert not window.balance.louder.isVisible()
    compare.choose(2)
    workspace.selection.select("harmonium")
    qtbot.waitUntil(lambda: any("nothing is added" in message.text for message in workspace.messages.all),
                    timeout=60000)
    assert workspace.playback.engine.prints.prints == ()
    assert any(prints_folder().glob("added-*.f32"))
